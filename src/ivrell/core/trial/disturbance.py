"""Runs that something else disturbed: found, and done again within a budget.

A lane that has more threads than cores waits for itself, which is its own affair: what it waited
counts only as far as others were on the cores meanwhile.
"""

from dataclasses import dataclass
from math import ceil

from ivrell.core.measure.around import SHORT_S
from ivrell.core.records.loads import QUIET
from ivrell.core.records.plan import Disturbed
from ivrell.core.records.run import Identity, RunRecord

OTHERS, HOST, QUOTA, SWAPPING = "other programs", "the host", "a quota", "swapping"
"""What can disturb a run; the host of a virtual machine does by giving its cores to others."""

_TICK_S = 0.01
_TOLERATED = 0.1
"""Share of the machine's cores that others may have before memory and clock rates suffer from it;
a page that watches a trial uses half of that on two cores."""

_ATTEMPTS = 3
"""How often one run is done again at the most."""


@dataclass(frozen=True)
class Disturbance:
    """By what a run was disturbed, and for which share of its time."""

    by: str
    share: float


def disturbance(run: RunRecord, cores: int) -> Disturbance | None:
    """What disturbed a run most; None where nothing did, or nothing tells.

    Args:
        run: that came to its end.
        cores: of the machine.
    """
    if not run.elapsed_s:
        return None
    # Figures are per repeat, all of them.
    elapsed = run.elapsed_s
    shares = {
        OTHERS: _by_others(run, cores),
        # Counted in ticks, of which one may be another moment's.
        HOST: max(0.0, (run.stolen_s or 0.0) - _TICK_S / run.inner_repeats) / elapsed,
        QUOTA: (run.throttled_s or 0.0) / elapsed,
        SWAPPING: (run.pressure or {}).get("memory", 0.0) if run.swapped_bytes else 0.0,
    }
    by = max(shares, key=lambda name: shares[name])
    return Disturbance(by, min(shares[by], 1.0)) if shares[by] > 0 else None


def _by_others(run: RunRecord, cores: int) -> float:
    assert run.elapsed_s
    waited = run.waited_share or 0.0
    short = run.elapsed_s * run.inner_repeats < SHORT_S
    others = run.others_around if short else None
    if not short and run.others_cpu_s is not None:
        others = run.others_cpu_s / run.elapsed_s
    # Who has a core for each thread waits for others alone.
    alone = (run.most_threads or 1) <= (run.cores or cores)
    if others is None:
        return waited if alone else 0.0
    by_wait = waited if short and alone else min(waited, others)
    return max(by_wait, others / cores - _TOLERATED)


class Repeats:
    """Decides which runs are done again, within what a plan allows.

    Args:
        allowed: by the plan.
        planned: counted runs that it has at the most.
        cores: of the machine.
    """

    def __init__(self, allowed: Disturbed, planned: int, cores: int) -> None:
        self._allowed = allowed
        self._cores = cores
        self._left = ceil(allowed.repeat * planned)
        self._seconds = allowed.minutes * 60
        self._hope = 1.0
        self._asked: dict[Identity, int] = {}

    def take(self, run: RunRecord) -> None:
        """Take in a run that was done, in this session or in an earlier one."""
        if run.set_aside:
            self._left -= 1
            self._asked.setdefault(run.identity, run.run)
        elif run.repeat_of is not None:
            self._asked.pop(run.identity, None)

    def wanted(self, identity: Identity) -> int | None:
        """The number of the run that was set aside and has not been done again, if there is one."""
        return self._asked.get(identity)

    def spend(self, seconds: float) -> None:
        """Take time that a run that was done again took off what there is."""
        self._seconds -= seconds

    def waited(self, seconds: float) -> None:
        """Take time that was waited off what there is; who waits in vain waits less the next
        time."""
        self.spend(seconds)
        in_vain = seconds >= self.patience_s > 0
        self._hope = self._hope / 2 if in_vain else 1.0

    @property
    def patience_s(self) -> float:
        """How long to wait for a quiet moment, at the most."""
        return max(0.0, min(self._allowed.wait_s * self._hope, self._seconds))

    def judge(self, run: RunRecord, attempt: int) -> None:
        """Say in a run's record what disturbed it, and whether it is set aside to be done again.

        Args:
            run: as it ended.
            attempt: how often it had been done before.
        """
        if run.memory_run or run.state != "done":
            return
        if str(run.point.get("background", QUIET)) != QUIET:
            # What disturbs it is what it is to be measured beside.
            return
        found = disturbance(run, self._cores)
        told = (run.waited_share, run.others_cpu_s, run.stolen_s)
        if found is None and all(figure is None for figure in told):
            # Nothing was measured that could say so.
            return
        run.disturbed_share = found.share if found else 0.0
        if found is None or found.share <= self._allowed.share:
            return
        run.disturbed_by = found.by
        allowed = attempt < _ATTEMPTS and self._left > 0 and self._seconds > 0
        run.set_aside = allowed and not run.warm_up
