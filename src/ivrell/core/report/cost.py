"""What lanes cost a month, by what was measured and by prices that the user keeps."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from math import exp, log

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.base import Approach
from ivrell.core.records.cost import (
    DAYS_A_MONTH,
    Amount,
    Assumed,
    CostAlong,
    CostAtSize,
    CostCrossing,
    CostFindings,
    LaneCost,
    MachinePrice,
    Prices,
    StoragePrice,
)
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Findings, LaneFindings, Summary, TrialFindings
from ivrell.core.records.points import Point, beside
from ivrell.core.records.sweep import Prediction, SweepFindings
from ivrell.core.report.cost_words import words

_HOUR_S = 3600.0
_GB = 1e9


def costs(
    comparison: Comparison,
    found: TrialFindings,
    made: Sequence[MadeTable],
    assumed: Assumed,
    prices: Prices,
    point: Point | None = None,
) -> CostFindings:
    """What the lanes of a trial cost a month.

    Args:
        found: what the trial says, sweeps among it.
        made: the tables that were made for it.
        assumed: how often, and on what.
        prices: the user's.
        point: looked at; the first unless given.

    Raises BadInput where a price is not known, or the trial has no such point.
    """
    bill = _Bill(assumed, *_priced(assumed, prices))
    here = next((one for one in found.points if point is None or one.point == point), None)
    if here is None:
        raise BadInput("The trial has no such point.", where="point")
    lanes = [
        _lane(comparison, lane, here.point, made, bill, prices)
        for lane in here.lanes
        if lane.trusted and _billed(lane, bill.machine)
    ]
    if not lanes:
        raise BadInput(
            f"No lane has a figure of {bill.machine.billed} here.",
            hint="Name a machine that is paid by something else.",
        )
    lanes.sort(key=lambda lane: lane.total.value)
    lanes = _with_payback(comparison, lanes, assumed)
    along = [_along(comparison, sweep, found.points, made, bill) for sweep in found.sweeps]
    return CostFindings(
        point=here.point, assumed=assumed, prices=prices, lanes=lanes, along=along,
        words=list(words(comparison, here, lanes, along, assumed, prices)),
    )  # fmt: skip


class _Bill:
    """What is paid for a month of running and of keeping."""

    def __init__(
        self, assumed: Assumed, machine: MachinePrice, storage: StoragePrice | None
    ) -> None:
        self.machine = machine
        self._storage = storage
        price = machine.per_hour if machine.per_hour is not None else machine.per_cpu_hour
        assert price is not None
        self._a_second = assumed.per_day * DAYS_A_MONTH / _HOUR_S * price

    def running(self, value: float, low: float | None, high: float | None) -> Amount:
        """Of seconds of what is billed, a time."""
        low, high = (None if bound is None else bound * self._a_second for bound in (low, high))
        return Amount(value=value * self._a_second, low=low, high=high)

    def keeping(self, stored: int | None) -> float | None:
        """Of bytes; None where they, or a price, are not known."""
        if stored is None or self._storage is None:
            return None
        return stored / _GB * self._storage.per_gb_month


def _priced(assumed: Assumed, prices: Prices) -> tuple[MachinePrice, StoragePrice | None]:
    machine = prices.machines.get(assumed.machine)
    if machine is None:
        known = ", ".join(prices.machines) or "none yet"
        raise BadInput(
            f"No machine has the name {assumed.machine} in your prices.", where="machine",
            hint=f"Machines: {known}. Tell one: ivrell prices --machine NAME --per-hour P.",
        )  # fmt: skip
    if assumed.storage is None:
        return machine, None
    storage = prices.storages.get(assumed.storage)
    if storage is None:
        known = ", ".join(prices.storages) or "none yet"
        raise BadInput(
            f"No storage has the name {assumed.storage} in your prices.", where="storage",
            hint=f"Storages: {known}. Tell one: ivrell prices --storage NAME --per-gb-month P.",
        )  # fmt: skip
    return machine, storage


def _billed(lane: LaneFindings, machine: MachinePrice) -> Summary | None:
    """What is paid for of a lane, in seconds a run."""
    return lane.elapsed if machine.billed == "machine time" else lane.cpu_total


def _sum(one: Amount, more: float | None) -> Amount:
    if not more:
        return one
    low, high = (None if bound is None else bound + more for bound in (one.low, one.high))
    return Amount(value=one.value + more, low=low, high=high)


def _lane(
    comparison: Comparison, lane: LaneFindings, point: Point, made: Sequence[MadeTable],
    bill: _Bill, prices: Prices,
) -> LaneCost:  # fmt: skip
    took = _billed(lane, bill.machine)
    assert took is not None
    running = bill.running(took.median, took.low, took.high)
    stored = stored_bytes(comparison, comparison.approach_called(lane.id), point, made)
    kept = bill.keeping(stored)
    peak = lane.peak_memory_absolute
    peak_bytes = None if peak is None else peak.high or peak.largest
    return LaneCost(
        lane=lane.id, name=lane.name, running=running, storage=kept, total=_sum(running, kept),
        stored_bytes=stored, peak_bytes=peak_bytes, holds=_holds(peak_bytes, prices),
    )  # fmt: skip


def _holds(peak_bytes: float | None, prices: Prices) -> str:
    """The cheapest machine, by the hour, that holds so much; "" where none is known to."""
    able = [
        (price.per_hour or price.per_cpu_hour or 0.0, name)
        for name, price in prices.machines.items()
        if peak_bytes is not None and (price.memory_bytes or 0) >= peak_bytes
    ]
    return min(able)[1] if able else ""


def stored_bytes(
    comparison: Comparison, approach: Approach, point: Point, made: Sequence[MadeTable]
) -> int | None:
    """Bytes of all tables in the form that a lane reads, with its keys and indexes where they are
    loaded; None where the size of one is not known."""
    asked = {*getattr(approach, "keys", []), *getattr(approach, "indexes", [])}
    total = 0
    for name, table in comparison.data.tables.items():
        rows: object = table.rows
        if isinstance(rows, str):
            rows = point.get(rows[1:-1])
        same = [
            one
            for one in made
            if (one.table, one.rows, one.form) == (name, rows, approach.wanted.form)
        ]
        if not same:
            return None
        # Of several copies the one that is most like what the lane asks for.
        best = min(same, key=lambda one: len(asked.symmetric_difference([*one.keys, *one.indexes])))
        if best.size_bytes is None:
            return None
        total += best.size_bytes
    return total


def _with_payback(
    comparison: Comparison, lanes: Sequence[LaneCost], assumed: Assumed
) -> list[LaneCost]:
    base = next((lane for lane in lanes if lane.lane == comparison.baseline_id), None)
    price = assumed.per_work_hour
    if base is None or price is None:
        return list(lanes)
    return [
        lane.model_copy(
            update={"pays_back_days": _payback(base, lane, assumed.work[lane.lane] * price)}
        )
        if lane.lane in assumed.work and lane is not base
        else lane
        for lane in lanes
    ]


def _payback(base: LaneCost, lane: LaneCost, work: float) -> Amount | None:
    """Days after which what a lane saves on the baseline has paid its extra work."""

    def days(saved: float | None) -> float | None:
        return work / (saved / DAYS_A_MONTH) if saved is not None and saved > 0 else None

    value = days(base.total.value - lane.total.value)
    if value is None:
        return None
    most = _less(base.total.high, lane.total.low)
    least = _less(base.total.low, lane.total.high)
    return Amount(value=value, low=days(most), high=days(least))


def _less(one: float | None, other: float | None) -> float | None:
    return None if one is None or other is None else one - other


def _along(
    comparison: Comparison, sweep: SweepFindings, points: Sequence[Findings],
    made: Sequence[MadeTable], bill: _Bill,
) -> CostAlong:  # fmt: skip
    sizes: list[CostAtSize] = []
    kept: dict[str, list[tuple[float, float]]] = {}
    for size, found in _sizes(sweep, points):
        lanes: dict[str, Amount] = {}
        for lane in found.lanes:
            took = _billed(lane, bill.machine)
            if not lane.trusted or took is None:
                continue
            approach = comparison.approach_called(lane.id)
            keeping = bill.keeping(stored_bytes(comparison, approach, found.point, made))
            kept.setdefault(lane.id, []).append((size, keeping or 0.0))
            lanes[lane.id] = _sum(bill.running(took.median, took.low, took.high), keeping)
        if lanes:
            sizes.append(CostAtSize(size=size, predicted=False, lanes=lanes))
    sizes += _ahead(sweep, sizes, kept, bill)
    return CostAlong(knob=sweep.knob, at=sweep.at, sizes=sizes, crossings=_crossings(sizes))


def _sizes(sweep: SweepFindings, points: Sequence[Findings]) -> list[tuple[float, Findings]]:
    found = []
    for one in points:
        size = one.point.get(sweep.knob)
        if isinstance(size, bool) or not isinstance(size, int | float):
            continue
        if beside(one.point, {sweep.knob, *sweep.together}) == sweep.at:
            found.append((float(size), one))
    return sorted(found, key=lambda pair: pair[0])


def _ahead(
    sweep: SweepFindings,
    ran: Sequence[CostAtSize],
    kept: Mapping[str, Sequence[tuple[float, float]]],
    bill: _Bill,
) -> Iterator[CostAtSize]:
    """Sizes beyond those that were run: what is billed by its growth, storage straight on from the
    two largest sizes."""
    key = "elapsed" if bill.machine.billed == "machine time" else "cpu_total"
    told: dict[float, dict[str, Prediction]] = {}
    for growth in sweep.growths:
        if growth.measure == key and ran and growth.lane in ran[-1].lanes:
            for one in growth.ahead:
                told.setdefault(one.size, {})[growth.lane] = one
    for size in sorted(told):
        if size > ran[-1].size:
            lanes = {
                lane: _sum(bill.running(one.value, one.low, one.high), _straight(kept[lane], size))
                for lane, one in told[size].items()
            }
            yield CostAtSize(size=size, predicted=True, lanes=lanes)


def _straight(known: Sequence[tuple[float, float]], size: float) -> float:
    """What a line through the last two values says at a size; the last where there is one."""
    if len(known) < 2:
        return known[-1][1]
    (before, less), (last, value) = known[-2:]
    return value + (value - less) / (last - before) * (size - last)


def _crossings(sizes: Sequence[CostAtSize]) -> list[CostCrossing]:
    """Where another lane becomes the cheapest of those that were run on both sides."""
    found = []
    for one, other in pairwise([size for size in sizes if not size.predicted]):
        both = one.lanes.keys() & other.lanes.keys()
        if not both:
            continue
        before, after = (_cheapest(size.lanes, both) for size in (one, other))
        if before != after:
            found.append(
                CostCrossing(
                    before=before, after=after, low=one.size, high=other.size,
                    at=_passes(one, other, before, after),
                )
            )  # fmt: skip
    return found


def _cheapest(lanes: Mapping[str, Amount], among: set[str]) -> str:
    return min(sorted(among), key=lambda lane: lanes[lane].value)


def _passes(one: CostAtSize, other: CostAtSize, before: str, after: str) -> float:
    """Where two lines, straight between logarithms, meet."""
    gap = [log(size.lanes[before].value / size.lanes[after].value) for size in (one, other)]
    share = -gap[0] / (gap[1] - gap[0]) if gap[1] != gap[0] else 0.5
    return exp(log(one.size) + min(max(share, 0.0), 1.0) * log(other.size / one.size))
