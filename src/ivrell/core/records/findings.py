"""What the runs of a trial say: findings.json, the API, the page, the report."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, BeforeValidator, computed_field, model_validator

from ivrell.core.base.help import caution_place
from ivrell.core.base.migrated_keys import migrate_keys
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.points import Point
from ivrell.core.records.run import Call, RunState
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.records.wire import Failure

LaneState = Literal["done", "failed", "limit", "stopped", "warm-up only"]
_FORMER_VERDICTS = {"cannot tell apart": "not told apart"}
RatioVerdict = Annotated[
    Literal["faster", "slower", "less", "more", "no difference that matters", "not told apart"],
    BeforeValidator(lambda given: _FORMER_VERDICTS.get(given, given)),
]
Question = Literal["quickest", "baseline", "pair", "change"]
"""What a ratio answers: whether one lane takes less than every other, how a lane does against the
baseline, how any two do against each other, or how one does against itself in another trial. Each
has a family of its own."""

Better = Literal["lower", "higher", "neither"]

_FORMER_WORDS = {"told": "trouble", "core_wait_share": "run_queue_wait_share"}


@dataclass(frozen=True)
class Summary:
    """What a set of repeated measurements says.

    ``low`` and ``high`` bound the median with probability ``level`` (below 0.95 where few values,
    some of them 0, allow no more; null for a single one).
    """

    count: int
    median: float
    quartile_1: float
    quartile_3: float
    smallest: float
    largest: float
    low: float | None
    high: float | None
    level: float | None


@dataclass(frozen=True)
class Ratio:
    """How many times less a lane takes than another, usually the baseline: above 1 is less, of
    elapsed time "faster". ``low`` and ``high`` are the interval that the verdict is read off, null
    with fewer than two rounds; it bounds what ``question`` it answers at 95 %, for all that is
    asked in that family at once. ``floor`` is the factor that the machine's own noise reaches, null
    where it was never measured; no interval is narrower. ``bound`` says that one of the two did not
    finish: the other is "at least" or "at most" so many times faster. ``chance`` is how likely
    equals would be as far apart, for the whole family; ``rounds_more`` how many rounds more would
    tell, null where it is told, or more than 1000."""

    value: float
    low: float | None
    high: float | None
    rounds: int
    verdict: RatioVerdict
    floor: float | None = None
    bound: Literal["at least", "at most"] | None = None
    chance: float | None = None
    rounds_more: int | None = None
    question: Question = "pair"


Reach = Literal["winner", "margin", "aside"]
REACHES: tuple[Reach, ...] = get_args(Reach)
"""How far a caution reaches: it could change the winner, or only by how much it wins, or neither;
in the order in which cautions are told."""


class Extent(BaseModel, frozen=True):
    """How far something goes: a share, a factor, seconds, cores."""

    value: float
    quantity: Literal["share", "times", "seconds", "cores"]


class Caution(BaseModel, frozen=True):
    """Something that weakens a result: ``word`` names it in short, ``lane`` is the lane it is
    about or null for several or all, ``hint`` says what to do, ``reach`` what it could change,
    ``extent`` how far it goes. One that holds for several lanes has that of ``each``."""

    word: str
    reason: str
    hint: str
    lane: str | None = None
    reach: Reach = "margin"
    extent: Extent | None = None
    each: "list[Caution]" = []

    @computed_field  # type: ignore[prop-decorator]
    @property
    def help(self) -> str:
        """Where it is explained: an address below that of the help."""
        return caution_place(self.word)

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return migrate_keys(given, {"cure": "hint"})


@dataclass(frozen=True)
class Measured:
    """A measure over the counted runs of a lane: their median, smallest and largest, how many
    they are, the median as a part of the baseline's, and how many times less the baseline takes
    it is (None where there is none)."""

    median: float
    smallest: float
    largest: float
    count: int
    of_baseline: float | None = None
    ratio: Ratio | None = None


@dataclass(frozen=True)
class MeasureRow:
    """A measure with its values by lane id; lanes that do not tell it are not among them."""

    key: str
    label: str
    unit: str
    better: Better
    how: str
    lanes: dict[str, Measured]


@dataclass(frozen=True)
class PairRatio:
    """How many times faster ``lane`` is than ``base``, both by id."""

    base: str
    lane: str
    ratio: Ratio


ClaimState = Literal[
    "holds", "weakened", "contradicted", "cannot tell", "not measured", "not of this point"
]
CLAIM_STATES: tuple[ClaimState, ...] = get_args(ClaimState)
"""What became of a claim. A weakened one holds in its direction, and surely not as strongly as it
was claimed."""


class JudgedClaim(BaseModel, frozen=True):
    """A pinned claim as the measurements bear it out: ``asserts`` says in short what is claimed,
    ``reason`` what was found, and of a strength which part of it holds."""

    text: str
    asserts: str = ""
    measure: str
    conditions: str
    state: ClaimState
    reason: str


class Dot(BaseModel):
    """One run as it is drawn; times in seconds, memory in bytes; ``disturbed`` says by what, or
    nothing; one that is ``set_aside`` was done again."""

    run: int
    round: int
    warm_up: bool
    state: RunState
    counted: bool
    disturbed: str = ""
    set_aside: bool = False
    elapsed_s: float | None
    at_least_s: float | None
    cpu_user_s: float | None
    cpu_system_s: float | None
    peak_above_start_bytes: int | None


class StageMedian(BaseModel):
    """Median of a stage over the counted runs; the part outside all stages has no name. Those that
    ``overlaps`` is said of went on beside others: they add up to more than the run took."""

    name: str | None
    elapsed_s: float
    cpu_s: float | None
    overlaps: bool = False


class Placement(BaseModel):
    """What a lane's session of Spark had to work with: executors and all of their cores;
    ``here`` where they are threads of one process on this machine. In ``words``: "8 executors,
    16 cores"."""

    executors: int
    cores: int
    here: bool

    @computed_field  # type: ignore[prop-decorator]
    @property
    def words(self) -> str:
        """In words."""
        cores = f"{self.cores} core{'' if self.cores == 1 else 's'}"
        if self.here:
            return f"{cores} here"
        return f"{self.executors} executor{'' if self.executors == 1 else 's'}, {cores}"


