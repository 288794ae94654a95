"""How delimited text is written: what stands between fields, a header, quotes, the encoding;
standard library only."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, Final, Literal

DELIMITERS = (",", ";", "|", "\t")
_CALLED = {";": "semicolons", "|": "bars", "\t": "tabs"}
UTF_8: Final = "utf-8"
BYTE_ORDER_MARK = b"\xef\xbb\xbf"


@dataclass(frozen=True, kw_only=True)
class CsvStyle:
    """Attributes:
    delimiter: between fields, one of DELIMITERS.
    header: whether the first line names the columns.
    quoting: quotes round text that needs them, or round "all" values.
    fixed_decimals: numbers with all decimals that their column has, as 3.0 and not 3.
    decimal: between a number's whole part and its decimals.
    encoding: of all text.
    byte_order_mark: whether the file begins with one; of UTF-8 alone.
    """

    __pydantic_config__ = {"extra": "forbid"}

    delimiter: Literal[",", ";", "|", "\t"] = ","
    header: bool = True
    quoting: Literal["needed", "all"] = "needed"
    fixed_decimals: bool = False
    decimal: Literal[".", ","] = "."
    encoding: Literal["utf-8", "latin-1", "windows-1252"] = UTF_8
    byte_order_mark: bool = False

    def __post_init__(self) -> None:
        if self.byte_order_mark and self.encoding != UTF_8:
            raise ValueError("byte_order_mark: only UTF-8 has one here; leave it out")

    @property
    def words(self) -> str:
        """What differs from the usual, in words: "semicolons between fields, no header"."""
        told = []
        if self.delimiter != ",":
            told.append(f"{_CALLED[self.delimiter]} between fields")
        if not self.header:
            told.append("no header")
        if self.quoting == "all":
            told.append("all quoted")
        if self.fixed_decimals:
            told.append("fixed decimals")
        if self.decimal != ".":
            told.append("decimal comma")
        if self.encoding != UTF_8:
            told.append(self.encoding)
        if self.byte_order_mark:
            told.append("byte order mark")
        return ", ".join(told)

    @property
    def mark(self) -> str:
        """What differs from the usual, for names of files; "" for nothing."""
        parts = []
        if self.delimiter != ",":
            parts.append(f"d{ord(self.delimiter)}")
        for word, holds in (("bare", not self.header), ("quoted", self.quoting == "all"),
                            ("fixed", self.fixed_decimals), ("comma", self.decimal == ","),
                            (self.encoding, self.encoding != UTF_8),
                            ("bom", self.byte_order_mark)):  # fmt: skip
            parts += [word] * holds
        return "-".join(parts)

    def as_dict(self) -> dict[str, Any]:
        """As plain data, for the worker."""
        return asdict(self)


def style_from(told: Mapping[str, Any] | None) -> CsvStyle:
    """A style from plain data; the usual one where there is none."""
    return CsvStyle(**told) if told else CsvStyle()
