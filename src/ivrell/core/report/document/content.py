"""What a report says, before anybody writes it as a page or as Markdown."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from ivrell.core.comparison.edit import settings_text
from ivrell.core.comparison.model import Comparison, Note
from ivrell.core.engines.base import Approach
from ivrell.core.records.cost import CostAlong, CostFindings
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Caution, Findings, JudgedClaim, TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.pair import PairFindings
from ivrell.core.records.plan import Plan
from ivrell.core.records.session import Session
from ivrell.core.records.view import Board
from ivrell.core.report.cost_words import assumptions
from ivrell.core.report.document.drawings import Axis, Colours, Grid, cost_drawing, grids
from ivrell.core.report.document.measures import NOT_TOLD
from ivrell.core.report.summary import summary
from ivrell.core.report.view.board import board
from ivrell.core.report.words import common_cautions, conditions, knobs_told

_LONG = 2
"""Points from which on a report begins with its contents."""


@dataclass(frozen=True)
class Section:
    """A point as a report shows it: its findings, the cautions that not every point has, its
    conditions in words, its board, and the axis that its times are drawn on."""

    found: Findings
    board: Board
    cautions: list[Caution]
    conditions: str
    axis: Axis


@dataclass(frozen=True)
class Taken:
    """How a measure was got, and what it does not tell."""

    label: str
    how: str
    not_told: str


@dataclass(frozen=True)
class Document:
    """A trial to be read by somebody who was not there.

    Attributes:
        comparison: as it was run.
        found: what the trial says.
        claims: what became of those that are pinned now, over all points.
        notes: as they are now.
        plan: what was to be done.
        sessions: each time that it was begun or gone on with.
        made: the tables that were made.
        recipe: how they are made, as the file says it.
        pairs: those that were chosen to be shown in full.
        explained: what engines say of how they carry lanes out, by lane, where that was asked.
        cost: what lanes cost a month, where the comparison says how often they run; in words why
            it is not told, where that cannot be said here.
        written: when the report was made, in words.
    """

    comparison: Comparison
    found: TrialFindings
    claims: Sequence[JudgedClaim]
    notes: Sequence[Note]
    plan: Plan
    sessions: Sequence[Session]
    made: Sequence[MadeTable]
    recipe: str = ""
    pairs: Sequence[PairFindings] = ()
    explained: Mapping[str, str] = field(default_factory=dict)
    cost: CostFindings | str | None = None
    written: str = ""

    @property
    def machine(self) -> Machine:
        """As it was in the last session."""
        return self.sessions[-1].machine if self.sessions else Machine()

    @cached_property
    def summary(self) -> str:
        """The whole in one paragraph."""
        return summary(self.comparison, self.found, self.claims)

    @cached_property
    def colours(self) -> Colours:
        """The colour of each lane, by its id."""
        return Colours.of(self.comparison)

    @cached_property
    def everywhere(self) -> list[Caution]:
        """Cautions that every point has, where there are several."""
        return common_cautions(self.found.points) if len(self.found.points) > 1 else []

    @cached_property
    def sections(self) -> list[Section]:
        """Each point."""
        return [self._section(found) for found in self.found.points]

    def _section(self, found: Findings) -> Section:
        times = [
            run.elapsed_s
            for lane in found.lanes
            for run in lane.runs
            if run.state == "done" and run.elapsed_s
        ]
        target = self.comparison.targets.elapsed
        return Section(
            found,
            board(found, self.comparison.targets),
            [caution for caution in found.cautions if caution not in self.everywhere],
            conditions(found.point, self.machine),
            Axis([*times, *([target] if target else [])]),
        )

    @property
    def is_long(self) -> bool:
        """Whether it begins with its contents."""
        return len(self.found.points) > _LONG or bool(self.pairs)

    @property
    def grids(self) -> list[Grid]:
        """Who leads at each choice of two knobs, where two have several values."""
        return grids(self.found.points)

    @property
    def names(self) -> dict[str, str]:
        """What lanes are called, by id."""
        return {approach.id: approach.label for approach in self.comparison.approach}

    @property
    def cost_drawings(self) -> list[tuple[CostAlong, str]]:
        """What lanes cost along each knob, with its drawing, where there is one."""
        if not isinstance(self.cost, CostFindings):
            return []
        drawn = [
            (along, cost_drawing(along, self.colours, self.names)) for along in self.cost.along
        ]
        return [(along, drawing) for along, drawing in drawn if drawing]

    @property
    def assumed(self) -> list[str]:
        """What costs rest on."""
        if not isinstance(self.cost, CostFindings):
            return []
        return list(assumptions(self.cost, self.names))

    @property
    def lanes(self) -> list[Approach]:
        """The lanes that ran, in the file's order."""
        ran = {lane.id for point in self.found.points for lane in point.lanes}
        return [approach for approach in self.comparison.approach if approach.id in ran]

    def name(self, lane: str) -> str:
        """What a lane is called."""
        return self.comparison.approach_called(lane).label

    def settings(self, approach: Approach) -> str:
        """The settings of a lane beside its code; "" where it has none."""
        return settings_text(approach, with_setup=True).strip()

    @property
    def steps(self) -> list[str]:
        """What the plan was, a thing a line."""
        plan = self.plan
        rounds = (
            f"{plan.rounds} rounds"
            if plan.until is None
            else f"rounds until it was told, {plan.until.at_most} at the most"
        )
        told = [f"{rounds} after {plan.warm_ups} that warmed up and do not count"]
        told.append(f"order of runs within each round drawn with the seed {plan.order_seed}")
        told.append(f"cache {' and '.join(plan.cache)}; {_limits(plan)}")
        if plan.cores:
            told.append(f"pinned to {plan.cores} cores")
        if plan.calls_per_process > 1:
            told.append(f"{plan.calls_per_process} calls per process")
        if plan.min_sample_s:
            told.append(f"short calls repeated until a run lasts {plan.min_sample_s:g} s")
        return told

    @property
    def taken(self) -> list[Taken]:
        """How each of the usual figures was got, and what it does not tell."""
        heads = {head.key: head for section in self.sections for head in section.board.headings}
        by_key = {row.key: row for point in self.found.points for row in point.measures}
        return [
            Taken(head.label, by_key[key].how if key in by_key else head.how, NOT_TOLD[key])
            for key, head in heads.items()
            if head.usual and key in NOT_TOLD
        ]

    def at(self, found: Findings) -> str:
        """Where findings are of, in words."""
        return ", ".join(knobs_told(found.point))


def _limits(plan: Plan) -> str:
    seconds, memory = plan.limits.seconds, plan.limits.memory_bytes
    parts = [f"{seconds:g} s"] if seconds else []
    parts += [f"{memory / 1e9:g} GB of memory"] if memory else []
    return f"no run above {' or '.join(parts)}" if parts else "no limits"
