"""What a table is like: before it is made, and when every row was read."""

from pydantic import BaseModel

from ivrell.core.records.json import Json


class Histogram(BaseModel):
    """Counts between edges."""

    counts: list[int]
    edges: list[float]


class Top(BaseModel):
    """A frequent value."""

    value: str
    count: int


class Profile(BaseModel):
    """What stands in a column.

    ``distinct`` is counted where ``distinct_exact``, else estimated; ``quantiles`` are the values
    at 5, 25, 50, 75 and 95 % as text; ``lengths`` shortest, mean and longest of text, in
    characters. Numbers and moments have a ``histogram`` (moments in seconds since 1970), others
    the most frequent values in ``top``.
    """

    name: str
    type: str
    rows: int
    nulls: int
    distinct: int
    distinct_exact: bool
    smallest: str | None = None
    largest: str | None = None
    quantiles: list[str] | None = None
    lengths: list[float] | None = None
    histogram: Histogram | None = None
    top: list[Top] | None = None


class LookColumn(BaseModel):
    """A column of a table that is looked at; ``given`` holds its settings as they are
    written, ``sample`` the column of the sample that it was shaped after."""

    name: str
    kind: str
    settings: str
    given: dict[str, Json]
    profile: Profile


class LookTable(BaseModel):
    """One table looked at before it is made; ``read_as`` says how a csv file of the user's own is
    written where that is not the usual way, by the recipe or by what was seen."""

    table: str
    rows: int
    rows_given: int | str | None = None
    fingerprint: str
    file: str | None
    read_as: str = ""
    order: str | None
    duplicates: int
    duplicate_share: float
    malformed: int
    malformed_share: float
    profiled_rows: int
    columns: list[LookColumn]