class LaneFindings(BaseModel):
    """One lane at one point; ``trouble`` is what kept it from its end, in words, or empty."""

    id: str
    name: str
    engine: str
    input: str
    parent: str | None = None
    baseline: bool
    state: LaneState
    trouble: str = ""
    code_lines: int
    answer_rows: int | None = None
    start: float | None = None
    start_cpu: float | None = None
    elapsed: Summary | None = None
    cpu_user: Summary | None = None
    cpu_system: Summary | None = None
    cpu_total: Summary | None = None
    server_cpu: float | None = None
    cores_busy: float | None = None
    run_queue_wait_share: float | None = None
    others_busy: float | None = None
    inner_repeats: float | None = None
    first_call: float | None = None
    cached_share: float | None = None
    most_threads: float | None = None
    pinned_cores: int | None = None
    placement: Placement | None = None
    calls: list[Call] = []
    peak_memory: Summary | None = None
    peak_memory_absolute: Summary | None = None
    memory_run: int | None = None
    memory_method: str | None = None
    counters: dict[str, float] = {}
    left_bytes: float | None = None
    answer_bytes: float | None = None
    tables_s: float | None = None
    failure: Failure | None = None
    ratio: Ratio | None = None
    stages: list[StageMedian] = []
    agreement: Agreement | None = None
    runs: list[Dot] = []

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return migrate_keys(given, _FORMER_WORDS) if isinstance(given, Mapping) else given

    @property
    def gives_wrong_answer(self) -> bool:
        """Whether it gave an answer, and that is not the right one."""
        found = self.agreement
        return found is not None and not found.agrees and found.verdict != "no answer"

    @property
    def trusted(self) -> bool:
        """Whether it may be ranked: it was measured and its answer is the right one."""
        agrees = self.agreement is None or self.agreement.agrees
        return self.elapsed is not None and self.state == "done" and agrees


class StairStep(BaseModel, frozen=True):
    """A lane as a step down from its parent; the first of a staircase has none. Seconds are of the
    median; ``gain`` and ``so_far`` are times faster than the parent and than the first.
    ``lines_changed`` counts lines of code that came or went; ``gain_per_line`` is the share of
    the first step's time that a changed line saved, null where nothing changed."""

    lane: str
    name: str
    elapsed_s: float | None
    gain: Ratio | None
    so_far: Ratio | None
    lines_changed: int
    gain_per_line: float | None
    code_lines: int
    meets_target: bool | None
    slower: bool
    wrong: bool
    trouble: str


class Staircase(BaseModel, frozen=True):
    """Lanes that descend from each other, from the first to a last one; ``first_to_meet`` is the
    lane that first meets the target, null where none does or there is no target."""

    steps: list[StairStep]
    target_s: float | None
    first_to_meet: str | None


class Findings(BaseModel):
    """What the runs at one point say: lanes in the file's order; ``ranking`` of their ids, quickest
    first, those that disagree or did not finish last. ``pairs`` has every ordered pair of lanes
    with a counted run; ``tradeoff`` what the quickest costs, ``target`` who is good enough, both
    in words or empty; ``conditions`` what all of it rests on; ``rounds_more`` how many rounds more
    would tell who is the quickest, null where that is told, or none would; ``staircases`` are lanes
    that descend from each other."""

    point: Point
    conclusion: str = ""
    tradeoff: str = ""
    target: str = ""
    conditions: list[str] = []
    rounds_more: int | None = None
    ranking: list[str]
    cautions: list[Caution]
    lanes: list[LaneFindings]
    measures: list[MeasureRow] = []
    pairs: list[PairRatio] = []
    claims: list[JudgedClaim] = []
    staircases: list[Staircase] = []

    def lane(self, id_: str) -> LaneFindings:
        """The lane of that id. Raises KeyError where it did not run here."""
        for lane in self.lanes:
            if lane.id == id_:
                return lane
        raise KeyError(id_)

    @property
    def ranked(self) -> list[LaneFindings]:
        """The lanes in the order of the ranking."""
        return [self.lane(id_) for id_ in self.ranking]


FINDINGS_EDITION = 6
"""How findings are made now; those of another edition are made anew from the runs."""


class TrialFindings(BaseModel):
    """What a whole trial says, point by point: findings.json. ``edition`` is the way in which they
    were made (FINDINGS_EDITION; 0 before there were any), ``claims`` what became of each over all
    points, ``sweeps`` what is found along knobs of several values, which is kept in a file of its
    own."""

    edition: int = 0
    ended: Literal["done", "stopped"]
    points: list[Findings]
    claims: list[JudgedClaim] = []
    sweeps: list[SweepFindings] = []
