"""The API of trials, their runs and findings, and of the machine."""

import json
from dataclasses import asdict
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.http import FileResponse, Http404, HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from procrastinate.contrib.django.models import ProcrastinateJob, ProcrastinateWorker
from pydantic import TypeAdapter, ValidationError
from rest_framework import status, viewsets
from rest_framework.decorators import action, api_view
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.comparison import edit
from ivrell.core.engines.base import state_of
from ivrell.core.engines.registry import ENGINES
from ivrell.core.errors import BadInput
from ivrell.core.machine import busy_cores, snapshot
from ivrell.core.measure.noise import floor
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.store import DataStore
from ivrell.core.report.measures import as_csv
from ivrell.core.report.shape import Findings
from ivrell.core.report.words import limit_told
from ivrell.core.runtimes import Runtimes
from ivrell.core.servers import Servers
from ivrell.core.trial.plan import Plan
from ivrell.server.asking import asked, whole_number
from ivrell.server.comparisons.models import Comparison
from ivrell.server.comparisons.serializers import ComparisonSerializer
from ivrell.server.queue import QUEUE
from ivrell.server.trials import shapes
from ivrell.server.trials.models import Run, Trial, Try
from ivrell.server.trials.tasks import judge_trial, measure_noise, try_lane

_PLANS = TypeAdapter(list[shapes.StatementPlan])


def _point_of(request: Request, trial: Trial) -> dict[str, Any] | None:
    """The point that a request names; None where it names none. Raises BadInput."""
    given = request.query_params.get("point")
    if not given:
        return None
    try:
        point = json.loads(given)
    except (ValueError, RecursionError):
        point = None
    if point not in trial.points:
        raise BadInput(
            "This trial has no such point.", where="point", cure="Take one of its points."
        )
    return point


