"""The tables that were made for a trial: data.json, the API."""

from pydantic import BaseModel


class MadeTable(BaseModel):
    """A table in a form as it was made; ``seconds`` that took, ``size_bytes`` where that is known.

    ``paths`` are its files in order, or where it is loaded. ``keys``, ``indexes`` and
    ``index_seconds`` are of loaded tables, so are ``types``, the engine's own of each column;
    ``broken`` and ``duplicates`` count lines broken on purpose and rows that repeat another.
    """

    table: str
    form: str
    paths: list[str] = []
    rows: int
    size_bytes: int | None = None
    seconds: float
    fingerprint: str
    bytes_hash: str = ""
    broken: dict[str, int] = {}
    duplicates: int = 0
    codec: str | None = None
    split_by: str | None = None
    keys: list[str] = []
    indexes: list[str] = []
    index_seconds: float | None = None
    types: dict[str, str] = {}

    @property
    def told_bytes(self) -> tuple[str, str] | None:
        """What of it has the same bytes wherever it is made, as a name of that; None where nothing
        is told."""
        return (self.fingerprint, self.form) if self.fingerprint and self.bytes_hash else None
