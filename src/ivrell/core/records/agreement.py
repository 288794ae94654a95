"""How an answer stands to the reference: agreement.json, findings, the API."""

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel, computed_field, model_validator

from ivrell.core.base.migrated_keys import migrate_keys

Verdict = Literal[
    "same",
    "same, other order",
    "same within tolerance",
    "same values, other types",
    "different",
    "no answer",
]
"""Verdicts on an answer, best first."""

REPEATED = "repeated"

Cell = int | bool | str | None
Row = dict[str, Cell]
"""A row by the names of its columns; other values than whole numbers as text."""


@dataclass(frozen=True)
class Drift:
    """A column whose type is of another family than the reference's, or that lost something.

    ``lost`` names what: "leading zeros", "digits", "precision of time", "time zone", or
    nothing; ``lost_by_reference`` what the reference lost and the answer has.
    """

    column: str
    reference: str
    answer: str
    lost: str = ""
    lost_by_reference: str = ""

    @property
    def loses(self) -> bool:
        """Whether either side lost something, so that the two are not the same answer."""
        return bool(self.lost or self.lost_by_reference)

    @property
    def words(self) -> str:
        """In words: "lock: text became integer, leading zeros lost"."""
        if self.reference == self.answer:
            return f"{self.column}: {self.lost} lost"
        lost = f", {self.lost} lost" if self.lost else ""
        if self.lost_by_reference:
            lost = f", with {self.lost_by_reference} that the reference has lost"
        return f"{self.column}: {self.reference} became {self.answer}{lost}"


class ColumnDistances(BaseModel):
    """Distances of a column's numbers: the largest taken as equal (absolute, as a share, in units
    in the last place), and pairs by power of ten of the share, on both sides of the tolerance."""

    absolute: float
    relative: float
    units: float
    within: dict[str, int]
    beyond: dict[str, int]


class ColumnEvidence(BaseModel):
    """How a column stands over all pairs of rows: counts of pairs equal, within the tolerance and
    different, distances of numbers, and remarks on what the differences look like."""

    name: str
    equal: int
    within: int
    different: int
    distances: ColumnDistances | None
    remarks: list[str]


class TracedRows(BaseModel):
    """What became of some rows of a table in an answer.

    Attributes:
        table: the table that they stand in.
        what: the way they are broken, or REPEATED.
        rows: how many there are, by the generator's own knowledge; of broken ones those that
            are not repeated elsewhere.
        kept: those that stand in the answer (of repeated ones: that stand there again).
        with_nulls: those of them in which a value became null.
        dropped: those that do not stand there, or not by their own value.
    """

    table: str
    what: str
    rows: int
    kept: int
    with_nulls: int
    dropped: int

    @computed_field  # type: ignore[prop-decorator]
    @property
    def words(self) -> str:
        """In words: "12 rows with a bad number: 9 dropped, 3 with nulls"."""
        rest = self.kept - self.with_nulls
        parts = [
            f"{count:,} {word}"
            for count, word in (
                (self.dropped, "dropped"),
                (self.with_nulls, "kept with nulls"),
                (rest, "kept"),
            )
            if count
        ]
        named = "repeated rows" if self.what == REPEATED else f"rows with {self.what}"
        return f"{self.rows:,} {named} in {self.table}: {', '.join(parts) or 'none'}"


class Example(BaseModel):
    """A row that differs, with both sides; None where a side has none."""

    reference: Row | None
    answer: Row | None


class Agreement(BaseModel):
    """How one answer stands to the reference.

    Attributes:
        verdict: see Verdict.
        reasons: what is different, one sentence each; empty when nothing is.
        rows, reference_rows: number of rows of each.
        missing_columns, extra_columns: against the reference.
        renamed: columns whose names differ in case alone, the reference's name first.
        drifted: columns whose type is of another family, or that lost something by their type.
        different_rows: rows with no partner in the reference, or with a partner whose
            values are further off than the tolerance.
        missing_rows, extra_rows: those of them without a partner, on either side.
        repeated_keys: keys that the answer has more often than the reference.
        largest_absolute, largest_relative, largest_units: distance of numbers taken as equal,
            the last in units in the last place.
        columns: per column the count of values that differ.
        evidence: per column; empty when answers are the same.
        examples: rows that differ.
        unstable: whether the answer was right in some runs and wrong in others.
        right_share: share of the runs that gave a right answer; None where there was none.
        reference: the approach that it was held against, or the expected answer; None for none.
        itself: whether it is the reference.
        group: number of the agreement group, 0 being the reference's; None without an answer.
        traced: what became of broken and repeated rows.
        broken_lines: the same of all broken lines together, in a line; "" where none went in.
        fingerprints: runs by the fingerprint of the answer that they gave.
    """

    verdict: Verdict
    reasons: list[str] = []
    rows: int = 0
    reference_rows: int = 0
    missing_columns: list[str] = []
    extra_columns: list[str] = []
    renamed: dict[str, str] = {}
    drifted: list[Drift] = []
    different_rows: int = 0
    missing_rows: int = 0
    extra_rows: int = 0
    repeated_keys: int = 0
    largest_absolute: float = 0.0
    largest_relative: float = 0.0
    largest_units: float = 0.0
    columns: dict[str, int] = {}
    evidence: list[ColumnEvidence] = []
    examples: list[Example] = []
    unstable: bool = False
    right_share: float | None = None
    reference: str | None = None
    itself: bool = False
    group: int | None = None
    traced: list[TracedRows] = []
    broken_lines: str = ""
    fingerprints: dict[str, int] = {}

    @computed_field  # type: ignore[prop-decorator]
    @property
    def agrees(self) -> bool:
        """Whether the values are the same within the question's tolerance."""
        return self.verdict not in ("different", "no answer")

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return migrate_keys(given, {"camp": "group"})
