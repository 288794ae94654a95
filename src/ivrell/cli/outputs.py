"""What commands print with ``--json``: the shape of each, which is published as a schema."""

from dataclasses import dataclass
from typing import Any

from pydantic import TypeAdapter

from ivrell.cli.application import QueueTold
from ivrell.core.engines.base import EngineState
from ivrell.core.recipe.databases.store import Loaded
from ivrell.core.recipe.store import Made
from ivrell.core.records.bundle import SecondOpinion
from ivrell.core.records.challenge import ChallengeFindings
from ivrell.core.records.checkup import Checkup
from ivrell.core.records.compared import Compared
from ivrell.core.records.cost import CostFindings, Prices
from ivrell.core.records.estimate import Estimate
from ivrell.core.records.findings import MeasureRow, TrialFindings
from ivrell.core.records.gate import GateFindings
from ivrell.core.records.hot import HotFindings
from ivrell.core.records.json import Json
from ivrell.core.records.machine import Machine
from ivrell.core.records.next_steps import NextSteps
from ivrell.core.records.points import Point
from ivrell.core.records.tries import InterruptionOutcome, TryOutcome
from ivrell.core.runtimes import Runtime
from ivrell.core.servers.own import Server
from ivrell.core.spark.clusters import SparkCluster


@dataclass(frozen=True)
class MeasuresTold:
    """Every measure of every lane at a point."""

    point: Point
    measures: list[MeasureRow]


@dataclass(frozen=True)
class ProposalTold:
    """A proposed recipe, and how far each of its columns is from the sample's (0 the same, 1
    nothing in common)."""

    data: dict[str, Json]
    distances: dict[str, dict[str, float]]


OUTPUTS: dict[str, TypeAdapter[Any]] = {
    "run": TypeAdapter(TrialFindings),
    "more": TypeAdapter(TrialFindings),
    "resume": TypeAdapter(TrialFindings),
    "check": TypeAdapter(TrialFindings),
    "plan": TypeAdapter(Estimate),
    "try": TypeAdapter(dict[str, TryOutcome]),
    "explain": TypeAdapter(TryOutcome),
    "hot": TypeAdapter(HotFindings),
    "next": TypeAdapter(NextSteps),
    "interrupt": TypeAdapter(InterruptionOutcome),
    "gate": TypeAdapter(GateFindings),
    "challenge": TypeAdapter(ChallengeFindings),
    "rerun": TypeAdapter(SecondOpinion),
    "compare": TypeAdapter(Compared),
    "cost": TypeAdapter(CostFindings),
    "prices": TypeAdapter(Prices),
    "machine": TypeAdapter(Machine),
    "doctor": TypeAdapter(Checkup),
    "engines": TypeAdapter(list[EngineState]),
    "measures": TypeAdapter(list[MeasuresTold]),
    "data": TypeAdapter(list[Made | Loaded]),
    "propose": TypeAdapter(ProposalTold),
    "runtimes": TypeAdapter(list[Runtime]),
    "environment": TypeAdapter(list[Runtime]),
    "queue": TypeAdapter(QueueTold),
    "servers": TypeAdapter(list[Server]),
    "clusters": TypeAdapter(list[SparkCluster]),
}
