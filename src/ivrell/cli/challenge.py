"""The command of a challenge: what turns the conclusion over?"""

import argparse

import ivrell
from ivrell import challenging
from ivrell.cli.console import ERR, OUT
from ivrell.cli.given import DONE, SIGNALLED, knobs_given, tell
from ivrell.cli.tables import Heading, table
from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import three_figures
from ivrell.core.records.challenge import ChallengeFindings, ChangeOutcome


def challenge(args: argparse.Namespace) -> int:
    """Try to break a conclusion; gives the exit status. Raises BadInput."""
    from ivrell.cli.show import Progress

    comparison = ivrell.read(args.file)
    if not args.minutes > 0:
        raise BadInput("--minutes is to be above nought.")
    if args.out and args.out.exists() and any(args.out.iterdir()):
        raise BadInput(f"The folder {args.out} is not empty.", hint="Name a new one with --out.")
    given = knobs_given(args.set, comparison.contents)
    with Progress() as progress:
        found = challenging.challenge(
            comparison, minutes=args.minutes, knobs={k: v[0] for k, v in given.items()},
            lanes=[one for one in args.only.split(",") if one] or None, folder=args.out,
            progress=progress.listen, control=progress,
        )  # fmt: skip
        asked = progress.asked
    tell(args, found, lambda: _shown(found))
    if asked is not None:
        ERR.print(f"ivrell: stopped. What was measured is kept in {found.folder}.")
        return SIGNALLED + asked
    return DONE


def _shown(found: ChallengeFindings) -> None:
    for words in found.words:
        OUT.print(words)
    ran = [one for one in found.outcomes if one.verdict != "not run"]
    if ran:
        names = ("", "change", "verdict", f"{found.leader_name} ahead", "quickest", "wrong there")
        headings = [Heading(n, text=n != names[3], wraps=n in ("change", "wrong there"))
                    for n in names[1:]]  # fmt: skip
        OUT.print(table(headings, [_row(one) for one in ran]))
    OUT.print(
        f"{found.runs:,} runs in {found.took_s / 60:.1f} minutes (all changes with each other "
        f"would be {found.grid:,.0f}). Everything is in {found.folder}."
    )


def _row(one: ChangeOutcome) -> list[str]:
    names = {lane.lane: lane.name for lane in one.lanes}
    lead = ""
    if one.lead is not None:
        ends = (three_figures(one.low), three_figures(one.high)) if one.low and one.high else ()
        span = f" ({' to '.join(ends)})" if ends else ""
        lead = f"{three_figures(one.lead)} times{span}"
    wrong = ", ".join(lane.name for lane in one.newly_wrong)
    return [one.words, one.verdict, lead, names.get(one.leader or "", ""), wrong]