class TrialViewSet(viewsets.ReadOnlyModelViewSet):
    """Trials: watch them, stop them, read what they found."""

    queryset = Trial.objects.select_related("comparison")
    serializer_class = shapes.TrialSerializer

    @extend_schema(
        parameters=[OpenApiParameter("comparison", int, required=True)],
        responses=shapes.TrialLineSerializer(many=True),
    )
    def list(self, request: Request) -> Response:
        """The trials of a comparison, the newest first."""
        trials = self.queryset.filter(comparison=whole_number(request, "comparison"))
        return Response(shapes.TrialLineSerializer(trials, many=True).data)

    @extend_schema(
        parameters=[OpenApiParameter("point", str, description="knob values as JSON")],
        responses=shapes.TrialFindings,
    )
    @action(detail=True, methods=["get"])
    def findings(self, request: Request, pk: str) -> Response:
        """What the runs so far say at a point (the first when none is named)."""
        trial = self.get_object()
        told = trial.findings(_point_of(request, trial))
        found = shapes.TrialFindings(trial=trial.pk, state=trial.state, **told)
        return Response(found.model_dump(mode="json"))

    @extend_schema(
        parameters=[OpenApiParameter("point", str)],
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    @action(detail=True, methods=["get"])
    def measures(self, request: Request, pk: str) -> HttpResponse:
        """Every measure of every lane at a point as CSV, a line a measure and lane."""
        trial = self.get_object()
        found = Findings.model_validate(trial.findings(_point_of(request, trial)))
        text = as_csv(found.measures, {lane.id: lane.name for lane in found.lanes})
        return HttpResponse(
            text,
            content_type="text/csv; charset=utf-8",
            headers={"Content-Disposition": f'attachment; filename="trial-{trial.pk}.csv"'},
        )

    @extend_schema(responses={(200, "text/html"): OpenApiTypes.STR})
    @action(detail=True, methods=["get"])
    def report(self, request: Request, pk: str) -> FileResponse:
        """The report of a trial that has ended, to be kept or passed on."""
        path = self.get_object().results.report
        if not path.exists():
            raise Http404
        return FileResponse(path.open("rb"), as_attachment=True, filename=f"trial-{pk}.html")

    @extend_schema(responses=shapes.RunShape)
    @action(detail=True, methods=["get"], url_path=r"runs/(?P<number>\d+)")
    def run(self, request: Request, pk: str, number: str) -> Response:
        """One run in full, with its curve and the exact code."""
        run = get_object_or_404(Run, trial=pk, number=number)
        code = run.trial.read.lane(run.approach).text()
        curve = [{"t_s": t, "cpu_s": cpu, "memory_bytes": memory} for t, cpu, memory in run.curve]
        shape = shapes.RunShape(curve=curve, code=code, **run.record)
        return Response(shape.model_dump(mode="json"))

    @extend_schema(request=shapes.LaneAsked, responses={202: None})
    @action(detail=True, methods=["post"])
    def judge(self, request: Request, pk: str) -> Response:
        """Hold the kept answers against another lane's, when its turn comes."""
        given = asked(shapes.LaneAsked, request)
        trial = self.get_object()
        trial.read.lane(given.lane)
        if not trial.results.has_ended:
            raise BadInput("This trial has not ended.", cure="Wait for its end, or stop it.")
        judge_trial.defer(trial_id=trial.pk, reference=given.lane)
        return Response(status=status.HTTP_202_ACCEPTED)

    @extend_schema(request=shapes.AnswerAsked, responses=ComparisonSerializer)
    @action(detail=True, methods=["post"])
    def expect(self, request: Request, pk: str) -> Response:
        """Keep a lane's answer as the expected one: later trials are held against it."""
        given = asked(shapes.AnswerAsked, request)
        trial = self.get_object()
        pattern = trial.keep_expected(given.lane, given.point)
        with transaction.atomic():
            record = get_object_or_404(
                Comparison.objects.select_for_update(), pk=trial.comparison_id
            )
            record.put_text(edit.set_fields(record.text, "answer", {"expected": pattern}))
            record.save()
        return Response(ComparisonSerializer(record).data)

    @extend_schema(request=None, responses=shapes.TrialSerializer)
    @action(detail=True, methods=["post"])
    def stop(self, request: Request, pk: str) -> Response:
        """End the trial; what was measured stays."""
        trial = self.get_object()
        Trial.objects.filter(pk=trial.pk).update(stop_asked=True)
        waiting = Trial.objects.filter(pk=trial.pk, state=Trial.State.WAITING)
        if waiting.update(state=Trial.State.STOPPED):
            trial.tell("ended", {"state": Trial.State.STOPPED})
        trial.refresh_from_db()
        return Response(shapes.TrialSerializer(trial).data)

    @extend_schema(request=None, responses=shapes.TrialSerializer)
    @action(detail=True, methods=["post"], url_path=r"runs/(?P<number>\d+)/stop")
    def stop_run(self, request: Request, pk: str, number: str) -> Response:
        """End one run; the trial goes on with the next."""
        trial = self.get_object()
        Trial.objects.filter(pk=trial.pk).update(stop_run_asked=int(number))
        return Response(shapes.TrialSerializer(trial).data)

    @extend_schema(request=None, responses=shapes.TrialSerializer)
    @action(detail=True, methods=["post"], url_path=r"lanes/(?P<lane>\w+)/drop")
    def drop(self, request: Request, pk: str, lane: str) -> Response:
        """Run a lane no more in this trial."""
        self.get_object().read.lane(lane)
        with transaction.atomic():
            # Locked without the comparison beside it, which others may be changing.
            trial = get_object_or_404(Trial.objects.select_for_update(), pk=pk)
            trial.dropped = sorted({*trial.dropped, lane})
            trial.save(update_fields=["dropped"])
        return Response(shapes.TrialSerializer(trial).data)


@extend_schema(
    request=shapes.PlanSerializer, responses={201: shapes.TrialSerializer}, operation_id="launch"
)
@api_view(["POST"])
def launch(request: Request, comparison: int) -> Response:
    """Launch a trial of a comparison as it is now."""
    record = get_object_or_404(Comparison.objects.present(), pk=comparison)
    plan = asked(Plan, request)
    if plan.sandbox == "off":
        raise BadInput(
            "Runs of the application are always sandboxed where that works.",
            where="sandbox",
            cure="Use ./ivrell run --no-sandbox for a file that you trust.",
        )
    trial = Trial.objects.launch(record, plan)
    return Response(shapes.TrialSerializer(trial).data, status=status.HTTP_201_CREATED)


def _tries(comparison: int, lane: str) -> Response:
    """The newest try of each kind."""
    newest = {
        kind: Try.objects.filter(comparison=comparison, lane=lane, kind=kind).first()
        for kind in Try.Kind.values
    }
    tried, explained, killed = (newest[kind] for kind in Try.Kind.values)
    shape = shapes.Tries(
        newest=_try_shape(tried) if tried else None,
        explained=_explained_shape(explained) if explained else None,
        interrupted=_interruption_shape(killed) if killed else None,
    )
    return Response(shape.model_dump(mode="json"))


def _explained_shape(attempt: Try) -> shapes.ExplainedShape:
    found = attempt.found or {}
    message = attempt.message
    try:
        # The run told it, so it need not be a plan.
        plans = _PLANS.validate_python(found.get("plans", []))
    except ValidationError:
        plans = []
        message = {
            "what": "The run told something else than a plan.",
            "where": attempt.lane,
            "cure": "Explain it again; where that does not help, look at the lane's code.",
        }
    return shapes.ExplainedShape(
        id=attempt.pk,
        rows_asked=attempt.rows,
        state=attempt.state,
        message=message,
        error=(found.get("run") or {}).get("error"),
        plans=plans,
    )


def _interruption_shape(attempt: Try) -> shapes.InterruptionShape:
    found = attempt.found or {}
    return shapes.InterruptionShape(
        id=attempt.pk,
        rows_asked=attempt.rows,
        share=attempt.share,
        state=attempt.state,
        message=attempt.message,
        verdict=found.get("verdict", ""),
        words=found.get("words", ""),
        left=found.get("left", {}),
        whole=found.get("whole", {}),
        left_bytes=found.get("left_bytes"),
        usual_s=found.get("runs", {}).get("usual", {}).get("elapsed_s"),
        reasons=(found.get("agreement") or {}).get("reasons", []),
    )


def _try_shape(attempt: Try) -> shapes.TryShape:
    found = attempt.found or {}
    run = found.get("run") or {}
    user, system = run.get("cpu_user_s"), run.get("cpu_system_s")
    peak, start = run.get("peak_memory_bytes"), run.get("start_memory_bytes")
    return shapes.TryShape(
        id=attempt.pk,
        lane=attempt.lane,
        rows_asked=attempt.rows,
        state=attempt.state,
        message=attempt.message,
        point=found.get("point", {}),
        run_state=run.get("state"),
        elapsed_s=run.get("elapsed_s"),
        cpu_s=None if user is None or system is None else user + system,
        peak_memory_bytes=None if peak is None or start is None else max(0, peak - start),
        stages=run.get("stages", []),
        error=run.get("error"),
        told=limit_told(run["limit"]) if run.get("limit") else "",
        output=run.get("output", ""),
        answer_rows=run.get("answer_rows"),
        counters=run.get("counters", {}),
        columns=found.get("columns", []),
        rows=found.get("rows", []),
    )


class TryView(APIView):
    """Trying a lane on a small size while it is written."""

    @extend_schema(responses=shapes.Tries, operation_id="last_try")
    def get(self, request: Request, comparison: int, lane: str) -> Response:
        """The newest try of a lane of each kind, if any."""
        return _tries(comparison, lane)

    @extend_schema(
        request=shapes.TryRequest, responses={201: shapes.Tries}, operation_id="try_lane"
    )
    def post(self, request: Request, comparison: int, lane: str) -> Response:
        """Run a lane once, as it is now, on at most so many rows; it waits its turn."""
        given = asked(shapes.TryRequest, request)
        record = get_object_or_404(Comparison.objects.present(), pk=comparison)
        record.data.lane(lane)
        attempt = Try.objects.create(
            comparison=record,
            lane=lane,
            text=record.text,
            rows=max(1, given.rows),
            kind=given.kind,
            share=given.share,
        )
        try_lane.defer(try_id=attempt.pk)
        response = _tries(comparison, lane)
        response.status_code = status.HTTP_201_CREATED
        return response


@extend_schema(responses=shapes.EngineList)
@api_view(["GET"])
def engines(request: Request) -> Response:
    """The engines and whether they are there."""
    states = [state_of(engine) for engine in ENGINES.values()]
    return Response({"engines": [{**asdict(state), "cure": state.cure} for state in states]})


class RuntimesView(APIView):
    """Other interpreters that lanes in Python may ask for."""

    @extend_schema(responses=shapes.RuntimeList, operation_id="runtimes")
    def get(self, request: Request) -> Response:
        """Those registered, looked at now."""
        return self._all()

    @extend_schema(
        request=shapes.NewRuntime, responses=shapes.RuntimeList, operation_id="add_runtime"
    )
    def post(self, request: Request) -> Response:
        """Register one."""
        given = asked(shapes.NewRuntime, request)
        Runtimes().add(given.name.strip(), given.interpreter.strip())
        return self._all()

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: shapes.RuntimeList},
        operation_id="remove_runtime",
    )
    def delete(self, request: Request) -> Response:
        """Forget one."""
        Runtimes().remove(request.query_params.get("name", ""))
        return self._all()

    def _all(self) -> Response:
        found = [shapes.RuntimeShape(**one.as_dict()) for one in Runtimes().all()]
        return Response(shapes.RuntimeList(runtimes=found).model_dump())


