"""Who leads by a measure along a knob, where the lead changes, and how good a rule that makes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import sqrt

from ivrell.core.records.findings import Ratio
from ivrell.core.records.sweep import Crossing, Lead, Regime, Rule, Undecided
from ivrell.core.report.measures import BY_KEY
from ivrell.core.report.ratios import Judge, quickest
from ivrell.core.report.sweep.along import Along, Size, told_bounds, told_size
from ivrell.core.stats.contrasts import Pair, turned
from ivrell.core.stats.crossing import passing_by

LED = {
    "elapsed": "is the quickest",
    "cpu_total": "takes the least CPU time",
    "peak_memory": "holds the least memory",
}
"""What it is to lead by a measure, by key."""

_MOST_NAMED = 4

GRAIN = 300_000
"""Peaks of less, in bytes, are below what the kernel tells of a process."""

_BETTER = ("faster", "less")
_LEAST_HELD_OUT = 4


@dataclass(frozen=True)
class _Rated:
    """One size: its lanes by how they rank, medians, and ratios of pairs."""

    size: float
    medians: Mapping[str, float]
    ratios: Mapping[Pair, Ratio]

    @property
    def leader(self) -> str:
        """The lane that is told to take the least, else that with the lowest median."""
        told = quickest(self.ratios)
        if told in self.medians:
            return str(told)
        return min(self.medians, key=lambda lane: self.medians[lane])

    @property
    def undecided(self) -> list[str]:
        """Lanes that the leader is not told to be ahead of here, as the findings say."""
        return [
            lane
            for lane in self.medians
            if lane != self.leader
            and (ratio := self.ratio(lane, self.leader)) is not None
            and ratio.verdict not in _BETTER
        ]

    def ratio(self, base: str, lane: str) -> Ratio | None:
        """How many times less a lane takes than another."""
        if (base, lane) in self.ratios:
            return self.ratios[base, lane]
        found = self.ratios.get((lane, base))
        return turned(found) if found else None

    def ahead(self, lane: str, other: str) -> bool:
        """Whether a lane is surely ahead of another."""
        ratio = self.ratio(other, lane)
        return ratio is not None and ratio.verdict in _BETTER


def leads(along: Along, judge: Judge, names: dict[str, str]) -> list[Lead]:
    """Who leads, by every measure that lanes are led by and that some have at two sizes."""
    found = []
    for key in LED:
        rated = [one for size in along.sizes if (one := _rated(size, key, judge)).medians]
        if len(rated) > 1:
            crossings, regimes = _regimes(rated)
            sizes = [one.size for one in rated]
            words = _words(key, regimes, crossings, names, along.knob, sizes)
            rule = _held_out(rated, judge.matters)
            found.append(
                Lead(measure=key, crossings=crossings, regimes=regimes, words=words, rule=rule)
            )
    return found


def _rated(size: Size, key: str, judge: Judge) -> _Rated:
    medians = size.medians(key)
    if key == "peak_memory" and min(medians.values(), default=0.0) < GRAIN:
        # Of next to nothing held none holds the least.
        return _Rated(size.size, {}, {})
    if key == "elapsed":
        # Told already, those that a limit ended among them.
        pairs = {(pair.base, pair.lane): pair.ratio for pair in size.findings.pairs}
        return _Rated(size.size, medians, pairs)
    if len(medians) < 2:
        return _Rated(size.size, medians, {})
    values = size.values[key]
    own = {lane: values.lanes[lane] for lane in medians}
    return _Rated(size.size, medians, judge.ratios(values.measure, own))


def _regimes(rated: Sequence[_Rated]) -> tuple[list[Crossing], list[Regime]]:
    """Where the lead changes, and the stretches between."""
    crossings: list[Crossing] = []
    stretches: list[tuple[str, list[_Rated]]] = []
    for one in rated:
        leader = one.leader
        if stretches and stretches[-1][0] != leader:
            # A lead that nobody can be sure of is no change of hands.
            if not one.ahead(leader, stretches[-1][0]):
                stretches[-1][1].append(one)
                continue
            crossings.append(_crossing(rated, stretches[-1][0], leader, one.size))
        if not stretches or stretches[-1][0] != leader:
            stretches.append((leader, []))
        stretches[-1][1].append(one)
    bounds = [None, *(crossing.at for crossing in crossings), None]
    regimes = [
        Regime(
            lane=lane,
            from_size=bounds[place],
            until_size=bounds[place + 1],
            level=_level(lane, own),
            undecided=_undecided(lane, own),
        )
        for place, (lane, own) in enumerate(stretches)
    ]
    return crossings, regimes


def _level(lane: str, stretch: Sequence[_Rated]) -> list[str]:
    """Lanes that cannot be told from the leader at any size of a stretch."""

    def is_level(other: str) -> bool:
        known = [one for one in stretch if other in one.medians]
        apart = any(one.ratio(other, lane) is None or one.ahead(lane, other) for one in known)
        return bool(known) and not apart

    lanes = dict.fromkeys(other for one in stretch for other in one.medians)
    return [other for other in lanes if other != lane and is_level(other)]


def _undecided(lane: str, stretch: Sequence[_Rated]) -> list[Undecided]:
    """Sizes at which findings do not tell a lane to lead, with who else may."""
    found = []
    for one in stretch:
        others = [one.leader] if one.leader != lane else []
        others += [other for other in one.undecided if other not in (lane, *others)]
        if others:
            found.append(Undecided(size=one.size, lanes=others))
    return found


def _crossing(rated: Sequence[_Rated], before: str, after: str, until: float) -> Crossing:
    """Where one lane passes another, the last time up to the size at which that is sure."""
    known = [(one.size, ratio) for one in rated if (ratio := one.ratio(before, after))]
    where = passing_by(known, until)
    if where:
        return Crossing(before=before, after=after, at=where.at, low=where.low, high=where.high)
    # The one is ahead by its median where rounds say the other: somewhere between two sizes.
    last = max(one.size for one in rated if one.size < until)
    return Crossing(before=before, after=after, at=sqrt(last * until), low=last, high=until)


def _held_out(rated: Sequence[_Rated], matters: float) -> Rule | None:
    """How often the regimes of the other sizes name the right lane at one that is left out."""
    if len(rated) < _LEAST_HELD_OUT:
        return None
    right = 0
    for place, one in enumerate(rated):
        crossings, regimes = _regimes([*rated[:place], *rated[place + 1 :]])
        passed = sum(crossing.at <= one.size for crossing in crossings)
        named = one.medians.get(regimes[passed].lane)
        right += named is not None and named <= (1 + matters) * one.medians[one.leader]
    return Rule(held_out=len(rated), named_right=right)


def _words(
    key: str,
    regimes: Sequence[Regime],
    crossings: Sequence[Crossing],
    names: Mapping[str, str],
    knob: str,
    sizes: Sequence[float],
) -> str:
    """The regimes as a rule that can be acted on, saying where findings at a size do not tell."""

    def who(regime: Regime) -> str:
        return f"{names[regime.lane]} {LED[key]}{_not_told(regime, sizes, names)}"

    if len(regimes) == 1:
        [only] = regimes
        if len(only.undecided) == len(sizes):
            lanes = dict.fromkeys(lane for one in only.undecided for lane in one.lanes)
            told = _or([names[lane] for lane in (only.lane, *lanes)])
            by = f"By {BY_KEY[key].label}, at" if key != "elapsed" else "At"
            return f"{by} no size of {knob} is one lane told to lead: {told}."
        return f"At every size of {knob} that was run {who(only)}."
    parts = []
    for place, regime in enumerate(regimes):
        if place < len(crossings):
            crossing = crossings[place]
            at = told_bounds(crossing.at, crossing.low, crossing.high)
            parts.append(f"below {at} {who(regime)}")
        else:
            parts.append(f"above {who(regime)}")
    return f"For {knob} {'; '.join(parts)}."


def _not_told(regime: Regime, sizes: Sequence[float], names: Mapping[str, str]) -> str:
    """At which sizes of a stretch its lane is not told to lead, and who else may; sizes one after
    the other with the same lanes are told together."""
    groups: list[list[Undecided]] = []
    for one in regime.undecided:
        last = groups[-1][-1] if groups else None
        follows = last and sizes.index(one.size) == sizes.index(last.size) + 1
        if last and follows and last.lanes == one.lanes:
            groups[-1].append(one)
        else:
            groups.append([one])
    told = []
    for group in groups:
        low, high = group[0].size, group[-1].size
        if high == sizes[-1] and low != high:
            where = f"at {told_size(low)} and above"
        elif low == high:
            where = f"at {told_size(low)}"
        else:
            where = f"from {told_size(low)} to {told_size(high)}"
        who = _or([names[lane] for lane in (regime.lane, *group[0].lanes)])
        told.append(f"{where} {who}: not told apart")
    return f", but {', '.join(told)}" if told else ""


def _or(names: Sequence[str]) -> str:
    if len(names) > _MOST_NAMED:
        return f"{', '.join(names[: _MOST_NAMED - 1])} or {len(names) - _MOST_NAMED + 1} others"
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"
