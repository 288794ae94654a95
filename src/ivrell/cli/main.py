"""The command line: the whole job with no server and no database."""

import argparse
import json
import os
import sys
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from ivrell.cli import show
from ivrell.core.comparison.file import parse, read_text
from ivrell.core.engines.base import state_of
from ivrell.core.engines.registry import ENGINES
from ivrell.core.errors import BadInput
from ivrell.core.folders import data_folder
from ivrell.core.measure.machine import busy_cores, snapshot
from ivrell.core.propose.recipe import propose, table_name
from ivrell.core.quantities import parse_bytes, parse_seconds
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.databases.store import DatabaseStore, Loaded
from ivrell.core.recipe.store import DataStore, Made
from ivrell.core.runtimes import Runtimes
from ivrell.core.servers import Servers
from ivrell.core.trial.against_itself import ROUNDS, measure_noise
from ivrell.core.trial.background import QUIET
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Limits, Plan, Until

DONE, TROUBLE, BAD_INPUT = 0, 1, 2
_CHECK_ROWS = 1_000


def _knobs(given: Sequence[str]) -> dict[str, list[Any]]:
    """``rows=1000,10000`` as knob values; what is no number or truth value is text."""
    found: dict[str, list[Any]] = {}
    for entry in given:
        name, equals, values = entry.partition("=")
        if not equals or not values:
            raise BadInput(f"--set {entry} cannot be read.", cure="Write --set knob=value,value.")
        found[name] = [_value(value.strip()) for value in values.split(",")]
    return found


def _value(text: str) -> Any:
    try:
        return json.loads(text.replace("_", "") if text.replace("_", "").isdigit() else text)
    except json.JSONDecodeError:
        return text


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="ivrell", description="Compare alternative approaches to the same data task."
    )
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")

    run = commands.add_parser("run", help="run a trial of a comparison file")
    run.add_argument("file", type=Path)
    run.add_argument("--rounds", type=int, default=5)
    run.add_argument("--warm-ups", type=int, default=1)
    run.add_argument("--set", action="append", default=[], metavar="KNOB=V,V")
    run.add_argument("--only", default="", metavar="LANE,LANE")
    run.add_argument("--limit-seconds", default="120", metavar="S")
    run.add_argument("--limit-memory", default="4GiB", metavar="SIZE")
    run.add_argument("--until", metavar="PERCENT", help="end when every interval is narrower")
    run.add_argument("--at-least", type=int, default=5, metavar="N", help="with --until")
    run.add_argument("--at-most", type=int, default=30, metavar="N", help="with --until")
    run.add_argument("--minutes", type=float, default=30.0, metavar="M", help="with --until")
    run.add_argument("--cache", default="warm", metavar="warm,cold")
    run.add_argument("--threads", default="", metavar="N,N", help="of every library")
    run.add_argument("--cores", type=int, metavar="N", help="pin runs to so many cores")
    run.add_argument(
        "--background",
        action="append",
        default=[],
        metavar="LOAD",
        help='beside the runs: quiet, "1 busy core", memory, disk; may be repeated',
    )
    run.add_argument("--kept", type=int, default=1, metavar="N", help="calls in one process")
    run.add_argument(
        "--shortest", default="0", metavar="S", help="repeat calls until a run lasts so long"
    )
    run.add_argument("--no-sandbox", action="store_true")
    run.add_argument("--limit-cpu", metavar="S")
    run.add_argument("--limit-written", default="8GiB", metavar="SIZE")
    run.add_argument("--limit-processes", type=int, default=256, metavar="N")
    run.add_argument("--order-seed", type=int, default=1)
    run.add_argument("--out", type=Path, help="result folder (must be new or empty)")
    run.add_argument("--json", action="store_true")
    run.set_defaults(do=_run)

    check = commands.add_parser("check", help="do the approaches agree, on a small size")
    check.add_argument("file", type=Path)
    check.add_argument("--set", action="append", default=[], metavar="KNOB=V,V")
    check.add_argument("--json", action="store_true")
    check.set_defaults(do=_check)

    resume = commands.add_parser("resume", help="go on with a trial that was cut off")
    resume.add_argument("folder", type=Path)
    resume.add_argument("--json", action="store_true")
    resume.set_defaults(do=_resume)

    data = commands.add_parser("data", help="make the data of a comparison file")
    data.add_argument("file", type=Path)
    data.add_argument("--set", action="append", default=[], metavar="KNOB=V,V")
    data.add_argument("--forms", default="csv", metavar="FORM,FORM")
    data.add_argument("--workers", type=int, default=len(os.sched_getaffinity(0)))
    data.add_argument("--out", type=Path, required=True)
    data.add_argument("--json", action="store_true")
    data.set_defaults(do=_data)

    sample = commands.add_parser("propose", help="propose a recipe shaped like sample files")
    sample.add_argument("files", type=Path, nargs="+", help="csv or parquet files, one a table")
    sample.add_argument("--seed", type=int, default=1)
    sample.add_argument("--allow", default="", metavar="TABLE.COLUMN,...",
                        help="categories whose values may be taken over")  # fmt: skip
    sample.add_argument("--json", action="store_true")
    sample.set_defaults(do=_propose)

    runtimes = commands.add_parser("runtimes", help="other interpreters that lanes may ask for")
    runtimes.add_argument("--add", nargs=2, metavar=("NAME", "PATH"))
    runtimes.add_argument("--remove", metavar="NAME")
    runtimes.add_argument("--json", action="store_true")
    runtimes.set_defaults(do=_runtimes)

    servers = commands.add_parser("servers", help="PostgreSQL servers of your own")
    servers.add_argument("--add", nargs=2, metavar=("NAME", "ADDRESS"))
    servers.add_argument("--remove", metavar="NAME")
    servers.add_argument("--json", action="store_true")
    servers.set_defaults(do=_servers)

    for name, do, text in (
        ("engines", _engines, "engines on this machine"),
        ("machine", _machine, "what this machine is and is doing"),
    ):
        command = commands.add_parser(name, help=text)
        command.add_argument("--json", action="store_true")
        command.set_defaults(do=do)
        if name == "machine":
            command.add_argument(
                "--noise", action="store_true", help="measure its noise anew (about half a minute)"
            )
    return parser


