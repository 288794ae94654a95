"""The kinds of columns that a recipe can hold; a new kind is a class and a word here."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Any, Union

from pydantic import Field, WrapValidator

from ivrell.core.recipe.kinds.base import NAME, Block, KeysOf, Kind, Name, Share
from ivrell.core.recipe.kinds.category import Category
from ivrell.core.recipe.kinds.code import Code
from ivrell.core.recipe.kinds.derived import Derived
from ivrell.core.recipe.kinds.identifier import Identifier
from ivrell.core.recipe.kinds.knobbed import Knobbed, has_knobs
from ivrell.core.recipe.kinds.nested import Nested
from ivrell.core.recipe.kinds.numbers import Integer, Number
from ivrell.core.recipe.kinds.packed import Packed, Words
from ivrell.core.recipe.kinds.plain import Boolean, Constant
from ivrell.core.recipe.kinds.reference import Reference
from ivrell.core.recipe.kinds.sequence import Sequence
from ivrell.core.recipe.kinds.text import Text
from ivrell.core.recipe.kinds.timestamp import Date, Timestamp

KINDS: dict[str, type[Kind]] = {
    kind.kind_name(): kind
    for kind in (
        Sequence, Identifier, Integer, Number, Boolean, Category, Reference, Text, Words, Code,
        Packed, Date, Timestamp, Constant, Derived, Nested,
    )
}  # fmt: skip


def _or_knobbed(given: Any, usual: Callable[[Any], Kind]) -> Kind:
    return Knobbed.of(given, KINDS) if has_knobs(given, KINDS) else usual(given)


if TYPE_CHECKING:
    Column = Kind
else:
    Column = Annotated[
        Union[tuple(KINDS.values())],  # noqa: UP007 - made at run time
        Field(discriminator="kind"),
        WrapValidator(_or_knobbed),
    ]

__all__ = ["KINDS", "NAME", "Block", "Column", "KeysOf", "Kind", "Knobbed", "Name", "Share"]
