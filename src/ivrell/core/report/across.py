"""The same trial on several machines: what held on all of them, and what did not."""

from collections.abc import Mapping, Sequence
from itertools import combinations
from statistics import median

from ivrell.core.base.quantities import format_bytes, three_figures
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.findings import Findings, Ratio
from ivrell.core.records.history import Across, LaneAcross, OnMachine
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.report.findings import findings
from ivrell.core.report.measures import values_at
from ivrell.core.report.overlay import Past
from ivrell.core.stats.contrasts import Terms
from ivrell.core.stats.families import MISSES
from ivrell.core.stats.levels import Level, relative_level

_ELAPSED = "elapsed"


def across(
    trials: Sequence[Past],
    names: Sequence[str],
    agreement: Sequence[Mapping[str, Agreement]],
    point: Point,
) -> Across:
    """What trials of one plan on several machines say at a point.

    Args:
        trials: one a machine.
        names: of the machines.
        agreement: of each trial's lanes there, by lane.
        point: that all of them ran.
    """
    comparison = trials[0].comparison
    found = [
        findings(past.comparison, past.taken, own, point)
        for past, own in zip(trials, agreement, strict=True)
    ]
    values = [
        values_at(past.comparison, past.at(point).taken.runs, point).get(_ELAPSED)
        for past in trials
    ]
    baseline = comparison.baseline_id
    ran = [dict(one.lanes) if one else {} for one in values]
    lanes = []
    pairs = max(1, len(trials) * (len(trials) - 1) // 2)
    others = [one.id for one in comparison.approach if one.id != baseline]
    level = MISSES / max(1, pairs * len(others))
    for approach in comparison.approach:
        lane = approach.id
        if not any(lane in one for one in ran):
            continue
        levels = [
            relative_level(one[lane], [one[baseline]])
            if baseline and lane != baseline and {lane, baseline} <= one.keys()
            else None
            for one in ran
        ]
        most, least = _ends(levels)
        gain = None
        if most is not None and least is not None:
            one, other = levels[least], levels[most]
            assert one and other
            told = (one - other).ratio(Terms(comparison.matters), level)
            gain = told if told.verdict in ("faster", "slower") else None
        lanes.append(
            LaneAcross(
                lane=lane,
                name=approach.label,
                medians=[median(one[lane].values()) if lane in one else None for one in ran],
                ratios=[_ratio(one, lane) for one in found],
                gain=gain,
                most=most if gain else None,
                least=least if gain else None,
            )
        )
    machines = [
        OnMachine(
            name=name, trial=past.trial, words=machine_words(past.taken.machine),
            ranking=[lane.id for lane in one.ranked if lane.trusted],
        )
        for name, past, one in zip(names, trials, found, strict=True)
    ]  # fmt: skip
    labels = {approach.id: approach.label for approach in comparison.approach}
    return Across(
        point=point,
        baseline=baseline,
        machines=machines,
        lanes=lanes,
        words=[*_order(machines, found, labels), *_gains(machines, lanes, labels, baseline)],
    )


def _ends(levels: Sequence[Level | None]) -> tuple[int | None, int | None]:
    """Places of the machines on which a lane gains most and least on the baseline."""
    known = {place: one.middle for place, one in enumerate(levels) if one is not None}
    if len(known) < 2:
        return None, None
    return min(known, key=lambda place: known[place]), max(known, key=lambda place: known[place])


def _ratio(found: Findings, lane: str) -> Ratio | None:
    return next((one.ratio for one in found.lanes if one.id == lane and not one.baseline), None)


def machine_words(machine: Machine) -> str:
    """ "2 cores of X, 25.3 GB of memory, kernel 6.1"."""
    cores = f"{machine.cores} cores of {machine.processor}" if machine.cores else machine.processor
    memory = f"{format_bytes(machine.memory_bytes)} of memory" if machine.memory_bytes else ""
    kernel = f"kernel {machine.kernel}" if machine.kernel else ""
    return ", ".join(filter(None, [cores, memory, kernel]))


def _order(
    machines: Sequence[OnMachine], found: Sequence[Findings], labels: Mapping[str, str]
) -> list[str]:
    """Whether the order of lanes is the same everywhere; where it is not, what surely turned."""
    turned = []
    common = set.intersection(*(set(one.ranking) for one in machines))
    told = [{(pair.base, pair.lane): pair.ratio.verdict for pair in one.pairs} for one in found]
    for first, second in combinations([lane for lane in machines[0].ranking if lane in common], 2):
        verdicts = [one.get((first, second)) for one in told]
        faster = [m.name for m, v in zip(machines, verdicts, strict=True) if v == "faster"]
        slower = [m.name for m, v in zip(machines, verdicts, strict=True) if v == "slower"]
        if faster and slower:
            turned.append(
                f"{labels[second]} is faster than {labels[first]} on {_listed(faster)}, and slower "
                f"on {_listed(slower)}."
            )
    if turned:
        return turned
    rankings = {tuple(lane for lane in one.ranking if lane in common) for one in machines}
    count = "both" if len(machines) == 2 else f"all {len(machines)}"
    if len(rankings) == 1:
        return [f"The order of lanes held on {count} machines."]
    return ["No two lanes surely changed places between the machines; medians of some did."]


def _gains(
    machines: Sequence[OnMachine],
    lanes: Sequence[LaneAcross],
    labels: Mapping[str, str],
    baseline: str | None,
) -> list[str]:
    told = []
    for lane in lanes:
        if lane.gain is None or lane.most is None or lane.least is None:
            continue
        gain = lane.gain
        span = ""
        if gain.low is not None and gain.high is not None:
            span = f" ({three_figures(gain.low)} to {three_figures(gain.high)})"
        told.append(
            f"{lane.name} gains {three_figures(gain.value)} times{span} more on "
            f"{labels[baseline or '']} on {machines[lane.most].name} than on "
            f"{machines[lane.least].name}."
        )
    return told


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
