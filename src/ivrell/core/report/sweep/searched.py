"""Whether a search for crossings reached what was asked for."""

from collections.abc import Mapping, Sequence

from ivrell.core.records.plan import Search
from ivrell.core.records.sweep import Crossing, Lead, Spent, Undecided
from ivrell.core.report.sweep.along import told_bounds


def searched_words(
    search: Search, lead: Lead | None, spent: Sequence[Spent], names: Mapping[str, str]
) -> str:
    """What a search found, against what it was asked for.

    Args:
        search: as it was asked for.
        lead: who leads by elapsed time; None where no size tells.
        spent: at each size.
        names: of the lanes, by id.
    """
    asked = f"{100 * search.within:g} %"
    crossings = lead.crossings if lead else []
    open_ = [one for one in crossings if not is_known(one, search.within)]
    if crossings and not open_:
        ends = "The change" if len(crossings) == 1 else "Every change"
        return f"{ends} of the lead is known within {asked}, as was asked."
    used = sum(one.seconds for one in spent if one.searched)
    # More rounds at sizes that the plan names are part of the search too, but not told apart.
    why = (
        f"the {search.minutes:g} minutes were used up"
        if used >= 60 * search.minutes
        else "further rounds did not narrow it down"
    )
    told = [
        f"from {names[one.before]} to {names[one.after]} near "
        f"{told_bounds(one.at, one.low, one.high)}"
        for one in open_
    ]
    if told:
        return f"Not known within the {asked} that were asked: {'; '.join(told)}; {why}."
    undecided: list[Undecided] = [
        one for regime in (lead.regimes if lead else []) for one in regime.undecided
    ]
    if undecided:
        return (
            f"No change of the lead was found; at {len(undecided)} "
            f"{'size' if len(undecided) == 1 else 'sizes'} nobody is told to lead, and {why}."
        )
    return "No change of the lead was found between these sizes."


def is_known(crossing: Crossing, within: float) -> bool:
    """Whether a crossing is known within a share of itself on either side."""
    known = crossing.low is not None and crossing.high is not None
    return known and (crossing.high or 0.0) / (crossing.low or 1.0) <= (1 + within) ** 2
