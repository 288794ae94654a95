"""A challenge: what turns a conclusion over?

The comparison is run as it is, then with one thing after another changed, each a point of one
interleaved trial; what seems to matter is looked at with more rounds, and where it turns over is
searched for. What is loaded at once is next to nothing.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ivrell.api import Comparison, Trial, new_folder

if TYPE_CHECKING:
    from ivrell.core.challenge.changes import Challenged, Change
    from ivrell.core.records.challenge import ChallengeFindings, ChangeOutcome
    from ivrell.core.records.events import TrialEvent
    from ivrell.core.records.findings import Findings
    from ivrell.core.records.points import Value
    from ivrell.core.trial.control import Control

CHALLENGE = "challenge.json"
"""The file of a challenge's folder that holds what was found."""

_ROUNDS = 3
_FEWEST = 2
_MORE_ROUNDS = 5
_SCREENED = 0.6
"""The part of the minutes that all changes together may take, before what matters is looked at."""

_CONDITIONS = 0.75
"""Until this part of the minutes conditions of the machine are still begun."""

_AROUND_S = 0.25
"""Of a run, besides its start and its timed part: a process ends, an answer is looked at."""

_LONGEST_TIMES = 30
_LONGEST_S = 20.0
_WITHIN = 0.25


@dataclass
class _Until:
    """Asks to stop where whoever watches does, and when the time is up."""

    control: Control | None
    deadline: float

    def stop_all(self) -> bool:
        return time.monotonic() > self.deadline or self.asked()

    def asked(self) -> bool:
        """Whether somebody asked."""
        return self.control is not None and self.control.stop_all()

    def stop_run(self, number: int) -> bool:
        return self.control is not None and self.control.stop_run(number)

    def dropped(self) -> set[str]:
        return self.control.dropped() if self.control else set()

    def between_runs(self) -> None:
        if self.control:
            self.control.between_runs()


def challenge(
    comparison: Comparison,
    *,
    minutes: float = 10.0,
    knobs: Mapping[str, Value] | None = None,
    lanes: list[str] | None = None,
    folder: Path | None = None,
    progress: Callable[[TrialEvent], None] | None = None,
    control: Control | None = None,
) -> ChallengeFindings:
    """Look for what turns the conclusion of a comparison over.

    Args:
        comparison: whose winner is doubted.
        minutes: that it may take.
        knobs: values at which it is doubted; the first of each unless given.
        lanes: ids of those that run; all unless given.
        folder: of its trials; a new one in Ivrell's data folder unless given.
        progress, control: as ``Comparison.run`` takes them.

    Raises BadInput, also where no lane comes to its end as things are.
    """
    folder = folder or new_folder()
    work = _Challenge(comparison, minutes, dict(knobs or {}), lanes, folder, progress, control)
    return work.conduct()


