"""A try: one run of one approach on a small size, and the first rows of its answer."""

from pathlib import Path

import pyarrow as pa

from ivrell.core.comparison.file import parse
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.points import Value
from ivrell.core.records.tries import AnswerColumn, TryOutcome
from ivrell.core.records.wire import RUN
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.control import Control, NoControl
from ivrell.core.trial.plan import Limits, Plan

TRY_SECONDS = 60.0
HOT_SECONDS = 600.0
"""A run that tells where its time goes may take longer: it is of the size that is asked about."""

EVERY_ROW = 2**62
_SHOWN_ROWS = 20


def small_knobs(text: str, rows: int) -> dict[str, list[Value]]:
    """Knob values of a small size: those that set rows are at most ``rows``."""
    comparison = parse(text)
    return {
        knob: [min(int(values[0]), rows)]
        for knob, values in comparison.knobs.items()
        if comparison.data.counted_by(knob) and isinstance(values[0], int)
    }


def try_once(
    text: str,
    lane: str,
    rows: int,
    folder: Path,
    store: DataStore,
    *,
    own_files: str | None = None,
    control: Control | None = None,
    mode: str = RUN,
    seconds: float = TRY_SECONDS,
) -> TryOutcome:
    """Run an approach once on at most ``rows`` rows of the tables whose rows a knob sets.

    In the mode "explained" the run tells how the engine carries the approach out, and gives no
    answer; in "hot" it is sampled for where its time goes. ``seconds`` is its limit.

    Raises BadInput as a trial does.
    """
    plan = Plan(
        rounds=1,
        warm_ups=0,
        approaches=[lane],
        knobs=small_knobs(text, rows),
        limits=Limits(seconds=seconds),
        own_files=own_files,
    )
    trial = Trial(text, plan, folder, store, control=control or NoControl(), mode=mode)
    trial.conduct()
    run = trial.runs[0] if trial.runs else None
    outcome = TryOutcome(run=run, point=trial.points[0])
    closely = next((r for r in trial.runs if r.memory_run and r.state == "done"), None)
    if run and closely:
        run.peak_memory_bytes = closely.peak_memory_bytes
        run.start_memory_bytes = closely.start_memory_bytes
        run.memory_method = closely.memory_method
    if run:
        outcome.plans, run.plans = run.plans, []
        outcome.hot, run.hot = run.hot, None
    if run and run.answer_fingerprint:
        path = trial.results.answers / f"{lane}-{run.answer_fingerprint}.arrow"
        with pa.OSFile(str(path)) as source:
            answer = pa.ipc.open_file(source).read_all()
        outcome.columns = [AnswerColumn(name=f.name, type=str(f.type)) for f in answer.schema]
        shown = answer.slice(0, _SHOWN_ROWS).to_pylist()
        outcome.rows = [
            [None if value is None else str(value) for value in row.values()] for row in shown
        ]
    return outcome
