"""What lanes cost, in words and as the rows of a table."""

from collections.abc import Iterator, Mapping, Sequence

from ivrell.core.base.quantities import format_bytes, three_figures
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.cost import (
    DAYS_A_MONTH,
    Amount,
    Assumed,
    CostAlong,
    CostFindings,
    LaneCost,
    Prices,
)
from ivrell.core.records.findings import Findings
from ivrell.core.report.sweep.along import told_size
from ivrell.core.report.words import knobs_told


def words(
    comparison: Comparison, here: Findings, lanes: Sequence[LaneCost],
    along: Sequence[CostAlong], assumed: Assumed, prices: Prices,
) -> Iterator[str]:  # fmt: skip
    """What lanes cost, in sentences."""
    names = {approach.id: approach.label for approach in comparison.approach}

    def told(amount: Amount) -> str:
        return f"{told_amount(amount)}{_money(prices)}"

    cheapest, *others = lanes
    at = ", ".join(
        [*knobs_told(here.point), f"{assumed.per_day:,g} times a day on {assumed.machine}"]
    )
    text = f"At {at}, {cheapest.name} costs {told(cheapest.total)} a month"
    base = next((lane for lane in others if lane.lane == comparison.baseline_id), None)
    if other := base or (others[0] if others else None):
        apart = (
            cheapest.total.high is not None
            and other.total.low is not None
            and cheapest.total.high < other.total.low
        )
        sure = "" if apart else ": not told apart"
        text += f", {other.name} {told(other.total)}{sure}"
    yield f"{text}."
    unknown = [lane.name for lane in lanes if assumed.storage and lane.storage is None]
    if unknown:
        yield f"Storage is not in the costs of {', '.join(unknown)}: its size is not known."
    for lane in lanes:
        if back := lane.pays_back_days:
            yield f"The extra work of {lane.name} pays back after {told_days(back)}."
        elif lane.lane in assumed.work and assumed.per_work_hour is not None:
            yield f"{lane.name} saves nothing that could pay back its extra work."
    for one in along:
        for crossing in one.crossings:
            yield (
                f"{names[crossing.after]} becomes cheaper than {names[crossing.before]} at about "
                f"{told_size(crossing.at)} of {one.knob} (between {told_size(crossing.low)} and "
                f"{told_size(crossing.high)})."
            )


def told_days(days: Amount) -> str:
    """Days with their bounds, in words."""
    low = "" if days.low is None else f"{three_figures(days.low)} to "
    span = f" ({low}{three_figures(days.high)})" if days.high is not None else ""
    never = " (it may be never)" if days.high is None else ""
    return f"{three_figures(days.value)} days{span}{never}"


def told_amount(amount: Amount) -> str:
    """An amount with its bounds."""
    if amount.low is None or amount.high is None:
        return three_figures(amount.value)
    span = f"{three_figures(amount.low)} to {three_figures(amount.high)}"
    return f"{three_figures(amount.value)} ({span})"


def _money(prices: Prices) -> str:
    return f" {prices.currency}" if prices.currency else ""


def machine_told(prices: Prices, name: str) -> str:
    """What a machine of the price tables costs and holds."""
    machine, money = prices.machines[name], _money(prices)
    parts = []
    if machine.per_hour is not None:
        parts.append(f"{machine.per_hour:g}{money} an hour")
    if machine.per_cpu_hour is not None:
        parts.append(f"{machine.per_cpu_hour:g}{money} an hour of CPU time")
    if machine.memory_bytes is not None:
        parts.append(f"{format_bytes(machine.memory_bytes)} of memory")
    return ", ".join(parts)


def storage_told(prices: Prices, name: str) -> str:
    """What a storage of the price tables costs."""
    return f"{prices.storages[name].per_gb_month:g}{_money(prices)} a month for 10^9 bytes"


def assumptions(found: CostFindings, names: Mapping[str, str]) -> Iterator[str]:
    """What costs rest on, a thing a line.

    Args:
        names: of lanes, by their ids.
    """
    assumed, prices = found.assumed, found.prices
    yield f"{assumed.per_day:,g} times a day, a month of {DAYS_A_MONTH:.4g} days"
    machine = machine_told(prices, assumed.machine)
    billed = prices.machines[assumed.machine].billed
    yield f"machine {assumed.machine}: {machine}; {billed} is paid for"
    if assumed.storage is not None:
        yield f"storage {assumed.storage}: {storage_told(prices, assumed.storage)}"
    if assumed.per_work_hour is not None:
        work = ", ".join(
            f"{names.get(lane, lane)} {hours:g} h" for lane, hours in assumed.work.items()
        )
        each = f"{assumed.per_work_hour:g}{_money(prices)}"
        yield f"an hour of work costs {each}; extra work: {work or 'none'}"


def cost_table(found: CostFindings) -> tuple[list[str], list[list[str]]]:
    """What each lane costs as texts, the cheapest first: the headings, and a row a lane."""
    headings = ["lane", "a month", "running", "storage", "stored", "memory", "holds it"]
    rows = [
        [
            lane.name, told_amount(lane.total), told_amount(lane.running),
            "–" if lane.storage is None else three_figures(lane.storage),
            "–" if lane.stored_bytes is None else format_bytes(lane.stored_bytes),
            "–" if lane.peak_bytes is None else format_bytes(lane.peak_bytes),
            lane.holds or "–",
        ]
        for lane in found.lanes
    ]  # fmt: skip
    if not any(lane.pays_back_days for lane in found.lanes):
        return headings, rows
    backs = [told_days(one) if (one := lane.pays_back_days) else "" for lane in found.lanes]
    return [*headings, "pays back"], [[*row, back] for row, back in zip(rows, backs, strict=True)]
