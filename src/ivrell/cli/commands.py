"""What the commands do; each loads what it needs, so that the others need not wait for it."""

import argparse
import signal
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import ivrell
from ivrell.cli.given import (
    CLAIM_STATUS,
    DONE,
    SIGNALLED,
    TROUBLE,
    as_json,
    knobs_given,
    points_given,
    tell,
)
from ivrell.core.base.errors import BadInput

if TYPE_CHECKING:
    from ivrell.cli.show import Progress
    from ivrell.core.recipe.databases.store import Loaded
    from ivrell.core.recipe.store import Made
    from ivrell.core.records.findings import TrialFindings
    from ivrell.core.records.tries import TryOutcome


def _run(args: argparse.Namespace) -> int:
    comparison = ivrell.read(args.file)
    plan = _plan(args, comparison)
    folder = args.out or Path(f"{args.file.stem}-results")
    if folder.exists() and any(folder.iterdir()):
        raise BadInput(f"The folder {folder} is not empty.", hint="Name a new one with --out.")
    with _watched(plan, comparison) as progress:
        trial = comparison.run(plan, folder=folder, progress=progress.listen, control=progress)
    return _told(args, trial, progress.asked)


def _told(args: argparse.Namespace, trial: ivrell.Trial, asked: "signal.Signals | None") -> int:
    """Print what a trial found; ``asked`` is the signal that asked it to stop, if one did."""
    found = trial.whole
    tell(args, found, lambda: _findings().findings(found, trial.folder))
    if asked is None:
        missed = _missed(trial.comparison, found) if args.strict else []
        _show().missed(missed)
        status = TROUBLE if missed else _status(found)
        return status or (_claims(found) if args.claims else DONE)
    _show().stopped(asked, trial.folder)
    return SIGNALLED + asked


def _claims(found: "TrialFindings") -> int:
    """What became of the claims as an exit status, the worst first; says those that do not hold."""
    states = [claim.state for claim in found.claims]
    _show().missed(
        f"{claim.state}: {claim.text}. {claim.reason}"
        for claim in found.claims
        if claim.state not in ("holds", "not of this point")
    )
    for state, status in CLAIM_STATUS.items():
        if state in states:
            return status
    return DONE


def _missed(comparison: ivrell.Comparison, found: "TrialFindings") -> list[str]:
    """What a strict command fails for: claims that are contradicted, targets that no lane surely
    meets."""
    from ivrell.core.report.conclusion import meets
    from ivrell.core.report.words import knobs_told

    targets = comparison.contents.targets
    aimed = targets.elapsed is not None or targets.memory is not None
    missed = []
    for point in found.points:
        at = f" at {', '.join(knobs_told(point.point))}" if point.point else ""
        missed += [
            f"contradicted{at}: {claim.text}. {claim.reason}"
            for claim in point.claims
            if claim.state == "contradicted"
        ]
        lanes = [lane for lane in point.ranked if lane.trusted]
        if aimed and not any(meets(lane, targets) == "surely" for lane in lanes):
            missed.append(f"no lane surely meets the target{at}. {point.target}".rstrip())
    return missed


def _findings() -> Any:
    from ivrell.cli import findings

    return findings


def _show() -> Any:
    from ivrell.cli import show

    return show


def _plan(args: argparse.Namespace, comparison: ivrell.Comparison) -> ivrell.Plan:
    from ivrell.cli.plan_options import given_in

    contents = comparison.contents
    kept = contents.plan_called(args.plan).launched() if args.plan else None
    own, given = kept.model_dump(exclude_unset=True) if kept else {}, given_in(args)
    parts = {part: own.get(part, {}) | given.get(part, {}) for part in ("limits", "disturbed")}
    rest: dict[str, Any] = {
        "knobs": (kept.knobs if kept else {}) | knobs_given(args.set, contents),
        "own_files": str(comparison.own_files),
    }
    if points := points_given(args.point):
        rest["points"] = points
    return comparison.plan(**(own | given | parts | rest))


@contextmanager
def _watched(plan: ivrell.Plan, comparison: ivrell.Comparison) -> "Iterator[Progress]":
    """Progress of a trial on the terminal, and a stop by Ctrl-C."""
    from ivrell.core.trial.plan import most_runs

    with _show().Progress() as progress:
        progress.planned = most_runs(comparison.contents, plan)
        yield progress


