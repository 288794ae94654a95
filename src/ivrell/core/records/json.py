"""Any value that JSON can hold, as a type that schemas can say."""

from typing_extensions import TypeAliasType

Json = TypeAliasType("Json", "bool | int | float | str | list[Json] | dict[str, Json] | None")
"""Settings of columns are such values: what each may be is its kind's to say."""
