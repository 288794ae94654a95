"""A challenge in sentences."""

from collections.abc import Sequence

from ivrell.core.base.quantities import three_figures
from ivrell.core.records.challenge import ChangeOutcome

_MOST = 6


def told(
    leader: str, sure: bool, outcomes: Sequence[ChangeOutcome], names: dict[str, str]
) -> list[str]:
    """What a challenge found, the whole first.

    Args:
        leader: the name of who leads as things are.
        sure: whether that is told.
        outcomes: of all changes.
        names: of lanes by id.
    """
    ran = [one for one in outcomes if one.verdict != "not run"]
    held = [one for one in ran if one.verdict == "held"]
    found = []
    if not ran:
        return [f"Nothing could be changed: {leader} was not put to the test."]
    if sure:
        found.append(f"The lead of {leader} held in {len(held)} of {_changes(len(ran))}.")
    else:
        found.append(
            f"{leader} has the lowest median, but is not told apart as things are; it surely leads "
            f"in {len(held)} of {_changes(len(ran))}."
        )
    for one in ran:
        if one.verdict == "turned over":
            found.append(f"It turns over with {_where(one)}: {_passes(one, names)}.")
    for one in ran:
        if one.verdict == "leader wrong":
            wrong = [x.wrong for x in one.lanes if names.get(x.lane) == leader and x.wrong]
            why = f": {wrong[0].rstrip('.')}" if wrong else ""
            found.append(f"{leader} is wrong with {one.words}{why}.")
    unsure = [one.words for one in ran if one.verdict == "unsure"]
    if unsure:
        found.append(f"Not told apart: with {_listed(unsure)}.")
    for lane in dict.fromkeys(x.name for one in ran for x in one.newly_wrong):
        if lane != leader:
            where = [one.words for one in ran if any(x.name == lane for x in one.newly_wrong)]
            found.append(f"{lane} is wrong with {_listed(where)}.")
    left = [one for one in outcomes if one.verdict == "not run"]
    if left:
        found.append(f"Not looked at: {_listed([one.words for one in left])}.")
    return found


def _changes(number: int) -> str:
    return f"{number} change" if number == 1 else f"{number} changes"


def _where(one: ChangeOutcome) -> str:
    if one.crossing is None:
        return one.words
    ends = one.crossing.low is not None and one.crossing.high is not None
    span = ""
    if ends:
        low, high = _number(one.crossing.low or 0), _number(one.crossing.high or 0)
        span = f" ({low} to {high})" if low != high else ""
    return f"{one.words} (the lead changes at {_number(one.crossing.at)}{span})"


def _number(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else three_figures(value)


def _passes(one: ChangeOutcome, names: dict[str, str]) -> str:
    who = names.get(one.leader or "", one.leader or "nobody")
    if one.lead is None:
        return f"{who} leads"
    span = ""
    if one.low and one.high:
        span = f" ({three_figures(1 / one.high)} to {three_figures(1 / one.low)})"
    return f"{who} is {three_figures(1 / one.lead)} times{span} faster there"


def _listed(words: Sequence[str]) -> str:
    if len(words) > _MOST:
        return f"{'; '.join(words[: _MOST - 1])}; and {len(words) - _MOST + 1} others"
    return "; ".join(words)
