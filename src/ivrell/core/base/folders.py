"""Where Ivrell lies on this machine, and where it keeps its data."""

import os
from pathlib import Path


def package_folder() -> Path:
    """The folder of the package itself, with the demos and the built page."""
    return Path(__file__).resolve().parents[2]


def data_folder() -> Path:
    """Ivrell's own data folder: IVRELL_DATA, else the usual place for this user.

    For root that is where services keep what they own: programs of other users may have to reach
    it, which they may not in root's home.
    """
    if given := os.environ.get("IVRELL_DATA"):
        return Path(given)
    if os.geteuid() == 0:
        return Path("/var/lib/ivrell")
    # Only here: the runner loads this module and sees the standard library alone.
    from platformdirs import user_data_path

    return user_data_path("ivrell", appauthor=False)
