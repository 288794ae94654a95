"""The shape of findings, for those who read them: findings.json, the API, the page."""

from typing import Any

from pydantic import BaseModel

from ivrell.core.report.measures import MeasureRow
from ivrell.core.stats.cautions import Caution
from ivrell.core.stats.ratio import Ratio
from ivrell.core.stats.summary import Summary


class Dot(BaseModel):
    """One run as it is drawn; times in seconds, memory in bytes."""

    run: int
    round: int
    warm_up: bool
    state: str
    counted: bool
    elapsed_s: float | None
    at_least_s: float | None
    cpu_user_s: float | None
    cpu_system_s: float | None
    peak_above_start_bytes: int | None


class Call(BaseModel):
    """One call of a process that was kept for several; seconds per repeat, and what the engine
    counted of it."""

    elapsed_s: float
    cpu_s: float | None
    repeats: int
    counters: dict[str, float] = {}


class StageShape(BaseModel):
    """Median of a stage over the counted runs; the part outside all stages has no name."""

    name: str | None
    elapsed_s: float
    cpu_s: float | None


class Drift(BaseModel):
    """A column whose type is of another family than the reference's, or lost something."""

    column: str
    reference: str
    answer: str
    lost: str = ""
    lost_by_reference: str = ""


class DistancesShape(BaseModel):
    """Distances of a column's numbers: the largest taken as equal (absolute, as a share, in units
    in the last place), and pairs by power of ten of the share, on both sides of the tolerance."""

    absolute: float
    relative: float
    units: float
    within: dict[str, int]
    beyond: dict[str, int]


class ColumnEvidence(BaseModel):
    """How a column stands over all pairs of rows; see agreement.evidence."""

    name: str
    equal: int
    within: int
    different: int
    distances: DistancesShape | None
    remarks: list[str]


class TracedRows(BaseModel):
    """What became of broken or repeated rows; see agreement.sources."""

    table: str
    what: str
    rows: int
    kept: int
    with_nulls: int
    dropped: int
    words: str


class AgreementShape(BaseModel):
    """See agreement.compare.Agreement."""

    verdict: str
    agrees: bool
    unstable: bool = False
    reasons: list[str]
    reference: str | None
    itself: bool = False
    rows: int
    reference_rows: int
    missing_columns: list[str]
    extra_columns: list[str]
    renamed: dict[str, str] = {}
    drifted: list[Drift]
    different_rows: int
    missing_rows: int = 0
    extra_rows: int = 0
    repeated_keys: int = 0
    largest_absolute: float
    largest_relative: float
    largest_units: float = 0.0
    columns: dict[str, int]
    evidence: list[ColumnEvidence] = []
    camp: int | None = None
    right_share: float | None = None
    traced: list[TracedRows] = []
    examples: list[dict[str, Any]]


class Failure(BaseModel):
    """Why a run failed; ``printed`` holds the last lines that it printed."""

    kind: str
    message: str
    line: int | None
    trace: str
    part: str
    printed: str = ""


class LaneFindings(BaseModel):
    """One lane at one point."""

    id: str
    name: str
    engine: str
    input: str
    parent: str | None
    baseline: bool
    state: str
    told: str
    code_lines: int
    answer_rows: int | None
    start: float | None
    elapsed: Summary | None
    cpu_user: Summary | None
    cpu_system: Summary | None
    cpu_total: Summary | None = None
    cores_busy: float | None
    core_wait_share: float | None
    others_busy: float | None = None
    inner_repeats: float | None = None
    first_call: float | None = None
    cached_share: float | None = None
    most_threads: float | None = None
    calls: list[Call] = []
    peak_memory: Summary | None
    peak_memory_absolute: Summary | None
    memory_run: int | None = None
    memory_method: str | None = None
    counters: dict[str, float] = {}
    left_bytes: float | None = None
    answer_bytes: float | None = None
    tables_s: float | None = None
    failure: Failure | None = None
    ratio: Ratio | None
    stages: list[StageShape]
    agreement: AgreementShape | None
    runs: list[Dot]


class Findings(BaseModel):
    """Everything the runs at one point say."""

    point: dict[str, Any]
    conclusion: str
    ranking: list[str]
    cautions: list[Caution]
    lanes: list[LaneFindings]
    measures: list[MeasureRow] = []
