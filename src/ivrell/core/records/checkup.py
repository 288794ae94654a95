"""What a look at this machine finds before anything is run on it."""

from typing import Literal

from pydantic import BaseModel

CheckState = Literal["good", "limited", "missing"]


class Check(BaseModel, frozen=True):
    """One thing that was looked at: what was found, what that means for figures or for what can be
    done, and how to mend it ("" where there is nothing to)."""

    area: Literal["safety", "figures", "engines", "application", "reports"]
    about: str
    state: CheckState
    found: str
    means: str = ""
    remedy: str = ""


class Checkup(BaseModel, frozen=True):
    """All that was looked at."""

    checks: list[Check]
