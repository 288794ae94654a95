"""Two trials laid over each other: what is another in them, and what that did to each lane.

A machine is not the same from one day to the next, so that a lane took longer than a month ago says
little by itself. Lanes that are the same in both trials tell what the machine did; that is taken
out, with its own uncertainty. Where there is none, what was measured is told, and that nobody can
tell machine and lane apart.
"""

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from math import inf
from statistics import geometric_mean, median

from ivrell.core.comparison.alike import as_run, others_than_lanes
from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.base import Approach
from ivrell.core.engines.registry import ENGINES
from ivrell.core.records.data import MadeTable
from ivrell.core.records.history import Difference, LaneChange, MeasureChange, Overlay
from ivrell.core.records.plan import OWN, Limits, Plan
from ivrell.core.records.points import Point
from ivrell.core.records.session import RunSet, changes
from ivrell.core.report.measures import Values, values_at
from ivrell.core.report.ratios import noise_floor
from ivrell.core.report.words import times_told
from ivrell.core.stats.contrasts import Terms
from ivrell.core.stats.families import MISSES
from ivrell.core.stats.levels import ByRound, Level, relative_level

_SAYS_HOW_MUCH = {
    "rounds", "until", "approaches", "order_seed", "own_files", "search", "knobs", "points",
    "warm_ups", "keep_files", "step_up", "disturbed",
}  # fmt: skip
"""Fields of a plan that say how much is run, and not under what conditions."""

_ENDS_RUNS = {
    name.replace("_", " ") for name in Limits.model_fields if name != "memory_bytes"
}  # fmt: skip
"""Limits of a plan that end runs, and change nothing of those that came to their end."""

_OF_ALL = ("the processor", "cores", "the kernel", "the system", "Python")


@dataclass(frozen=True)
class Past:
    """A trial as it was: its number, ``when`` it was run, what ran, its plan, its runs with their
    sessions, the tables that were made for it."""

    trial: int
    when: datetime.datetime
    comparison: Comparison
    plan: Plan
    taken: RunSet
    made: Sequence[MadeTable] = ()

    def at(self, point: Point) -> "Past":
        """With the runs at one point."""
        return replace(self, taken=self.taken.at(point))

    @property
    def lanes(self) -> set[str]:
        """Those with a counted run, by id."""
        return {run.approach for run in self.taken.runs if run.counted}


def differences(before: Past, now: Past) -> list[Difference]:
    """What is not the same in two trials: lanes first, the machine last."""
    one, other = before.comparison, now.comparison
    lanes = {approach.id: approach for approach in one.approach}
    ran = before.lanes | now.lanes
    found = []
    for approach in other.approach:
        if approach.id not in ran:
            continue
        was = lanes.get(approach.id)
        if was is None:
            found.append(Difference(about="lanes", name=approach.label, after="new"))
        elif (approach.id in before.lanes) != (approach.id in now.lanes):
            # It was not chosen, or it failed.
            told = ["not measured", "measured"]
            states = [told[approach.id in past.lanes] for past in (before, now)]
            found.append(
                Difference(about="lanes", name=approach.label, before=states[0], after=states[1])
            )
        elif was.text() != approach.text():
            found.append(Difference(about="code", name=approach.label))
        elif as_run(was) != as_run(approach):
            found.append(Difference(about="settings", name=approach.label))
    there = {approach.id for approach in other.approach}
    found += [
        Difference(about="lanes", name=approach.label, before="gone")
        for approach in one.approach
        if approach.id in before.lanes and approach.id not in there
    ]
    abouts = {"the data": "data", "how answers are compared": "answer", "the knobs": "knobs"}
    found += [
        Difference.model_validate({"about": abouts[name], "name": name})
        for name in others_than_lanes(one, other)
    ]
    if not any(one.about == "data" for one in found) and _other_prints(before.made, now.made):
        found.append(Difference(about="data", name="what was made of the same recipe"))
    found += _plans(before.plan, now.plan)
    engines = {approach.engine for approach in other.approach if approach.id in ran}
    sessions = before.taken.used_sessions[-1:], now.taken.used_sessions[:1]
    for old, new in zip(*sessions, strict=False):
        hosts = old.machine.host, new.machine.host
        if all(hosts) and hosts[0] != hosts[1]:
            found.append(
                Difference(about="machine", name="machine", before=hosts[0], after=hosts[1])
            )
        found += [
            Difference(about="machine", name=c.name, before=c.before, after=c.after)
            for c in changes(old, new, engines)
        ]
    return found


