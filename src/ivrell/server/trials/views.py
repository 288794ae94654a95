"""The API of trials, their runs and findings, and of the machine."""

from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import status, viewsets
from rest_framework.decorators import action, api_view
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import edit
from ivrell.core.records.bundle import SecondOpinion
from ivrell.core.records.compared import Compared
from ivrell.core.records.estimate import Estimate
from ivrell.core.records.history import Across, History, Overlay
from ivrell.core.records.pair import PairFindings
from ivrell.core.records.points import Point
from ivrell.core.report.measures import as_csv
from ivrell.core.trial.plan import Plan, most_runs
from ivrell.server.asking import asked, whole_number
from ivrell.server.comparisons.models import Comparison
from ivrell.server.comparisons.shapes import ComparisonShape
from ivrell.server.jobs.models import Job
from ivrell.server.replies import reply, reply_all, reply_kept
from ivrell.server.trials import kept, reports, shapes
from ivrell.server.trials.estimates import estimate
from ivrell.server.trials.joined import elsewhere, machines_called, stop_one_that_is_away
from ivrell.server.trials.models import JudgingAsked, Run, Trial, Try, TryAll
from ivrell.server.trials.past import (
    Thinned,
    Thinning,
    across_of,
    compared_of,
    history_of,
    overlay_of,
    thin,
)
from ivrell.server.trials.points import given_point


def _point_of(request: Request, trial: Trial) -> Point | None:
    """The point that a request names; None where it names none. Raises BadInput."""
    point = given_point(request.query_params.get("point"))
    if point is None:
        return None
    for own in trial.points:
        if own == point:
            return own
    raise BadInput("This trial has no such point.", where="point", hint="Take one of its points.")


def _trial(number: int) -> Trial:
    return get_object_or_404(Trial.objects.select_related("comparison", "job__machine"), pk=number)


