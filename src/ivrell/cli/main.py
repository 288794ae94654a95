"""The command line: the whole job with no server and no database.

Only what reads the options is loaded here; commands load what they need.
"""

import argparse
import os
import signal
import sys
from collections.abc import Sequence
from pathlib import Path

from ivrell.core.errors import BadInput, room_on_disk

BAD_INPUT = 2


def parser(*, with_plan: bool) -> argparse.ArgumentParser:
    """All commands and their options, those of a plan where they are asked for."""
    whole = argparse.ArgumentParser(
        prog="ivrell", description="Compare alternative approaches to the same data task."
    )
    whole.add_argument("--verbose", action="store_true", help="tell what is done, line by line")
    commands = whole.add_subparsers(dest="command", required=True, metavar="COMMAND")

    run = commands.add_parser("run", help="run a trial of a comparison file")
    run.add_argument("file", type=Path)
    run.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="KNOB=V,V",
        help="values of a knob to run at; 1000..1000000/3 is three a decade",
    )
    run.add_argument("--plan", metavar="NAME", help="a plan that the file keeps by this name")
    if with_plan:
        # What a plan's fields are takes time to load, which other commands need not wait for.
        from ivrell.cli.plan_options import add_plan_options

        add_plan_options(run)
    run.add_argument("--out", type=Path, help="result folder (must be new or empty)")

    check = commands.add_parser("check", help="do the approaches agree, on a small size")
    check.add_argument("file", type=Path)
    check.add_argument("--set", action="append", default=[], metavar="KNOB=V,V")
    check.add_argument("--json", action="store_true")

    attempt = commands.add_parser("try", help="run lanes once on a small size, show their answers")
    attempt.add_argument("file", type=Path)
    attempt.add_argument("lane", nargs="?", help="all lanes unless named")
    explain = commands.add_parser("explain", help="how an engine carries a lane's queries out")
    explain.add_argument("file", type=Path)
    explain.add_argument("lane")
    interrupt = commands.add_parser(
        "interrupt", help="kill a lane part-way and see whether it can be started again"
    )
    interrupt.add_argument("file", type=Path)
    interrupt.add_argument("lane")
    interrupt.add_argument(
        "--share", type=float, default=0.5, metavar="S", help="of its usual time, 0.5 unless given"
    )
    for command in (attempt, explain, interrupt):
        command.add_argument("--rows", type=int, default=1_000, metavar="N", help="at the most")
        command.add_argument("--json", action="store_true")

    resume = commands.add_parser("resume", help="go on with a trial that was cut off")
    resume.add_argument("folder", type=Path)
    for command in (run, resume):
        command.add_argument("--json", action="store_true", help="findings as JSON")
        command.add_argument(
            "--strict",
            action="store_true",
            help="exit status 1 also where a claim is contradicted or a target surely met by none",
        )

    measures = commands.add_parser("measures", help="every measure of a trial that has been run")
    measures.add_argument("folder", type=Path)
    measures.add_argument("--csv", action="store_true", help="as CSV, a line a measure and lane")
    measures.add_argument("--json", action="store_true")

    data = commands.add_parser("data", help="make the data of a comparison file")
    data.add_argument("file", type=Path)
    data.add_argument("--set", action="append", default=[], metavar="KNOB=V,V")
    data.add_argument("--forms", default="csv", metavar="FORM,FORM")
    data.add_argument("--workers", type=int, default=len(os.sched_getaffinity(0)))
    data.add_argument("--out", type=Path, required=True)
    data.add_argument(
        "--at", default="", metavar="NAME", help="make it inside Spark, on this cluster's storage"
    )
    data.add_argument("--json", action="store_true")

    sample = commands.add_parser("propose", help="propose a recipe shaped like sample files")
    sample.add_argument("files", type=Path, nargs="+", help="csv or parquet files, one a table")
    sample.add_argument("--seed", type=int, default=1)
    sample.add_argument("--allow", default="", metavar="TABLE.COLUMN,...",
                        help="categories whose values may be taken over")  # fmt: skip
    sample.add_argument("--json", action="store_true")

    runtimes = commands.add_parser("runtimes", help="other interpreters that lanes may ask for")
    runtimes.add_argument("--add", nargs=2, metavar=("NAME", "PATH"))
    runtimes.add_argument("--remove", metavar="NAME")
    runtimes.add_argument("--json", action="store_true")

    servers = commands.add_parser("servers", help="database servers of your own")
    servers.add_argument("--add", nargs=2, metavar=("NAME", "ADDRESS"))
    servers.add_argument(
        "--password-from", metavar="PLACE", default="", help="of --add: env:NAME or file:PATH"
    )
    servers.add_argument("--remove", metavar="NAME")
    servers.add_argument("--json", action="store_true")

    clusters = commands.add_parser("clusters", help="places where Apache Spark runs")
    clusters.add_argument("--add", nargs=2, metavar=("NAME", "ADDRESS"))
    clusters.add_argument(
        "--storage", metavar="PLACE", default="",
        help="of --add: a folder or address that driver and executors both reach",
    )  # fmt: skip
    clusters.add_argument(
        "--set", action="append", default=[], metavar="spark.NAME=V", help="of --add: a setting"
    )
    clusters.add_argument(
        "--worker-cores", type=int, default=1, metavar="N", help="of --add standalone:N"
    )
    clusters.add_argument(
        "--worker-memory", default="1536m", metavar="M", help="of --add standalone:N, such as 2g"
    )
    clusters.add_argument("--remove", metavar="NAME")
    clusters.add_argument("--json", action="store_true")

    engines = commands.add_parser("engines", help="engines on this machine")
    machine = commands.add_parser("machine", help="what this machine is and is doing")
    machine.add_argument(
        "--noise", action="store_true", help="measure its noise anew (about half a minute)"
    )
    for command in (engines, machine):
        command.add_argument("--json", action="store_true")
    completion = commands.add_parser("completion", help="what lets a shell complete commands")
    completion.add_argument("shell", choices=("bash", "zsh"))
    return whole


def main(arguments: Sequence[str]) -> int:
    """Run one command; returns the exit status: 0 done, 1 trouble in a lane, 2 bad input;
    128 and the signal's number where one stopped it (130 by Ctrl-C)."""
    args = parser(with_plan="run" in arguments).parse_args(arguments)
    from ivrell.cli.commands import COMMANDS, SIGNALLED
    from ivrell.core.folders import data_folder
    from ivrell.core.logs import log_commands

    try:
        log_commands(data_folder() / "log", verbose=args.verbose)
        with room_on_disk(data_folder()):
            return int(COMMANDS[args.command](args))
    except BadInput as error:
        print(f"ivrell: {error}", file=sys.stderr)
        return BAD_INPUT
    except KeyboardInterrupt:
        print("ivrell: stopped by Ctrl-C.", file=sys.stderr)
        return SIGNALLED + signal.SIGINT