def _other_prints(before: Sequence[MadeTable], now: Sequence[MadeTable]) -> bool:
    known = {key: table.bytes_hash for table in before if (key := table.told_bytes)}
    return any(
        known.get(key, table.bytes_hash) != table.bytes_hash
        for table in now
        if (key := table.told_bytes)
    )


def _plans(before: Plan, now: Plan) -> list[Difference]:
    one, other = (_flat(plan) for plan in (before, now))
    return [
        Difference(about="plan", name=name, before=one[name], after=other[name])
        for name in one
        if one[name] != other[name]
    ]


def _flat(plan: Plan) -> dict[str, str]:
    """Conditions of a plan in words, by name."""
    found = {}
    fields = plan.model_dump(exclude=_SAYS_HOW_MUCH)
    limits = fields.pop("limits")
    for name, value in {**fields, **limits}.items():
        said = ", ".join("free" if one is None else str(one) for one in value) if (
            isinstance(value, list)) else "none" if value is None else str(value)  # fmt: skip
        found[name.replace("_", " ")] = said
    return found


def anchors_of(before: Past, now: Past, point: Point) -> list[str]:
    """Lanes, by id, that are the same in both trials with all that they run on, and ran in both at
    a point; none where the trials differ in what touches every lane alike."""
    if any(_touches_all(one) for one in differences(before, now)):
        return []
    there = {approach.id: approach for approach in before.comparison.approach}
    ran = before.at(point).lanes & now.at(point).lanes
    return [
        approach.id
        for approach in now.comparison.approach
        if approach.id in ran
        and as_run(there[approach.id]) == as_run(approach)
        and not _other_versions(before, now, approach, point)
    ]


def _touches_all(one: Difference) -> bool:
    """Whether something that differs bears on every lane alike. Limits that no run reached do not;
    how much memory there is engines may go by."""
    if one.about == "plan":
        return one.name not in _ENDS_RUNS
    return one.about in ("data", "knobs")


def _other_versions(before: Past, now: Past, approach: Approach, point: Point) -> bool:
    """Whether what a lane itself runs on is another version; of what is under all lanes alike the
    machine's part tells."""
    sessions = before.taken.used_sessions[-1:], now.taken.used_sessions[:1]
    text = approach.text()
    asked = str(point.get("runtime", now.plan.runtime[0]))
    able = ENGINES[approach.engine].takes_runtime and asked != OWN
    own = asked if able else approach.needs.runtime
    for old, new in zip(*sessions, strict=False):
        for change in changes(old, new, [approach.engine]):
            if change.name in (*_OF_ALL, "Ivrell"):
                continue
            package, _, runtime = change.name.partition(" in ")
            if runtime or package in old.machine.runtimes:
                if own in (runtime, package):
                    return True
            elif not own and _uses(approach, package, text):
                return True
    return False


def _uses(approach: Approach, package: str, text: str) -> bool:
    """Whether a lane uses a package: of a library's approaches, the code names it."""
    return ENGINES[approach.engine].language != "python" or package in text


def overlay(before: Past, now: Past, point: Point) -> Overlay:
    """Two trials of a comparison at a point that both ran, the earlier first."""
    was, is_ = (values_at(p.comparison, p.at(point).taken.runs, point) for p in (before, now))
    anchors = anchors_of(before, now, point)
    same = {a.id for a in now.comparison.approach if a.id in anchors}
    names = {approach.id: approach.label for approach in now.comparison.approach}
    measures = [
        _measure(was[key], values, now, anchors, same, names)
        for key, values in is_.items()
        if key in was and values.measure.better != "neither"
    ]
    measures = [measure for measure in measures if measure.lanes]
    told = differences(before, now)
    return Overlay(
        point=point,
        words=_words(measures, told, anchors),
        differences=told,
        anchors=anchors,
        measures=measures,
    )


