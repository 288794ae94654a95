"""Commands of what lanes cost: the user's prices, and the months' costs by them."""

import argparse
from collections.abc import Callable, Mapping, Sequence

from pydantic import ValidationError

import ivrell
from ivrell.cli.console import OUT
from ivrell.cli.given import DONE, knobs_given, tell
from ivrell.cli.tables import Heading, table
from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import parse_bytes
from ivrell.core.base.wording import told
from ivrell.core.prices import PriceTables
from ivrell.core.records.cost import (
    Assumed,
    CostAlong,
    CostFindings,
    MachinePrice,
    Prices,
    StoragePrice,
)
from ivrell.core.report.cost_words import (
    cost_table,
    machine_told,
    storage_told,
    told_amount,
)
from ivrell.core.report.sweep.along import told_size


def _cost(args: argparse.Namespace) -> int:
    trial = ivrell.Trial.open(args.folder)
    contents = trial.comparison.contents
    said = {} if contents.cost is None else contents.cost.model_dump(exclude_none=True)
    given = {
        "per_day": args.per_day, "machine": args.machine, "storage": args.storage,
        "per_work_hour": args.per_work_hour, "work": _work(args.work) or None,
    }  # fmt: skip
    said |= {name: value for name, value in given.items() if value is not None}
    for name in ("per_day", "machine"):
        if name not in said:
            option = name.replace("_", "-")
            raise BadInput(f"--{option} is not said, nor {name} under [cost] of the file.")
    try:
        assumed = Assumed.model_validate(said)
    except ValidationError as error:
        problem = told(error)
        raise BadInput(f"{problem.message}.", where=problem.path) from None
    for lane in assumed.work:
        contents.approach_called(lane)
    at = {knob: values[0] for knob, values in knobs_given(args.at, contents).items()}
    found = trial.cost(assumed, **at)
    tell(args, found, lambda: _shown(found))
    return DONE


def _work(given: Sequence[str]) -> dict[str, float]:
    found = {}
    for entry in given:
        lane, _, hours = entry.partition("=")
        try:
            found[lane] = float(hours)
        except ValueError:
            raise BadInput(f"--work {entry}: a lane and its hours, such as query=6.") from None
    return found


def _shown(found: CostFindings) -> None:
    for words in found.words:
        OUT.print(words)
    named, rows = cost_table(found)
    lane, *amounts, holds = named[:_AMOUNTS_END]
    headings = [Heading(lane, text=True, wraps=True), *map(Heading, amounts)]
    headings.append(Heading(holds, text=True))
    headings += [Heading(one, dispensable=1) for one in named[_AMOUNTS_END:]]
    OUT.print(table(headings, rows))
    names = {lane.lane: lane.name for lane in found.lanes}
    for along in found.along:
        _along(along, names)


_AMOUNTS_END = 7
"""Columns of every table of costs; what comes behind them may be left out."""


def _along(along: CostAlong, names: Mapping[str, str]) -> None:
    lanes = [lane for lane in names if any(lane in size.lanes for size in along.sizes)]
    headings = [
        Heading(along.knob, text=True),
        *(Heading(names[lane], wraps=True) for lane in lanes),
    ]
    rows = [
        [
            f"{told_size(size.size)}{' (predicted)' if size.predicted else ''}",
            *(told_amount(size.lanes[lane]) if lane in size.lanes else "" for lane in lanes),
        ]
        for size in along.sizes
    ]
    OUT.print()
    OUT.print(table(headings, rows))


def _prices(args: argparse.Namespace) -> int:
    kept = PriceTables()
    try:
        if args.machine:
            memory = None if args.memory is None else parse_bytes(args.memory)
            kept.put_machine(
                args.machine,
                MachinePrice(
                    per_hour=args.per_hour, per_cpu_hour=args.per_cpu_hour, memory_bytes=memory
                ),
            )
        if args.storage:
            if args.per_gb_month is None:
                raise BadInput("--storage needs its price: --per-gb-month P.")
            kept.put_storage(args.storage, StoragePrice(per_gb_month=args.per_gb_month))
    except ValidationError as error:
        problem = told(error)
        raise BadInput(f"{problem.message}.", where=problem.path) from None
    if args.currency is not None:
        kept.say_currency(args.currency)
    if args.remove:
        kept.remove(args.remove)
    found = kept.all()
    tell(args, found, lambda: _listed(found))
    return DONE


def _listed(found: Prices) -> None:
    for name in found.machines:
        OUT.print(f"{name}: {machine_told(found, name)}")
    for name in found.storages:
        OUT.print(f"{name}: {storage_told(found, name)}")
    if not found.machines and not found.storages:
        OUT.print("No price is kept. Tell one: --machine NAME --per-hour P")


COSTS: Mapping[str, Callable[[argparse.Namespace], int]] = {"cost": _cost, "prices": _prices}
