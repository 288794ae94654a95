"""How delimited text is written: what stands between fields, a header, quotes; standard library
only."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, Literal

DELIMITERS = (",", ";", "|", "\t")


@dataclass(frozen=True, kw_only=True)
class CsvStyle:
    """Attributes:
    delimiter: between fields, one of DELIMITERS.
    header: whether the first line names the columns.
    quoting: quotes round text that needs them, or round "all" values.
    fixed_decimals: numbers with all decimals that their column has, as 3.0 and not 3.
    """

    __pydantic_config__ = {"extra": "forbid"}

    delimiter: Literal[",", ";", "|", "\t"] = ","
    header: bool = True
    quoting: Literal["needed", "all"] = "needed"
    fixed_decimals: bool = False

    @property
    def words(self) -> str:
        """What differs from the usual, in words: "; between fields, no header"."""
        told = []
        if self.delimiter != ",":
            told.append(f"{'tab' if self.delimiter == chr(9) else self.delimiter} between fields")
        if not self.header:
            told.append("no header")
        if self.quoting == "all":
            told.append("all quoted")
        if self.fixed_decimals:
            told.append("fixed decimals")
        return ", ".join(told)

    @property
    def mark(self) -> str:
        """What differs from the usual, for names of files; "" for nothing."""
        parts = []
        if self.delimiter != ",":
            parts.append(f"d{ord(self.delimiter)}")
        for word, holds in (("bare", not self.header), ("quoted", self.quoting == "all"),
                            ("fixed", self.fixed_decimals)):  # fmt: skip
            parts += [word] * holds
        return "-".join(parts)

    def as_dict(self) -> dict[str, Any]:
        """As plain data, for the worker."""
        return asdict(self)


def style_from(told: Mapping[str, Any] | None) -> CsvStyle:
    """A style from plain data; the usual one where there is none."""
    return CsvStyle(**told) if told else CsvStyle()
