"""What commands print with ``--json``: the shape of each, which is published as a schema."""

from typing import Any

from pydantic import TypeAdapter

from ivrell.core.engines.base import EngineState
from ivrell.core.records.bundle import SecondOpinion
from ivrell.core.records.checkup import Checkup
from ivrell.core.records.compared import Compared
from ivrell.core.records.cost import CostFindings, Prices
from ivrell.core.records.estimate import Estimate
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.gate import GateFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.tries import InterruptionOutcome, TryOutcome

OUTPUTS: dict[str, TypeAdapter[Any]] = {
    "run": TypeAdapter(TrialFindings),
    "more": TypeAdapter(TrialFindings),
    "resume": TypeAdapter(TrialFindings),
    "check": TypeAdapter(TrialFindings),
    "plan": TypeAdapter(Estimate),
    "try": TypeAdapter(dict[str, TryOutcome]),
    "explain": TypeAdapter(TryOutcome),
    "interrupt": TypeAdapter(InterruptionOutcome),
    "gate": TypeAdapter(GateFindings),
    "rerun": TypeAdapter(SecondOpinion),
    "compare": TypeAdapter(Compared),
    "cost": TypeAdapter(CostFindings),
    "prices": TypeAdapter(Prices),
    "machine": TypeAdapter(Machine),
    "doctor": TypeAdapter(Checkup),
    "engines": TypeAdapter(list[EngineState]),
}

NOT_YET = ("measures", "data", "propose", "runtimes", "environment", "queue", "servers", "clusters")
"""Commands whose JSON has no published shape."""
