"""What a plan means for a comparison: its lanes, its points, and the order of its runs."""

import random
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import product
from math import ceil, log, prod

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.loads import QUIET
from ivrell.core.records.plan import OWN
from ivrell.core.records.plan import Limits as Limits
from ivrell.core.records.plan import Plan as Plan
from ivrell.core.records.plan import Search as Search
from ivrell.core.records.plan import Until as Until
from ivrell.core.records.points import Point, Value, going_with, point_name
from ivrell.core.records.run import Identity
from ivrell.core.results.folder import PLAN as PLAN

MOST_POINTS = 1_000


def chosen_approaches(plan: Plan, comparison: Comparison) -> list[str]:
    """Ids of the approaches of a plan that run, in the file's order.

    Raises BadInput for a lane that does not exist, or when none is left.
    """
    for lane in plan.approaches or []:
        comparison.approach_called(lane)
    ids = [
        approach.id
        for approach in comparison.approach
        if (not approach.retired if plan.approaches is None else approach.id in plan.approaches)
    ]
    if not ids:
        raise BadInput(
            "There is no approach to run.",
            hint="Write one on the step Approaches, or tick a lane.",
        )
    return ids


def points_of(plan: Plan, comparison: Comparison) -> list[Point]:
    """Every choice of knob values and of conditions, in the order of the file.

    A condition stands in a point where it is not its usual one, or has several values.
    Raises BadInput for a knob that does not exist, or that is called like a condition.
    """
    varied = {
        name: values
        for name, values, usual in (
            ("cache", plan.cache, ["warm"]),
            ("threads", plan.threads, [None]),
            ("background", plan.background, [QUIET]),
            ("runtime", plan.runtime, [OWN]),
        )
        if values != usual
    }
    for name in varied.keys() & comparison.knobs.keys():
        raise BadInput(
            f'"{name}" is a knob here and a condition of trials.',
            where=f"knobs.{name}",
            hint="Give the knob another name.",
        )
    together = plan.points or [{}]
    given = [plan.knobs.get(knob) or values[:1] for knob, values in comparison.knobs.items()]
    count = len(together) * prod(map(len, (*given, *varied.values())))
    if count > MOST_POINTS:
        raise BadInput(
            f"These knobs and conditions make {count:,} points; a trial has at most "
            f"{MOST_POINTS:,}.",
            where="knobs",
            hint="Take fewer values of some of them.",
        )
    points = {
        point_name(point): point
        for values in together
        for point in comparison.points({**plan.knobs, **{k: [v] for k, v in values.items()}})
    }
    return [
        {**point, **dict(zip(varied, chosen, strict=True))}
        for point in points.values()
        for chosen in product(*varied.values())
    ]


def points_with(
    plan: Plan, comparison: Comparison, ran: Iterable[Mapping[str, Value | None]]
) -> list[Point]:
    """The points that a plan names and those that a search added, in the order of their sizes.

    Args:
        ran: the points of the runs so far.
    """
    points = points_of(plan, comparison)
    knob = searched_knob(plan, points)
    if knob is None:
        return points
    found = {point_name(point): point for point in points}
    for point in ran:
        found.setdefault(point_name(point), dict(point))
    if len(found) == len(points):
        return points
    return sorted(found.values(), key=lambda point: size_of(point, knob))


@dataclass(frozen=True)
class PlannedRun:
    """One run to be, round 0 and below being warm-ups. One for its ``memory_alone`` is looked at so
    closely that its times say nothing; ``repeat_of`` is the number of the run that one does
    again; ``stage`` as in a run's record. Its ``number`` it gets when its turn has come."""

    approach: str
    point: Point
    round: int
    position: int
    memory_alone: bool = False
    repeat_of: int | None = None
    stage: int = 0
    number: int = 0

    @property
    def identity(self) -> Identity:
        """Which run of its trial it is, or does again."""
        return Identity(self.approach, point_name(self.point), self.round, self.memory_alone)

    @property
    def warm_up(self) -> bool:
        """Whether it is kept but not counted."""
        return self.round < 1 or self.memory_alone


def memory_run(after: PlannedRun) -> PlannedRun:
    """The memory run of a lane at a point, which follows the run that called for it."""
    return replace(after, memory_alone=True)


def ordered_runs(
    comparison: Comparison,
    plan: Plan,
    first_round: int = 1,
    points: Sequence[Point] | None = None,
) -> Iterator[PlannedRun]:
    """All runs of a trial in order: round by round, each in an order of its own.

    Interleaving lets a machine that slows down hurt every lane alike. Orders are balanced (see
    Rotation) and depend on ``plan.order_seed`` alone. With ``plan.until`` these are the runs that
    there are at the most. With ``plan.step_up`` all rounds of a size come before those of the
    next. Rounds are counted from ``first_round`` on, at some ``points`` where given.
    """
    shuffler = random.Random(plan.order_seed)
    lanes = chosen_approaches(plan, comparison)
    for together in _stages(list(points or points_of(plan, comparison)), plan):
        contests = [(point, lane) for point in together for lane in lanes]
        rotation = Rotation(len(contests), shuffler)
        rounds = range(first_round, first_round + plan.most_rounds)
        for round_number in (*range(1 - plan.warm_ups, 1), *rounds):
            order = [contests[place] for place in rotation.next()]
            for position, (point, lane) in enumerate(order, 1):
                yield PlannedRun(lane, point, round_number, position)


