"""What the commands do; each loads what it needs, so that the others need not wait for it."""

import argparse
import json
import signal
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import ivrell
from ivrell.core.base.errors import BadInput

if TYPE_CHECKING:
    from ivrell.cli.show import Progress
    from ivrell.core.comparison.model import Comparison
    from ivrell.core.recipe.databases.store import Loaded
    from ivrell.core.recipe.store import Made
    from ivrell.core.records.findings import TrialFindings
    from ivrell.core.records.tries import TryOutcome

DONE, TROUBLE = 0, 1
CANNOT_TELL, WEAKENED = 3, 4
_CLAIM_STATUS = {
    "contradicted": TROUBLE, "weakened": WEAKENED,
    "cannot tell": CANNOT_TELL, "not measured": CANNOT_TELL,
}  # fmt: skip
"""Exit status of a claim that does not hold, the worst first."""

SIGNALLED = 128
"""Exit statuses above it name the signal that stopped the command, as a shell's do."""


def _knobs(given: Sequence[str], comparison: "Comparison") -> dict[str, list[Any]]:
    """``rows=1000,10000`` as knob values; what is no number or truth value is text."""
    found: dict[str, list[Any]] = {}
    for entry in given:
        name, equals, values = entry.partition("=")
        if not equals or not values:
            raise BadInput(f"--set {entry} cannot be read.", hint="Write --set knob=value,value.")
        words = [value.strip() for value in values.split(",")]
        for word in words[1:]:
            other, equals, _ = word.partition("=")
            if equals and other.strip() in comparison.knobs:
                first = entry[: entry.index(f",{word}")] if f",{word}" in entry else name
                raise BadInput(
                    f"--set {entry} names two knobs.",
                    hint=f"Say --set for each of them: --set {first} --set {word}",
                )
        found[name] = [_value(word) for word in words]
    return found


def _points(given: Sequence[str]) -> list[dict[str, Any]]:
    """``rows=1000,width=2`` as a point each."""
    found = []
    for entry in given:
        pairs = [pair.partition("=") for pair in entry.split(",")]
        if not all(equals and name.strip() and value for name, equals, value in pairs):
            raise BadInput(
                f"--point {entry} cannot be read.", hint="Write --point knob=value,knob=value."
            )
        found.append({name.strip(): _value(value.strip()) for name, _, value in pairs})
    return found


def _value(text: str) -> Any:
    try:
        return json.loads(text.replace("_", "") if text.replace("_", "").isdigit() else text)
    except json.JSONDecodeError:
        return text


def _tell(args: argparse.Namespace, found: object, shown: Callable[[], None]) -> None:
    """Print an outcome for machines or for people."""
    if args.json:
        print(_as_json(found))
    else:
        shown()


def _as_json(found: object) -> str:
    from pydantic_core import to_json

    return to_json(found, indent=2, fallback=str).decode()


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
    _tell(args, found, lambda: _findings().findings(found, trial.folder))
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
    for state, status in _CLAIM_STATUS.items():
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
        "knobs": (kept.knobs if kept else {}) | _knobs(args.set, contents),
        "own_files": str(comparison.own_files),
    }
    if points := _points(args.point):
        rest["points"] = points
    return comparison.plan(**(own | given | parts | rest))


@contextmanager
def _watched(plan: ivrell.Plan, comparison: ivrell.Comparison) -> "Iterator[Progress]":
    """Progress of a trial on the terminal, and a stop by Ctrl-C."""
    from ivrell.core.trial.plan import most_runs

    with _show().Progress() as progress:
        progress.planned(most_runs(comparison.contents, plan))
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
            progress.planned(len(comparison.lanes) * len(TRIED_ROWS))
            found = comparison.tried_estimate(
                plan, minutes=args.fill, progress=progress.listen, control=progress
            )
        if progress.asked is not None:
            _show().missed(["stopped before all lanes were tried"])
            return SIGNALLED + int(progress.asked)
    names = {approach.id: approach.label for approach in comparison.contents.approach}
    _tell(args, found, lambda: _show().estimate(found, names, args.fill))
    return DONE if not found.unknown else TROUBLE


