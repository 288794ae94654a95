"""The command of a gate: is the new version slower than the old one, or wrong?"""

import argparse
from collections.abc import Callable
from pathlib import Path

import ivrell
from ivrell import gating
from ivrell.cli.console import ERR, OUT
from ivrell.cli.given import CANNOT_TELL, DONE, SIGNALLED, TROUBLE, knobs_given, tell
from ivrell.cli.tables import Heading, table
from ivrell.core.base.errors import BadInput
from ivrell.core.gate import told
from ivrell.core.records.gate import GateFindings

_STATUS = {"passes": DONE, "fails": TROUBLE, "cannot tell": CANNOT_TELL}


def gate(args: argparse.Namespace) -> int:
    """Hold a file against its old version; gives the exit status. Raises BadInput."""
    from ivrell.cli.show import Progress

    knobs = knobs_given(args.set, ivrell.read(args.file).contents)
    if args.out and args.out.exists() and any(args.out.iterdir()):
        raise BadInput(f"The folder {args.out} is not empty.", hint="Name a new one with --out.")
    with Progress() as progress:
        found = gating.gate(
            args.file, args.against, no_slower_than=share(args.no_slower_than),
            measures=args.measure, minutes=args.minutes, claims=args.claims, targets=args.targets,
            lanes=[lane for lane in args.lanes.split(",") if lane], knobs=knobs,
            code_is_read=args.code_is_read, stored=args.stored, folder=args.out,
            progress=progress.listen, control=progress,
        )  # fmt: skip
        asked = progress.asked
    _written(args, found)
    tell(args, found, lambda: _shown(found))
    for line in told.annotations(found, str(args.file)):
        ERR.print(line, soft_wrap=True)
    if asked is not None:
        ERR.print(f"ivrell: stopped. What was measured is kept in {found.folder}.")
        return SIGNALLED + asked
    return _STATUS[found.verdict]


def share(given: str) -> float:
    """ "10%" or "0.1" as a share. Raises BadInput."""
    text = given.strip()
    try:
        value = float(text.removesuffix("%")) / (100 if text.endswith("%") else 1)
    except ValueError:
        value = 0.0
    if not 0 < value < 10:
        raise BadInput(f"--no-slower-than {given} is no share.", hint="Write 10% or 0.1.")
    return value


def _written(args: argparse.Namespace, found: GateFindings) -> None:
    wanted: list[tuple[Path | None, Callable[[], str]]] = [
        (args.junit, lambda: told.junit(found, str(args.file))),
        (args.markdown, lambda: told.markdown(found)),
    ]
    for path, text in wanted:
        if path is None:
            continue
        try:
            path.write_text(text(), encoding="utf-8")
        except OSError as error:
            raise BadInput(f"{path} cannot be written: {error.strerror}.") from None


def _shown(found: GateFindings) -> None:
    for words in told.words(found):
        OUT.print(words)
    if found.lanes:
        text = ("", "lane", "measure")
        headings = [
            Heading(name, text=name in text, wraps=name == "lane") for name in told.HEADINGS
        ]
        OUT.print(table(headings, told.rows(found)))
    if found.folder:
        OUT.print(f"Everything is in {found.folder}.")
