"""What the environment of strangers' code holds."""

import os
from pathlib import Path

_PASSED_ON = ("PATH", "LANG", "LC_ALL", "LD_LIBRARY_PATH", "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")


def scrubbed_environment(folder: Path) -> dict[str, str]:
    """The environment of an approach: nothing of Ivrell's, its own home and folder."""
    kept = {name: os.environ[name] for name in _PASSED_ON if name in os.environ}
    return {
        "LANG": "C.UTF-8",
        **kept,
        "TZ": "UTC",
        "HOME": str(folder),
        "TMPDIR": str(folder / "tmp"),
        "PYTHONDONTWRITEBYTECODE": "1",
        "PYTHONHASHSEED": "0",
    }
