"""The package as pip would install it, in a folder of its own."""

import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]


def installed(folder: Path) -> Path:
    """Build the wheel and unpack it; the folder to find the package in."""
    source = folder / "source"
    # Building writes beside what it builds.
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("*.egg-info"))
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy(ROOT / name, source)
    subprocess.run(
        [sys.executable, "-m", "pip", "wheel", "-q", "--disable-pip-version-check", "--no-deps",
         "-w", folder, source],
        check=True, capture_output=True,
    )  # fmt: skip
    [wheel] = folder.glob("ivrell-*.whl")
    place = folder / "installed"
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(place)
    return place