class _Challenge:
    """One challenge under way."""

    def __init__(
        self,
        comparison: Comparison,
        minutes: float,
        knobs: dict[str, Value],
        lanes: list[str] | None,
        folder: Path,
        progress: Callable[[TrialEvent], None] | None,
        control: Control | None,
    ) -> None:
        self.comparison = comparison
        self.minutes = minutes
        self.knobs = knobs
        self.lanes = lanes
        self.folder = folder
        self.progress = progress
        self.began = time.monotonic()
        self.until = _Until(control, self.began + 60 * minutes)
        self.runs = 0
        self.slowest_s = 0.0

    def conduct(self) -> ChallengeFindings:
        """All of it."""
        from ivrell.core.base.errors import BadInput
        from ivrell.core.challenge.changes import challenged
        from ivrell.core.challenge.judged import leader_of

        first = self._run(
            self.comparison, "as it is", knobs={k: [v] for k, v in self.knobs.items()}
        )
        usual = next(iter(first.findings), None)
        leader = leader_of(usual) if usual else None
        if usual is None or leader is None:
            raise BadInput(
                "No lane came to its end with an answer that holds: there is no winner to doubt.",
                where=self.comparison.name, hint="Run ivrell check first.",
            )  # fmt: skip
        a_round = _a_round(first)
        self.slowest_s = max(lane.elapsed.largest for lane in usual.lanes if lane.elapsed)
        changed = challenged(self.comparison.text, self.knobs, baseline=leader.id)
        outcomes, before = self._screened(changed, leader.id, a_round)
        outcomes += self._conditions(changed, leader.id)
        outcomes = self._closer(outcomes, changed, leader.id, before)
        return self._found(changed, leader.id, before or usual, outcomes)

    def _run(self, comparison: Comparison, name: str, **fields: Any) -> Trial:
        """One trial of it."""
        seconds = max(_LONGEST_S, _LONGEST_TIMES * self.slowest_s)
        usual: dict[str, Any] = {
            "rounds": _ROUNDS, "warm_ups": 0, "approaches": self.lanes,
            # What disturbs a round disturbs all lanes; time goes into other changes instead.
            "disturbed": {"repeat": 0.1, "minutes": max(0.1, self.minutes / 30), "wait_s": 0.2},
        }  # fmt: skip
        if self.slowest_s:
            usual["limits"] = {"seconds": seconds}
        plan = comparison.plan(**(usual | fields))
        trial = comparison.run(
            plan, folder=self.folder / name.replace(" ", "-"), progress=self.progress,
            control=self.until,
        )  # fmt: skip
        self.runs += len(trial.records)
        return trial

    def _screened(
        self, changed: Challenged, leader: str, a_round: float
    ) -> tuple[list[ChangeOutcome], Findings | None]:
        """All changes of the data that there is time for, in few rounds, and things as they are
        beside them."""
        from ivrell.core.challenge.judged import judged, not_run

        left = [not_run(change, why) for change, why in changed.impossible]
        time_s = _SCREENED * 60 * self.minutes - (time.monotonic() - self.began)
        all_of_it = a_round * (1 + sum(map(_cost, changed.changes)))
        rounds = _ROUNDS if _ROUNDS * all_of_it <= time_s else _FEWEST
        taken: list[Change] = []
        spent = rounds * a_round
        for change in sorted(changed.changes, key=_cost):
            spent += rounds * a_round * _cost(change)
            if spent > time_s:
                left.append(not_run(change, "there was no time for it"))
            else:
                taken.append(change)
        if not taken:
            return left, None
        points = [changed.base, *(changed.point(change) for change in taken)]
        trial = self._run(self._comparison(changed), "changed", points=points, rounds=rounds)
        found = {_name(one.point): one for one in trial.findings}
        before = found.get(_name(changed.base))
        if before is None:
            return left + [not_run(one, "there was no time for it") for one in taken], None
        outcomes = []
        for change in taken:
            there = found.get(_name(changed.point(change)))
            if there is None or not any(lane.elapsed for lane in there.lanes):
                outcomes.append(not_run(change, _why_not(there)))
                continue
            outcomes.append(
                judged(change, leader, before, there, point=there.point, folder=str(trial.folder))
            )
        return outcomes + left, before

    def _conditions(self, changed: Challenged, leader: str) -> list[ChangeOutcome]:
        """Conditions of the machine, each beside its usual value."""
        from ivrell.core.challenge.changes import CONDITIONS
        from ivrell.core.challenge.judged import judged, not_run

        outcomes = []
        for change in CONDITIONS:
            if time.monotonic() - self.began > _CONDITIONS * 60 * self.minutes:
                outcomes.append(not_run(change, "there was no time for it"))
                continue
            values = [None if change.usual == "" else change.usual, change.value]
            trial = self._run(
                self._comparison(changed), f"other {change.knob}", points=[changed.base],
                **{change.knob: values},
            )  # fmt: skip
            found = {one.point.get(change.knob): one for one in trial.findings}
            usual, there = found.get(values[0]), found.get(change.value)
            if usual is None or there is None or not any(lane.elapsed for lane in there.lanes):
                outcomes.append(not_run(change, _why_not(there)))
                continue
            outcomes.append(
                judged(change, leader, usual, there, point=there.point, folder=str(trial.folder))
            )
        return outcomes

    def _closer(
        self,
        outcomes: list[ChangeOutcome],
        changed: Challenged,
        leader: str,
        before: Findings | None,
    ) -> list[ChangeOutcome]:
        """With more rounds what turned over or was not told apart: of many changes some seem to
        matter by chance. Then where between the two values it turns over."""
        by_words = {change.words: change for change in changed.changes}
        if before is None:
            return outcomes
        found = {}
        # The least lead first: what there is time for is spent on what most likely turns over.
        for one in sorted(outcomes, key=lambda one: one.lead or 0.0):
            change = by_words.get(one.words)
            found[one.words] = one
            doubted = one.verdict in ("turned over", "unsure") and change is not None
            if doubted and change is not None and not self.until.stop_all():
                found[one.words] = self._again(one, change, changed, leader, before)
        for words, one in found.items():
            change = by_words.get(words)
            if one.verdict == "turned over" and change is not None:
                found[words] = self._turning(one, change, changed)
        return list(found.values())

    def _again(
        self, outcome: ChangeOutcome, change: Change, changed: Challenged, leader: str,
        before: Findings,
    ) -> ChangeOutcome:  # fmt: skip
        """An outcome by more rounds."""
        from ivrell.core.challenge.judged import judged

        trial = Trial.open(Path(outcome.folder))
        ran = len(trial.records)
        trial.more(
            rounds=_MORE_ROUNDS, at=changed.point(change), progress=self.progress,
            control=self.until,
        )  # fmt: skip
        self.runs += len(trial.records) - ran
        again = Trial.open(Path(outcome.folder))
        there = next(f for f in again.findings if _name(f.point) == _name(outcome.point))
        return judged(change, leader, before, there, point=there.point, folder=outcome.folder)

    def _turning(
        self, outcome: ChangeOutcome, change: Change, changed: Challenged
    ) -> ChangeOutcome:
        """The outcome with where it turns over, where that is a number above nought."""
        left_s = self.until.deadline - time.monotonic()
        ends = sorted([change.usual, change.value], key=str)
        if not change.is_number or min(float(e) for e in ends) <= 0 or left_s < 2 * _ROUNDS:
            return outcome
        lanes = [one.lane for one in outcome.lanes if not one.wrong]
        trial = self._run(
            self._comparison(changed), f"turning {change.knob} {change.value}",
            approaches=lanes, points=[],
            knobs={**{k: [v] for k, v in changed.base.items()},
                   change.knob: sorted([change.usual, change.value])},
            search={"within": _WITHIN, "minutes": max(0.05, left_s / 60 / 2)},
        )  # fmt: skip
        leads = [lead for sweep in trial.sweep if (lead := sweep.lead("elapsed")) is not None]
        crossings = [crossing for lead in leads for crossing in lead.crossings]
        return outcome.model_copy(update={"crossing": crossings[0]}) if crossings else outcome

    def _comparison(self, changed: Challenged) -> Comparison:
        return Comparison(changed.text, self.comparison.own_files)

    def _found(
        self, changed: Challenged, leader: str, before: Findings, outcomes: list[ChangeOutcome]
    ) -> ChallengeFindings:
        import datetime
        from math import prod

        from ivrell.core.challenge.judged import in_order, wrong_with
        from ivrell.core.challenge.words import told
        from ivrell.core.records.challenge import ChallengeFindings

        names = {lane.id: lane.name for lane in before.lanes}
        others = [x for x in before.lanes if x.id != leader and x.elapsed and not wrong_with(x)]
        sure = bool(others) and all(x.ratio and x.ratio.verdict == "slower" for x in others)
        best = min(others, key=lambda x: x.elapsed.median, default=None)  # type: ignore[union-attr]
        ordered = in_order(outcomes)
        values = [
            1 + sum(one.knob == knob for one in ordered) for knob in {o.knob for o in ordered}
        ]
        found = ChallengeFindings(
            name=self.comparison.name, made_at=datetime.datetime.now(datetime.UTC),
            minutes=self.minutes, took_s=time.monotonic() - self.began, point=dict(changed.base),
            leader=leader, leader_name=names[leader], sure=sure,
            usual=1 / best.ratio.value if best and best.ratio and best.ratio.value else None,
            outcomes=ordered, runs=self.runs, grid=float(prod(values)) * _ROUNDS * len(names),
            words=told(names[leader], sure, ordered, names), folder=str(self.folder),
            stopped=self.until.asked(),
        )  # fmt: skip
        (self.folder / CHALLENGE).write_text(found.model_dump_json(indent=2), encoding="utf-8")
        return found


def _a_round(trial: Trial) -> float:
    """Seconds that a round of a trial takes: its lanes once, with what goes on around them."""
    runs = [run for run in trial.records if run.counted and run.elapsed_s is not None]
    lanes = {run.approach for run in runs}
    took = sum((run.elapsed_s or 0.0) + (run.start_s or 0.0) + _AROUND_S for run in runs)
    return took * len(lanes) / max(1, len(runs))


def _cost(change: Change) -> float:
    """How many times as long as the usual a round takes under a change, at the most likely."""
    if change.what != "rows" or not isinstance(change.usual, int | float) or not change.usual:
        return 1.0
    return max(0.3, float(change.value) / float(change.usual))


def _name(point: Mapping[str, Any]) -> str:
    from ivrell.core.records.points import point_name

    return point_name(point)


def _why_not(found: Findings | None) -> str:
    if found is None:
        return "there was no time for it"
    troubles = [lane.trouble for lane in found.lanes if lane.trouble]
    return troubles[0] if troubles else "no lane came to its end"
