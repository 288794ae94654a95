"""A plan: what a trial is to do. The command line's options are made from its fields.

Of each field the description says in a few words what it is, with its unit in its name: ``_s`` and
``seconds`` are seconds, ``_bytes`` bytes.
"""

from typing import Annotated, Any, Literal, Self

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    field_validator,
    model_validator,
)

from ivrell.core.base.migrated_keys import migrate_keys
from ivrell.core.records.loads import QUIET, loads_in
from ivrell.core.records.points import Value, value_range
from ivrell.core.records.wire import RunLimits

FORMER_WORDS = {
    "kept": "calls_per_process",
    "shortest_s": "min_sample_s",
    "lanes": "approaches",
}
"""Fields of a plan as earlier versions called them; their plans are still read."""

OWN = "own"
"""Of the condition ``runtime``: every approach in the interpreter that it names itself."""

Threads = Annotated[int, Field(ge=1, le=1024)]


class Limits(BaseModel):
    """Bounds of one run; a run over one is ended with all it started."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    seconds: Annotated[
        float, Field(gt=0, le=86_400, description="how long the timed part of a run may take")
    ] = 120.0
    cpu_seconds: (
        Annotated[
            float, Field(gt=0, le=10**9, description="CPU time of the whole tree in the timed part")
        ]
        | None
    ) = None
    memory_bytes: Annotated[
        int, Field(gt=0, le=2**50, description="what the whole tree of a run holds")
    ] = 4 * 2**30
    output_bytes: Annotated[int, Field(gt=0, le=2**40, description="what a run may print")] = (
        16 * 2**20
    )
    written_bytes: Annotated[
        int, Field(gt=0, le=2**50, description="files that a run leaves, and any single one")
    ] = 8 * 2**30
    processes: Annotated[int, Field(ge=1, le=10_000, description="most processes at once")] = 256
    prepare_seconds: Annotated[
        float, Field(gt=0, description="what lies before and after the timed part")
    ] = 300.0

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

    narrower_than: Annotated[
        float, Field(gt=0, lt=10, description="end when every interval is narrower")
    ] = 0.1
    at_least: Annotated[
        int, Field(ge=2, le=1000, description="rounds at the least, with --until")
    ] = 5
    at_most: Annotated[
        int, Field(ge=2, le=1000, description="rounds at the most, with --until")
    ] = 30
    minutes: Annotated[
        float, Field(gt=0, le=24 * 60, description="minutes at the most, with --until")
    ] = 30.0

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.at_least > self.at_most:
            raise ValueError(f"at_least ({self.at_least}) is above at_most ({self.at_most})")
        return self


class Search(BaseModel):
    """A search for the sizes at which the lead changes: after the sizes that the plan names, new
    ones next to each change, and more rounds where it is unsure, until it is known ``within`` a
    share of itself or ``minutes`` are used up."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    within: Annotated[
        float,
        Field(ge=0.01, lt=1, description="find crossovers to within this precision"),
    ] = 0.1
    minutes: Annotated[
        float, Field(gt=0, le=24 * 60, description="minutes at the most, with --search")
    ] = 30.0


def _spread(given: object) -> object:
    """The values of a knob, ranges among them as the sizes that they stand for."""
    if not isinstance(given, list):
        return given
    sizes = [value_range(value) if isinstance(value, str) else None for value in given]
    if not any(sizes):
        return given
    found: list[object] = []
    for value, spread in zip(given, sizes, strict=True):
        found += [one for one in spread or [value] if one not in found]
    return found


