"""What a trial is to do: rounds, limits, points, conditions, and the order of its runs."""

import random
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import product
from math import prod
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from ivrell.core.comparison.model import Comparison
from ivrell.core.errors import BadInput
from ivrell.core.former import with_words_of_now
from ivrell.core.records.points import Point, Value
from ivrell.core.records.wire import RunLimits
from ivrell.core.results.folder import PLAN as PLAN_FILE
from ivrell.core.results.folder import Kept
from ivrell.core.trial.background import QUIET, loads_in

MOST_POINTS = 1_000
LIMIT_SECONDS = 120.0
LIMIT_MEMORY = 4 * 2**30
FORMER_WORDS = {"kept": "calls_per_process", "shortest_s": "min_sample_s"}
"""Fields of a plan as earlier versions called them; their plans are still read."""


class Limits(BaseModel):
    """Bounds of one run; a run over one is ended with all it started.

    ``seconds`` bounds the timed part, ``prepare_seconds`` what lies before and after it,
    ``cpu_seconds`` the CPU time of the whole tree in the timed part, ``memory_bytes`` what
    the whole tree holds, ``output_bytes`` what it prints, ``written_bytes`` the files it
    leaves in its folder (and any single file), ``processes`` how many it may be at once.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    seconds: Annotated[float, Field(gt=0, le=86_400)] = LIMIT_SECONDS
    cpu_seconds: Annotated[float, Field(gt=0, le=10**9)] | None = None
    memory_bytes: Annotated[int, Field(gt=0, le=2**50)] = LIMIT_MEMORY
    output_bytes: Annotated[int, Field(gt=0, le=2**40)] = 16 * 2**20
    written_bytes: Annotated[int, Field(gt=0, le=2**50)] = 8 * 2**30
    processes: Annotated[int, Field(ge=1, le=10_000)] = 256
    prepare_seconds: Annotated[float, Field(gt=0)] = 300.0

    def for_run(self) -> RunLimits:
        """The same for the runner."""
        return RunLimits(**self.model_dump())


class Until(BaseModel):
    """When rounds are enough: once every interval is narrower than a share of its value.

    The interval is that of each lane's ratio to the baseline (of the median, where the
    baseline runs alone), after ``at_least`` rounds, at the latest after ``at_most`` or after
    ``minutes``.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    narrower_than: Annotated[float, Field(gt=0, lt=10)] = 0.1
    at_least: Annotated[int, Field(ge=2, le=1000)] = 5
    at_most: Annotated[int, Field(ge=2, le=1000)] = 30
    minutes: Annotated[float, Field(gt=0, le=24 * 60)] = 30.0

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.at_least > self.at_most:
            raise ValueError(f"at_least ({self.at_least}) is above at_most ({self.at_most})")
        return self


