"""What findings cost: python -m tests.bench.findings

Twelve lanes, thirty rounds, five points; CPU seconds of one making of all findings, medians of
five. Beside it, in the same run, a sort of as many numbers as there are runs, times a thousand:
what this machine does now.
"""

import statistics
import time

import numpy as np

from ivrell.core.comparison.file import parse
from ivrell.core.records.machine import Machine, Noise
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from tests.support.comparisons import COUNTING, HEAD, approach

LANES, ROUNDS, POINTS, TIMES = 12, 30, 5, 5


def _runs() -> list[RunRecord]:
    rng = np.random.default_rng(3)
    made = []
    for point in range(POINTS):
        for lane in range(LANES):
            for number in range(1, ROUNDS + 1):
                took = float((1 + lane / 10) * rng.lognormal(0, 0.05))
                made.append(RunRecord.model_validate({
                    "run": len(made) + 1, "approach": f"lane_{lane}", "round": number,
                    "position": 1, "point": {"rows": 300 + point}, "warm_up": False,
                    "state": "done", "elapsed_s": took, "cpu_user_s": took * 0.9,
                    "cpu_system_s": took * 0.1, "peak_memory_bytes": 10**8,
                    "start_memory_bytes": 5 * 10**7, "run_queue_wait_s": 0.01, "held_up_s": 0.01,
                    "others_cpu_s": 0.01, "start_s": 0.1, "stages": [
                        {"name": "read", "elapsed_s": took / 2, "cpu_s": took / 2},
                    ], "counters": {"rows changed": 3.0}, "inner_repeats": 1,
                    "answer_rows": 3, "answer_bytes": 100, "left_bytes": 0, "error": None,
                    "limit": None, "calls": [], "cache": {"share": 1.0, "asked": "warm"},
                    "most_threads": 1, "engine": "python",
                }))  # fmt: skip
    return made


def main() -> None:
    text = HEAD + "".join(approach(f"lane_{lane}", COUNTING) for lane in range(LANES))
    comparison, runs = parse(text), _runs()
    logs = np.random.default_rng(5).normal(0, 0.02, 12).tolist()
    machine = Machine(cores=2, busy_cores=0.1, noise=Noise(logs=logs))
    took, beside = [], []
    for _ in range(TIMES):
        began = time.process_time()
        for point in range(POINTS):
            findings(comparison, RunSet.of(runs, machine), {}, {"rows": 300 + point})
        took.append(time.process_time() - began)
        numbers = np.random.default_rng(7).random(len(runs))
        began = time.process_time()
        for _ in range(1000):
            np.sort(numbers)
        beside.append(time.process_time() - began)
    found, other = statistics.median(took), statistics.median(beside)
    print(f"findings of {LANES} lanes, {ROUNDS} rounds, {POINTS} points: {found:.3f} s of CPU")
    print(f"a thousand sorts of as many numbers: {other:.3f} s; ratio {found / other:.1f}")


if __name__ == "__main__":
    main()
