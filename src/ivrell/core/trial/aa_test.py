"""The A/A test that measures a machine's noise: one approach run against itself, in a trial."""

import datetime
import math
import os
from pathlib import Path

from ivrell.core.base.temp_dirs import own_folder
from ivrell.core.machine import busy_cores
from ivrell.core.measure import noise
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.machine import Noise
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.control import Control, Listener, NoControl, ignore_event
from ivrell.core.trial.plan import Plan

ROUNDS = 12
_LANE = """
[[approach]]
id = "{name}"
engine = "python"
code = '''
def answer(data, knobs, stage):
    total = 0
    for number in range(4_000_000):
        total += number * number % 7
    return [{{"sum": total}}]
'''
"""
_COMPARISON = (
    """
format = "ivrell-comparison/1"
name = "The machine against itself"

[data]
seed = 1

[data.tables.readings]
rows = 1000
columns = [{ name = "reading", kind = "sequence" }]
"""
    + _LANE.format(name="one")
    + _LANE.format(name="same")
)


def measure_noise(
    folder: Path,
    rounds: int = ROUNDS,
    listen: Listener = ignore_event,
    control: Control | None = None,
) -> Noise | None:
    """Run equals against each other and keep the noise in ``folder``; see noise.kept.

    Returns what was kept, or None when it was stopped before it was done.
    """
    started = datetime.datetime.now(datetime.UTC)
    busy = busy_cores()
    with own_folder() as name:
        trial = Trial(
            _COMPARISON,
            Plan(rounds=rounds, warm_ups=1),
            name / "trial",
            DataStore(name / "made"),
            listen=listen,
            control=control or NoControl(),
            data_workers=1,
        )
        if trial.conduct().ended != "done":
            return None
        times: dict[str, dict[int, float]] = {"one": {}, "same": {}}
        for run in trial.runs:
            if run.counted and run.elapsed_s:
                times[run.approach][run.round] = run.elapsed_s
    both = sorted(times["one"].keys() & times["same"].keys())
    found = Noise(
        taken_at=started.isoformat(timespec="seconds"),
        load=list(os.getloadavg()),
        busy_cores=busy,
        rounds=len(both),
        elapsed_s=sorted(times["one"].values())[len(both) // 2],
        logs=[math.log(times["one"][r] / times["same"][r]) for r in both],
    )
    noise.keep(folder, found)
    return found
