"""The command that looks at this machine."""

import argparse

from ivrell.cli.console import OUT
from ivrell.cli.given import DONE, tell
from ivrell.core.base.folders import data_folder
from ivrell.core.checkup import checkup
from ivrell.core.records.checkup import Checkup

_MARKS = {"good": "good   ", "limited": "limited", "missing": "missing"}


def doctor(args: argparse.Namespace) -> int:
    """Say what is there, what it allows, what that means and how it is mended."""
    found = checkup(data_folder())
    tell(args, found, lambda: _shown(found))
    return DONE


def _shown(found: Checkup) -> None:
    area = ""
    for one in found.checks:
        if one.area != area:
            area = one.area
            OUT.print(f"\n{area}", style="bold")
        OUT.print(f"  {_MARKS[one.state]}  {one.about}: {one.found}", soft_wrap=True)
        for more in filter(None, (one.means, one.remedy)):
            OUT.print(f"             {more}", soft_wrap=True)
    bad = [one.about for one in found.checks if one.state != "good"]
    OUT.print(f"\n{len(found.checks)} looked at; {', '.join(bad) or 'nothing'} to mend or to know.",
              soft_wrap=True)  # fmt: skip