def _check(args: argparse.Namespace) -> int:
    comparison = ivrell.read(args.file)
    knobs = _knobs(args.set, comparison.contents)
    with _show().Progress() as progress:
        progress.planned(len(comparison.lanes))
        found = comparison.check(knobs, progress=progress.listen, control=progress)
    _tell(args, found, lambda: _findings().agreement(found))
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
        print(_as_json(found))
    good = all(one.run is not None and one.run.state == "done" for one in found.values())
    return DONE if good else TROUBLE


def _explain(args: argparse.Namespace) -> int:
    found = ivrell.read(args.file).try_lane(args.lane, args.rows, explained=True)
    _tell(args, found, lambda: _show().explained(found))
    return DONE if found.run and found.run.state == "done" else TROUBLE


def _interrupt(args: argparse.Namespace) -> int:
    found = ivrell.read(args.file).interrupt(args.lane, args.rows, args.share)
    _tell(args, found, lambda: _show().interruption(found))
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
    at = {knob: values[0] for knob, values in _knobs(args.at, contents).items()}
    with _show().Progress() as progress:
        trial.more(
            rounds=args.rounds,
            lanes=[lane for lane in args.lanes.split(",") if lane],
            knobs=_knobs(args.set, contents),
            at=at or None,
            told_within_minutes=args.until_told,
            comparison=comparison,
            progress=progress.listen,
            control=progress,
            other_versions=args.other_versions,
        )
    return _told(args, trial, progress.asked)


def _serve(args: argparse.Namespace) -> int:
    import os
    import sys
    from importlib.util import find_spec

    if find_spec("django") is None:
        raise BadInput(
            "The application is not installed here.",
            hint="Install it with: pip install 'ivrell[server]'. It needs PostgreSQL too.",
        )
    given = {"--port": args.port, "--data-dir": args.data_dir}
    options = [text for name, value in given.items() if value for text in (name, str(value))]
    options += ["--no-demo"] if args.no_demo else []
    # It takes this process's place: whoever ends the command ends the application.
    os.execv(sys.executable, [sys.executable, "-m", "ivrell.server.up", *options])


def _measures(args: argparse.Namespace) -> int:
    from ivrell.core.report.measures import as_csv

    found = ivrell.Trial.open(args.folder).measures()
    if args.csv:
        for point in found:
            print(as_csv(point.rows, point.names), end="")
        return DONE
    told = [{"point": p.point, "measures": p.rows} for p in found]
    _tell(args, told, lambda: _findings().measures(found))
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
            for point in comparison.points(_knobs(args.set, comparison)):
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
    _tell(args, made, lambda: _show().made(made))
    return DONE


def _propose(args: argparse.Namespace) -> int:
    from ivrell.core.propose.recipe import propose, table_name

    tables = {table_name(path): path for path in args.files}
    allowed = [place for place in args.allow.split(",") if place]
    proposal = propose(tables, seed=args.seed, allow_values=allowed)
    found = {"data": proposal.data, "distances": proposal.distances}
    _tell(args, found, lambda: print(proposal.toml(), end=""))
    return DONE


def _engines(args: argparse.Namespace) -> int:
    from ivrell.core.engines.registry import states

    found = states()
    _tell(args, found, lambda: _show().engines(found))
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
    _tell(args, found, lambda: _show().environments(found))
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
    _tell(args, found, lambda: shown(found))
    return DONE


def _machine(args: argparse.Namespace) -> int:
    from ivrell.core.base.folders import data_folder
    from ivrell.core.machine import busy_cores, snapshot

    if args.noise:
        from ivrell.core.trial.aa_test import ROUNDS, measure_noise

        with _show().Progress() as progress:
            progress.planned(ROUNDS)
            measure_noise(data_folder(), ROUNDS, progress.listen, progress)
    found = snapshot(Path.cwd())
    found.busy_cores = busy_cores()
    _tell(args, found, lambda: _show().machine(found))
    return DONE


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


COMMANDS: Mapping[str, Callable[[argparse.Namespace], int]] = {
    "run": _run,
    "plan": _estimate,
    "check": _check,
    "try": _try,
    "explain": _explain,
    "interrupt": _interrupt,
    "resume": _resume,
    "more": _more,
    "report": _report,
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
    "serve": _serve,
    "completion": _completion,
}
