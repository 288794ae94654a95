"""Bundles: a trial in one archive, to be looked at and run again elsewhere."""

from typing import Annotated, Literal, get_args

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from ivrell.core.records.findings import JudgedClaim

MOST_FILES = 100_000
"""Files of a bundle at the most."""

Sha256 = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]


class BundledFile(BaseModel):
    """A file of a bundle: its name, its size, and the digest of what it holds."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(max_length=300)]
    bytes: Annotated[int, Field(ge=0)]
    sha256: Sha256


class Manifest(BaseModel):
    """What a bundle says of itself: manifest.json. ``made_at`` is when it was packed, ``ivrell`` by
    which version, ``ended`` how its trial ended, ``machine`` what it ran on, in words; ``packages``
    are those that its lanes ran on, each as ``name==version``."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: Literal["ivrell-bundle/1"] = "ivrell-bundle/1"
    name: Annotated[str, Field(max_length=200)]
    ended: Literal["done", "stopped"]
    made_at: AwareDatetime
    ivrell: Annotated[str, Field(max_length=40)]
    machine: Annotated[str, Field(max_length=500)] = ""
    runs: Annotated[int, Field(ge=0)]
    packages: Annotated[list[str], Field(max_length=2_000)] = []
    files: Annotated[list[BundledFile], Field(max_length=MOST_FILES)]


FORMAT: str = get_args(Manifest.model_fields["format"].annotation)[0]


class Origin(BaseModel, frozen=True):
    """Where a trial came from that was run elsewhere: origin.json. ``digest`` is that of the
    bundle's manifest."""

    name: str
    machine: str
    made_at: AwareDatetime
    ivrell: str
    digest: Sha256


class CrossingThen(BaseModel, frozen=True):
    """A change of the lead along a knob, there and here: the sizes at which it lies (null where
    there is none), and whether it surely moved."""

    knob: str
    before: str
    after: str
    there: float | None
    here: float | None
    moved: bool


class SecondOpinion(BaseModel, frozen=True):
    """What held when a trial was run again: ``order`` of lanes at each point that both ran, by
    whether it surely turned; crossings; and the claims that held there, as they are judged here.
    ``words`` say it, a sentence each; ``holds`` whether nothing surely fell."""

    points: int
    turned: int
    crossings: list[CrossingThen]
    claims: list[JudgedClaim]
    words: list[str]
    holds: bool
