"""Trying all: every lane once at small sizes, before a plan is run: do they end, do they agree, how
long will they take."""

from collections.abc import Collection, Sequence
from pathlib import Path

from ivrell.core.comparison.file import parse
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.estimate import Took
from ivrell.core.records.findings import LaneFindings
from ivrell.core.records.tries import AllTried, LaneTried
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.control import Control, Listener, NoControl, ignore_event
from ivrell.core.trial.estimate import as_ended, took
from ivrell.core.trial.once import small_knobs
from ivrell.core.trial.plan import Limits, Plan, chosen_approaches

SIZES = (1_000, 10_000)
"""Rows of the largest table, at the most."""

_SECONDS = 60.0


def try_all(
    text: str,
    folder: Path,
    store: DataStore,
    *,
    own_files: str | None = None,
    listen: Listener = ignore_event,
    control: Control | None = None,
) -> AllTried:
    """Run every lane that is not retired once at each of two small sizes.

    Args:
        text: of the comparison file.
        folder: for what the runs leave; empty.
        store: of made data.
        own_files, listen, control: as a trial takes them.

    Raises BadInput as a trial does.
    """
    comparison = parse(text)
    plan = Plan(rounds=1, warm_ups=0, limits=Limits(seconds=_SECONDS), own_files=own_files)
    lanes = chosen_approaches(plan, comparison)
    told: dict[str, LaneTried] = {}
    times: list[Took] = []
    sizes = []
    before = None
    for rows in SIZES:
        knobs = small_knobs(text, rows)
        if knobs == before:
            break
        before = knobs
        small = plan.model_copy(update={"knobs": knobs, "approaches": lanes})
        trial = Trial(
            text, small, folder / str(rows), store, listen=listen, control=control or NoControl()
        )
        found = trial.conduct().points[0]
        sizes.append(max((int(values[0] or 0) for values in knobs.values()), default=0))
        times += took(map(as_ended, trial.runs))
        # One that takes so long here never ends there.
        lanes = [lane.id for lane in found.lanes if lane.state != "limit"]
        told |= {lane.id: _lane(lane) for lane in found.lanes}
        if (control and control.stop_all()) or not knobs or not lanes:
            break
    return AllTried(rows=sizes, lanes=list(told.values()), took=times, words=_words(told.values()))


def _lane(lane: LaneFindings) -> LaneTried:
    judged = lane.agreement
    return LaneTried(
        lane=lane.id,
        name=lane.name,
        state=lane.state,
        trouble=lane.trouble,
        agrees=judged.agrees if judged and judged.verdict != "no answer" else None,
        reasons=judged.reasons if judged and not judged.agrees else [],
        elapsed_s=lane.elapsed.median if lane.elapsed else None,
    )


def _words(lanes: Collection[LaneTried]) -> str:
    """How it went, in a sentence."""
    failed = [lane.name for lane in lanes if lane.state != "done"]
    odd = [lane.name for lane in lanes if lane.agrees is False]
    parts = []
    if failed:
        parts.append(
            f"{_listed(failed)} did not come to {'its' if len(failed) == 1 else 'their'} end"
        )
    if odd:
        parts.append(f"{_listed(odd)} {'gives' if len(odd) == 1 else 'give'} another answer")
    if not parts:
        return f"All {len(lanes)} lanes end and agree." if len(lanes) > 1 else "The lane ends."
    return f"{'; '.join(parts)}."


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
