"""What the API takes and gives of trials."""

from typing import Any, Literal

from pydantic import BaseModel, Field
from rest_framework import serializers

from ivrell.core.report.shape import Call, Failure, Findings
from ivrell.server.trials.models import Trial


class TrialLineSerializer(serializers.ModelSerializer):
    """A trial in a list."""

    done_runs = serializers.IntegerField(read_only=True)
    comparison_name = serializers.CharField(source="comparison.name", read_only=True)

    class Meta:
        model = Trial
        fields = [
            "id", "comparison", "comparison_name", "state", "conclusion", "planned_runs",
            "done_runs", "created_at", "started_at", "finished_at", "stop_asked",
        ]  # fmt: skip


class LimitsSerializer(serializers.Serializer):
    """Bounds of one run: seconds, bytes and processes."""

    seconds = serializers.FloatField()
    memory_bytes = serializers.IntegerField()
    cpu_seconds = serializers.FloatField(required=False, allow_null=True)
    written_bytes = serializers.IntegerField(required=False)
    processes = serializers.IntegerField(required=False)


class UntilSerializer(serializers.Serializer):
    """Rounds that end by how sure they are."""

    narrower_than = serializers.FloatField()
    at_least = serializers.IntegerField()
    at_most = serializers.IntegerField()
    minutes = serializers.FloatField()


class PlanSerializer(serializers.Serializer):
    """A plan; what is absent takes its usual value."""

    rounds = serializers.IntegerField(required=False, min_value=1, max_value=1000)
    until = UntilSerializer(required=False, allow_null=True)
    warm_ups = serializers.IntegerField(required=False, min_value=0, max_value=100)
    cache = serializers.ListField(child=serializers.CharField(), required=False)
    threads = serializers.ListField(child=serializers.IntegerField(allow_null=True), required=False)
    cores = serializers.IntegerField(required=False, allow_null=True)
    background = serializers.ListField(child=serializers.CharField(), required=False)
    kept = serializers.IntegerField(required=False)
    shortest_s = serializers.FloatField(required=False)
    sandbox = serializers.CharField(required=False)
    lanes = serializers.ListField(child=serializers.CharField(), required=False, allow_null=True)
    knobs = serializers.DictField(child=serializers.ListField(), required=False)
    limits = LimitsSerializer(required=False)
    order_seed = serializers.IntegerField(required=False, min_value=0)


class MadeSerializer(serializers.Serializer):
    """A table in a form as it was made for a trial."""

    table = serializers.CharField()
    form = serializers.CharField()
    rows = serializers.IntegerField()
    size_bytes = serializers.IntegerField(allow_null=True)
    seconds = serializers.FloatField()
    fingerprint = serializers.CharField()
    bytes_hash = serializers.CharField()


class TrialSerializer(TrialLineSerializer):
    """A trial in full, without its runs."""

    plan = PlanSerializer()
    machine = serializers.DictField()
    data = MadeSerializer(many=True)
    message = serializers.DictField(child=serializers.CharField(), allow_null=True)
    dropped = serializers.ListField(child=serializers.CharField(), read_only=True)
    points = serializers.ListField(child=serializers.DictField())
    ahead = serializers.SerializerMethodField()
    lanes = serializers.SerializerMethodField()

    class Meta(TrialLineSerializer.Meta):
        fields = [
            *TrialLineSerializer.Meta.fields, "plan", "machine", "data", "message", "points",
            "ahead", "lanes", "dropped",
        ]  # fmt: skip

    def get_ahead(self, trial: Trial) -> int:
        """How many trials go before it."""
        return Trial.objects.under_way().filter(id__lt=trial.pk).count()

    def get_lanes(self, trial: Trial) -> dict[str, str]:
        """The exact code that each lane ran, by lane id."""
        return {approach.id: approach.text() for approach in trial.read.approach}


class StageSpan(BaseModel):
    """A stage of one run."""

    name: str
    elapsed_s: float
    cpu_s: float
    times: int


class Sample(BaseModel):
    """CPU used and memory held at a time since the start of the timed part."""

    t_s: float
    cpu_s: float
    memory_bytes: int


class Span(BaseModel):
    """When a stage was in one run, in seconds since its start."""

    name: str
    start_s: float
    end_s: float


class RunShape(BaseModel):
    """One run in full; times in seconds, sizes in bytes."""

    run: int
    approach: str
    engine: str
    point: dict[str, Any]
    round: int
    position: int
    warm_up: bool
    memory_run: bool = False
    several_processes: bool = False
    state: str
    elapsed_s: float | None
    elapsed_at_least_s: float | None
    cpu_user_s: float | None
    cpu_system_s: float | None
    peak_memory_bytes: int | None
    start_memory_bytes: int | None
    server_cpu_s: float | None = None
    server_memory_bytes: int | None = None
    memory_method: str | None
    cpu_method: str | None = None
    read_bytes: float | None
    written_bytes: float | None
    start_s: float | None
    page_faults: float | None
    context_switches: float | None
    core_wait_s: float | None
    held_up_s: float | None = None
    others_cpu_s: float | None = None
    pressure: dict[str, float] | None = None
    inner_repeats: int = 1
    first_elapsed_s: float | None = None
    calls: list[Call] = []
    threads: dict[str, int] = {}
    most_threads: int | None = None
    cores: int | None = None
    cache: dict[str, Any] | None = None
    tables_s: float | None = None
    sandboxed: bool = False
    stages: list[StageSpan]
    spans: list[Span]
    counters: dict[str, float]
    answer_rows: int | None
    answer_bytes: int | None
    answer_fingerprint: str | None
    left_bytes: int | None
    limit: dict[str, Any] | None
    error: Failure | None
    output: str
    output_bytes: int
    not_measured: dict[str, str]
    curve: list[Sample]
    code: str


