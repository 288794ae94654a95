"""The command line: the whole job with no server and no database.

Only what reads the options is loaded here; commands load what they need.
"""

import argparse
import os
import signal
import sys
from collections.abc import Sequence
from pathlib import Path

from ivrell.core.base.errors import BadInput, room_on_disk

_KNOBS = "values of a knob; 1000..1000000/3 is three a decade"
_JSON = "what was found, as JSON"
_EXAMPLES = {
    "run": "demo/tolls-per-lock.toml --rounds 5 --set rows=10000,1000000",
    "plan": "demo/tolls-per-lock.toml --rounds 20 --from tolls-per-lock-results --fill 10",
    "check": "demo/tolls-per-lock.toml",
    "try": "demo/tolls-per-lock.toml polars --rows 500",
    "explain": "demo/tolls-per-lock.toml query",
    "hot": "demo/tolls-per-lock.toml loop --rows 200000",
    "interrupt": "demo/post-tolls.toml each --share 0.3",
    "more": "tolls-per-lock-results --rounds 5",
    "resume": "tolls-per-lock-results",
    "report": "tolls-per-lock-results --html tolls.html --pair loop,query",
    "bundle": "tolls-per-lock-results --out tolls.zip",
    "unpack": "tolls.zip --out tolls-there",
    "rerun": "tolls.zip --minutes 10",
    "compare": "tolls-in-may tolls-in-june --at rows=100000",
    "challenge": "demo/tolls-per-lock.toml --set rows=100000 --minutes 5",
    "gate": "demo/tolls-per-lock.toml --against tolls-per-lock-results --no-slower-than 10%",
    "next": "tolls-per-lock-results",
    "cost": "tolls-per-lock-results --per-day 40 --machine small",
    "prices": "--machine small --per-hour 0.12 --memory 8GB",
    "measures": "tolls-per-lock-results --csv",
    "data": "demo/tolls-per-lock.toml --set rows=1000 --forms csv,parquet --out made",
    "propose": "locks.csv passages.parquet --allow locks.reach",
    "runtimes": "--add older /usr/bin/python3.9",
    "environment": "add pandas-2.3 pandas==2.3.3 pyarrow",
    "queue": "--json",
    "worker": "--join https://ivrell.example:8420 --token-from file:token",
    "pause": "12",
    "continue": "12",
    "servers": "--add yard postgresql://ivrell@db.example --password-from env:YARD_PASSWORD",
    "clusters": "--add pair standalone:2",
    "engines": "--json",
    "machine": "--noise",
    "doctor": "--json",
    "serve": "--port 8420",
    "backup": "ivrell-monday.tar.gz",
    "restore": "ivrell-monday.tar.gz --data-dir ivrell-again",
    "help": "reference/cautions#few-rounds",
    "completion": "bash",
}
"""What stands behind each command in its example."""


