"""A second opinion: what held when a trial was run again, elsewhere or later, and what did not."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from statistics import median

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import three_figures
from ivrell.core.comparison.alike import runs_alike
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.bundle import CrossingThen, SecondOpinion
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Findings, JudgedClaim, TrialFindings
from ivrell.core.records.sweep import Crossing
from ivrell.core.report.sweep.along import told_size
from ivrell.core.report.words import knobs_told
from ivrell.core.results.folder import ResultFolder
from ivrell.core.trial.reporting import document_of

_MOST_TOLD = 3


def check_same_data(there: Sequence[MadeTable], here: Sequence[MadeTable]) -> None:
    """Raise BadInput where a table that is made here of the same recipe has other bytes."""
    known = {key: table for table in there if (key := table.told_bytes)}
    for table in here:
        other = known.get(table.told_bytes or ("", ""))
        if other is not None and other.bytes_hash != table.bytes_hash:
            raise BadInput(
                f"The table {table.table} of {table.rows:,} rows that is made here is not what was "
                "made there of the same recipe.",
                where=table.table,
                hint="Are both of the same version of Ivrell and of its libraries?",
            )


def second_opinion(
    comparison: Comparison, there: TrialFindings, here: TrialFindings
) -> SecondOpinion:
    """What held of a trial when it was run again.

    Args:
        comparison: that both ran.
        there: what the first says.
        here: what the second says, its claims judged too.

    Raises BadInput where the two have no point in common.
    """
    names = {approach.id: approach.label for approach in comparison.approach}
    both = [(one, other) for one in there.points for other in here.points
            if one.point == other.point]  # fmt: skip
    if not both:
        raise BadInput("The two have no point in common.", hint="Run it at the same sizes.")
    turns = [turn for one, other in both for turn in _turned(one, other, names)]
    crossings = list(_crossings(there, here))
    claims = [
        now for then, now in zip(there.claims, here.claims, strict=True) if then.state == "holds"
    ]
    fell = [claim for claim in claims if claim.state in ("contradicted", "weakened")]
    words = [
        *_order_words(turns, len(both)),
        *_gains(both, names, comparison.baseline_id),
        *(_crossing_words(crossing, names) for crossing in crossings),
        *_claim_words(claims, fell),
    ]
    surely = not turns and not fell and not any(crossing.moved for crossing in crossings)
    return SecondOpinion(
        points=len(both), turned=len({at for at, _ in turns}), crossings=crossings,
        claims=claims, words=words, holds=surely,
    )  # fmt: skip


def opinion_of(
    there: ResultFolder, here: ResultFolder, now: Comparison | None = None
) -> SecondOpinion:
    """The second opinion that one trial gives of another of the same comparison.

    Args:
        there: of the first, which has ended.
        here: of the second, which has ended.
        now: the comparison whose claims are held against both; those of the first unless given.

    Raises BadInput where they did not run the same, or have no point in common.
    """
    first = document_of(there, now)
    if not runs_alike(first.comparison, parse(here.comparison_text)):
        raise BadInput(
            "The two did not run the same.",
            hint="Lanes, data, knobs and the answer must be as they were; see Then and now.",
        )
    second = document_of(here, first.comparison)
    check_same_data(first.made, second.made)
    one, other = (
        document.found.model_copy(update={"claims": list(document.claims)})
        for document in (first, second)
    )
    return second_opinion(first.comparison, one, other)


def _at(found: Findings) -> str:
    return ", ".join(knobs_told(found.point))


def _turned(one: Findings, other: Findings, names: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    """Pairs of lanes that surely changed places, and lanes that did their work there alone: where,
    and in words."""
    then, now = (
        {(pair.base, pair.lane): pair.ratio.verdict for pair in found.pairs}
        for found in (one, other)
    )
    for first, second in combinations([lane.id for lane in one.ranked if lane.trusted], 2):
        if {then.get((second, first)), now.get((second, first))} == {"faster", "slower"}:
            ahead, behind = (first, second) if now[second, first] == "faster" else (second, first)
            yield _at(one), f"{names[ahead]} is faster than {names[behind]} here, and slower there"
    here = {lane.id: lane for lane in other.lanes}
    for lane in one.lanes:
        if not lane.trusted:
            continue
        again = here.get(lane.id)
        if again is None:
            yield _at(one), f"{lane.name} did its work there, and did not run here"
        elif not again.trusted:
            why = again.trouble or "gives another answer"
            yield _at(one), f"{lane.name} did its work there, and here {why}"


def _order_words(turns: Sequence[tuple[str, str]], points: int) -> list[str]:
    if not turns:
        at = f" at {points} points" if points > 1 else ""
        return [f"Order of lanes held{at}: no two surely changed places."]
    told = [
        f"{words}{f' (at {at})' if points > 1 and at else ''}." for at, words in turns[:_MOST_TOLD]
    ]
    if len(turns) > _MOST_TOLD:
        told.append(f"The same is so of {len(turns) - _MOST_TOLD} more.")
    return told


def _gains(
    both: Sequence[tuple[Findings, Findings]], names: Mapping[str, str], baseline: str | None
) -> Iterator[str]:
    """Lanes that surely stand otherwise to the baseline than they did there: intervals apart at
    most points that both ran, all to the same side."""
    for lane in dict.fromkeys(lane.id for one, _ in both for lane in one.lanes):
        if lane == baseline or baseline is None:
            continue
        moves = []
        for one, other in both:
            then, now = (
                next((own.ratio for own in found.lanes if own.id == lane and own.trusted), None)
                for found in (one, other)
            )
            if then and now and None not in (then.low, then.high, now.low, now.high):
                apart = now.low > then.high or now.high < then.low  # type: ignore[operator]
                moves.append((now.value / then.value, apart))
        sure = [factor for factor, apart in moves if apart]
        if sure and 2 * len(sure) > len(moves) and (min(sure) > 1 or max(sure) < 1):
            factor = median(sure)
            word = "faster" if factor > 1 else "slower"
            times = three_figures(max(factor, 1 / factor))
            at = f" at {len(sure)} of {len(moves)} points" if len(moves) > 1 else ""
            yield f"Against {names[baseline]}, {names[lane]} is {times} times {word} here{at}."


def _crossings(there: TrialFindings, here: TrialFindings) -> Iterator[CrossingThen]:
    for sweep in there.sweeps:
        lead = sweep.lead("elapsed")
        again = next(
            (one for one in here.sweeps if (one.knob, one.at) == (sweep.knob, sweep.at)), None
        )
        if lead is None or again is None:
            continue
        now = again.lead("elapsed")
        for crossing in lead.crossings:
            same = next(
                (one for one in (now.crossings if now else [])
                 if (one.before, one.after) == (crossing.before, crossing.after)),
                None,
            )  # fmt: skip
            yield CrossingThen(
                knob=sweep.knob, before=crossing.before, after=crossing.after, there=crossing.at,
                here=same.at if same else None, moved=same is not None and _apart(crossing, same),
            )  # fmt: skip


def _apart(one: Crossing, other: Crossing) -> bool:
    """Whether the bounds of two have nothing in common."""
    if None in (one.low, one.high, other.low, other.high):
        return False
    return one.high < other.low or other.high < one.low  # type: ignore[operator]


def _crossing_words(crossing: CrossingThen, names: Mapping[str, str]) -> str:
    who = f"{names[crossing.after]} passes {names[crossing.before]}"
    there = told_size(crossing.there or 0.0)
    if crossing.here is None:
        return f"That {who} at {there} of {crossing.knob} is not found here."
    here = told_size(crossing.here)
    if crossing.moved:
        return f"The crossing where {who} moved from {there} to {here} of {crossing.knob}."
    return f"The crossing where {who} held: {there} there, {here} here."


def _claim_words(claims: Sequence[JudgedClaim], fell: Sequence[JudgedClaim]) -> Iterator[str]:
    if not claims:
        return
    unsure = [claim for claim in claims if claim.state not in ("holds", "contradicted", "weakened")]
    count = len(claims)
    if not fell:
        kept = count - len(unsure)
        if count == 1:
            yield "The claim that held there holds here." if kept else "The claim is not told here."
            return
        yield f"{kept} of {count} claims that held there {'holds' if kept == 1 else 'hold'} here."
    for claim in fell[:_MOST_TOLD]:
        fallen = "fell" if claim.state == "contradicted" else "is weakened"
        which = "The claim that held there" if count == 1 else f"Of {count} claims this one"
        yield f"{which} {fallen}: {claim.text}. {claim.reason}"
    if unsure:
        yield f"{len(unsure)} cannot be told here."