class ServersView(APIView):
    """PostgreSQL servers of the user's own that lanes may ask for."""

    @extend_schema(responses=shapes.ServerList, operation_id="servers")
    def get(self, request: Request) -> Response:
        """Those registered, looked at now."""
        return self._all()

    @extend_schema(request=shapes.NewServer, responses=shapes.ServerList, operation_id="add_server")
    def post(self, request: Request) -> Response:
        """Register one."""
        given = asked(shapes.NewServer, request)
        Servers().add(given.name.strip(), given.address.strip())
        return self._all()

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: shapes.ServerList},
        operation_id="remove_server",
    )
    def delete(self, request: Request) -> Response:
        """Forget one; what was loaded there stays."""
        Servers().remove(request.query_params.get("name", ""))
        return self._all()

    def _all(self) -> Response:
        found = [
            shapes.ServerShape(
                name=one.name,
                address=one.address,
                version=one.version,
                seen=one.main_process is not None,
                problem=one.problem,
            )
            for one in Servers().all()
        ]
        return Response(shapes.ServerList(servers=found).model_dump())


@extend_schema(responses={200: {"type": "object", "additionalProperties": {}}})
@api_view(["GET"])
def machine(request: Request) -> Response:
    """What this machine is and is doing."""
    found = {**snapshot(settings.IVRELL_DATA), "busy_cores": busy_cores()}
    if found["noise"]:
        logs = found["noise"]["logs"]
        found["noise"] = {
            **found["noise"],
            "floors": {rounds: floor(logs, rounds) for rounds in (5, 10, 20)},
        }
    return Response(found)


