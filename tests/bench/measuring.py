"""What watching a run costs, and how right its figures are: python -m tests.bench.measuring.

Prints ratios within one run: the runner's own CPU time while a run is sampled, against its
elapsed time; the elapsed time of a computation when watched against when not; CPU time and
peak memory of programs whose truth is known against that truth; a 20-microsecond call against
a tight loop by hand.
"""

import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from statistics import median
from typing import Any

from ivrell.core.measure import proc
from ivrell.core.recipe.store import DataStore
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Limits, Plan
from tests.core.test_fairness import TINY
from tests.support.comparisons import HEAD, approach, python_answer

WORK = """
import numpy as np
rng = np.random.default_rng(1)
began = time.perf_counter()
block = rng.random(4_000_000)
for _ in range(40):
    block = np.sort(block)[::-1] + 0.5
took = time.perf_counter() - began
"""
TRUTHS = {
    "one process, 1 s": (
        "end = time.process_time() + 1\nwhile time.process_time() < end: pass",
        1.0,
    ),
    "three children, 1 s": (
        "import subprocess\n"
        "code = 'import time; end = time.process_time() + 1/3\\n' "
        "'while time.process_time() < end: pass'\n"
        "line = [sys.executable, '-S', '-c', code]\n"
        "for p in [subprocess.Popen(line) for _ in range(3)]: p.wait()",
        1.0,
    ),
    "three orphans, 1 s": (
        "for _ in range(3):\n"
        "    if not os.fork():\n"
        "        if os.fork(): os._exit(0)\n"
        "        os.setsid()\n"
        "        end = time.process_time() + 1/3\n"
        "        while time.process_time() < end: pass\n"
        "        os._exit(0)\n"
        "time.sleep(1.5)",
        1.0,
    ),
    "fifty children of 20 ms": (
        "for _ in range(50):\n"
        "    if not os.fork():\n"
        "        end = time.process_time() + 0.02\n"
        "        while time.process_time() < end: pass\n"
        "        os._exit(0)\n"
        "    os.wait()",
        1.0,
    ),
}


def run(body: str, folder: Path, code: str | None = None, **plan: Any) -> list[dict[str, Any]]:
    text = HEAD + approach("only", code or python_answer(body))
    made = Plan(**({"rounds": 5, "warm_ups": 1} | plan), limits=Limits(seconds=60))
    trial = Trial(text, made, folder / f"t{time.monotonic_ns()}", DataStore(folder / "made"))
    trial.conduct()
    return [run for run in trial.runs if not run.warm_up]


def unwatched() -> float:
    """The same computation in a process that nobody looks at."""
    code = f"import time\n{WORK}\nprint(took)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    return float(done.stdout)


def cost_of_watching(folder: Path) -> None:
    ours, alone = [], []
    for _ in range(5):
        alone.append(unwatched())
        found = run(f"{WORK}\nsys.stdout.write(str(took))", folder, rounds=1, warm_ups=0)[0]
        ours.append(float(found.output))
    print(f"  elapsed when watched: {median(ours) / median(alone):.3f} of when not")
    for told, body in (
        ("a busy loop", "end = time.time() + 6\nwhile time.time() < end: pass"),
        ("ten children", "import subprocess\n"
         "for p in [subprocess.Popen(['sleep', '6']) for _ in range(10)]: p.wait()"),
    ):  # fmt: skip
        shares: list[float] = []
        watcher = threading.Thread(target=_watch_the_runner, args=(str(folder), shares))
        watcher.start()
        run(body, folder, rounds=1, warm_ups=0)
        watcher.join()
        print(f"  the runner while it watches {told}: {100 * shares[0]:.1f} % of a core")


def _watch_the_runner(mark: str, shares: list[float]) -> None:
    """Take the CPU share of the runner over three seconds in the middle of a run."""
    time.sleep(2.5)
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            line = path.read_bytes()
        except OSError:
            continue
        if b"run/runner/main.py" in line and mark.encode() in line:
            pid = int(path.parent.name)
            before, at = proc.cpu_clock(pid), time.monotonic()
            time.sleep(3)
            shares.append((proc.cpu_clock(pid) - before) / (time.monotonic() - at))
            return


def sampling_alone() -> None:
    """The cost of one sample of this process's own tree, many times over."""
    import os

    from ivrell.core.measure.reading import Tree

    tree = Tree(os.getpid(), os.getpid(), None)
    start = time.process_time()
    for _ in range(2000):
        tree.memory(tree.children())
        proc.cpu_of(tree.worker)
    each = (time.process_time() - start) / 2000
    print(f"  one sample: {1e3 * each:.2f} ms, {100 * each / 0.025:.1f} % of a core at 25 ms")


def by_hand(calls: int) -> float:
    """Seconds a call of the very short one takes in a tight loop, with nothing round it."""
    module: dict[str, Any] = {}
    exec(TINY, module)  # noqa: S102 - our own text
    answer = module.answer
    began = time.perf_counter()
    for _ in range(calls):
        answer(None, {}, None)
    return (time.perf_counter() - began) / calls


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="ivrell-bench-") as name:
        folder = Path(name)
        print("cost of watching")
        sampling_alone()
        cost_of_watching(folder)
        print("CPU time against the truth (medians of five)")
        for told, (body, truth) in TRUTHS.items():
            runs = run(body, folder)
            cpu = median(r.cpu_user_s + r.cpu_system_s for r in runs)
            print(f"  {told:26} {100 * (cpu / truth - 1):+.1f} %  ({runs[0].cpu_method})")
        print("peak memory above the start")
        body = "block = bytearray(b'x') * (300 << 20)\ntime.sleep(0.005)\ndel block"
        peak = median(r.peak_memory_bytes - r.start_memory_bytes for r in run(body, folder))
        print(f"  300 MiB held for 5 ms: {100 * (peak / (300 << 20) - 1):+.2f} %")
        print("a very short call, per repeat")
        each = min(r.elapsed_s for r in run("", folder, TINY, min_sample_s=0.05))
        hand = min(by_hand(20_000) for _ in range(5))
        print(f"  {1e6 * each:.1f} µs here, {1e6 * hand:.1f} µs in a tight loop: {each / hand:.3f}")


if __name__ == "__main__":
    main()