def _run(args: argparse.Namespace) -> int:
    text = read_text(args.file)
    parse(text, source=args.file.name)
    plan = _plan(args)
    folder = args.out or Path(f"{args.file.stem}-results")
    if folder.exists() and any(folder.iterdir()):
        raise BadInput(f"The folder {folder} is not empty.", cure="Name a new one with --out.")
    found = _conduct(text, plan, folder)
    if args.json:
        print(json.dumps(found, indent=2))
    else:
        show.findings(found, folder)
    return _status(found)


def _plan(args: argparse.Namespace) -> Plan:
    try:
        until = None
        if args.until is not None:
            until = Until(
                narrower_than=float(args.until.rstrip(" %")) / 100,
                at_least=args.at_least,
                at_most=args.at_most,
                minutes=args.minutes,
            )
        return Plan(
            rounds=args.rounds,
            until=until,
            warm_ups=args.warm_ups,
            lanes=[lane for lane in args.only.split(",") if lane] or None,
            knobs=_knobs(args.set),
            cache=args.cache.split(","),
            threads=[int(n) for n in args.threads.split(",") if n] or [None],
            background=args.background or [QUIET],
            cores=args.cores,
            kept=args.kept,
            shortest_s=parse_seconds(args.shortest),
            sandbox="off" if args.no_sandbox else "auto",
            limits=Limits(
                seconds=parse_seconds(args.limit_seconds),
                cpu_seconds=parse_seconds(args.limit_cpu) if args.limit_cpu else None,
                memory_bytes=parse_bytes(args.limit_memory),
                written_bytes=parse_bytes(args.limit_written),
                processes=args.limit_processes,
            ),
            order_seed=args.order_seed,
            own_files=str(args.file.parent.resolve()),
        )
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = ".".join(str(part) for part in first["loc"])
        raise BadInput(
            f"The plan cannot be used: {first['msg']}.",
            where=where,
            cure="See ./ivrell run --help.",
        ) from None
    except ValueError as error:
        raise BadInput(f"The plan cannot be used: {error}.") from None


def _conduct(text: str, plan: Plan, folder: Path) -> dict[str, Any]:
    with show.Progress(plan) as progress:
        store = DataStore(data_folder() / "made")
        trial = Trial(
            text, plan, folder, store, listen=progress.listen, control=progress
        )  # fmt: skip
        return trial.conduct()