class TrialFindings(Findings):
    """Findings with the trial they come from."""

    trial: int
    state: str


class EngineLine(BaseModel):
    """An engine on this machine."""

    name: str
    language: str
    installed: bool
    versions: dict[str, str]
    cure: str


class Now(BaseModel):
    """Who is signed in, and what the machine is doing: ``timing`` says that something may be
    timed now, which is better not disturbed, ``noise`` that its noise is measured or will be."""

    user: str
    may_run: bool
    trial: int | None
    comparison: int | None
    comparison_name: str | None
    waiting: int
    worker: bool
    timing: bool
    noise: bool


class EngineList(BaseModel):
    """All engines that Ivrell knows."""

    engines: list[EngineLine]


class KeptData(BaseModel):
    """Made data of one fingerprint; ``used_at`` in seconds since 1970."""

    fingerprint: str
    tables: list[str]
    size_bytes: int
    used_at: float


class LoadedData(BaseModel):
    """Tables loaded into an engine's database."""

    engine: str
    tables: list[str]
    rows: int
    indexes: list[str]
    size_bytes: int


class MadeData(BaseModel):
    """All made data that is kept, and the limit that it is trimmed to."""

    limit_bytes: int
    kept: list[KeptData]
    loaded: list[LoadedData]


class TryRequest(BaseModel):
    """On how many rows to try a lane, and whether it is to tell how it is carried out, or to be
    killed after a share of its usual time and started again."""

    rows: int = 1000
    kind: Literal["try", "explained", "interrupted"] = "try"
    share: float = Field(default=0.5, gt=0, lt=1)


class AnswerColumn(BaseModel):
    """A column of an answer."""

    name: str
    type: str


class LaneAsked(BaseModel):
    """A lane that is asked for by its id."""

    lane: str


class AnswerAsked(BaseModel):
    """A lane's answer at a point."""

    lane: str
    point: dict[str, Any]


class PlanStep(BaseModel):
    """A step of a plan and those that feed it; see the core's Step."""

    what: str
    detail: str
    rows: float | None
    expected_rows: float | None
    own_s: float | None
    loops: int | None
    blocks: dict[str, int]
    steps: list["PlanStep"]


class StatementPlan(BaseModel):
    """A statement and how it was carried out, None where engines do not tell."""

    text: str
    line: int
    plan: PlanStep | None


class ExplainedShape(BaseModel):
    """How a lane was carried out on a small size."""

    id: int
    rows_asked: int
    state: str
    message: dict[str, str] | None
    error: Failure | None
    plans: list[StatementPlan]


class InterruptionShape(BaseModel):
    """What a kill left of a lane, and what came of starting it again on that.

    ``left`` and ``whole`` are rows by bucket, "" where the answer has none; ``left_bytes`` the
    files in its folder.
    """

    id: int
    rows_asked: int
    share: float
    state: str
    message: dict[str, str] | None
    verdict: str
    words: str
    left: dict[str, int]
    whole: dict[str, int]
    left_bytes: int | None
    usual_s: float | None
    reasons: list[str]


class TryShape(BaseModel):
    """A try of a lane: what its run did, and the first rows of its answer."""

    id: int
    lane: str
    rows_asked: int
    state: str
    message: dict[str, str] | None
    point: dict[str, Any]
    run_state: str | None
    elapsed_s: float | None
    cpu_s: float | None
    peak_memory_bytes: int | None
    stages: list[StageSpan]
    error: Failure | None
    told: str
    output: str
    answer_rows: int | None
    counters: dict[str, float]
    columns: list[AnswerColumn]
    rows: list[list[str | None]]


class Tries(BaseModel):
    """The newest try of a lane of each kind, if any."""

    newest: TryShape | None = None
    explained: ExplainedShape | None = None
    interrupted: InterruptionShape | None = None


class RuntimeShape(BaseModel):
    """Another interpreter of this machine; ``problem`` says why it cannot be used."""

    name: str
    interpreter: str
    implementation: str
    version: str
    packages: dict[str, str]
    problem: str


class RuntimeList(BaseModel):
    """All interpreters registered here."""

    runtimes: list[RuntimeShape]


class ServerShape(BaseModel):
    """A PostgreSQL server of the user's own; ``seen`` says whether what it uses can be measured,
    ``problem`` why it cannot be used. Its address is told without a password."""

    name: str
    address: str
    version: str
    seen: bool
    problem: str


class ServerList(BaseModel):
    """All servers registered here."""

    servers: list[ServerShape]


class NewServer(BaseModel):
    """A server to register, by its connection string."""

    name: str
    address: str


class NewRuntime(BaseModel):
    """An interpreter to register."""

    name: str
    interpreter: str
