"""Answers that a database client gives as rows. Standard library only when loaded."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import pyarrow as pa


class Rows:
    """Rows as an engine's client gives them, with the names of their columns."""

    def __init__(self, names: list[str], rows: list[Any]) -> None:
        self.names = names
        self.rows = rows

    def to_arrow(self) -> pa.Table:
        """As an Arrow table; a column of mixed values becomes text."""
        import pyarrow as pa

        columns = list(zip(*self.rows, strict=True)) or [()] * len(self.names)
        return pa.table(
            {name: _column(list(values)) for name, values in zip(self.names, columns, strict=True)}
        )


def _column(values: list[Any]) -> pa.Array:
    import pyarrow as pa

    try:
        return pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        try:
            return pa.array(values, pa.float64())
        except (pa.ArrowInvalid, pa.ArrowTypeError):
            return pa.array([None if value is None else str(value) for value in values])


def fetched(cursor: Any, line: int) -> Rows:
    """All rows of a cursor as the database API for Python (PEP 249) has it.

    Raises ApproachFailed when the statement, which began at ``line``, gives none.
    """
    if cursor.description is None:
        raise ApproachFailed(
            "no answer",
            "The last statement gives no rows. End with a SELECT, or name one in `answer`.",
            line,
        )
    return Rows([column[0] for column in cursor.description], cursor.fetchall())
