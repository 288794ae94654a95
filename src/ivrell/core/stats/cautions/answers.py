"""Answers that weaken a result: wrong ones, unchecked ones, ones held too loosely."""

from collections.abc import Iterator

from ivrell.core.base.quantities import three_figures
from ivrell.core.records.findings import Caution
from ivrell.core.records.wire import EXECUTORS_LOST, NOT_AVAILABLE
from ivrell.core.stats.cautions.scene import Scene, caution

_WIDE_RELATIVE = 0.01
_WIDE_ABSOLUTE = 0.5
_RANDOM = 3
_HINTS = {
    NOT_AVAILABLE: "Start what it needs and run again.",
    EXECUTORS_LOST: "Give its executors more memory, or their tasks less to hold at once "
    "(more partitions), and run again.",
}
"""What to do about failures that are not plainly the code's."""


def reference(scene: Scene) -> Iterator[Caution]:
    """Whether answers were held against another lane than asked, or against none."""
    held = [lane for lane in scene.lanes if lane.agreement and lane.agreement.reference]
    itself = [lane for lane in held if lane.agreement and lane.agreement.itself]
    if held and len(held) == len(itself):
        yield caution(
            "answer not checked",
            f"{itself[0].name} alone gave an answer: there was none to hold it against.",
            "Run the baseline or another lane beside it, or keep an expected answer.",
            itself[0].id,
        )
    elif itself and scene.reference and itself[0].id != scene.reference:
        yield caution(
            "other reference",
            f"{scene.reference_name} gave no answer here: the others were compared with "
            f"{itself[0].name}.",
            f"Let {scene.reference_name} run to its end, or name another lane as the reference.",
            itself[0].id,
        )


def disagreement(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        found = lane.agreement
        if found and found.unstable:
            yield caution(
                "answer varies",
                f"{lane.name} does not give the same answer every time: "
                f"{'; '.join(found.reasons)}.",
                "Find what makes it non-deterministic before trusting its time.",
                lane.id,
            )
        elif found and found.verdict == "different":
            yield caution(
                "different answer",
                f"{lane.name} does not give the same answer: {'; '.join(found.reasons)}.",
                "Look at the rows that differ on the step Agreement before trusting its time.",
                lane.id,
            )


def drift(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        found = lane.agreement
        if found and found.verdict == "same values, other types":
            yield caution(
                "type drift",
                f"{lane.name} gives the right values in other types: {'; '.join(found.reasons)}.",
                "Cast those columns if what comes after relies on their types.",
                lane.id,
            )


def unfinished(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        if lane.state == "limit":
            yield caution(
                "limit reached",
                f"{lane.name} {lane.trouble}.",
                "Raise the limit, or compare at a smaller size.",
                lane.id,
            )
        elif lane.state == "failed":
            yield caution(
                "failed",
                f"{lane.name} failed: {lane.trouble}",
                _HINTS.get(
                    lane.failure.kind if lane.failure else "", "Fix the code and run again."
                ),
                lane.id,
            )


def wide_tolerance(scene: Scene) -> Iterator[Caution]:
    """Whether numbers may differ so much that a wrong answer would pass."""
    if scene.comparison is None:
        return
    relative, absolute = scene.comparison.answer.relative, scene.comparison.answer.absolute
    told = []
    if relative >= _WIDE_RELATIVE:
        told.append(f"{three_figures(100 * relative)} % of the reference")
    if absolute >= _WIDE_ABSOLUTE:
        told.append(f"{three_figures(absolute)}, so that a count may be off by one")
    if told:
        yield caution(
            "wide tolerance",
            f"Numbers agree when they differ by up to {' or '.join(told)}: a wrong answer "
            "could pass.",
            "Take the smallest tolerance that rounding needs, such as 1e-9.",
        )


def random_answer(scene: Scene) -> Iterator[Caution]:
    """Whether a lane answers otherwise every time, and nothing but rows was compared."""
    if scene.comparison is None or scene.comparison.answer.statistics is not None:
        return
    for lane in scene.lanes:
        # Rows in another order, or sums in another, are other answers that agree all the same.
        agrees = lane.agreement is None or (lane.agreement.agrees and not lane.agreement.unstable)
        prints = lane.agreement.fingerprints if lane.agreement else {}
        if not agrees and len(prints) >= _RANDOM and len(prints) == sum(prints.values()):
            yield caution(
                "random answer",
                f"{lane.name} gave another answer in each of {len(prints)} runs, and rows alone "
                "were compared with each other.",
                "If it draws at random, let the question compare means and spreads: "
                "[answer.statistics].",
                lane.id,
            )