class Disturbed(BaseModel):
    """What becomes of runs that something else disturbs: other programs, the host of a virtual
    machine, a quota, swapping. One that was disturbed for more than a ``share`` of its time is
    kept, not counted, and done again: at the most ``repeat`` times as many runs as are planned,
    and for ``minutes``. Before the clock of each run starts it waits for a quiet moment, ``wait_s``
    at the most."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    share: Annotated[
        float,
        Field(ge=0, le=1, description="runs disturbed for more of their time are done again"),
    ] = 0.05
    repeat: Annotated[
        float, Field(ge=0, le=10, description="so many of the planned runs may be done again")
    ] = 0.5
    minutes: Annotated[
        float, Field(ge=0, le=24 * 60, description="minutes for that at the most, waiting included")
    ] = 10.0
    wait_s: Annotated[
        float, Field(ge=0, le=600, description="wait so long for a quiet moment before a run")
    ] = 3.0


KnobValues = Annotated[list[Value], BeforeValidator(_spread), Field(min_length=1)]
"""Values of a knob; a range such as "1_000..1_000_000/3" stands for its sizes."""


class Plan(BaseModel):
    """One launch: which lanes, at which points, how often, within which limits.

    ``approaches`` (ids) None means all but retired ones; ``knobs`` gives the values to try for the
    knobs named in it (a range such as "1_000..1_000_000/3" stands for its sizes), others take
    their first; ``points`` gives values of several knobs that go together, a point each, which
    every choice of the others has. ``until`` ends the rounds by how sure they are instead of by
    their number. ``own_files`` is the folder that paths of tables that are the user's own files
    start from. With ``step_up`` the first knob with several numbers goes from small to large, all
    rounds of a size before the next; with ``search`` that knob's sizes are searched for changes of
    the lead.

    Conditions are ``cache``, ``threads`` (None leaves the choice to each library), ``background``
    and ``runtime``; several values of one are compared like a knob's. ``min_sample_s`` of 0 is one
    call a run.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    rounds: Annotated[int, Field(ge=1, le=1000, description="rounds that count")] = 5
    until: Until | None = None
    warm_ups: Annotated[
        int, Field(ge=0, le=100, description="rounds that are kept but not counted")
    ] = 1
    approaches: list[str] | None = None
    knobs: dict[str, KnobValues] = {}
    points: list[Annotated[dict[str, Value], Field(min_length=1)]] = []
    cache: Annotated[
        list[Literal["warm", "cold"]],
        Field(min_length=1, description="inputs read once beforehand, or evicted"),
    ] = ["warm"]
    threads: Annotated[
        list[Threads | None], Field(min_length=1, description="threads of every library")
    ] = [None]
    background: Annotated[
        list[str],
        Field(
            min_length=1,
            description='beside the runs: quiet, "1 busy core", memory, disk; may be repeated',
        ),
    ] = [QUIET]
    runtime: Annotated[
        list[str],
        Field(
            min_length=1,
            description="registered interpreters of Python approaches; own is what each names",
        ),
    ] = [OWN]
    cores: Annotated[int, Field(ge=1, description="cores that runs are pinned to")] | None = None
    calls_per_process: Annotated[
        int,
        Field(
            ge=1,
            le=1000,
            description="consecutive calls per process; the first reported separately",
        ),
    ] = 1
    min_sample_s: Annotated[
        float, Field(ge=0, le=60, description="repeat short calls until a run lasts so long")
    ] = 0.0
    sandbox: Annotated[Literal["auto", "off"], Field(description="auto, or off")] = "auto"
    limits: Limits = Limits()
    order_seed: Annotated[
        int, Field(ge=0, lt=2**63, description="decides the order of runs within each round")
    ] = 1
    own_files: str | None = None
    step_up: Annotated[
        bool,
        Field(description="sizes from small to large; drop lanes that would break a limit"),
    ] = False

    keep_files: Annotated[
        bool,
        Field(description="keep the files that each lane's first run leaves, such as books"),
    ] = False
    search: Search | None = None
    disturbed: Disturbed = Disturbed()

    @model_validator(mode="after")
    def _steps_have_rounds(self) -> Self:
        if self.step_up and self.until is not None:
            raise ValueError("step_up: sizes one after the other have a number of rounds, no until")
        if self.search and self.until is not None:
            raise ValueError("search: it decides on rounds itself, and goes with no until")
        return self

    @model_validator(mode="after")
    def _points_are_alike(self) -> Self:
        named = self.points[0].keys() if self.points else set()
        for place, point in enumerate(self.points, 1):
            if point.keys() != named:
                raise ValueError(
                    f"points: each names the same knobs, and point {place} names "
                    f"{', '.join(point)} where the first names {', '.join(named)}"
                )
        if twice := named & self.knobs.keys():
            raise ValueError(f"points: {', '.join(twice)} has values under knobs already")
        return self

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return migrate_keys(given, FORMER_WORDS)

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


class NamedPlan(Plan, frozen=True):
    """A plan that is kept with a comparison, by name. A comparison may be a stranger's, so it
    loosens nothing that holds its runs: neither sandbox nor folders, and no limit but of time above
    the usual one."""

    name: Annotated[str, Field(min_length=1, max_length=80)]

    @model_validator(mode="after")
    def _lets_nothing_out(self) -> Self:
        for field in ("sandbox", "own_files"):
            if field in self.model_fields_set:
                raise ValueError(f"{field} is not for a comparison to say; choose it at the launch")
        for field in ("memory_bytes", "output_bytes", "written_bytes", "processes"):
            usual = getattr(Limits(), field)
            if getattr(self.limits, field) > usual:
                raise ValueError(
                    f"limits.{field} above the usual {usual:,} is not for a comparison to say; "
                    "raise it at the launch"
                )
        return self

    def launched(self) -> Plan:
        """The same as a plan of one launch."""
        return Plan.model_validate(self.model_dump(exclude={"name"}, exclude_unset=True))
