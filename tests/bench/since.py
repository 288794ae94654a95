"""How often a history is called changed, and how soon a slower lane is found.

python -m tests.bench.since: 200 histories of equal trials of four lanes, looked at after each of 30
trials; 200 in which one lane is 20 % slower from some trial on; by how far equal trials lie apart.
"""

import numpy as np

from ivrell.core.stats.turns import turns

LANES, TRIALS, HISTORIES = 3, 30, 200
SPREADS = (0.01, 0.02, 0.03, 0.04, 0.05)


def first_told(logs: np.ndarray, lane: int | None = None) -> int | None:
    """After how many trials something is told first, of one lane or of any."""
    for count in range(5, logs.shape[1] + 1):
        for place in range(len(logs)) if lane is None else [lane]:
            if turns(logs[place, :count].tolist(), histories=len(logs), matters=0.05):
                return count
    return None


def main() -> None:
    rng = np.random.default_rng(7)
    print("trials apart by   called changed of equals   20 % slower told within 3 trials")
    for spread in SPREADS:
        false = sum(
            first_told(rng.normal(0, spread, (LANES, TRIALS))) is not None for _ in range(HISTORIES)
        )
        found = {}
        for before in (6, 10, 20):
            found[before] = 0
            for _ in range(HISTORIES):
                logs = rng.normal(0, spread, (LANES, before + 3))
                logs[1, before:] += np.log(1.2)
                told = first_told(logs, 1)
                found[before] += told is not None and told > before
        shown = ", ".join(f"{n / HISTORIES:.1%} after {k}" for k, n in found.items())
        print(f"{spread:15.0%}   {false / HISTORIES:24.1%}   {shown}", flush=True)


if __name__ == "__main__":
    main()
