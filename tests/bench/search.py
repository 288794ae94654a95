"""How searches for crossings end: python -m tests.bench.search [searches]

Two lanes whose ratio passes 1 once, between 100 and 100,000: as lines, as powers of the size, as a
step (a cache that is left), at a place drawn anew each time. The plan names four sizes and asks for
10 %. Told in percent: searches whose findings say that what was asked is reached; of those, and of
all with a crossing, the share whose bounds hold the true one; searches that say nothing of either
kind though the change is not known so well (wanted: none); and the median runs.
"""

import sys
from collections.abc import Callable
from multiprocessing import Pool
from statistics import median

import numpy as np

from ivrell.core.comparison.file import parse
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Search
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.report.sweep.findings import sweeps
from ivrell.core.report.sweep.searched import is_known
from tests.core.test_findings import AGREES
from tests.core.test_search import TEXT, searched

KINDS = ("lines", "powers", "step")
NOISES = (0.05, 0.10)
WITHIN = 0.1
Times = dict[str, Callable[[float], float]]


def times_of(kind: str, at: float) -> Times:
    """Two lanes that pass each other at a size."""
    if kind == "lines":
        return {"steep": lambda n: 0.05 + 0.15 * n / at, "flat": lambda n: 0.2}
    if kind == "powers":
        return {"steep": lambda n: 0.2 * (n / at) ** 1.3, "flat": lambda n: 0.2 * (n / at) ** 0.6}
    return {"steep": lambda n: 0.15 if n < at else 0.3, "flat": lambda n: 0.2}


def one(kind: str, noise: float, seed: int) -> tuple[bool, bool | None, bool, int]:
    """Whether a search says that it reached what was asked, whether its bounds hold the truth
    (None: no crossing), whether it keeps silent, and its runs."""
    rng = np.random.default_rng([KINDS.index(kind), seed])
    true = float(np.exp(rng.uniform(np.log(300), np.log(50_000))))
    runs = searched(times_of(kind, true), noise=noise, seed=seed)
    comparison = parse(TEXT)
    agreed: dict[str, Agreement] = dict.fromkeys(("steep", "flat"), AGREES)
    points = [
        findings(comparison, RunSet.of(runs, Machine(cores=2)), agreed, {"rows": size})
        for size in sorted({run.point["rows"] for run in runs})
    ]
    named = [{"rows": size} for size in (100, 1000, 10_000, 100_000)]
    taken = RunSet.of(runs, Machine(cores=2))
    [found] = sweeps(comparison, taken, points, named=named, search=Search(within=WITHIN))
    lead = found.lead("elapsed")
    crossings = [c for c in (lead.crossings if lead else []) if c.after == "flat"]
    reached = "as was asked" in found.searched
    if not crossings:
        return reached, None, not found.searched, len(runs)
    last = crossings[-1]
    holds = (last.low or 0.0) <= true <= (last.high or np.inf)
    silent = not reached and "Not known" not in found.searched
    return reached, holds, silent or (reached and not is_known(last, WITHIN)), len(runs)


def main() -> None:
    """A line a kind and noise."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    with Pool() as pool:
        for kind in KINDS:
            for noise in NOISES:
                told = pool.starmap(one, [(kind, noise, seed) for seed in range(count)])
                reached = [t for t in told if t[0]]
                known = [t[1] for t in told if t[1] is not None]
                holds = [bool(t[1]) for t in reached]
                print(
                    f"{kind:7s} {noise:.0%}: reached {len(reached) / count:.0%}, of those the "
                    f"bounds hold {sum(holds) / max(len(holds), 1):.0%}, of all "
                    f"{sum(known) / max(len(known), 1):.0%} of {len(known)}; silent "
                    f"{sum(t[2] for t in told) / count:.0%}; {median(t[3] for t in told):.0f} runs",
                    flush=True,
                )


if __name__ == "__main__":
    main()
