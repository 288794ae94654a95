"""Real trials of equals: python -m tests.bench.equals [trials] [rounds]

Twelve lanes that are the same, run as any trial is; every so many rounds are one short trial.
Told: in how many of them any lane is said to be faster than another, and in how many the quickest
is called quicker than all others; for elapsed and CPU time, without and with what the machine
showed before. 200 trials of 3 rounds are 7,200 runs, some half an hour.
"""

import sys
import tempfile
from pathlib import Path

from ivrell.core.comparison.model import MATTERS
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.machine import Machine
from ivrell.core.records.run import RunRecord
from ivrell.core.report.measures import BY_KEY, Ground
from ivrell.core.report.ratios import Judge, quickest
from ivrell.core.stats import history
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Plan
from tests.support.comparisons import HEAD, approach

LANES = 12
_CODE = """
def answer(data, knobs, stage):
    total = 0
    for number in range(250_000):
        total += number * number % 7
    return [{"gauge": "Ash", "n": total}]
"""


def judged(
    runs: list[RunRecord], key: str, rounds: int, trials: int, machine: Machine
) -> tuple[int, int, float]:
    """In how many trials any pair is told apart, in how many there is a winner, and the share of
    pairs whose interval leaves 1 out."""
    names = [f"lane_{i}" for i in range(LANES)]
    judge = Judge(machine, dict.fromkeys(names, "python"), MATTERS)
    measure, ground = BY_KEY[key], Ground(None, 1)
    apart = winners = out = pairs = 0
    for number in range(trials):
        first = number * rounds + 1
        values = {
            name: {
                run.round: value
                for run in runs
                if run.approach == name
                and first <= run.round < first + rounds
                and run.counted
                and (value := measure.of(run, ground))
            }
            for name in names
        }
        found = judge.ratios(measure, values)
        told = [pair for pair, ratio in found.items() if ratio.verdict not in (
            "not told apart", "no difference that matters")]  # fmt: skip
        apart += bool(told)
        winners += quickest(found) is not None
        intervals = [ratio for ratio in found.values() if ratio.low and ratio.high]
        out += sum(r.low > 1 or r.high < 1 for r in intervals if r.low and r.high)
        pairs += len(intervals)
    return apart, winners, 100 * out / pairs


def main() -> None:
    trials = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    text = HEAD + "".join(approach(f"lane_{i}", _CODE) for i in range(LANES))
    with tempfile.TemporaryDirectory() as name:
        trial = Trial(
            text,
            Plan(rounds=trials * rounds, warm_ups=1),
            Path(name) / "trial",
            DataStore(Path(name) / "made"),
        )
        trial.conduct()
        known = Path(name) / "history"
        for key in history.REMEMBERED:
            # The first trials are history to those that follow.
            for number in range(10):
                first = number * rounds + 1
                values = {
                    f"lane_{i}": {
                        run.round: value
                        for run in trial.runs
                        if run.approach == f"lane_{i}"
                        and first <= run.round < first + rounds
                        and (value := BY_KEY[key].of(run, Ground(None, 1)))
                    }
                    for i in range(LANES)
                }
                engines = dict.fromkeys(values, "python")
                history.keep(known, history.lane_spreads(key, values, engines))
        machines = {
            "these lanes alone": Machine(),
            "with history": Machine(usual_spreads=history.usual_spreads(known)),
        }
        for key in history.REMEMBERED:
            for words, machine in machines.items():
                apart, winners, out = judged(trial.runs, key, rounds, trials, machine)
                print(
                    f"{key}, {words}: any pair told apart in {apart} of {trials} trials of "
                    f"{rounds} rounds, a winner in {winners}; {out:.1f} % of intervals "
                    "leave 1 out",
                    flush=True,
                )


if __name__ == "__main__":
    main()
