"""An error that somebody is told of: what, where, and what to do."""

from typing import Any

from pydantic import BaseModel, model_validator

from ivrell.core.base.errors import BadInput, OtherVersions
from ivrell.core.base.help import error_place
from ivrell.core.base.migrated_keys import migrate_keys


class Trouble(BaseModel):
    """What is wrong, where (a place, or empty), and how to fix it. With ``other_versions`` a trial
    can go on all the same, with what is here now. ``help`` is an address below that of the help."""

    what: str
    where: str = ""
    hint: str = ""
    other_versions: bool = False
    help: str = ""

    @classmethod
    def of(cls, error: BadInput) -> "Trouble":
        """What an error of the user's says."""
        return cls(
            what=error.what, where=error.where, hint=error.hint,
            other_versions=isinstance(error, OtherVersions), help=error_place(error.__traceback__),
        )  # fmt: skip

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return migrate_keys(given, {"cure": "hint"})
