"""Commands of what is shared: bundles, running one again, trials as rows of one table."""

import argparse
import datetime
import sys
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path

import ivrell
from ivrell import sharing
from ivrell.cli.console import ERR, OUT
from ivrell.cli.given import DONE, SIGNALLED, TROUBLE, knobs_given, tell
from ivrell.cli.tables import Heading, table
from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.base.quantities import format_seconds
from ivrell.core.bundles.unpack import Bundle
from ivrell.core.records.compared import Compared, ComparedLane
from ivrell.core.report.words import knobs_told, times_less
from ivrell.core.trial.plan import most_runs


def _bundle(args: argparse.Namespace) -> int:
    print(ivrell.Trial.open(args.folder).bundle(args.out, answers=args.answers))
    return DONE


def _unpack(args: argparse.Namespace) -> int:
    if args.out is None:
        _looked_at(sharing.look(args.bundle))
        return DONE
    print(sharing.unpack(args.bundle, args.out).folder)
    return DONE


def _looked_at(bundle: Bundle, out: Callable[[str], None] = OUT.print) -> None:
    """Print what a bundle says of itself, and all the code that it would run."""
    told = bundle.manifest
    packed = f"packed {told.made_at:%Y-%m-%d %H:%M} by Ivrell {told.ivrell}"
    out(f"{told.name}: {told.runs} runs, {packed}")
    if told.machine:
        out(f"It ran on {told.machine}.")
    for approach in bundle.comparison.approach:
        out(f"\n--- {approach.label} ({approach.engine})")
        out(approach.text().rstrip())
    out("\n--- the whole comparison file")
    out(bundle.text.rstrip())


def _rerun(args: argparse.Namespace) -> int:
    from ivrell.cli.show import Progress

    bundle = sharing.look(args.bundle)
    if not args.code_is_read:
        _ask(bundle)
    folder = args.out or _new_folder()
    if folder.exists() and any(folder.iterdir()):
        raise BadInput(f"The folder {folder} is not empty.", hint="Name a new one with --out.")
    with Progress() as progress:
        progress.planned = most_runs(bundle.comparison, sharing.plan_of(bundle))
        found = sharing.rerun(
            args.bundle, folder=folder, minutes=args.minutes, progress=progress.listen,
            control=progress,
        )  # fmt: skip
        asked = progress.asked
    if asked is not None:
        ERR.print(f"ivrell: stopped. What was measured is kept in {found.here.folder}.")
        return SIGNALLED + asked
    opinion = found.opinion
    if opinion is None:
        raise BadInput("It was stopped before its end.", where=str(found.here.folder))

    def shown() -> None:
        for words in opinion.words:
            OUT.print(words)
        OUT.print(f"Everything is in {folder}: there as it came, here as it was run here.")

    tell(args, opinion, shown)
    return DONE if opinion.holds else TROUBLE


def _ask(bundle: Bundle) -> None:
    """Show the code and ask whether to run it. Raises BadInput unless that is so."""
    _looked_at(bundle, ERR.print)
    if not sys.stdin.isatty():
        raise BadInput(
            "A bundle is a stranger's, and its code is run in the sandbox of this machine.",
            hint="Read the code that stands above, then say --code-is-read.",
        )
    ERR.print(
        "\nThis is a stranger's code. Run it in the sandbox of this machine? yes or no: ", end=""
    )
    if sys.stdin.readline().strip().lower() not in ("y", "yes"):
        raise BadInput("It was not run.")


def _new_folder() -> Path:
    place = data_folder() / "results"
    place.mkdir(parents=True, exist_ok=True)
    now = datetime.datetime.now().astimezone()
    return Path(tempfile.mkdtemp(prefix=f"{now:%Y-%m-%d-%H%M%S}-again-", dir=place))


def _compare(args: argparse.Namespace) -> int:
    trials = [ivrell.Trial.open(folder) for folder in args.folders]
    contents = trials[0].comparison.contents
    values = {knob: given[0] for knob, given in knobs_given(args.at, contents).items()}
    found = sharing.compare(trials, **values)
    tell(args, found, lambda: _compared(found))
    return DONE


def _compared(found: Compared) -> None:
    """Print trials as rows; a lane's cell has its median, and the change against the first row."""
    at = ", ".join(knobs_told(found.point))
    OUT.print(f"Elapsed time{f' at {at}' if at else ''}, and how it changed against the first row.")
    headings = [Heading("trial", text=True, wraps=True), Heading("begun", text=True)]
    headings += [Heading(name, wraps=True) for name in found.lanes.values()]
    rows = [
        [one.name, f"{one.at:%Y-%m-%d %H:%M}", *(_cell(lane, one.quickest) for lane in one.lanes)]
        for one in found.trials
    ]
    OUT.print(table(headings, rows))
    OUT.print("* the lowest median of its row.")
    for one in found.trials:
        words = [one.machine, one.words]
        OUT.print(f"{one.name}: {'. '.join(filter(None, words))}")


def _cell(lane: ComparedLane, quickest: str | None) -> str:
    if lane.median is None:
        return ""
    mark = "*" if lane.lane == quickest else ""
    change = f" {times_less(lane.change)}" if lane.change else ""
    return f"{format_seconds(lane.median)}{mark}{change}"


SHARED: Mapping[str, Callable[[argparse.Namespace], int]] = {
    "bundle": _bundle,
    "unpack": _unpack,
    "rerun": _rerun,
    "compare": _compare,
}
