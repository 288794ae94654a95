"""What cautions look at, and how one is written."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from ivrell.core.comparison.model import MATTERS, Comparison
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Caution, Extent, LaneFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.records.session import Change
from ivrell.core.stats.sessions import Shift


@dataclass(frozen=True)
class Scene:
    """One point as cautions see it.

    Attributes:
        lanes: as findings hold them.
        machine: as it was.
        point: knob values.
        reference: the lane that the question names as the reference, "" for none or a stored
            answer; ``reference_name`` its name.
        comparison: what was asked; None where nobody knows.
        made: tables that were made for the trial, at any point.
        leaders: ids of the quickest lane and of those that are no slower as far as anyone can tell.
        changes: what was another version in a later session of these runs.
        shifts: what later sessions took against the ones before.
    """

    lanes: list[LaneFindings]
    machine: Machine
    point: Point = field(default_factory=dict)
    reference: str = ""
    reference_name: str = ""
    comparison: Comparison | None = None
    made: Sequence[MadeTable] = ()
    leaders: Sequence[str] = ()
    changes: Sequence[Change] = ()
    shifts: Sequence[Shift] = ()

    @property
    def matters(self) -> float:
        """Share below which a difference does not matter."""
        return self.comparison.matters if self.comparison else MATTERS

    def rows_of(self, table: str) -> int | None:
        """Rows of a table at this point; None where only a file tells."""
        if self.comparison is None or table not in self.comparison.data.tables:
            return None
        rows: object = self.comparison.data.tables[table].rows
        if isinstance(rows, str):
            rows = self.point.get(rows[1:-1])
        return rows if isinstance(rows, int) else None

    def made_here(self) -> list[MadeTable]:
        """The tables as they were made for this point."""
        return [table for table in self.made if table.rows == self.rows_of(table.table)]


def caution(
    word: str, reason: str, hint: str, lane: str | None = None, extent: Extent | None = None
) -> Caution:
    """A caution; ``lane`` is the id of the one it is about, None for all; ``extent`` how far it
    goes."""
    return Caution(word=word, reason=reason, hint=hint, lane=lane, extent=extent)


def share(value: float) -> Extent:
    """So large a part."""
    return Extent(value=value, quantity="share")


def times(value: float) -> Extent:
    """So many times."""
    return Extent(value=value, quantity="times")


def seconds(value: float) -> Extent:
    """So long."""
    return Extent(value=value, quantity="seconds")
