"""The kinds of columns that a recipe can hold; a new kind is a module and a line here."""

from typing import Annotated

from pydantic import Field

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, Name, Share
from ivrell.core.recipe.kinds.category import Category
from ivrell.core.recipe.kinds.numbers import Integer, Number
from ivrell.core.recipe.kinds.reference import Reference
from ivrell.core.recipe.kinds.sequence import Sequence
from ivrell.core.recipe.kinds.text import Text
from ivrell.core.recipe.kinds.timestamp import Timestamp

Column = Annotated[
    Sequence | Integer | Number | Category | Reference | Text | Timestamp,
    Field(discriminator="kind"),
]

__all__ = ["Block", "Column", "KeysOf", "Kind", "Name", "Share"]