def _status(found: dict[str, Any]) -> int:
    lanes = [lane for point in found["points"] for lane in point["lanes"]]
    good = all(lane["state"] == "done" and lane["agreement"]["agrees"] for lane in lanes)
    return DONE if good and found["ended"] == "done" else TROUBLE


def _check(args: argparse.Namespace) -> int:
    text = read_text(args.file)
    comparison = parse(text, source=args.file.name)
    knobs = {
        knob: [min(int(values[0]), _CHECK_ROWS)]
        for knob, values in comparison.knobs.items()
        if comparison.data.counted_by(knob) and isinstance(values[0], int)
    }
    plan = Plan(
        rounds=1,
        warm_ups=0,
        knobs={**knobs, **_knobs(args.set)},
        own_files=str(args.file.parent.resolve()),
    )
    with tempfile.TemporaryDirectory(prefix="ivrell-check-") as folder:
        found = _conduct(text, plan, Path(folder))
    if args.json:
        print(json.dumps(found, indent=2))
    else:
        show.agreement(found)
    return _status(found)


def _resume(args: argparse.Namespace) -> int:
    plan_path = args.folder / "plan.json"
    if not plan_path.exists():
        raise BadInput(f"{args.folder} is no result folder of a trial: it has no plan.json.")
    text = read_text(args.folder / "comparison.toml")
    plan = Plan.model_validate_json(plan_path.read_text())
    found = _conduct(text, plan, args.folder)
    if args.json:
        print(json.dumps(found, indent=2))
    else:
        show.findings(found, args.folder)
    return _status(found)


def _data(args: argparse.Namespace) -> int:
    comparison = parse(read_text(args.file), source=args.file.name)
    based = comparison.data.based_on(args.file.parent.resolve())
    store, databases = DataStore(args.out), DatabaseStore(args.out / "loaded")
    made: list[Made | Loaded] = []
    try:
        with show.DataProgress() as progress:
            for point in comparison.points(_knobs(args.set)):
                recipe = based.resolved(point)
                for form in args.forms.split(","):
                    if form in DATABASES:
                        made.append(databases.ensure(recipe, form, progress=progress.data))
                        continue
                    for table in recipe.tables:
                        made.append(
                            store.ensure(
                                recipe, table, form, workers=args.workers, progress=progress.data
                            )
                        )
    finally:
        databases.stop()
    if args.json:
        print(json.dumps([asdict(m) for m in made], indent=2))
    else:
        show.made(made)
    return DONE


def _propose(args: argparse.Namespace) -> int:
    tables = {table_name(path): path for path in args.files}
    allowed = [place for place in args.allow.split(",") if place]
    proposal = propose(tables, seed=args.seed, allow_values=allowed)
    if args.json:
        print(json.dumps({"data": proposal.data, "distances": proposal.distances}, indent=2))
    else:
        print(proposal.toml(), end="")
    return DONE


def _engines(args: argparse.Namespace) -> int:
    states = [state_of(engine) for engine in ENGINES.values()]
    if args.json:
        print(json.dumps([{**asdict(s), "cure": s.cure} for s in states], indent=2))
    else:
        show.engines(states)
    return DONE


def _runtimes(args: argparse.Namespace) -> int:
    return _registry(args, Runtimes(), show.runtimes)


def _servers(args: argparse.Namespace) -> int:
    return _registry(args, Servers(), show.servers)


def _registry(args: argparse.Namespace, known: Any, shown: Callable[[Any], None]) -> int:
    """Add to, take from, and print a registry of this machine."""
    if args.add:
        known.add(*args.add)
    if args.remove:
        known.remove(args.remove)
    found = known.all()
    if args.json:
        print(json.dumps([one.as_dict() for one in found], indent=2))
    else:
        shown(found)
    return DONE


def _machine(args: argparse.Namespace) -> int:
    if args.noise:
        with show.Progress(Plan(rounds=ROUNDS)) as progress:
            measure_noise(data_folder(), ROUNDS, progress.listen, progress)
    found = {**snapshot(Path.cwd()), "busy_cores": busy_cores()}
    if args.json:
        print(json.dumps(found, indent=2))
    else:
        show.machine(found)
    return DONE


def main(arguments: Sequence[str]) -> int:
    """Run one command; returns the exit status: 0 done, 1 trouble in a lane, 2 bad input."""
    args = _parser().parse_args(arguments)
    try:
        return int(args.do(args))
    except BadInput as error:
        print(f"ivrell: {error}", file=sys.stderr)
        return BAD_INPUT
