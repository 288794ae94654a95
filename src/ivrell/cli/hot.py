"""The command that tells where a lane's time goes, by line."""

import argparse
from collections.abc import Iterator

import ivrell
from ivrell.cli.console import ERR, OUT
from ivrell.cli.given import DONE, SIGNALLED, TROUBLE, tell
from ivrell.cli.show import Progress
from ivrell.core.base.quantities import format_bytes, format_seconds
from ivrell.core.records.hot import HotFindings

_BAR = 10
_LEAST = 0.01


def hot(args: argparse.Namespace) -> int:
    """Run a lane once and show its lines with what each took; gives the exit status. Raises
    BadInput."""
    comparison = ivrell.read(args.file)
    approach = comparison.contents.approach_called(args.lane)
    with Progress() as progress:
        found = comparison.hot(args.lane, args.rows, control=progress)
        asked = progress.asked
    tell(args, found, lambda: _shown(found, approach.text(), calls=args.calls))
    if asked is not None:
        ERR.print("ivrell: stopped.")
        return SIGNALLED + asked
    return TROUBLE if found.trouble else DONE


def _shown(found: HotFindings, code: str, *, calls: bool) -> None:
    if found.trouble:
        OUT.print(f"{found.name}: {found.trouble}.", markup=False)
        return
    for words in found.words:
        OUT.print(words, markup=False)
    if found.lines:
        OUT.print()
        for line in margin(found, code):
            OUT.print(line, markup=False, highlight=False, no_wrap=True, overflow="crop")
    if calls or not found.lines:
        OUT.print()
        for line in tree(found):
            OUT.print(line, markup=False, highlight=False, no_wrap=True, overflow="crop")
    if found.unseen:
        OUT.print()
    for words in found.unseen:
        OUT.print(words, markup=False)


def margin(found: HotFindings, code: str) -> Iterator[str]:
    """The code, a line each, behind what the line took: share as a bar, CPU time, memory."""
    told = {line.line: line for line in found.lines}
    inside = {n for line in found.lines for n in range(line.first, line.line)} - told.keys()
    memory = any(line.grown_bytes for line in found.lines)
    for number, text in enumerate(code.rstrip().splitlines(), 1):
        line = told.get(number)
        share = f"{100 * line.share:5.1f} %" if line and line.share >= 0.0005 else ""
        bar = "█" * round(_BAR * line.share) if line else "┐" if number in inside else ""
        cpu = format_seconds(line.cpu_s) if line and line.cpu_s else ""
        grew = format_bytes(line.grown_bytes) if line and line.grown_bytes else ""
        columns = [f"{share:>7} {bar:<{_BAR}}", f"{cpu:>8}", *([f"{grew:>9}"] if memory else [])]
        yield f"{' '.join(columns)} {number:>4}  {text}"


def tree(found: HotFindings) -> Iterator[str]:
    """What called what, each with its time and all below it; the most first."""
    whole = sum(node.whole_s for node in found.nodes if node.above is None) or 1.0
    below: dict[int | None, list[int]] = {}
    for number, node in enumerate(found.nodes):
        if node.whole_s >= _LEAST * whole or found.way == "stages":
            below.setdefault(node.above, []).append(number)

    def lines(above: int | None, depth: int) -> Iterator[str]:
        for number in sorted(below.get(above, []), key=lambda n: -found.nodes[n].whole_s):
            node = found.nodes[number]
            at = f", line {node.line}" if node.line else ""
            share = f"{100 * node.whole_s / whole:5.1f} %"
            yield f"{share} {format_seconds(node.whole_s):>8}  {'  ' * depth}{node.what}{at}"
            yield from lines(number, depth + 1)

    yield from lines(None, 0)