class Plan(BaseModel):
    """One launch: which lanes, at which points, how often, within which limits.

    ``lanes`` None means all but retired ones.

    ``knobs`` gives the values to try for the knobs named in it; others take their first.
    ``order_seed`` decides the order of runs within each round. ``until`` ends the rounds by
    how sure they are instead of by their number. ``own_files`` is the folder that paths of
    tables that are the user's own files start from.

    Conditions: ``cache`` (inputs read once beforehand, or evicted), ``threads`` (given to
    every library; None leaves the choice to each) and ``background`` (a load beside the
    runs); several values of one are compared like a knob's. ``cores`` pins runs to so many.

    ``calls_per_process`` calls follow one another in one process, the first told apart from the
    others; ``min_sample_s`` repeats calls within a run until it lasts so long (0: one call a run).
    ``sandbox`` is "auto" (where it works) or "off".
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    rounds: Annotated[int, Field(ge=1, le=1000)] = 5
    until: Until | None = None
    warm_ups: Annotated[int, Field(ge=0, le=100)] = 1
    lanes: list[str] | None = None
    knobs: dict[str, Annotated[list[Value], Field(min_length=1)]] = {}
    cache: Annotated[list[Literal["warm", "cold"]], Field(min_length=1)] = ["warm"]
    threads: Annotated[list[Annotated[int, Field(ge=1, le=1024)] | None], Field(min_length=1)] = [
        None
    ]
    background: Annotated[list[str], Field(min_length=1)] = [QUIET]
    cores: Annotated[int, Field(ge=1)] | None = None
    calls_per_process: Annotated[int, Field(ge=1, le=1000)] = 1
    min_sample_s: Annotated[float, Field(ge=0, le=60)] = 0.0
    sandbox: Literal["auto", "off"] = "auto"
    limits: Limits = Limits()
    order_seed: Annotated[int, Field(ge=0, lt=2**63)] = 1
    own_files: str | None = None

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return with_words_of_now(given, FORMER_WORDS)

    @field_validator("background")
    @classmethod
    def _known_loads(cls, values: list[str]) -> list[str]:
        for value in values:
            loads_in(value)
        return values

    @property
    def most_rounds(self) -> int:
        """Counted rounds at the most."""
        return self.until.at_most if self.until else self.rounds

    def chosen_lanes(self, comparison: Comparison) -> list[str]:
        """Ids of the lanes that run, in the file's order.

        Raises BadInput for a lane that does not exist, or when none is left.
        """
        for lane in self.lanes or []:
            comparison.lane(lane)
        ids = [
            approach.id
            for approach in comparison.approach
            if (not approach.retired if self.lanes is None else approach.id in self.lanes)
        ]
        if not ids:
            raise BadInput(
                "There is no approach to run.",
                hint="Write one on the step Approaches, or tick a lane.",
            )
        return ids

    def points(self, comparison: Comparison) -> list[Point]:
        """Every choice of knob values and of conditions, in the order of the file.

        A condition stands in a point where it is not its usual one, or has several values.
        Raises BadInput for a knob that does not exist, or that is called like a condition.
        """
        varied = {
            name: values
            for name, values, usual in (
                ("cache", self.cache, ["warm"]),
                ("threads", self.threads, [None]),
                ("background", self.background, [QUIET]),
            )
            if values != usual
        }
        for name in varied.keys() & comparison.knobs.keys():
            raise BadInput(
                f'"{name}" is a knob here and a condition of trials.',
                where=f"knobs.{name}",
                hint="Give the knob another name.",
            )
        given = [self.knobs.get(knob) or values[:1] for knob, values in comparison.knobs.items()]
        count = prod(map(len, (*given, *varied.values())))
        if count > MOST_POINTS:
            raise BadInput(
                f"These knobs and conditions make {count:,} points; a trial has at most "
                f"{MOST_POINTS:,}.",
                where="knobs",
                hint="Take fewer values of some of them.",
            )
        return [
            {**point, **dict(zip(varied, chosen, strict=True))}
            for point in comparison.points(self.knobs)
            for chosen in product(*varied.values())
        ]


PLAN = Kept(PLAN_FILE, Plan)
"""A trial's plan in its result folder."""


@dataclass(frozen=True)
class PlannedRun:
    """One run to be: its number in the trial from 1, round 0 and below being warm-ups. One for
    its ``memory_alone`` is looked at so closely that its times say nothing."""

    number: int
    approach: str
    point: Point
    round: int
    position: int
    memory_alone: bool = False

    @property
    def warm_up(self) -> bool:
        """Whether it is kept but not counted."""
        return self.round < 1 or self.memory_alone


def memory_run(comparison: Comparison, plan: Plan, after: PlannedRun) -> PlannedRun:
    """The memory run of a lane at a point, which follows the run that called for it; numbered
    behind all that are planned, the same each time."""
    lanes = plan.chosen_lanes(comparison)
    contests = [(point, lane) for point in plan.points(comparison) for lane in lanes]
    place = contests.index((after.point, after.approach))
    number = len(contests) * (plan.warm_ups + plan.most_rounds) + place + 1
    return replace(after, number=number, memory_alone=True)


def ordered_runs(comparison: Comparison, plan: Plan) -> Iterator[PlannedRun]:
    """All runs of a trial in order: round by round, each round shuffled anew.

    Interleaving lets a machine that slows down hurt every lane alike; the order depends
    on ``plan.order_seed`` alone. With ``plan.until`` these are the runs that there are at
    the most.
    """
    shuffler = random.Random(plan.order_seed)
    lanes = plan.chosen_lanes(comparison)
    contests = [(point, lane) for point in plan.points(comparison) for lane in lanes]
    number = 0
    for round_number in range(1 - plan.warm_ups, plan.most_rounds + 1):
        shuffler.shuffle(contests)
        for position, (point, lane) in enumerate(contests, 1):
            number += 1
            yield PlannedRun(number, lane, point, round_number, position)
