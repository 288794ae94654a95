"""A machine that is not left alone: python -m tests.bench.disturbed [rounds]

The first demo at 300,000 rows, three times: quiet; beside another program that takes one core for
half of the time, in bursts of one to three seconds, with runs that it disturbs done again; and
beside it without. Told by lane: the median beside it as a part of the quiet one, elapsed and CPU
time; and the verdicts that are not the quiet ones. On a virtual machine look at the runs that the
host disturbed: where there are many, quiet is not quiet.
"""

import random
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path

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


def conducted(folder: Path, name: str, rounds: int, *, beside: bool, again: bool) -> Findings:
    """Findings of a trial, and a line of what disturbed it."""
    plan = Plan(
        rounds=rounds,
        knobs={"rows": [300_000]},
        order_seed=random.randrange(2**32),
        disturbed={} if again else {"repeat": 0, "wait_s": 0},
    )
    other = subprocess.Popen([sys.executable, "-c", BURSTS]) if beside else None
    try:
        trial = Trial(DEMO.read_text(), plan, folder / name, DataStore(folder / "made"))
        [found] = trial.conduct().points
    finally:
        if other:
            other.kill()
            other.wait()
    by = Counter(run.disturbed_by for run in trial.runs if run.was_disturbed)
    again_ = sum(run.set_aside for run in trial.runs)
    left = sum(run.counted and run.was_disturbed for run in trial.runs)
    print(f"{name}: disturbed {dict(by)}, done again {again_}, disturbed and counted {left}")
    print(f"  {found.conclusion}", flush=True)
    return found


def main() -> None:
    """Three trials, and how they differ."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quiet = conducted(folder, "quiet", rounds, beside=False, again=True)
        for word, again in (("done again", True), ("left alone", False)):
            found = conducted(folder, word, rounds, beside=True, again=again)
            for lane in quiet.lanes:
                other = found.lane(lane.id)
                assert lane.elapsed and other.elapsed and lane.cpu_total and other.cpu_total
                print(
                    f"  {lane.id:12s} elapsed {other.elapsed.median / lane.elapsed.median:.2f}, "
                    f"CPU {other.cpu_total.median / lane.cpu_total.median:.2f}"
                )
            told = {(p.base, p.lane): p.ratio.verdict for p in found.pairs}
            changed = [
                f"{p.base}/{p.lane}: {p.ratio.verdict}, now {told[p.base, p.lane]}"
                for p in quiet.pairs
                if p.base < p.lane and told[p.base, p.lane] != p.ratio.verdict
            ]
            print(f"  verdicts that changed: {changed or 'none'}", flush=True)


if __name__ == "__main__":
    main()
