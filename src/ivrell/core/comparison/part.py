"""What every part of a comparison file is: its keys are known, its values fixed."""

from pydantic import BaseModel, ConfigDict


class Part(BaseModel):
    """A table of a comparison file; other keys than its own are refused."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