class Rotation:
    """Orders of so many things, balanced: in as many rounds as there are things each comes first
    once, and in every place once; of an even number, each follows every other just once too.

    Rows of a Williams square (E. J. Williams, Experimental designs balanced for the estimation of
    residual effects of treatments, Australian Journal of Scientific Research A 2, 1949) of things
    and rows in random order; for an odd number there are two such squares, and rows of both.
    """

    def __init__(self, count: int, random: random.Random) -> None:
        self._random = random
        self._things = list(range(count))
        self._rows: list[list[int]] = []

    def next(self) -> list[int]:
        """The next order: places of the things."""
        if not self._rows:
            self._random.shuffle(self._things)
            self._rows = self._square()
        return self._rows.pop()

    def _square(self) -> list[list[int]]:
        count = len(self._things)
        # 0, last, 1, last but one, ...: neighbours are every distance apart once.
        first = [place // 2 if place % 2 == 0 else count - 1 - place // 2 for place in range(count)]
        rows = [[(start + place) % count for place in first] for start in range(count)]
        self._random.shuffle(rows)
        if count % 2:
            # All rows of the one, then all of the other, so that places stay balanced.
            mirror = [row[::-1] for row in rows]
            self._random.shuffle(mirror)
            rows = mirror + rows
        return [[self._things[place] for place in row] for row in rows]


def _stages(points: list[Point], plan: Plan) -> list[list[Point]]:
    """Points that run together, in the order of their running."""
    knob = stepped_knob(points) if plan.step_up else None
    if knob is None:
        return [points]
    sizes = sorted({size_of(point, knob) for point in points})
    return [[point for point in points if size_of(point, knob) == size] for size in sizes]


def stepped_knob(points: Sequence[Point]) -> str | None:
    """The first knob that has several values, all of them numbers; None where there is none."""
    for knob in points[0] if points else ():
        values = {point.get(knob) for point in points}
        if len(values) > 1 and all(type(value) in (int, float) for value in values):
            return knob
    return None


def searched_knob(plan: Plan, points: Sequence[Point]) -> str | None:
    """The knob along which a plan searches for crossings; None where it does not. Raises BadInput
    where it asks for a search and has no sizes for one."""
    if plan.search is None:
        return None
    knob = stepped_knob(points)
    if knob is None or min(size_of(point, knob) for point in points) <= 0:
        raise BadInput(
            "A search for crossings goes along a knob of numbers, and none has several values "
            "above 0 here.",
            where="search",
            hint="Give one knob at least its smallest and its largest value.",
        )
    if together := going_with(points, knob):
        raise BadInput(
            f"A search for crossings goes to other values of {knob}, and at those "
            f"{', '.join(sorted(together))} has none: their values go together.",
            where="search",
            hint="Give the knobs values of their own, or leave the search out.",
        )
    return knob


def size_of(point: Point, knob: str) -> float:
    """The value of a knob of numbers at a point."""
    size = point[knob]
    assert isinstance(size, int | float)
    return float(size)


def most_searched(plan: Plan, sizes: Sequence[float], lanes: int, contests: int) -> int:
    """Runs that a search may add at the most: together with those at the sizes that the plan names
    half of what a grid takes that is so fine that any crossing is known within the share asked
    for; a quarter of that half in any case.

    Args:
        sizes: that the plan names.
        lanes: how many run.
        contests: choices of the other knobs.
    """
    if plan.search is None:
        return 0
    step = log((1 + plan.search.within) ** 2)
    a_size = contests * lanes * (plan.rounds + plan.warm_ups)
    grid = (ceil(log(max(sizes) / min(sizes)) / step) + 1) * a_size
    return max(grid // 2 - len(set(sizes)) * a_size, grid // 8)


def most_runs(comparison: Comparison, plan: Plan) -> int:
    """How many runs a plan has at the most, those of a search among them; memory runs are not
    counted. Raises BadInput where it cannot be run."""
    planned = sum(1 for _ in ordered_runs(comparison, plan))
    points = points_of(plan, comparison)
    knob = searched_knob(plan, points)
    if knob is None:
        return planned
    contests = {point_name({n: v for n, v in point.items() if n != knob}) for point in points}
    sizes = [size_of(point, knob) for point in points]
    lanes = len(chosen_approaches(plan, comparison))
    return planned + most_searched(plan, sizes, lanes, len(contests))