class TrialViewSet(viewsets.ViewSet):
    """Trials: watch them, stop them, read what they found."""

    lookup_url_kwarg = "id"
    lookup_value_converter = "number"

    @extend_schema(
        parameters=[OpenApiParameter("comparison", int, required=True)],
        responses=shapes.TrialLine,
    )
    def list(self, request: Request) -> Response:
        """The trials of a comparison, the newest first."""
        trials = (
            Trial.objects.present()
            .select_related("comparison", "job__machine")
            .filter(comparison=whole_number(request, "comparison"))
        )
        return reply_all(shapes.TrialLine.of(trial) for trial in trials)

    @extend_schema(responses=shapes.TrialShape)
    def retrieve(self, request: Request, id: int) -> Response:
        """A trial in full, without its runs."""
        return reply(shapes.TrialShape.of(_trial(id)))

    @extend_schema(request=shapes.RemarksAsked, responses=shapes.TrialShape)
    def partial_update(self, request: Request, id: int) -> Response:
        """Give it a name or a note, or keep it from being thinned."""
        given = asked(shapes.RemarksAsked, request).model_dump(exclude_none=True)
        trial = _trial(id)
        trial.say(trial.said.model_copy(update=given))
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(responses={204: None})
    def destroy(self, request: Request, id: int) -> Response:
        """Delete one that has ended; it can be brought back."""
        _trial(id).delete_for_now()
        return Response(status=status.HTTP_204_NO_CONTENT)

    @extend_schema(request=None, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"])
    def restore(self, request: Request, id: int) -> Response:
        """Bring a deleted trial back."""
        trial = _trial(id)
        trial.deleted_at = None
        trial.save(update_fields=["deleted_at"])
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(
        parameters=[
            OpenApiParameter("under", int, required=True, description="the other trial"),
            OpenApiParameter("point", str, description="knob values as JSON"),
        ],
        responses=Overlay,
    )
    @action(detail=True, methods=["get"])
    def overlay(self, request: Request, id: int) -> Response:
        """This trial laid over another one at a point (the first unless named)."""
        trial, other = _trial(id), _trial(whole_number(request, "under"))
        return reply(overlay_of(trial, other, _point_of(request, trial) or trial.points[0]))

    @extend_schema(
        parameters=[OpenApiParameter("of", int, required=True, description="the first trial")],
        responses=SecondOpinion,
    )
    @action(detail=True, methods=["get"], url_path="second-opinion")
    def second_opinion(self, request: Request, id: int) -> Response:
        """What held of another trial of the same comparison when this one was run."""
        return reply(reports.opinion_by(_trial(id), _trial(whole_number(request, "of"))))

    @extend_schema(responses=shapes.Events)
    @action(detail=True, methods=["get"])
    def events(self, request: Request, id: int) -> Response:
        """What happened in it so far; /live/trials/N streams the same as it comes."""
        return reply(shapes.Events(events=[event.live for event in _trial(id).events.all()]))

    @extend_schema(
        parameters=[OpenApiParameter("point", str, description="knob values as JSON")],
        responses=shapes.PointFindings,
    )
    @action(detail=True, methods=["get"])
    def findings(self, request: Request, id: int) -> HttpResponse:
        """What the runs so far say at a point (the first when none is named)."""
        trial = _trial(id)
        return reply_kept(kept.findings_at(trial, _point_of(request, trial)))

    @extend_schema(parameters=[OpenApiParameter("point", str)], responses=shapes.Pairs)
    @action(detail=True, methods=["get"])
    def pairs(self, request: Request, id: int) -> Response:
        """How much faster each lane is than each other at a point."""
        trial = _trial(id)
        found = trial.findings(_point_of(request, trial))
        return reply(shapes.Pairs(point=found.point, pairs=found.pairs))

    @extend_schema(
        parameters=[
            OpenApiParameter("base", str, required=True),
            OpenApiParameter("lane", str, required=True),
            OpenApiParameter("point", str, description="knob values as JSON"),
        ],
        responses=PairFindings,
    )
    @action(detail=True, methods=["get"])
    def pair(self, request: Request, id: int) -> Response:
        """Two lanes held against each other at a point (the first when none is named)."""
        trial = _trial(id)
        point = _point_of(request, trial) or trial.points[0]
        base, lane = (request.query_params.get(name, "") for name in ("base", "lane"))
        return reply(trial.pair(point, base, lane))

    @extend_schema(responses=shapes.Sweep)
    @action(detail=True, methods=["get"])
    def sweep(self, request: Request, id: int) -> HttpResponse:
        """How the lanes do over all its points."""
        trial = _trial(id)
        return reply_kept(kept.sweep_of(trial))

    @extend_schema(
        parameters=[OpenApiParameter("point", str)],
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    @action(detail=True, methods=["get"])
    def measures(self, request: Request, id: int) -> HttpResponse:
        """Every measure of every lane at a point as CSV, a line a measure and lane."""
        trial = _trial(id)
        found = trial.findings(_point_of(request, trial))
        text = as_csv(found.measures, {lane.id: lane.name for lane in found.lanes})
        return HttpResponse(
            text,
            content_type="text/csv; charset=utf-8",
            headers={"Content-Disposition": f'attachment; filename="trial-{trial.pk}.csv"'},
        )

    @extend_schema(
        parameters=[
            OpenApiParameter("form", str, enum=reports.FORMS, description="html unless given"),
            OpenApiParameter(
                "pair", str, many=True,
                description="two lanes shown in full, such as loop,query; may be repeated",
            ),
            OpenApiParameter("point", str, description="of the pairs: knob values as JSON"),
        ],
        responses={
            (200, "text/html"): OpenApiTypes.STR,
            (200, "application/zip"): OpenApiTypes.BINARY,
            (200, "application/pdf"): OpenApiTypes.BINARY,
        },
    )  # fmt: skip
    @action(detail=True, methods=["get"])
    def report(self, request: Request, id: int) -> HttpResponse:
        """The report of a trial that has ended, with claims and notes of now, to be passed on."""
        trial = _trial(id)
        if not trial.results.has_ended:
            raise Http404
        form = request.query_params.get("form", "html")
        known = next((one for one in reports.FORMS if one == form), None)
        if known is None:
            raise BadInput(f"There is no report as {form}.", hint=f"As: {', '.join(reports.FORMS)}")
        pairs = [reports.two_lanes(one) for one in request.query_params.getlist("pair")]
        kind, suffix = reports.MEDIA[known]
        return HttpResponse(
            reports.report_of(trial, known, pairs, _point_of(request, trial)),
            content_type=kind,
            headers={"Content-Disposition": f'attachment; filename="trial-{id}.{suffix}"'},
        )

    @extend_schema(responses=reports.SummaryShape)
    @action(detail=True, methods=["get"])
    def summary(self, request: Request, id: int) -> Response:
        """A trial that has ended in one paragraph, for those who decide."""
        return reply(reports.summary_of(_trial(id)))

    @extend_schema(responses=shapes.RunShape)
    @action(detail=True, methods=["get"], url_path="runs/<number:number>")
    def run(self, request: Request, id: int, number: int) -> Response:
        """One run in full, with its curve and the exact code."""
        run = get_object_or_404(Run, trial=id, number=number)
        return reply(shapes.RunShape.of(run))

    @extend_schema(request=shapes.LaneAsked, responses={202: None})
    @action(detail=True, methods=["post"])
    def judge(self, request: Request, id: int) -> Response:
        """Hold the kept answers against another lane's, when its turn comes."""
        given = asked(shapes.LaneAsked, request)
        trial = _trial(id)
        trial.read.approach_called(given.lane)
        trial.results.refuse_thinned()
        if trial.job.machine_id is not None:
            raise BadInput(f"The answers of this trial are kept on {trial.job.machine}.")
        if not trial.results.has_ended:
            raise BadInput("This trial has not ended.", hint="Wait for its end, or stop it.")
        asked_of = JudgingAsked(trial=trial.pk, reference=given.lane)
        Job.objects.ask("judging", asked_of.model_dump())
        return Response(status=status.HTTP_202_ACCEPTED)

    @extend_schema(request=shapes.AnswerAsked, responses=ComparisonShape)
    @action(detail=True, methods=["post"])
    def expect(self, request: Request, id: int) -> Response:
        """Keep a lane's answer as the expected one: later trials are held against it."""
        given = asked(shapes.AnswerAsked, request)
        trial = _trial(id)
        pattern = trial.keep_expected(given.lane, given.point)
        with transaction.atomic():
            record = get_object_or_404(
                Comparison.objects.select_for_update(), pk=trial.comparison_id
            )
            record.put_text(edit.set_fields(record.text, "answer", {"expected": pattern}))
            record.save()
        return reply(ComparisonShape.of(record))

    @extend_schema(request=shapes.MoreAsked, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"])
    def more(self, request: Request, id: int) -> Response:
        """Add rounds, lanes or values of knobs to a trial that has ended, when its turn comes."""
        given = asked(shapes.MoreAsked, request)
        trial = _trial(id)
        trial.add(given, other_versions=given.other_versions)
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(request=shapes.AgainAsked, responses={201: shapes.TrialShape})
    @action(detail=True, methods=["post"])
    def changed(self, request: Request, id: int) -> Response:
        """Run those lanes anew that are others now, beside kept runs of the rest: a trial of its
        own."""
        given = asked(shapes.AgainAsked, request)
        made = Trial.objects.launch_changed(_trial(id), other_versions=given.other_versions)
        return reply(shapes.TrialShape.of(made), status.HTTP_201_CREATED)

    @extend_schema(request=None, responses={201: shapes.TrialShape})
    @action(detail=True, methods=["post"])
    def again(self, request: Request, id: int) -> Response:
        """Run it once more, exactly: a trial of its own."""
        return reply(shapes.TrialShape.of(_trial(id).launch_again()), status.HTTP_201_CREATED)

    @extend_schema(request=shapes.AgainAsked, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"])
    def resume(self, request: Request, id: int) -> Response:
        """Let one that failed go on where it was, with other versions too where asked for."""
        trial = _trial(id)
        trial.resume(other_versions=asked(shapes.AgainAsked, request).other_versions)
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(
        parameters=[OpenApiParameter("on", str, description="a machine; this one unless given")],
        request=None,
        responses=shapes.TrialShape,
    )
    @action(detail=True, methods=["post"])
    def elsewhere(self, request: Request, id: int) -> Response:
        """Run it from the start on another machine than the one that is away."""
        trial = _trial(id)
        elsewhere(trial, machines_called(request.query_params.get("on", ""))[0])
        return reply(shapes.TrialShape.of(_trial(id)))

    @extend_schema(parameters=[OpenApiParameter("point", str)], responses=Across)
    @action(detail=True, methods=["get"])
    def across(self, request: Request, id: int) -> Response:
        """The trials that were launched together with this one, machine by machine."""
        trial = _trial(id)
        return reply(across_of(trial, _point_of(request, trial) or trial.points[0]))

    @extend_schema(request=None, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"])
    def stop(self, request: Request, id: int) -> Response:
        """End the trial; what was measured stays."""
        trial = _trial(id)
        if not stop_one_that_is_away(trial):
            trial.job.stop()
        trial.refresh_from_db()
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(request=None, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"])
    def pause(self, request: Request, id: int) -> Response:
        """Let others pass, from the end of the run that is under way on."""
        trial = _trial(id)
        trial.job.pause()
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(request=None, responses=shapes.TrialShape, operation_id="go_on")
    @action(detail=True, methods=["post"], url_path="continue")
    def go_on(self, request: Request, id: int) -> Response:
        """Go on with a trial that was paused, when its turn comes."""
        trial = _trial(id)
        trial.job.go_on()
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(request=None, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"], url_path="runs/<number:number>/stop")
    def stop_run(self, request: Request, id: int, number: int) -> Response:
        """End one run; the trial goes on with the next."""
        trial = _trial(id)
        Trial.objects.filter(pk=trial.pk).update(stop_run_asked=number)
        return reply(shapes.TrialShape.of(trial))

    @extend_schema(request=None, responses=shapes.TrialShape)
    @action(detail=True, methods=["post"], url_path="lanes/<str:lane>/drop")
    def drop(self, request: Request, id: int, lane: str) -> Response:
        """Run a lane no more in this trial."""
        _trial(id).read.approach_called(lane)
        with transaction.atomic():
            # Locked without the comparison beside it, which others may be changing.
            trial = get_object_or_404(Trial.objects.select_for_update(), pk=id)
            trial.dropped = sorted({*trial.dropped, lane})
            trial.save(update_fields=["dropped"])
        return reply(shapes.TrialShape.of(trial))


@extend_schema(
    parameters=[OpenApiParameter("on", str, description="a machine by name or label; all")],
    request=Plan,
    responses={201: shapes.TrialShape},
    operation_id="launch",
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
            hint="Use ./ivrell run --no-sandbox for a file that you trust.",
        )
    machines = machines_called(request.query_params.get("on", ""))
    trial = Trial.objects.launch(record, plan, machines=machines)
    return reply(shapes.TrialShape.of(trial), status.HTTP_201_CREATED)


class ComparedView(APIView):
    """Trials of different machines, months or bundles, side by side."""

    @extend_schema(
        parameters=[
            OpenApiParameter("trials", str, required=True, description="numbers, such as 3,7,9"),
            OpenApiParameter("point", str, description="knob values as JSON"),
        ],
        responses=Compared,
        operation_id="compared",
    )
    def get(self, request: Request) -> Response:
        """Trials as rows of one table, each held against the first."""
        given = request.query_params.get("trials", "").split(",")
        if len(given) > _MOST_COMPARED or not all(one.isdigit() and one.isascii() for one in given):
            raise BadInput(
                f"Name two trials to {_MOST_COMPARED} by their numbers.", where="trials",
                hint="Write them as 3,7,9.",
            )  # fmt: skip
        trials = [_trial(int(one[:18])) for one in given]
        return reply(compared_of(trials, given_point(request.query_params.get("point"))))


_MOST_COMPARED = 24


class HistoryView(APIView):
    """The trials of a comparison over time."""

    @extend_schema(
        parameters=[
            OpenApiParameter("point", str, description="knob values as JSON"),
            OpenApiParameter("measure", str, description="its key; elapsed unless given"),
            OpenApiParameter("anchor", str, description="the lane that others are held against"),
        ],
        responses=History,
        operation_id="history",
    )
    def get(self, request: Request, comparison: int) -> Response:
        """What each lane took in each trial, and since when it takes another time."""
        record = get_object_or_404(Comparison, pk=comparison)
        query = request.query_params
        point = given_point(query.get("point"))
        measure, anchor = query.get("measure") or "elapsed", query.get("anchor") or None
        return reply(history_of(record, point, measure, anchor))


class ThinningView(APIView):
    """Thinning old trials of a comparison to summaries."""

    @extend_schema(request=Thinning, responses=Thinned, operation_id="thin")
    def post(self, request: Request, comparison: int) -> Response:
        """Take out what single runs of old trials left, or tell what that would give back."""
        record = get_object_or_404(Comparison, pk=comparison)
        return reply(thin(record, asked(Thinning, request)))


class EstimateView(APIView):
    """How long a plan takes."""

    only_reads = True

    @extend_schema(request=shapes.EstimateAsked, responses=Estimate, operation_id="estimate_plan")
    def post(self, request: Request, comparison: int) -> Response:
        """What a plan will take, by lane and in all, and what that rests on."""
        given = asked(shapes.EstimateAsked, request)
        record = get_object_or_404(Comparison.objects.present(), pk=comparison)
        return reply(estimate(record, given.plan, given.minutes))


def _tries(comparison: int, lane: str, code: int = status.HTTP_200_OK) -> Response:
    """The newest try of each kind."""
    newest = {
        kind: Try.objects.filter(comparison=comparison, lane=lane, kind=kind).first()
        for kind in Try.Kind.values
    }
    tried, explained, killed, hot = (newest[kind] for kind in Try.Kind.values)
    shape = shapes.Tries(
        newest=tried and shapes.TryShape.of(tried),
        explained=explained and shapes.ExplainedShape.of(explained),
        interrupted=killed and shapes.InterruptionShape.of(killed),
        hot=hot and shapes.HotShape.of(hot),
    )
    return reply(shape, code)


class TryAllView(APIView):
    """Trying all lanes at small sizes, before a plan is run."""

    @extend_schema(responses=shapes.TriedAll, operation_id="tried_all")
    def get(self, request: Request, comparison: int) -> Response:
        """What came of it the last time."""
        return self._newest(comparison)

    @extend_schema(request=None, responses={201: shapes.TriedAll}, operation_id="try_all")
    def post(self, request: Request, comparison: int) -> Response:
        """Run every lane once at small sizes, when its turn comes."""
        record = get_object_or_404(Comparison.objects.present(), pk=comparison)
        record.refuse_unread()
        most_runs(record.data, Plan())
        with transaction.atomic():
            TryAll.objects.create(
                job=Job.objects.ask("tryall"), comparison=record, text=record.text
            )
        return self._newest(comparison, status.HTTP_201_CREATED)

    @extend_schema(responses={200: shapes.TriedAll}, operation_id="stop_trying_all")
    def delete(self, request: Request, comparison: int) -> Response:
        """End it."""
        found = TryAll.objects.filter(comparison=comparison).first()
        if found:
            found.job.stop()
        return self._newest(comparison)

    def _newest(self, comparison: int, code: int = status.HTTP_200_OK) -> Response:
        found = TryAll.objects.filter(comparison=comparison)
        found = found.select_related("comparison", "job")
        newest = found.first()
        return reply(shapes.TriedAll(newest=newest and shapes.TryAllShape.of(newest)), code)


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
        record.refuse_unread()
        record.data.approach_called(lane)
        Try.objects.create(
            job=Job.objects.ask("try"),
            comparison=record,
            lane=lane,
            text=record.text,
            rows=max(1, given.rows),
            kind=given.kind,
            share=given.share,
        )
        return _tries(comparison, lane, status.HTTP_201_CREATED)

    @extend_schema(request=shapes.TryNow, responses=shapes.Tries, operation_id="try_lane_now")
    def patch(self, request: Request, comparison: int, lane: str) -> Response:
        """Do the newest try of a kind between two runs of the trial that it waits behind."""
        given = asked(shapes.TryNow, request)
        newest = _newest(comparison, lane, given.kind)
        Job.objects.filter(pk=newest.job_id, state=Job.State.WAITING).update(now=True)
        return _tries(comparison, lane)

    @extend_schema(
        parameters=[OpenApiParameter("kind", str, enum=Try.Kind.values)],
        responses={200: shapes.Tries},
        operation_id="stop_try",
    )
    def delete(self, request: Request, comparison: int, lane: str) -> Response:
        """End the newest try of a kind."""
        _newest(comparison, lane, request.query_params.get("kind", Try.Kind.TRY)).job.stop()
        return _tries(comparison, lane)


def _newest(comparison: int, lane: str, kind: str) -> Try:
    newest = Try.objects.filter(comparison=comparison, lane=lane, kind=kind).first()
    if newest is None:
        raise BadInput("Nothing is tried here.", where="kind", hint="Try the lane first.")
    return newest
