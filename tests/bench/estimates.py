"""How long plans of the demos take, and what was told before: python -m tests.bench.estimates.

Each demo runs once with one round, then the plan that was estimated; the ratio is what it took over
what was told.
"""

import tempfile
import time
from pathlib import Path

import ivrell

DEMOS = ("tolls-per-lock", "same-code", "day-totals", "gauge-readings", "berth-codes",
         "draught-rule", "filtered-join", "export-survey")  # fmt: skip


def main() -> None:
    ratios = []
    for name in DEMOS:
        comparison = ivrell.read(Path("demo") / f"{name}.toml")
        with tempfile.TemporaryDirectory() as folder:
            first = comparison.run(rounds=1, warm_ups=0, folder=Path(folder) / "first")
            plan = comparison.plan(rounds=3)
            told = comparison.estimate(plan, [first])
            began = time.monotonic()
            comparison.run(plan, folder=Path(folder) / "second")
            took = time.monotonic() - began
        ratios.append(took / told.seconds)
        print(f"{name:18} told {told.seconds:6.1f} s ({told.low:.1f} to {told.high:.1f}), "
              f"took {took:6.1f} s: {ratios[-1]:.2f}", flush=True)  # fmt: skip
    print(f"ratios {min(ratios):.2f} to {max(ratios):.2f}")


if __name__ == "__main__":
    main()
