"""What rounds of two versions tell of each lane, and when that is enough."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import log
from statistics import median

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.model import Comparison
from ivrell.core.gate.versions import Pairing
from ivrell.core.records.findings import Findings, LaneFindings, TrialFindings
from ivrell.core.records.gate import GatedLane, GateVerdict, Held
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.report.conclusion import meets
from ivrell.core.report.measures import BY_KEY, Measure, counter_measure, values_at
from ivrell.core.report.words import knobs_told
from ivrell.core.stats.contrasts import contrasts
from ivrell.core.stats.sequential import AT_LEAST, Told, slower_than

Gated = tuple[str, Point, str]
"""A lane of the new version by id, a point, and the key of a measure."""

ByRound = Mapping[str, Mapping[int, float]]
"""Values of a measure by lane and round."""


@dataclass(frozen=True)
class Sides:
    """What a lane took then and takes now: medians, how many times as much with its interval (None
    where it cannot be formed), and of how many rounds."""

    then: float | None
    now: float | None
    times: float | None
    low: float | None
    high: float | None
    rounds: int


_SHORT = {"cpu": "cpu_total", "cpu_time": "cpu_total", "memory": "peak_memory"}


def measures_called(names: Sequence[str]) -> list[str]:
    """Keys of measures by what people call them; counters of engines by their own names, of which
    more is held to be worse. Raises BadInput for measures of which neither is better."""
    known = (_SHORT.get(name, name) for name in names or ["elapsed"])
    keys = list(dict.fromkeys(_measure(name).key for name in known))
    for key in keys:
        if key in BY_KEY and BY_KEY[key].better != "lower":
            raise BadInput(f"Of {key} neither less nor more is better.", where="measure")
    return keys


def _measure(name: str) -> Measure:
    return BY_KEY.get(name) or counter_measure(name.removeprefix("counter."))


class Gate:
    """A gate over lanes, points and measures: hears the runs and says when they are enough.

    Args:
        comparison: of both versions.
        pairing: which lanes are held against which.
        points: looked at.
        measures: keys.
        margin: the share that is let pass.
    """

    def __init__(
        self, comparison: Comparison, pairing: Pairing, points: Sequence[Point],
        measures: Sequence[str], margin: float,
    ) -> None:  # fmt: skip
        self._comparison = comparison
        self._pairs = pairing.lanes
        self._points = points
        self._measures = measures
        self._margin = margin

    @property
    def family(self) -> int:
        """How many are asked at once."""
        return max(1, len(self._pairs) * len(self._points) * len(self._measures))

    def enough(self, runs: Sequence[RunRecord], rounds: int) -> bool:
        """Whether each is told after so many whole rounds, or cannot be any more."""
        if rounds < AT_LEAST:
            return False
        return all(
            told != "cannot tell"
            # A measure that none tells, or only a run of its own: more rounds would not tell it.
            or 2 * seen < rounds
            or self._is_out(lane, point, runs, rounds)
            for (lane, point, _), told, seen in self._told(runs)
        )

    def _is_out(self, lane: str, point: Point, runs: Sequence[RunRecord], rounds: int) -> bool:
        """Whether one of the two does not run any more there: it reached a limit, or failed twice
        in a row."""
        for one in (lane, self._pairs[lane]):
            own = [run for run in runs if run.approach == one and run.point == point]
            failed = [run.state != "done" for run in own]
            if failed and failed[-1] and (own[-1].round < rounds or all(failed[-2:])):
                return True
        return False

    def _told(self, runs: Sequence[RunRecord]) -> Iterator[tuple[Gated, Told, int]]:
        """What is told of each, and of how many rounds."""
        for point in self._points:
            here = [run for run in runs if run.point == point]
            values = values_at(self._comparison, here, point)
            for key in self._measures:
                lanes = values[key].lanes if key in values else {}
                for lane in self._pairs:
                    yield (lane, point, key), *self._verdict_of((lane, point, key), lanes)

    def _verdict_of(self, what: Gated, lanes: ByRound) -> tuple[Told, int]:
        """What is told of one, and of how many rounds."""
        lane, _, _ = what
        logs = logs_of(lanes.get(self._pairs[lane], {}), lanes.get(lane, {}))
        return slower_than(logs, self._margin, family=self.family), len(logs)

    def _sides(self, what: Gated, lanes: ByRound) -> Sides:
        """What one took then and takes now."""
        lane, _, _ = what
        old = self._pairs[lane]
        then, now = lanes.get(old, {}), lanes.get(lane, {})
        shared = then.keys() & now.keys()
        times = low = high = None
        if shared and min(*then.values(), *now.values()) > 0:
            ratio = contrasts({old: then, lane: now}, baseline=old, all_pairs=False).get(
                (old, lane)
            )
            if ratio is not None:
                times = 1 / ratio.value
                low = 1 / ratio.high if ratio.high else None
                high = 1 / ratio.low if ratio.low else None
        return Sides(
            median(then.values()) if then else None, median(now.values()) if now else None,
            times, low, high, len(shared),
        )  # fmt: skip

    def _then(self, lane: str, found: Findings) -> LaneFindings | None:
        """What was found of the old version of a lane."""
        return next((one for one in found.lanes if one.id == self._pairs[lane]), None)

    def judged(
        self, runs: Sequence[RunRecord], found: TrialFindings, lines: Mapping[str, int]
    ) -> list[GatedLane]:
        """What became of each.

        Args:
            runs: all.
            found: what the trial says, which knows who failed and who answered otherwise.
            lines: of the file, at which lanes begin.
        """
        told = {(lane, point_name(point), key): verdict
                for (lane, point, key), verdict, _ in self._told(runs)}  # fmt: skip
        return [
            self._lane(lane, found_here, key, told[lane, point_name(found_here.point), key], runs,
                       lines.get(lane, 1))
            for found_here in found.points
            for key in self._measures
            for lane in self._pairs
        ]  # fmt: skip

    def _lane(
        self, lane: str, found: Findings, key: str, told: Told, runs: Sequence[RunRecord], line: int
    ) -> GatedLane:
        measure = _measure(key)
        here = [run for run in runs if run.point == found.point]
        values = values_at(self._comparison, here, found.point)
        lanes = values[key].lanes if key in values else {}
        sides = self._sides((lane, found.point, key), lanes)
        both = sides.then is not None and sides.now is not None
        verdict, reason = self._verdict(lane, found, told, measure, both=both)
        return GatedLane(
            lane=lane, name=self._comparison.approach_called(lane).label, point=found.point,
            measure=key, label=measure.label, unit=measure.unit, verdict=verdict,
            then=sides.then, now=sides.now, times=sides.times, low=sides.low, high=sides.high,
            rounds=sides.rounds, line=line, reason=reason,
        )  # fmt: skip

    def _verdict(
        self, lane: str, found: Findings, told: Told, measure: Measure, *, both: bool
    ) -> tuple[GateVerdict, str]:
        now = next((one for one in found.lanes if one.id == lane), None)
        then = self._then(lane, found)
        if now is None or then is None:
            return "cannot tell", "it did not run"
        if now.trouble and not now.gives_wrong_answer:
            if then.trouble and not then.gives_wrong_answer:
                return "cannot tell", f"neither version does its work: {now.trouble}"
            return "failed", now.trouble
        if then.trouble and not then.gives_wrong_answer:
            return "cannot tell", f"the old version does not do its work{_KEPT}: {then.trouble}"
        if now.gives_wrong_answer and not then.gives_wrong_answer:
            reasons = now.agreement.reasons if now.agreement else []
            return "wrong", "; ".join(["another answer than the old version’s", *reasons])
        if not both:
            return "cannot tell", f"{measure.label} is not told by both"
        before = "its answer was wrong before too" if now.gives_wrong_answer else ""
        return told, before if told != "cannot tell" else "; ".join(filter(None, [_OPEN, before]))


_OPEN = "the rounds do not tell"
_KEPT = " here (--stored takes its kept figures)"

_OF_NOTHING = log(1e3)
"""What something over nothing counts as."""


def logs_of(then: Mapping[int, float], now: Mapping[int, float]) -> list[float]:
    """Logarithms of new over old by round."""
    return [_log(then[number], now[number]) for number in sorted(then.keys() & now.keys())]


def _log(then: float, now: float) -> float:
    if then > 0 and now > 0:
        return log(now / then)
    return 0.0 if then == now else _OF_NOTHING if now > then else -_OF_NOTHING


def held_claims(found: TrialFindings) -> Iterator[Held]:
    """What became of the claims of the file."""
    for claim in found.claims:
        if claim.state in ("contradicted", "weakened"):
            yield Held(text=claim.text, verdict="fails", reason=f"{claim.state}: {claim.reason}")
        elif claim.state == "holds":
            yield Held(text=claim.text, verdict="holds", reason=claim.reason)
        else:
            yield Held(text=claim.text, verdict="cannot tell", reason=claim.reason)


def held_targets(
    comparison: Comparison, found: TrialFindings, lanes: Sequence[str]
) -> Iterator[Held]:
    """Whether lanes of the new version meet the targets of the file."""
    for point in found.points:
        at = "".join(f" at {told}" for told in [", ".join(knobs_told(point.point))] if told)
        for lane in lanes:
            ran = next((one for one in point.lanes if one.id == lane), None)
            if ran is None or not ran.trusted:
                continue
            how = meets(ran, comparison.targets)
            verdict = {"surely": "holds", "no": "fails"}.get(how, "cannot tell")
            text = f"{ran.name} meets the targets{at}"
            yield Held.model_validate({"text": text, "verdict": verdict, "reason": how})
