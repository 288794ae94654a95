"""Can it simply be started again: an approach killed part-way, and begun anew on what it left."""

import time
from dataclasses import replace
from pathlib import Path

import pyarrow as pa

from ivrell.core.agreement.compare import compare
from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.base.locks import in_use
from ivrell.core.base.temp_dirs import scratch
from ivrell.core.engines.workspace import RunWorkspace
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.run import RunRecord
from ivrell.core.records.tries import (
    InterruptionOutcome,
    InterruptionRuns,
    InterruptionVerdict,
)
from ivrell.core.records.wire import DONE, LEFT
from ivrell.core.run.answers.receiver import AnswerReceiver, Received
from ivrell.core.tasks.buckets import COLUMN
from ivrell.core.trial.conduct import Trial, desk_for
from ivrell.core.trial.control import Control, NoControl
from ivrell.core.trial.once import small_knobs
from ivrell.core.trial.plan import Limits, Plan, PlannedRun, ordered_runs
from ivrell.core.trial.run_executor import NO_OVERRIDES, RunOverrides

_SECONDS = 60.0
_SERVER_ENDS_S = 120.0
_LOOK_AGAIN_S = 0.05
_KILLED = 3
_KILLS = 3
"""Tries to kill it: what was done before its moment came is killed after half of that time."""


def interrupted(
    text: str,
    lane: str,
    rows: int,
    share: float,
    folder: Path,
    store: DataStore,
    *,
    own_files: str | None = None,
    control: Control | None = None,
) -> InterruptionOutcome:
    """Run an approach on a small size, run it anew and kill it after a share of the time that
    it took (earlier, where it was quicker this time), look at what is left, start it again on
    that, and compare its answer.

    Tables and files stay as the kill left them; what a lane's ``setup`` made is there already
    and is not made again.

    Raises BadInput where the approach does not run at all, Stopped when asked to stop.
    """
    if not 0 < share < 1:
        raise BadInput("The share must lie between 0 and 1.", where="share")
    knobs = small_knobs(text, rows)
    plan = Plan(
        rounds=1, warm_ups=0, approaches=[lane], knobs=knobs, limits=Limits(seconds=_SECONDS),
        own_files=own_files,
    )  # fmt: skip
    control = control or NoControl()
    trial = Trial(text, plan, folder, store, control=control)
    with (
        in_use(store.root),
        in_use(trial.databases.root),
        scratch() as runs,
        desk_for(plan, runs) as desk,
    ):
        return _interrupted(trial, lane, share, control, runs, desk)


def _interrupted(
    trial: Trial, lane: str, share: float, control: Control, scratch: Path, desk: AnswerReceiver
) -> InterruptionOutcome:
    made = trial.prepare()
    attempts = trial.attempts(scratch, desk)
    approach = trial.comparison.approach_called(lane)
    answers: dict[str, pa.Table] = {}

    def attempt(
        name: str, number: int, place: RunWorkspace, overrides: RunOverrides = NO_OVERRIDES
    ) -> RunRecord:
        def take(answer: Received) -> str:
            with pa.OSFile(str(answer.path)) as source:
                answers[name] = pa.ipc.open_file(source).read_all()
            answer.path.unlink()
            return name

        planned = PlannedRun(lane, trial.points[0], 1, 1, number=number)
        run, _ = attempts.attempt(planned, place, trial.listen, control.stop_all, take, overrides)
        if control.stop_all():
            raise Stopped("the check of an interruption")
        return run

    first = next(iter(ordered_runs(trial.comparison, trial.plan)))
    bare = {"setup": ""} if approach.needs.setup is not None else {}
    try:
        desk.wait_until_ready()
        # Twice: a first run is often slower, and a kill by its time would come too late.
        for number in range(1, _KILLED):
            place = attempts.place_for(replace(first, number=number), made)
            try:
                usual = attempt("usual", number, place)
            finally:
                place.leave()
            if usual.state != DONE or not usual.elapsed_s:
                raise BadInput(
                    "The approach does not run to its end: "
                    f"{usual.why_in_trouble or 'limit reached'}",
                    where=f"approach {lane}",
                    hint="Try it first; then check what an interruption does.",
                )
        assert usual.elapsed_s
        again = None
        for earlier in range(_KILLS):
            number = _KILLED * (earlier + 1)
            place = attempts.place_for(replace(first, number=number), made)
            try:
                killed_at = share / 2**earlier
                after = max(0.001, usual.elapsed_s * killed_at)
                killed = attempt("killed", number, place, RunOverrides(seconds=after))
                if killed.state == DONE and earlier < _KILLS - 1:
                    continue
                _wait_for_server(place)
                attempt("left", number + 1, place, RunOverrides(mode=LEFT, approach=bare))
                again = attempt("again", number + 2, place, RunOverrides(approach=bare))
                break
            finally:
                place.leave()
    finally:
        attempts.close()
        trial.preparation.stop()
    runs = InterruptionRuns(usual=usual, killed=killed, again=again)
    return _outcome(runs, answers, killed_at, trial)


def _wait_for_server(place: RunWorkspace) -> None:
    """A server goes on with a statement whose client is gone, and may even commit it."""
    deadline = time.monotonic() + _SERVER_ENDS_S
    while place.still_at_work() and time.monotonic() < deadline:
        time.sleep(_LOOK_AGAIN_S)


def _outcome(
    runs: InterruptionRuns, answers: dict[str, pa.Table], share: float, trial: Trial
) -> InterruptionOutcome:
    agreement = None
    verdict: InterruptionVerdict = "cannot be started again"
    if runs.killed.state == DONE or runs.again is None:
        verdict = "was not killed"
        words = "It ended before it could be killed. Take more rows, or an earlier moment."
    elif runs.again.state != DONE:
        why = runs.again.why_in_trouble or "it reached a limit"
        words = f"Cannot be started again: the second start fails. {why}"
    else:
        agreement = compare(answers["usual"], answers["again"], trial.comparison.answer)
        words = f"Cannot simply be started again: {_difference(answers)}."
        if agreement.agrees:
            verdict = "can be started again"
            words = "Can simply be started again: the answer is the usual one."
    return InterruptionOutcome(
        verdict=verdict,
        words=words,
        share=share,
        runs=runs,
        left=_by_bucket(answers.get("left")),
        whole=_by_bucket(answers["usual"]),
        left_bytes=runs.killed.left_bytes,
        agreement=agreement,
    )


def _difference(answers: dict[str, pa.Table]) -> str:
    """What the second start's answer has too many or too few of, by bucket."""
    usual, again = _by_bucket(answers["usual"]), _by_bucket(answers["again"])
    said = []
    for bucket in usual | again:
        gap = again.get(bucket, 0) - usual.get(bucket, 0)
        of = f" in {bucket}" if bucket else ""
        if gap > 0:
            said.append(f"{gap:,} rows too many{of}")
        elif gap < 0:
            said.append(f"{-gap:,} rows missing{of}")
    return ", ".join(said) or "as many rows as usual, with other values"


def _by_bucket(table: pa.Table | None) -> dict[str, int]:
    """Rows by bucket; all under "" where the answer has none."""
    if table is None:
        return {}
    if COLUMN not in table.column_names:
        return {"": table.num_rows}
    counted = table.group_by(COLUMN).aggregate([([], "count_all")])
    return {row[COLUMN]: row["count_all"] for row in counted.to_pylist()}
