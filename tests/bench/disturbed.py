"""A machine that is not left alone: python -m tests.bench.disturbed [times [rounds]]

The first demo at 300,000 rows, so many times one after the other: quiet; beside another program
that takes one core for half of the time, in bursts of one to three seconds, with runs that it
disturbs done again; and beside it without. Told by lane: the median of all runs beside it as a part
of that of the quiet ones, elapsed and CPU time, and how far the quiet trials lie from each other,
which is what nobody can be nearer than; and how often a verdict was another than in the quiet trial
before it, as against the next quiet one. On a virtual machine look at the runs that the host
disturbed: where there are many, quiet is not quiet.
"""

import random
import subprocess
import sys
import tempfile
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median

from ivrell.core.recipe.store import DataStore
from ivrell.core.records.findings import Findings
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Plan

DEMO = Path(__file__).resolve().parents[2] / "demo" / "tolls-per-lock.toml"
BURSTS = """
import random, time
while True:
    end = time.monotonic() + random.uniform(1, 3)
    while time.monotonic() < end:
        pass
    time.sleep(random.uniform(1, 3))
"""
QUIET, AGAIN, ALONE = "quiet", "done again", "left alone"


@dataclass
class Seen:
    """What the trials of one kind said: runs by lane, medians of each trial, and how it went."""

    elapsed: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    cpu: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    medians: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    verdicts: list[dict[tuple[str, str], str]] = field(default_factory=list)
    disturbed: Counter[str] = field(default_factory=Counter)
    again: int = 0
    left: int = 0

    def take(self, trial: Trial, found: Findings) -> None:
        """Take in a trial."""
        for run in trial.runs:
            if run.counted and run.elapsed_s and run.cpu_s:
                self.elapsed[run.approach].append(run.elapsed_s)
                self.cpu[run.approach].append(run.cpu_s)
        for lane in found.lanes:
            assert lane.elapsed
            self.medians[lane.id].append(lane.elapsed.median)
        pairs = [pair for pair in found.pairs if pair.base < pair.lane]
        self.verdicts.append({(p.base, p.lane): p.ratio.verdict for p in pairs})
        self.disturbed += Counter(run.disturbed_by for run in trial.runs if run.was_disturbed)
        self.again += sum(run.set_aside for run in trial.runs)
        self.left += sum(run.counted and run.was_disturbed for run in trial.runs)


def conduct(folder: Path, kind: str, number: int, rounds: int, seen: Seen) -> None:
    """One trial."""
    plan = Plan(
        rounds=rounds,
        knobs={"rows": [300_000]},
        order_seed=random.randrange(2**32),
        disturbed={"repeat": 0, "wait_s": 0} if kind == ALONE else {},
    )
    other = None if kind == QUIET else subprocess.Popen([sys.executable, "-c", BURSTS])
    try:
        name = f"{number}-{kind}"
        trial = Trial(DEMO.read_text(), plan, folder / name, DataStore(folder / "made"))
        [found] = trial.conduct().points
    finally:
        if other:
            other.kill()
            other.wait()
    seen.take(trial, found)
    print(f"{name}: {found.conclusion}", flush=True)


def main() -> None:
    """So many rounds of three trials, and how they differ."""
    times, rounds = ([int(word) for word in sys.argv[1:]] + [4, 5][len(sys.argv) - 1 :])[:2]
    seen = {kind: Seen() for kind in (QUIET, AGAIN, ALONE)}
    with tempfile.TemporaryDirectory() as name:
        for number in range(times):
            for kind in seen:
                conduct(Path(name), kind, number, rounds, seen[kind])
    quiet = seen[QUIET]
    for kind, one in seen.items():
        print(f"{kind}: disturbed {dict(one.disturbed)}, done again {one.again}, "
              f"disturbed and counted {one.left}")  # fmt: skip
    print(f"{'lane':14s} quiet trials apart   " + "   ".join(f"{k}: elapsed CPU" for k in
                                                          (AGAIN, ALONE)))  # fmt: skip
    for lane, own in quiet.elapsed.items():
        middle = median(own)
        apart = "{:.2f} to {:.2f}".format(
            *(f(m / middle for m in quiet.medians[lane]) for f in (min, max))
        )
        told = [
            f"{median(seen[kind].elapsed[lane]) / middle:.3f} "
            f"{median(seen[kind].cpu[lane]) / median(quiet.cpu[lane]):.3f}"
            for kind in (AGAIN, ALONE)
        ]
        print(f"{lane:14s} {apart:20s} {told[0]:25s} {told[1]}")
    later = quiet.verdicts[1:]
    for kind, others in (("next quiet one", later), (AGAIN, seen[AGAIN].verdicts),
                         (ALONE, seen[ALONE].verdicts)):  # fmt: skip
        changed = [
            f"{base}/{lane}: {was}, {now[base, lane]}"
            for told, now in zip(quiet.verdicts, others, strict=False)
            for (base, lane), was in told.items()
            if now[base, lane] != was
        ]
        print(f"verdicts that differ, {kind}: {changed or 'none'}")


if __name__ == "__main__":
    main()