def _status(found: "TrialFindings") -> int:
    lanes = [lane for point in found.points for lane in point.lanes]
    good = all(
        lane.state == "done" and lane.agreement is not None and lane.agreement.agrees
        for lane in lanes
    )
    return DONE if good and found.ended == "done" else TROUBLE


def _estimate(args: argparse.Namespace) -> int:
    from ivrell.api import TRIED_ROWS

    comparison = ivrell.read(args.file)
    plan = _plan(args, comparison)
    if args.earlier:
        earlier = [ivrell.Trial.open(folder) for folder in args.earlier]
        found = comparison.estimate(plan, earlier, minutes=args.fill)
    else:
        with _show().Progress() as progress:
            progress.planned = len(comparison.lanes) * len(TRIED_ROWS)
            found = comparison.tried_estimate(
                plan, minutes=args.fill, progress=progress.listen, control=progress
            )
        if progress.asked is not None:
            _show().missed(["stopped before all lanes were tried"])
            return SIGNALLED + int(progress.asked)
    names = {approach.id: approach.label for approach in comparison.contents.approach}
    tell(args, found, lambda: _show().estimate(found, names, args.fill))
    return DONE if not found.unknown else TROUBLE


def _check(args: argparse.Namespace) -> int:
    comparison = ivrell.read(args.file)
    knobs = knobs_given(args.set, comparison.contents)
    with _show().Progress() as progress:
        progress.planned = len(comparison.lanes)
        found = comparison.check(knobs, progress=progress.listen, control=progress)
    tell(args, found, lambda: _findings().agreement(found))
    return _status(found) if progress.asked is None else SIGNALLED + progress.asked


def _try(args: argparse.Namespace) -> int:
    comparison = ivrell.read(args.file)
    found: dict[str, TryOutcome] = {}
    for lane in [args.lane] if args.lane else comparison.lanes:
        found[lane] = comparison.try_lane(lane, args.rows)
        if not args.json:
            label = comparison.contents.approach_called(lane).label
            _show().tried(label, found[lane])
    if args.json:
        print(as_json(found))
    good = all(one.run is not None and one.run.state == "done" for one in found.values())
    return DONE if good else TROUBLE


def _explain(args: argparse.Namespace) -> int:
    found = ivrell.read(args.file).try_lane(args.lane, args.rows, explained=True)
    tell(args, found, lambda: _show().explained(found))
    return DONE if found.run and found.run.state == "done" else TROUBLE


def _hot(args: argparse.Namespace) -> int:
    """Hot lines, in a module of their own."""
    from ivrell.cli.hot import hot

    return hot(args)


def _interrupt(args: argparse.Namespace) -> int:
    found = ivrell.read(args.file).interrupt(args.lane, args.rows, args.share)
    tell(args, found, lambda: _show().interruption(found))
    return DONE if found.verdict == "can be started again" else TROUBLE


def _resume(args: argparse.Namespace) -> int:
    trial = ivrell.Trial.open(args.folder)
    with _watched(trial.plan, trial.comparison) as progress:
        trial.resume(progress=progress.listen, control=progress, other_versions=args.other_versions)
    return _told(args, trial, progress.asked)


def _more(args: argparse.Namespace) -> int:
    trial = ivrell.Trial.open(args.folder)
    comparison = ivrell.read(args.file) if args.file else None
    contents = (comparison or trial.comparison).contents
    at = {knob: values[0] for knob, values in knobs_given(args.at, contents).items()}
    with _show().Progress() as progress:
        trial.more(
            rounds=args.rounds,
            lanes=[lane for lane in args.lanes.split(",") if lane],
            knobs=knobs_given(args.set, contents),
            at=at or None,
            told_within_minutes=args.until_told,
            comparison=comparison,
            progress=progress.listen,
            control=progress,
            other_versions=args.other_versions,
        )
    return _told(args, trial, progress.asked)


def _serve(args: argparse.Namespace) -> int:
    given = {"--port": args.port, "--data-dir": args.data_dir}
    options = [text for name, value in given.items() if value for text in (name, str(value))]
    options += ["--no-demo"] if args.no_demo else []
    return _become("ivrell.server.up", options)


def _backup(args: argparse.Namespace) -> int:
    what = {"backup": "save", "restore": "load"}[args.command]
    where = ["--data-dir", str(args.data_dir)] if args.data_dir else []
    return _become("ivrell.server.backup", [what, str(args.file), *where])


