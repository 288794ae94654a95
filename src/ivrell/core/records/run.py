"""The run record: a line of runs.jsonl, of an earlier version's too."""

from collections.abc import Mapping
from typing import Any, Literal, NamedTuple

from pydantic import BaseModel, model_validator

from ivrell.core.base.migrated_keys import migrate_keys
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.wire import (
    Failure,
    HotProfile,
    LimitReached,
    Span,
    StageTime,
    StatementPlan,
)

RunState = Literal["done", "failed", "limit", "stopped"]

_FORMER_WORDS = {"core_wait_s": "run_queue_wait_s"}
_SPAN = ("name", "start_s", "end_s")
_FORMER_PARTS = {"handing over": "result export"}


class Call(BaseModel):
    """One call of a process that stayed for several; seconds per repeat, and what the engine
    counted of it."""

    elapsed_s: float
    cpu_s: float | None
    repeats: int
    counters: dict[str, float] = {}


class CacheState(BaseModel):
    """State of the page cache that a plan asked for, and the share of the inputs that was in it
    when the run began; None where that cannot be seen."""

    asked: str
    share: float | None


Purpose = Literal["counted", "warm-up", "memory", "disturbed", "explained"]


class Identity(NamedTuple):
    """What a run is in its trial, whatever its number: the lane, the point by its name, the round
    (0 and below are warm-ups), and whether it is watched for its memory."""

    approach: str
    point: str
    round: int
    memory: bool


class RunRecord(BaseModel):
    """One run; times in seconds, sizes in bytes.

    Figures that were not measured are None, with the reason in ``not_measured``. ``memory_run``
    is one that was looked at so closely that its times count for nothing. ``scope`` says which
    processes its CPU time and memory are those of. ``spent_s`` are seconds
    of its trial until its end. ``disturbed_by`` says by what it was disturbed for more of its time
    than the plan allows, if it was; where it could be done again it is ``set_aside`` and counts for
    nothing. ``repeat_of`` is the number of the run that this one does again. ``run`` is its
    number by the order of arrival; what it is tells its ``identity``. ``stage`` is 0 where the
    plan names it, from 1 on the stage of the search for crossings that asked for it.
    """

    run: int
    approach: str
    engine: str
    point: Point
    round: int
    position: int
    warm_up: bool
    memory_run: bool = False
    state: RunState
    elapsed_s: float | None = None
    elapsed_at_least_s: float | None = None
    cpu_user_s: float | None = None
    cpu_system_s: float | None = None
    peak_memory_bytes: int | None = None
    start_memory_bytes: int | None = None
    server_cpu_s: float | None = None
    server_memory_bytes: int | None = None
    memory_method: str | None = None
    cpu_method: str | None = None
    read_bytes: float | None = None
    written_bytes: float | None = None
    start_s: float | None = None
    start_cpu_s: float | None = None
    page_faults: float | None = None
    context_switches: float | None = None
    run_queue_wait_s: float | None = None
    held_up_s: float | None = None
    others_cpu_s: float | None = None
    others_around: float | None = None
    stolen_s: float | None = None
    throttled_s: float | None = None
    swapped_bytes: float | None = None
    pressure: dict[str, float] | None = None
    inner_repeats: int = 1
    first_elapsed_s: float | None = None
    calls: list[Call] = []
    stages: list[StageTime] = []
    spans: list[Span] = []
    threads: dict[str, int] = {}
    most_threads: int | None = None
    several_processes: bool = False
    counters: dict[str, float] = {}
    answer_rows: int | None = None
    answer_bytes: int | None = None
    answer_fingerprint: str | None = None
    left_bytes: int | None = None
    tables_s: float | None = None
    cache: CacheState | None = None
    sandboxed: bool = False
    scope: str = ""
    cores: int | None = None
    limit: LimitReached | None = None
    error: Failure | None = None
    output: str = ""
    output_bytes: int = 0
    not_measured: dict[str, str] = {}
    plans: list[StatementPlan] = []
    hot: HotProfile | None = None
    session: int = 1
    spent_s: float | None = None
    quiet_wait_s: float = 0.0
    disturbed_by: str = ""
    disturbed_share: float | None = None
    set_aside: bool = False
    repeat_of: int | None = None
    stage: int = 0

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        if not isinstance(given, Mapping):
            return given
        now = dict(migrate_keys(given, _FORMER_WORDS))
        if isinstance(limit := now.get("limit"), Mapping):
            now["limit"] = {**limit, "kind": _FORMER_PARTS.get(limit["kind"], limit["kind"])}
        if isinstance(error := now.get("error"), Mapping):
            now["error"] = {**error, "part": _FORMER_PARTS.get(error["part"], error["part"])}
        if isinstance(spans := now.get("spans"), list):
            now["spans"] = [
                dict(zip(_SPAN, span, strict=False)) if isinstance(span, list) else span
                for span in spans
            ]
        return now

    @property
    def counted(self) -> bool:
        """Whether its figures count: it came to its end, is neither a warm-up nor a memory run,
        and was not set aside to be done again."""
        only_kept = self.warm_up or self.memory_run or self.set_aside
        return self.state == "done" and not only_kept

    @property
    def was_disturbed(self) -> bool:
        """Whether something else disturbed it for more of its time than the plan allows."""
        return bool(self.disturbed_by)

    @property
    def waited_share(self) -> float | None:
        """Share of its time that it was held up for want of a core: that in which any of its tasks
        was, else what its threads waited each, on average."""
        if not self.elapsed_s:
            return None
        if self.held_up_s is not None:
            return min(1.0, self.held_up_s / self.elapsed_s)
        if self.run_queue_wait_s is None:
            return None
        return self.run_queue_wait_s / self.elapsed_s / max(1, self.most_threads or 1)

    @property
    def identity(self) -> "Identity":
        """Which run of its trial it is, or does again."""
        return Identity(self.approach, point_name(self.point), self.round, self.memory_run)

    @property
    def purpose(self) -> "Purpose":
        """What it is for."""
        if self.memory_run:
            return "memory"
        if self.plans or self.hot:
            return "explained"
        if self.set_aside:
            return "disturbed"
        return "warm-up" if self.warm_up else "counted"

    @property
    def cpu_s(self) -> float | None:
        """CPU time, user and system."""
        if self.cpu_user_s is None or self.cpu_system_s is None:
            return None
        return self.cpu_user_s + self.cpu_system_s

    @property
    def peak_above_start_bytes(self) -> int | None:
        """Bytes held at the most, beyond what was held when the clock started."""
        if self.peak_memory_bytes is None or self.start_memory_bytes is None:
            return None
        return max(0, self.peak_memory_bytes - self.start_memory_bytes)

    @property
    def why_in_trouble(self) -> str:
        """The error's message, or "" where it has none."""
        return self.error.message if self.error else ""
