"""How often a gate is wrong, and after how many rounds: by simulation, and on this machine.

python -m tests.bench.gate            simulated, at several spreads
python -m tests.bench.gate machine 40 so many tries of real lanes, another program taking a core
                                      half of the time
"""

import contextlib
import os
import subprocess
import sys
import tempfile
from math import log
from pathlib import Path
from statistics import median

import ivrell
from tests.core.test_sequential import share, tries
from tests.support.comparisons import HEAD, approach

_TRIES = 1000
_HOG = """
import time
while True:
    end = time.perf_counter() + 0.25
    while time.perf_counter() < end:
        pass
    time.sleep(0.25)
"""
_WORK = """\
def answer(data, knobs, stage):
    total = 0
    for i in range({steps}):
        total += i % 7
    return [{{"gauge": "Ash", "n": 0}}]
"""


def simulated() -> None:
    """A row a spread: shares of tries, and rounds in the middle."""
    for spread, spikes in ((0.01, 0), (0.05, 0), (0.05, 0.15), (0.15, 0), (0.15, 0.15), (0.3, 0)):
        slow = tries(_TRIES, log(1.2), spread, spikes=spikes)
        equal = tries(_TRIES, 0.0, spread, spikes=spikes)
        print(
            f"spread {spread:.0%}{', spikes' if spikes else '':8}"
            f" a fifth slower found {share(slow, 'slower'):.1%}"
            f" (missed {share(slow, 'no slower'):.1%}, {median(n for _, n in slow):.0f} rounds);"
            f" equals called slower {share(equal, 'slower'):.1%}"
            f" ({median(n for _, n in equal):.0f} rounds)",
            flush=True,
        )


def on_this_machine(count: int) -> None:
    """Real lanes, a fifth slower and equal by turns, while another program takes a core half of
    the time."""
    hog = subprocess.Popen([sys.executable, "-c", _HOG])
    told: dict[str, list[tuple[str, int]]] = {"slower": [], "equal": []}
    try:
        with tempfile.TemporaryDirectory() as folder:
            old, new = Path(folder) / "old.toml", Path(folder) / "new.toml"
            old.write_text(HEAD + approach("work", _WORK.format(steps=2_000_000)))
            for number in range(count):
                kind = ("slower", "equal")[number % 2]
                steps = 2_400_000 if kind == "slower" else 2_000_001
                new.write_text(HEAD + approach("work", _WORK.format(steps=steps)))
                out = Path(folder) / str(number)
                found = ivrell.gate(new, str(old), minutes=10, folder=out)
                [lane] = found.lanes
                told[kind].append((lane.verdict, found.rounds))
                print(kind, lane.verdict, found.rounds, f"{lane.times:.3f}", flush=True)
    finally:
        hog.kill()
        with contextlib.suppress(subprocess.TimeoutExpired):
            hog.wait(10)
    for kind, found_ in told.items():
        print(
            f"{kind}: slower {share(found_, 'slower'):.0%}, no slower "
            f"{share(found_, 'no slower'):.0%}, rounds in the middle "
            f"{median(n for _, n in found_):.0f}, load {os.getloadavg()[0]:.1f}"
        )


if __name__ == "__main__":
    if sys.argv[1:2] == ["machine"]:
        on_this_machine(int(sys.argv[2]))
    else:
        simulated()