def _become(module: str, options: list[str]) -> int:
    """Run a module of the application in this process's place: whoever ends the command ends it."""
    import os
    import sys
    from importlib.util import find_spec

    if find_spec("django") is None:
        raise BadInput(
            "The application is not installed here.",
            hint="Install it with: pip install 'ivrell[server]'. It needs PostgreSQL too.",
        )
    os.execv(sys.executable, [sys.executable, "-m", module, *options])


def _measures(args: argparse.Namespace) -> int:
    from ivrell.core.report.measures import as_csv

    found = ivrell.Trial.open(args.folder).measures()
    if args.csv:
        for point in found:
            print(as_csv(point.rows, point.names), end="")
        return DONE
    from ivrell.cli.outputs import MeasuresTold

    told = [MeasuresTold(point.point, point.rows) for point in found]
    tell(args, told, lambda: _findings().measures(found))
    return DONE


def _data(args: argparse.Namespace) -> int:
    comparison = ivrell.read(args.file).contents
    from ivrell.core.recipe.databases import DATABASES
    from ivrell.core.recipe.databases.store import DatabaseStore
    from ivrell.core.recipe.input import Input
    from ivrell.core.recipe.store import DataStore
    from ivrell.core.spark.making import store_at
    from ivrell.core.spark.places import Places

    based = comparison.data.based_on(args.file.parent.resolve())
    store, databases = DataStore(args.out), DatabaseStore(args.out / "loaded")
    made: list[Made | Loaded] = []
    places = Places(args.out / "spark", shown=(str(args.out),))
    there = store_at(places, args.at, args.out / "spark-made") if args.at else None
    try:
        with _show().DataBar() as progress:
            for point in comparison.points(knobs_given(args.set, comparison)):
                recipe = based.resolved(point)
                for form in args.forms.split(","):
                    if there:
                        tables = there.ensure(
                            recipe, list(recipe.tables), Input(form=form), progress=progress.data
                        )
                        made += tables.values()
                        continue
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
        places.stop()
    tell(args, made, lambda: _show().made(made))
    return DONE


def _propose(args: argparse.Namespace) -> int:
    from ivrell.cli.outputs import ProposalTold
    from ivrell.core.propose.recipe import propose, table_name

    tables = {table_name(path): path for path in args.files}
    allowed = [place for place in args.allow.split(",") if place]
    proposal = propose(tables, seed=args.seed, allow_values=allowed)
    found = ProposalTold(proposal.data, proposal.distances)
    tell(args, found, lambda: print(proposal.toml(), end=""))
    return DONE


def _engines(args: argparse.Namespace) -> int:
    from ivrell.core.engines.registry import states

    found = states()
    tell(args, found, lambda: _show().engines(found))
    return DONE


def _runtimes(args: argparse.Namespace) -> int:
    from ivrell.core.runtimes import Runtimes

    return _registry(args, Runtimes(), lambda found: _show().runtimes(found))


def _environment(args: argparse.Namespace) -> int:
    from ivrell.core import environments
    from ivrell.core.runtimes import Runtimes

    if args.what != "list" and not args.name:
        raise BadInput("An environment needs a name.", hint=f"ivrell environment {args.what} NAME")
    if args.what == "add":
        environments.make(args.name, args.packages, python=args.python, listen=_show().said)
    elif args.what == "remove":
        environments.remove(args.name)
    lies = environments.environment_folder("")
    found = [one for one in Runtimes().all() if Path(one.interpreter).is_relative_to(lies)]
    tell(args, found, lambda: _show().environments(found))
    return DONE


def _queue(args: argparse.Namespace) -> int:
    from ivrell.cli.application import queue

    return queue(args)


def _worker(args: argparse.Namespace) -> int:
    from ivrell.cli.worker import worker

    return worker(args)


def _pause_or_go_on(args: argparse.Namespace) -> int:
    from ivrell.cli.application import pause_or_go_on

    return pause_or_go_on(args)


def _servers(args: argparse.Namespace) -> int:
    from ivrell.core.servers.own import Servers

    args.add = args.add and [*args.add, args.password_from]
    return _registry(args, Servers(), lambda found: _show().servers(found))


