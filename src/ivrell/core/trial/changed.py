"""Only what changed: lanes whose code, settings or input are others now are run anew, beside kept
runs of the others."""

import shutil
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.alike import as_run, others_than_lanes
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.plan import Plan
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import Stretch
from ivrell.core.results.folder import DATA, SESSIONS, ResultFolder
from ivrell.core.trial.more import anchor_of
from ivrell.core.trial.plan import chosen_approaches


@dataclass(frozen=True)
class Changed:
    """What is to be done where some lanes are others: the lanes whose runs are ``kept``, those that
    are run ``anew``, the plan of the whole and what its next session does."""

    kept: list[str]
    anew: list[str]
    plan: Plan
    stretch: Stretch


def only_changed(
    before: Comparison, now: Comparison, plan: Plan, runs: Sequence[RunRecord]
) -> Changed:
    """What is to be done for the lanes of a trial that are others now.

    Args:
        before: the comparison that the trial ran.
        now: as it is.
        plan: of the trial.
        runs: of it.

    Raises BadInput where more than lanes is another, or nothing is, or all are.
    """
    differs = others_than_lanes(before, now)
    if differs:
        raise BadInput(
            f"More than lanes has changed since this trial: {', '.join(differs)}.",
            hint="Run all of it anew.",
        )
    counted = [run for run in runs if run.counted]
    there = {approach.id: as_run(approach) for approach in now.approach if not approach.retired}
    ran = {run.approach for run in counted}
    kept = [
        lane
        for lane, own in there.items()
        if lane in ran and own == as_run(before.approach_called(lane))
    ]
    wanted = set(chosen_approaches(plan, before)) & there.keys()
    anew = [lane for lane in there if lane in wanted and lane not in kept]
    if not anew:
        raise BadInput("No lane of this trial has changed.", hint="Add rounds to it instead.")
    of_kept = [run for run in counted if run.approach in kept]
    if not of_kept:
        raise BadInput("Every lane of this trial has changed.", hint="Run all of it anew.")
    last = max(run.round for run in of_kept)
    order = list(there)
    beside = sorted({anchor_of(now, of_kept), *anew}, key=order.index)
    rounds = {"rounds": last, "until": None, "search": None}
    stretch = Stretch(
        plan=plan.model_copy(update={"approaches": beside, **rounds}), first_round=last + 1
    )
    whole = plan.model_copy(
        update={"approaches": sorted({*kept, *anew}, key=order.index), "search": None}
    )
    return Changed(kept, anew, whole, stretch)


def take_over(old: ResultFolder, new: ResultFolder, lanes: Collection[str]) -> list[RunRecord]:
    """Bring what a trial's folder tells of some lanes into another one, which is made; the runs.
    Raises BadInput where the folder holds none of them any more."""
    runs = [run for run in old.runs() if run.approach in lanes]
    if not runs:
        raise BadInput(
            "The runs that were to be taken over are not there any more.",
            where=str(old),
            hint="Run all of it anew.",
        )
    new.make()
    new.answers.mkdir(exist_ok=True)
    for run in runs:
        new.keep_curve(run.run, old.curve(run.run))
        if run.answer_fingerprint:
            name = f"{run.approach}-{run.answer_fingerprint}.arrow"
            if (old.answers / name).exists() and not (new.answers / name).exists():
                shutil.copyfile(old.answers / name, new.answers / name)
    new.keep(SESSIONS, old.sessions())
    if old.has(DATA):
        new.keep(DATA, old.read(DATA))
    # Last, and all at once: a folder with runs is one that all was taken over into.
    new.write_runs(runs)
    return runs
