"""Where Ivrell keeps its data on this machine."""

import os
from pathlib import Path


def data_folder() -> Path:
    """Ivrell's own data folder: IVRELL_DATA, else the usual place for this user."""
    if given := os.environ.get("IVRELL_DATA"):
        return Path(given)
    if os.geteuid() == 0:
        return Path("/var/lib/ivrell")
    home = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(home) / "ivrell"