def _measure(
    was: Values,
    values: Values,
    now: Past,
    anchors: Sequence[str],
    same: set[str],
    names: Mapping[str, str],
) -> MeasureChange:
    measure = values.measure
    elapsed = measure.key == "elapsed"
    terms = Terms(
        now.comparison.matters,
        (lambda rounds: noise_floor(now.taken.machine, rounds)) if elapsed else lambda rounds: None,
        ("faster", "slower") if elapsed else ("less", "more"),
    )
    able = [
        lane for lane in values.lanes
        if lane in was.lanes and min(*was.lanes[lane].values(), inf) > 0
        and min(*values.lanes[lane].values(), inf) > 0
    ]  # fmt: skip
    beside = [lane for lane in anchors if lane in able]
    level = MISSES / max(1, len(able))
    machine = _between(was.lanes, values.lanes, beside, ())
    lanes = []
    for lane in able:
        plain = _between(was.lanes, values.lanes, [lane], ())
        held = _between(was.lanes, values.lanes, [lane], [one for one in beside if one != lane])
        if plain is None:
            continue
        lanes.append(
            LaneChange(
                lane=lane,
                name=names[lane],
                same=lane in same,
                before=median(was.lanes[lane].values()),
                after=median(values.lanes[lane].values()),
                plain=plain.ratio(terms, level),
                ratio=(held or plain).ratio(terms, level),
            )
        )
    shift = machine.ratio(terms, MISSES) if machine else None
    return MeasureChange(
        key=measure.key, label=measure.label, unit=measure.unit, lanes=lanes, machine=shift
    )


def _between(
    was: Mapping[str, ByRound],
    now: Mapping[str, ByRound],
    lanes: Sequence[str],
    anchors: Sequence[str],
) -> Level | None:
    """How far lanes, all together, went down from one trial to the other, beside others."""
    if not lanes:
        return None
    found = []
    for trial in (was, now):
        own = [trial[lane] for lane in lanes]
        if len(own) == 1:
            level = relative_level(own[0], [trial[lane] for lane in anchors])
        else:
            rounds = set.intersection(*map(set, own))
            each = {n: geometric_mean([one[n] for one in own]) for n in rounds}
            level = relative_level(each, ())
        if level is None:
            return None
        found.append(level)
    return found[0] - found[1]


def _words(
    measures: Sequence[MeasureChange], told: Sequence[Difference], anchors: Sequence[str]
) -> str:
    """What changed, in a sentence or two."""
    elapsed = next((one for one in measures if one.key == "elapsed"), None)
    if elapsed is None:
        return "No lane was measured in both trials here."
    parts = []
    changed = [lane for lane in elapsed.lanes if lane.ratio.verdict in ("faster", "slower")]
    for lane in changed:
        parts.append(f"{lane.name} is {times_told(lane.ratio)} then")
    if not changed:
        alike = all(lane.ratio.verdict == "no difference that matters" for lane in elapsed.lanes)
        parts.append(
            "no lane takes another time than then" if alike
            else "no lane is told to take another time than then"
        )  # fmt: skip
    text = "; ".join(parts)
    sentences = [text[0].upper() + text[1:] + "."]
    if elapsed.machine and elapsed.machine.verdict in ("faster", "slower"):
        sentences.append(
            f"Lanes that are the same in both are {times_told(elapsed.machine)} then: "
            "that is the machine's, and is taken out."
        )
    elif not anchors:
        sentences.append(
            "No lane is the same in both trials with all it runs on, so that what the machine did "
            "cannot be told from what the lanes did."
        )
    if told:
        sentences.append(f"Not the same: {', '.join(one.words for one in told[:6])}"
                         f"{f' and {len(told) - 6} more' if len(told) > 6 else ''}.")  # fmt: skip
    return " ".join(sentences)