def _clusters(args: argparse.Namespace) -> int:
    from ivrell.core.spark.clusters import Clusters

    settings = dict(text.split("=", 1) for text in args.set if "=" in text)
    if args.add:
        args.add += [args.storage, settings, args.worker_cores, args.worker_memory]
    return _registry(args, Clusters(), lambda found: _show().clusters(found))


def _registry(args: argparse.Namespace, known: Any, shown: Callable[[Any], None]) -> int:
    """Add to, take from, and print a registry of this machine."""
    if args.add:
        known.add(*args.add)
    if args.remove:
        known.remove(args.remove)
    found = known.all()
    tell(args, found, lambda: shown(found))
    return DONE


def _machine(args: argparse.Namespace) -> int:
    from ivrell.core.base.folders import data_folder
    from ivrell.core.machine import busy_cores, snapshot

    if args.noise:
        from ivrell.core.trial.aa_test import ROUNDS, measure_noise

        with _show().Progress() as progress:
            progress.planned = ROUNDS
            measure_noise(data_folder(), ROUNDS, progress.listen, progress)
    found = snapshot(Path.cwd())
    found.busy_cores = busy_cores()
    tell(args, found, lambda: _show().machine(found))
    return DONE


def _help(args: argparse.Namespace) -> int:
    from ivrell.cli.help import show_help

    return show_help(args)


def _completion(args: argparse.Namespace) -> int:
    import shtab

    from ivrell.cli.main import parser

    print(shtab.complete(parser(with_plan=True), args.shell))
    return DONE


def _report(args: argparse.Namespace) -> int:
    trial = ivrell.Trial.open(args.folder)
    pairs = [_two_lanes(given) for given in args.pair]
    comparison = ivrell.read(args.file) if args.file else None
    asked = ((args.html, ".html"), (args.markdown, ".md"), (args.pdf, ".pdf"))
    files = [(to, suffix) for to, suffix in asked if to is not None]
    for to, suffix in files:
        if to.suffix != suffix:
            raise BadInput(f"{to}: its name must end in {suffix}.")
    for to, _ in files or [(None, "")]:
        print(trial.report(to, comparison=comparison, pairs=pairs))
    return DONE


def _two_lanes(given: str) -> tuple[str, str]:
    base, _, lane = given.partition(",")
    if not base or not lane:
        raise BadInput(f"--pair {given}: two lanes, such as loop,query.")
    return base, lane


def _shared(args: argparse.Namespace) -> int:
    """Commands of what is shared, in a module of their own."""
    from ivrell.cli.sharing import SHARED

    return SHARED[args.command](args)


def _next(args: argparse.Namespace) -> int:
    found = ivrell.Trial.open(args.folder).next_steps()
    tell(args, found, lambda: _show().next_steps(found))
    return DONE


def _costs(args: argparse.Namespace) -> int:
    """Commands of what lanes cost, in a module of their own."""
    from ivrell.cli.costs import COSTS

    return COSTS[args.command](args)


def _challenge(args: argparse.Namespace) -> int:
    """The challenge, in a module of its own."""
    from ivrell.cli.challenge import challenge

    return challenge(args)


def _gate(args: argparse.Namespace) -> int:
    """The gate, in a module of its own."""
    from ivrell.cli.gate import gate

    return gate(args)


def _doctor(args: argparse.Namespace) -> int:
    """A look at this machine, in a module of its own."""
    from ivrell.cli.doctor import doctor

    return doctor(args)


COMMANDS: Mapping[str, Callable[[argparse.Namespace], int]] = {
    "run": _run,
    "plan": _estimate,
    "check": _check,
    "try": _try,
    "explain": _explain,
    "hot": _hot,
    "interrupt": _interrupt,
    "resume": _resume,
    "more": _more,
    "report": _report,
    "bundle": _shared,
    "unpack": _shared,
    "rerun": _shared,
    "compare": _shared,
    "challenge": _challenge,
    "gate": _gate,
    "next": _next,
    "cost": _costs,
    "prices": _costs,
    "measures": _measures,
    "data": _data,
    "propose": _propose,
    "runtimes": _runtimes,
    "environment": _environment,
    "queue": _queue,
    "worker": _worker,
    "pause": _pause_or_go_on,
    "continue": _pause_or_go_on,
    "servers": _servers,
    "clusters": _clusters,
    "engines": _engines,
    "machine": _machine,
    "doctor": _doctor,
    "serve": _serve,
    "backup": _backup,
    "restore": _backup,
    "help": _help,
    "completion": _completion,
}