def parser(*, with_plan: bool) -> argparse.ArgumentParser:
    """All commands and their options, those of a plan where they are asked for."""
    whole = argparse.ArgumentParser(
        prog="ivrell", description="Compare alternative approaches to the same data task."
    )
    whole.add_argument("--verbose", action="store_true", help="tell what is done, line by line")
    commands = whole.add_subparsers(dest="command", required=True, metavar="COMMAND")

    run = commands.add_parser("run", help="run a trial of a comparison file")
    thought = commands.add_parser("plan", help="how long a trial of a comparison file will take")
    for command in (run, thought):
        command.add_argument("file", type=Path, help="comparison file")
        command.add_argument("--set", action="append", default=[], metavar="KNOB=V,V", help=_KNOBS)
        command.add_argument(
            "--point", action="append", default=[], metavar="KNOB=V,KNOB=V",
            help="values of several knobs that go together; may be repeated",
        )  # fmt: skip
        command.add_argument("--plan", metavar="NAME", help="a plan that the file keeps so named")
        if with_plan:
            # What a plan's fields are takes time to load, which other commands need not wait for.
            from ivrell.cli.plan_options import add_plan_options

            add_plan_options(command)
    thought.add_argument(
        "--from", action="append", default=[], type=Path, metavar="DIR", dest="earlier",
        help="result folder of an earlier trial; may be repeated; try the lanes unless given",
    )  # fmt: skip
    thought.add_argument(
        "--fill", type=float, metavar="MINUTES", help="how many rounds fit into them"
    )
    thought.add_argument("--json", action="store_true", help=_JSON)
    run.add_argument("--out", type=Path, help="result folder (must be new or empty)")

    check = commands.add_parser("check", help="do the approaches agree, on a small size")
    check.add_argument("file", type=Path, help="comparison file")
    check.add_argument("--set", action="append", default=[], metavar="KNOB=V,V", help=_KNOBS)
    check.add_argument("--json", action="store_true", help=_JSON)

    attempt = commands.add_parser("try", help="run lanes once on a small size, show their answers")
    attempt.add_argument("file", type=Path, help="comparison file")
    attempt.add_argument("lane", nargs="?", help="id of a lane; all lanes unless named")
    explain = commands.add_parser("explain", help="how an engine carries a lane's queries out")
    explain.add_argument("file", type=Path, help="comparison file")
    explain.add_argument("lane", help="id of a lane")
    hot = commands.add_parser("hot", help="which lines of a lane its time and memory go to")
    hot.add_argument("file", type=Path, help="comparison file")
    hot.add_argument("lane", help="id of a lane")
    hot.add_argument(
        "--rows", type=int, metavar="N", help="of the largest table, at the most; all unless given"
    )
    hot.add_argument("--calls", action="store_true", help="show what called what as well")
    hot.add_argument("--json", action="store_true", help=_JSON)
    interrupt = commands.add_parser(
        "interrupt", help="kill a lane part-way and see whether it can be started again"
    )
    interrupt.add_argument("file", type=Path, help="comparison file")
    interrupt.add_argument("lane", help="id of a lane")
    interrupt.add_argument(
        "--share", type=float, default=0.5, metavar="S", help="of its usual time, 0.5 unless given"
    )
    for command in (attempt, explain, interrupt):
        command.add_argument(
            "--rows", type=int, default=1_000, metavar="N", help="of the largest table, at the most"
        )
        command.add_argument("--json", action="store_true", help=_JSON)

    resume = commands.add_parser("resume", help="go on with a trial that was cut off")
    resume.add_argument("folder", type=Path, help="result folder of a trial")
    resume.add_argument(
        "--other-versions",
        action="store_true",
        help="go on also where engines, libraries or the system are others than before",
    )
    more = commands.add_parser("more", help="add rounds, lanes or sizes to a trial that has ended")
    more.add_argument("folder", type=Path, help="result folder of a trial")
    more.add_argument("--rounds", type=int, default=0, metavar="N", help="so many more")
    more.add_argument(
        "--at", action="append", default=[], metavar="KNOB=V", help="rounds at this point alone"
    )
    more.add_argument(
        "--until-told", type=float, metavar="MINUTES",
        help="rounds until it is told who is the quickest, so long at the most",
    )  # fmt: skip
    more.add_argument("--lanes", default="", metavar="ID,ID", help="lanes that did not run")
    more.add_argument(
        "--file", type=Path, help="comparison file that has the lanes; all else must be as it was"
    )
    more.add_argument("--set", action="append", default=[], metavar="KNOB=V,V",
                      help="values that did not run")  # fmt: skip
    more.add_argument(
        "--other-versions",
        action="store_true",
        help="also where engines, libraries or the system are others than before",
    )
    for command in (run, resume, more):
        command.add_argument("--json", action="store_true", help=_JSON)
        command.add_argument(
            "--strict",
            action="store_true",
            help="exit status 1 also where a claim is contradicted or a target surely met by none",
        )
        command.add_argument(
            "--claims",
            action="store_true",
            help="exit status 1 where a claim is contradicted, 4 weakened, 3 not told",
        )

    measures = commands.add_parser("measures", help="every measure of a trial that has been run")
    measures.add_argument("folder", type=Path, help="result folder of a trial")
    measures.add_argument("--csv", action="store_true", help="as CSV, a line a measure and lane")
    measures.add_argument("--json", action="store_true", help=_JSON)

    report = commands.add_parser("report", help="write what a trial found for others to read")
    report.add_argument("folder", type=Path, help="result folder of a trial")
    report.add_argument("--html", type=Path, metavar="F", help="a page that stands alone")
    report.add_argument("--markdown", type=Path, metavar="F", help="Markdown, drawings beside it")
    report.add_argument("--pdf", type=Path, metavar="F", help="PDF, by a browser that is installed")
    report.add_argument(
        "--file", type=Path, help="comparison file whose claims and notes it has; as it ran"
    )
    report.add_argument(
        "--pair", action="append", default=[], metavar="ID,ID",
        help="two lanes that are shown in full; may be repeated",
    )  # fmt: skip

    bundle = commands.add_parser("bundle", help="pack a trial, to be run again elsewhere")
    bundle.add_argument("folder", type=Path, help="result folder of a trial")
    bundle.add_argument("--out", type=Path, required=True, metavar="F", help="the file, a .zip")
    bundle.add_argument(
        "--answers", action="store_true", help="with the answers; their digests always are"
    )
    unpack = commands.add_parser("unpack", help="look at a bundle, or make a result folder of it")
    unpack.add_argument("bundle", type=Path, help="file that ivrell bundle has made")
    unpack.add_argument("--out", type=Path, help="new result folder; only looked at unless given")
    rerun = commands.add_parser("rerun", help="run a bundle again here, and say what held")
    rerun.add_argument("bundle", type=Path, help="file that ivrell bundle has made")
    rerun.add_argument("--minutes", type=float, metavar="N", help="as many rounds as fit into them")
    rerun.add_argument("--out", type=Path, help="new folder, for the trial there and the one here")
    rerun.add_argument(
        "--code-is-read", action="store_true", help="run its code without asking: it was read"
    )
    rerun.add_argument("--json", action="store_true", help=_JSON)
    compare = commands.add_parser("compare", help="trials of one comparison as rows of one table")
    compare.add_argument(
        "folders", type=Path, nargs="+", help="result folders; others are held against the first"
    )
    compare.add_argument(
        "--at", action="append", default=[], metavar="KNOB=V", help="the point; the first in common"
    )
    compare.add_argument("--json", action="store_true", help=_JSON)

    doubt = commands.add_parser("challenge", help="try to break the conclusion: what turns it over")
    doubt.add_argument("file", type=Path, help="comparison file")
    doubt.add_argument("--minutes", type=float, default=10.0, metavar="N", help="10 unless given")
    doubt.add_argument("--set", action="append", default=[], metavar="KNOB=V", help="as things are")
    doubt.add_argument("--only", default="", metavar="ID,ID", help="all lanes unless given")
    doubt.add_argument("--out", type=Path, help="folder of its trials (must be new or empty)")
    doubt.add_argument("--json", action="store_true", help=_JSON)
    gate = commands.add_parser("gate", help="is the new version slower than the old one, or wrong")
    gate.add_argument("file", type=Path, help="comparison file, the new version")
    gate.add_argument(
        "--against", required=True, metavar="OLD",
        help="the old version: a result folder, a bundle, a comparison file, or FILE@REF of git",
    )  # fmt: skip
    gate.add_argument(
        "--no-slower-than",
        default="10%",
        metavar="SHARE",
        help="that is let pass, 10%% unless given",
    )
    gate.add_argument(
        "--measure", action="append", default=[], metavar="KEY",
        help="such as cpu_time or memory; elapsed unless given; may be repeated",
    )  # fmt: skip
    gate.add_argument("--minutes", type=float, default=10.0, metavar="N", help="10 unless given")
    gate.add_argument("--lanes", default="", metavar="ID,ID", help="all that were changed")
    gate.add_argument("--set", action="append", default=[], metavar="KNOB=V,V", help=_KNOBS)
    gate.add_argument("--claims", action="store_true", help="the file's claims have to hold")
    gate.add_argument("--targets", action="store_true", help="the lanes have to meet the targets")
    gate.add_argument("--code-is-read", action="store_true", help="a bundle's code may run")
    gate.add_argument(
        "--stored", action="store_true",
        help="take the figures that OLD keeps instead of running it, by way of unchanged lanes",
    )  # fmt: skip
    gate.add_argument("--out", type=Path, help="result folder (must be new or empty)")
    gate.add_argument("--junit", type=Path, metavar="F", help="write JUnit XML")
    gate.add_argument("--markdown", type=Path, metavar="F", help="write a summary")
    gate.add_argument("--json", action="store_true", help=_JSON)

    following = commands.add_parser("next", help="what to look at next, of a trial's own figures")
    following.add_argument("folder", type=Path, help="result folder of a trial")
    following.add_argument("--json", action="store_true", help=_JSON)
    cost = commands.add_parser("cost", help="what lanes cost a month, by your own prices")
    cost.add_argument("folder", type=Path, help="result folder of a trial")
    cost.add_argument("--per-day", type=float, metavar="N", help="how often a day")
    cost.add_argument("--machine", metavar="NAME", help="of your prices")
    cost.add_argument("--storage", metavar="NAME", help="of your prices")
    cost.add_argument(
        "--work", action="append", default=[], metavar="LANE=HOURS",
        help="hours that a lane takes more to write and keep than the baseline; may be repeated",
    )  # fmt: skip
    cost.add_argument("--per-work-hour", type=float, metavar="P", help="what one of them costs")
    cost.add_argument(
        "--at", action="append", default=[], metavar="KNOB=V", help="the point; the first"
    )
    cost.add_argument("--json", action="store_true", help=_JSON)
    prices = commands.add_parser("prices", help="your prices of machines and storage")
    prices.add_argument("--machine", metavar="NAME", help="tell the price of this machine")
    prices.add_argument("--per-hour", type=float, metavar="P", help="of --machine: an hour of it")
    prices.add_argument(
        "--per-cpu-hour", type=float, metavar="P", help="of --machine: where CPU time is billed"
    )
    prices.add_argument("--memory", metavar="M", help="of --machine: what it holds, such as 8GB")
    prices.add_argument("--storage", metavar="NAME", help="tell the price of this storage")
    prices.add_argument(
        "--per-gb-month", type=float, metavar="P", help="of --storage: 10^9 bytes for a month"
    )
    prices.add_argument("--currency", metavar="WORD", help="that stands behind every amount")
    prices.add_argument("--remove", metavar="NAME", help="forget this one")
    prices.add_argument("--json", action="store_true", help=_JSON)

    data = commands.add_parser("data", help="make the data of a comparison file")
    data.add_argument("file", type=Path, help="comparison file")
    data.add_argument("--set", action="append", default=[], metavar="KNOB=V,V", help=_KNOBS)
    data.add_argument(
        "--forms",
        default="csv",
        metavar="FORM,FORM",
        help="csv unless given; engines that load tables too",
    )
    data.add_argument(
        "--workers", type=int, default=len(os.sched_getaffinity(0)), metavar="N",
        help="processes that draw; one a core unless given",
    )  # fmt: skip
    data.add_argument("--out", type=Path, required=True, help="folder that it goes to")
    data.add_argument(
        "--at", default="", metavar="NAME", help="make it inside Spark, on this cluster's storage"
    )
    data.add_argument("--json", action="store_true", help=_JSON)

    sample = commands.add_parser("propose", help="propose a recipe shaped like sample files")
    sample.add_argument("files", type=Path, nargs="+", help="csv or parquet files, one a table")
    sample.add_argument("--seed", type=int, default=1, metavar="N", help="of the recipe")
    sample.add_argument("--allow", default="", metavar="TABLE.COLUMN,...",
                        help="categories whose values may be taken over")  # fmt: skip
    sample.add_argument("--json", action="store_true", help=_JSON)

    runtimes = commands.add_parser("runtimes", help="other interpreters that lanes may ask for")
    runtimes.add_argument(
        "--add", nargs=2, metavar=("NAME", "PATH"), help="register an interpreter under a name"
    )
    runtimes.add_argument("--remove", metavar="NAME", help="forget this one")
    runtimes.add_argument("--json", action="store_true", help=_JSON)

    environment = commands.add_parser(
        "environment", help="interpreters with packages of their own, made here"
    )
    environment.add_argument("what", choices=("add", "remove", "list"), help="what to do")
    environment.add_argument("name", nargs="?", default="", help="of add, remove: its name")
    environment.add_argument(
        "packages", nargs="*", help="of add: as pip takes them, such as pandas==2.3.3"
    )
    environment.add_argument("--python", help="of add: path of the interpreter that it is of")
    environment.add_argument("--json", action="store_true", help=_JSON)

    queue = commands.add_parser("queue", help="what the application does, and what waits there")
    queue.add_argument("--json", action="store_true", help=_JSON)
    pause = commands.add_parser("pause", help="let others pass a trial of the application")
    go_on = commands.add_parser("continue", help="let a paused trial of the application go on")
    for command in (pause, go_on):
        command.add_argument("trial", type=int, help="its number")
    for command in (queue, pause, go_on):
        command.add_argument("--data-dir", type=Path, help="data folder that it runs on")

    worker = commands.add_parser(
        "worker", help="run trials of an Ivrell elsewhere, on this machine"
    )
    worker.add_argument("--join", required=True, metavar="URL", help="https://... of that Ivrell")
    worker.add_argument(
        "--token-from", default="env:IVRELL_TOKEN", metavar="PLACE",
        help="the token told when this machine was added there: env:NAME or file:PATH",
    )  # fmt: skip
    worker.add_argument(
        "--authority", type=Path, metavar="FILE", help="certificates that are trusted as well"
    )

    servers = commands.add_parser("servers", help="database servers of your own")
    servers.add_argument(
        "--add", nargs=2, metavar=("NAME", "ADDRESS"), help="register a server under a name"
    )
    servers.add_argument(
        "--password-from", metavar="PLACE", default="", help="of --add: env:NAME or file:PATH"
    )
    servers.add_argument("--remove", metavar="NAME", help="forget this one")
    servers.add_argument("--json", action="store_true", help=_JSON)

    clusters = commands.add_parser("clusters", help="places where Apache Spark runs")
    clusters.add_argument(
        "--add", nargs=2, metavar=("NAME", "ADDRESS"), help="register a cluster under a name"
    )
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
    clusters.add_argument("--remove", metavar="NAME", help="forget this one")
    clusters.add_argument("--json", action="store_true", help=_JSON)

    engines = commands.add_parser("engines", help="engines on this machine")
    doctor = commands.add_parser("doctor", help="what is missing here, and what that means")
    doctor.add_argument("--json", action="store_true", help=_JSON)
    machine = commands.add_parser("machine", help="what this machine is and is doing")
    machine.add_argument(
        "--noise", action="store_true", help="measure its noise anew (about half a minute)"
    )
    for command in (engines, machine):
        command.add_argument("--json", action="store_true", help=_JSON)
    serve = commands.add_parser("serve", help="start the application in a browser")
    serve.add_argument("--port", type=int, help="on loopback; a free one unless given")
    serve.add_argument("--data-dir", type=Path, help="where records, data and results are kept")
    serve.add_argument("--no-demo", action="store_true", help="do not load the demos")
    backup = commands.add_parser("backup", help="everything that the application keeps, as a file")
    restore = commands.add_parser("restore", help="make a data folder of such a file")
    for command in (backup, restore):
        command.add_argument("file", type=Path, help="the copy, such as ivrell.tar.gz")
        command.add_argument(
            "--data-dir", type=Path, help="data folder; the usual one unless given"
        )
    told = commands.add_parser("help", help="a page of the help, or a part of one")
    told.add_argument("place", nargs="?", default="", help="such as file or file#gate; the start")
    completion = commands.add_parser("completion", help="what lets a shell complete commands")
    completion.add_argument("shell", choices=("bash", "zsh", "fish"), help="the shell")
    for name, command in commands.choices.items():
        command.epilog = f"Example: ivrell {name} {_EXAMPLES[name]}"
    return whole


def command() -> int:
    """The command ``ivrell`` of an installed package."""
    return main(sys.argv[1:])


def main(arguments: Sequence[str]) -> int:
    """Run one command; returns the exit status: 0 done, 1 trouble in a lane, 2 bad input;
    128 and the signal's number where one stopped it (130 by Ctrl-C)."""
    args = parser(with_plan=bool({"run", "plan"}.intersection(arguments))).parse_args(arguments)
    from ivrell.cli.commands import COMMANDS
    from ivrell.cli.given import BAD_INPUT, SIGNALLED
    from ivrell.core.base.folders import data_folder
    from ivrell.core.base.help import command, error_place
    from ivrell.core.base.logs import log_commands

    try:
        log_commands(data_folder() / "log", verbose=args.verbose)
        with room_on_disk(data_folder()):
            return int(COMMANDS[args.command](args))
    except BadInput as error:
        place = error_place(error.__traceback__)
        told = f" (More: {command(place)})" if place else ""
        print(f"ivrell: {error}{told}", file=sys.stderr)
        return BAD_INPUT
    except KeyboardInterrupt:
        print("ivrell: stopped by Ctrl-C.", file=sys.stderr)
        return SIGNALLED + signal.SIGINT
