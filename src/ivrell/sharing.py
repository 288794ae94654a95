"""What is shared: bundles of trials, running one again, several trials as one table.

What is loaded at once is next to nothing; each call loads what it needs.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ivrell.api import Comparison, Trial

if TYPE_CHECKING:
    from ivrell.core.bundles.unpack import Bundle
    from ivrell.core.records.bundle import SecondOpinion
    from ivrell.core.records.compared import Compared
    from ivrell.core.records.events import TrialEvent
    from ivrell.core.records.plan import Plan
    from ivrell.core.records.points import Value
    from ivrell.core.trial.control import Control


@dataclass(frozen=True)
class Rerun:
    """A bundle that was run again: the trial as it came, the one that was run here, and what held.

    ``opinion`` is None where the one here was stopped before its end.
    """

    there: Trial
    here: Trial
    opinion: SecondOpinion | None


def look(bundle: Path | str) -> Bundle:
    """What a bundle says of itself, and the comparison that it ran; nothing of it is run. Raises
    BadInput."""
    from ivrell.core.bundles.unpack import look as told

    return told(Path(bundle))


def plan_of(bundle: Bundle) -> Plan:
    """The plan that the trial of a bundle had. Raises BadInput."""
    from ivrell.core.bundles.unpack import plan_in

    return plan_in(bundle)


def unpack(bundle: Path | str, folder: Path | str) -> Trial:
    """The trial of a bundle in a new folder, to be looked at like any other; nothing of it is run.
    Raises BadInput where it is no bundle, or not whole."""
    from ivrell.core.bundles.unpack import unpack as made

    return Trial(made(Path(bundle), Path(folder)).path)


def rerun(
    bundle: Path | str,
    *,
    folder: Path,
    minutes: float | None = None,
    own_files: Path | None = None,
    progress: Callable[[TrialEvent], None] | None = None,
    control: Control | None = None,
) -> Rerun:
    """Run the trial of a bundle again here. **This runs a stranger's code**, in the sandbox: read
    ``look(bundle).text`` first. Raises BadInput, also where the data that is made here is not what
    was made there.

    Args:
        bundle: the file.
        folder: a new one, in which ``there`` and ``here`` are made.
        minutes: that it may take; as many rounds as fit, by what they took there.
        own_files: the folder that names of files in the comparison are meant from.
        progress, control: as ``Comparison.run`` takes them.
    """
    from ivrell.core.base.errors import BadInput
    from ivrell.core.bundles.again import check_same_data, second_opinion
    from ivrell.core.contain import sandbox
    from ivrell.core.records.events import DataMade
    from ivrell.core.results.folder import DATA, ResultFolder

    sandbox.refuse_stranger()
    there = unpack(bundle, folder / "there")
    comparison = Comparison(there.comparison.text, own_files or Path.cwd())
    plan = there.plan
    if plan.until is not None:
        # As many rounds as it took there.
        most = max((run.round for run in there.records if run.counted), default=plan.rounds)
        plan = plan.model_copy(update={"until": None, "rounds": max(1, most)})
    plan = plan.model_copy(update={"own_files": str(comparison.own_files), "sandbox": "auto"})
    if minutes is not None:
        found = comparison.estimate(plan, [there], minutes=minutes)
        if not found.rounds_in_time:
            raise BadInput(
                f"Not one round fits into {minutes:g} minutes.",
                hint=f"By what it took there a round takes {found.seconds / plan.rounds:.0f} s.",
            )
        plan = plan.model_copy(update={"rounds": min(found.rounds_in_time, 1000)})
    made = ResultFolder(there.folder).read(DATA)

    def heard(event: TrialEvent) -> None:
        if isinstance(event, DataMade):
            check_same_data(made, event.tables)
        if progress is not None:
            progress(event)

    here = comparison.run(plan, folder=folder / "here", progress=heard, control=control)
    ended = here.ended == "done"
    opinion = second_opinion(comparison.contents, there.whole, here.whole) if ended else None
    return Rerun(there, here, opinion)


def compare(trials: Sequence[Trial], **values: Value) -> Compared:
    """Trials of one comparison, of different machines or months, as rows of one table: what each
    lane took, and whether that is another time than in the first.

    Args:
        trials: the one that others are held against first.
        values: of knobs and conditions of the point; the first that all ran unless given.

    Raises BadInput where they have no point in common.
    """
    from ivrell.core.report.compared import compared

    past = [trial.past(number) for number, trial in enumerate(trials, 1)]
    return compared(past, [trial.folder.name for trial in trials], values)
