"""What a trial is to do: rounds, limits, points, and the order of its runs."""

import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from ivrell.core.comparison.model import Comparison, KnobValue
from ivrell.core.errors import BadInput

LIMIT_SECONDS = 120.0
LIMIT_MEMORY = 4 * 2**30


class Limits(BaseModel):
    """Bounds of one run; a run over one is ended with all it started.

    ``seconds`` bounds the timed part, ``prepare_seconds`` what lies before and after it,
    ``memory_bytes`` the memory of the whole tree above its start, ``output_bytes`` what it
    prints.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    seconds: Annotated[float, Field(gt=0, le=86_400)] = LIMIT_SECONDS
    memory_bytes: Annotated[int, Field(gt=0)] = LIMIT_MEMORY
    output_bytes: Annotated[int, Field(gt=0)] = 16 * 2**20
    prepare_seconds: Annotated[float, Field(gt=0)] = 300.0


class Plan(BaseModel):
    """One launch: which lanes, at which points, how often, within which limits.

    ``knobs`` gives the values to try for the knobs named in it; others take their first.
    ``order_seed`` decides the order of runs within each round. ``own_files`` is the folder
    that paths of tables that are the user's own files start from.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    rounds: Annotated[int, Field(ge=1, le=1000)] = 5
    warm_ups: Annotated[int, Field(ge=0, le=100)] = 1
    lanes: list[str] | None = None
    knobs: dict[str, Annotated[list[KnobValue], Field(min_length=1)]] = {}
    limits: Limits = Limits()
    order_seed: Annotated[int, Field(ge=0, lt=2**63)] = 1
    own_files: str | None = None

    def chosen_lanes(self, comparison: Comparison) -> list[str]:
        """Ids of the lanes that run, in the file's order.

        Raises BadInput for a lane that does not exist, or when none is left.
        """
        for lane in self.lanes or []:
            comparison.lane(lane)
        ids = [a.id for a in comparison.approach if self.lanes is None or a.id in self.lanes]
        if not ids:
            raise BadInput(
                "There is no approach to run.",
                cure="Write one on the step Approaches, or tick a lane.",
            )
        return ids


@dataclass(frozen=True)
class PlannedRun:
    """One run to be: its number in the trial from 1, round 0 and below being warm-ups."""

    number: int
    approach: str
    point: dict[str, Any]
    round: int
    position: int

    @property
    def warm_up(self) -> bool:
        """Whether it is kept but not counted."""
        return self.round < 1


def ordered_runs(comparison: Comparison, plan: Plan) -> Iterator[PlannedRun]:
    """All runs of a trial in order: round by round, each round shuffled anew.

    Interleaving lets a machine that slows down hurt every lane alike; the order depends
    on ``plan.order_seed`` alone.
    """
    shuffler = random.Random(plan.order_seed)
    lanes = plan.chosen_lanes(comparison)
    contests = [(point, lane) for point in comparison.points(plan.knobs) for lane in lanes]
    number = 0
    for round_number in range(1 - plan.warm_ups, plan.rounds + 1):
        shuffler.shuffle(contests)
        for position, (point, lane) in enumerate(contests, 1):
            number += 1
            yield PlannedRun(number, lane, point, round_number, position)
