"""How long a plan will take, by the trials and tries of its comparison."""

from collections.abc import Iterator

from django.conf import settings

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import looking
from ivrell.core.comparison.model import Comparison as ComparisonData
from ivrell.core.recipe.forms import FORMS
from ivrell.core.records.estimate import Ended, Estimate, Took
from ivrell.core.records.tries import AllTried, TryOutcome
from ivrell.core.trial.estimate import estimated, took, took_by
from ivrell.core.trial.plan import Plan, chosen_approaches, points_of
from ivrell.server.comparisons.models import Comparison, read, subject
from ivrell.server.previews import PREVIEWS
from ivrell.server.trials.models import Run, Trial, Try, TryAll

_TRIALS, _TRIES = 10, 60
"""So many of the newest are looked at."""

_POINTS = 6
"""What data takes is looked at for so many points; the others are taken to be like them."""

_AROUND_TRY_S = 0.3
"""A try's end is not told: handing over its answer, and looking at that."""


def estimate(comparison: Comparison, plan: Plan, minutes: float | None) -> Estimate:
    """What a plan of a comparison, as it is now, will take. Raises BadInput for one that does not
    fit it."""
    data = comparison.data
    earlier = [*_of_trials(comparison, data), *_of_tries(comparison, data),
               *_of_all_tried(comparison, data)]  # fmt: skip
    return estimated(
        data,
        plan,
        earlier,
        data_s=_data_s(comparison.text, data, plan),
        time_s=None if minutes is None else minutes * 60,
    )


def _of_trials(comparison: Comparison, data: ComparisonData) -> Iterator[Took]:
    for trial in Trial.objects.present().filter(comparison=comparison)[:_TRIALS]:
        told = Run.objects.filter(trial=trial).values_list(
            "number",
            "approach",
            "record__point",
            "state",
            "record__spent_s",
            "record__peak_memory_bytes",
        )
        if before := _read(trial.text):
            yield from took_by(data, before, took(Ended(*one) for one in told))


def _of_tries(comparison: Comparison, data: ComparisonData) -> Iterator[Took]:
    for attempt in Try.objects.filter(comparison=comparison, kind=Try.Kind.TRY)[:_TRIES]:
        if not attempt.found or not (before := _read(attempt.text)):
            continue
        outcome = TryOutcome.model_validate(attempt.found)
        run = outcome.run
        if run is None or run.state != "done" or not run.elapsed_s:
            continue
        seconds = (run.start_s or 0.0) + run.elapsed_s + _AROUND_TRY_S
        memory = run.peak_memory_bytes
        found = [Took(lane=attempt.lane, point=outcome.point, seconds=seconds, memory_bytes=memory)]
        yield from took_by(data, before, found)


def _of_all_tried(comparison: Comparison, data: ComparisonData) -> Iterator[Took]:
    for attempt in TryAll.objects.filter(comparison=comparison)[:_TRIALS]:
        if attempt.found and (before := _read(attempt.text)):
            yield from took_by(data, before, AllTried.model_validate(attempt.found).took)


def _read(text: str) -> ComparisonData | None:
    try:
        return read(text)
    except BadInput:
        return None


def _data_s(text: str, data: ComparisonData, plan: Plan) -> float:
    """Seconds that making the files will take that are not there; tables that are loaded, and files
    that are cut or packed, are not told."""
    lanes = [data.approach_called(lane) for lane in chosen_approaches(plan, data)]
    forms = {lane.wanted.form for lane in lanes} & set(FORMS)
    points = points_of(plan, data)
    looked = points[:: max(1, len(points) // _POINTS)]
    total = 0.0
    for point in looked:
        knobs = {knob: value for knob in data.knobs if (value := point[knob]) is not None}
        costs = PREVIEWS.ask(looking.all_costs, subject(text, knobs), settings.IVRELL_DATA / "made")
        total += sum(one.seconds for one in costs if one.form in forms and not one.measured)
    return total * len(points) / len(looked)
