"""The machine's own noise: one approach run against itself, and what that bounds.

A ratio that the machine brings about by itself, with nothing to tell apart, is no finding.
"""

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

import numpy as np

from ivrell.core.records.machine import Noise

LEVEL = 0.95
_RESAMPLES = 2000


def floor(logs: Sequence[float], rounds: int) -> float:
    """The factor that the median of ``rounds`` ratios of equals stays within, at 95 %.

    ``logs`` are logarithms of ratios between two lanes that are the same, one a round; sets
    of ``rounds`` are drawn from them with repetition. At least 1.

    Raises ValueError for no ratios or no rounds.
    """
    if not len(logs) or rounds < 1:
        raise ValueError("a noise floor needs ratios and rounds")
    return _floor(tuple(logs), rounds)


@lru_cache(maxsize=256)
def _floor(logs: tuple[float, ...], rounds: int) -> float:
    rng = np.random.default_rng(1)
    # The two lanes are the same, so either order of them is as likely.
    both = np.concatenate([np.asarray(logs, dtype=float), -np.asarray(logs, dtype=float)])
    medians = np.median(rng.choice(both, (_RESAMPLES, rounds)), axis=1)
    return float(np.exp(np.quantile(np.abs(medians), LEVEL)))


def kept(folder: Path) -> Noise | None:
    """The noise last measured on this machine, or None."""
    try:
        noise = Noise.model_validate_json((folder / "noise.json").read_text())
    except (OSError, ValueError):
        return None
    return noise if noise.logs else None


def keep(folder: Path, noise: Noise) -> None:
    """Keep what was measured; the folder is made when it is not there."""
    folder.mkdir(parents=True, exist_ok=True)
    temporary = folder / "noise.json.part"
    temporary.write_text(noise.model_dump_json(indent=1))
    temporary.replace(folder / "noise.json")
