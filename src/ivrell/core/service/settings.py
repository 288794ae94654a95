"""How a stand-in of a remote service behaves.

Bounds are said without pydantic, which reads them: workers load this, and would load it too.
"""

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Ge, Le, Lt


@dataclass(frozen=True, kw_only=True)
class ServiceSettings:
    """How the service behaves.

    ``rule`` is Python that defines ``rule(row)``, computed for each row of a call. Every call
    takes ``latency_ms`` and up to ``jitter_ms`` more, drawn with ``seed``; more calls than
    ``calls_per_second`` (0: as many as come) are turned away with the time to wait;
    ``most_rows`` bounds one call; with ``cache`` rows asked before are answered at once.
    """

    __pydantic_config__ = {"extra": "forbid", "allow_inf_nan": False, "str_max_length": 200_000}

    rule: str
    latency_ms: Annotated[float, Ge(0), Le(60_000)] = 2.0
    jitter_ms: Annotated[float, Ge(0), Le(60_000)] = 0.0
    calls_per_second: Annotated[float, Ge(0), Le(1e6)] = 0.0
    most_rows: Annotated[int, Ge(1), Le(10_000_000)] = 10_000
    cache: bool = False
    seed: Annotated[int, Ge(0), Lt(2**63)] = 1
