"""How an approach wants the tables: form, part files, codec; standard library only."""

from dataclasses import dataclass

from ivrell.core.recipe.csv_style import CsvStyle


@dataclass(frozen=True, kw_only=True)
class Input:
    """A form of tables and how its files are cut.

    Attributes:
        form: a word of FORMS, or of DATABASES for tables loaded into an engine.
        parts: over how many files each table is split by row number.
        split_by: a column whose values part the rows into a file each; the value stands in
            the file's path as ``column=value`` and not in the file. Tables without that
            column are one file.
        codec: how the form packs its pages, where it can; its own usual one when None.
        csv: how forms of csv are written; the usual way when None.
    """

    __pydantic_config__ = {"extra": "forbid"}

    form: str
    parts: int = 1
    split_by: str | None = None
    codec: str | None = None
    csv: CsvStyle | None = None

    @property
    def words(self) -> str:
        """The input as a person says it: "parquet (snappy) in 4 parts"."""
        told = self.form
        if self.codec:
            told += f" ({self.codec})"
        if self.csv and self.csv.words:
            told += f" ({self.csv.words})"
        if self.split_by:
            return f"{told}, a file for each {self.split_by}"
        return told if self.parts == 1 else f"{told} in {self.parts} parts"

    def file_name(self, table: str) -> str:
        """Name under which a table made in this way is kept; other ways have other names."""
        name = f"{table}.{self.form}"
        if self.codec:
            name += f".{self.codec}"
        if self.csv and self.csv.mark:
            name += f".{self.csv.mark}"
        if self.split_by:
            return f"{name}.by-{self.split_by}"
        return name if self.parts == 1 else f"{name}.in-{self.parts}"