@extend_schema(request=None, responses={202: None}, operation_id="measure_noise")
@api_view(["POST"])
def noise(request: Request) -> Response:
    """Measure this machine's noise anew, when its turn comes; machine/ tells the outcome."""
    measure_noise.defer(folder=str(settings.IVRELL_DATA))
    return Response(status=status.HTTP_202_ACCEPTED)


@extend_schema(methods=["GET"], responses=shapes.MadeData)
@extend_schema(methods=["DELETE"], responses=shapes.MadeData)
@api_view(["GET", "DELETE"])
def made(request: Request) -> Response:
    """Made data that is kept; DELETE clears it (it is made again when a trial needs it)."""
    store = DataStore(settings.IVRELL_DATA / "made")
    databases = DatabaseStore(settings.IVRELL_DATA / "loaded")
    if request.method == "DELETE":
        # Both refuse while a trial, a try or a making uses them, in whatever process.
        store.trim(0)
        databases.clear()
    shape = shapes.MadeData(
        limit_bytes=settings.MADE_LIMIT_BYTES,
        kept=[asdict(entry) for entry in store.kept()],
        loaded=[
            shapes.LoadedData(
                engine=loaded.engine,
                tables=[table.table for table in loaded.tables],
                rows=sum(table.rows for table in loaded.tables),
                indexes=[*loaded.keys, *loaded.indexes],
                size_bytes=loaded.size_bytes,
            )
            for loaded in databases.kept()
        ],
    )
    return Response(shape.model_dump())


@extend_schema(responses=shapes.Now)
@api_view(["GET"])
def now(request: Request) -> Response:
    """Who is signed in and what the machine is doing; cheap, asked often."""
    trials = list(Trial.objects.under_way().select_related("comparison"))
    running = next((t for t in trials if t.state == Trial.State.RUNNING), None)
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT count(*) FROM {ProcrastinateWorker._meta.db_table} "
            "WHERE last_heartbeat > now() - interval '40 seconds'"
        )
        workers = cursor.fetchone()[0]
    queued = ProcrastinateJob.objects.filter(queue_name=QUEUE)
    shape = shapes.Now(
        user=request.user.get_username(),
        may_run=request.user.is_staff,
        trial=running.pk if running else None,
        comparison=running.comparison_id if running else None,
        comparison_name=running.comparison.name if running else None,
        waiting=sum(1 for trial in trials if trial.state == Trial.State.WAITING),
        worker=workers > 0,
        timing=queued.filter(status="doing").exists(),
        noise=queued.filter(task_name="measure_noise", status__in=["todo", "doing"]).exists(),
    )
    return Response(shape.model_dump())
