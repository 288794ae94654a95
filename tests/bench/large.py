"""A hundred million rows from end to end: made, run, agreed, found; and what Ivrell itself holds.

    python -m tests.bench.large [ROWS]

Run with the usual limits. Sampled five times a second: what all of Ivrell's processes but the runs'
own hold for themselves (RssAnon), and the most of any one (VmHWM, its files included).
"""

import sys
import tempfile
import threading
import time
from pathlib import Path

from ivrell.core.measure import proc
from ivrell.core.recipe.store import DataStore
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Plan

ROWS = 100_000_000
TEXT = """format = "ivrell-comparison/1"
name = "A hundred million passages"
question = "How many barges passed each lock, and what did they carry?"

[answer]
key = ["lock"]

[knobs]
rows = [{rows}]

[data]
seed = 11

[data.tables.passages]
rows = "{{rows}}"
columns = [
  {{ name = "passage", kind = "sequence" }},
  {{ name = "lock", kind = "category", values = ["Alder", "Birch", "Cedar", "Elder", "Hazel"] }},
  {{ name = "tonnes", kind = "integer", low = 5, high = 400 }},
]

[[approach]]
id = "query"
engine = "duckdb"
input = "parquet"
code = '''
SELECT lock, count(*) AS n, sum(tonnes)::BIGINT AS tonnes FROM passages GROUP BY lock
'''

[[approach]]
id = "lazy"
engine = "python"
input = "parquet"
code = '''
import polars as pl


def answer(data, knobs, stage):
    return (
        pl.scan_parquet(data.passages)
        .group_by("lock")
        .agg(pl.len().alias("n"), pl.col("tonnes").sum())
        .collect(engine="streaming")
    )
'''

[[approach]]
id = "batches"
engine = "python"
input = "parquet"
code = '''
import pyarrow as pa
import pyarrow.parquet as pq


def answer(data, knobs, stage):
    parts = []
    for batch in pq.ParquetFile(data.passages).iter_batches(columns=["lock", "tonnes"]):
        parts.append(
            pa.Table.from_batches([batch]).group_by("lock").aggregate(
                [("tonnes", "count"), ("tonnes", "sum")]
            )
        )
    whole = pa.concat_tables(parts).group_by("lock").aggregate(
        [("tonnes_count", "sum"), ("tonnes_sum", "sum")]
    )
    return whole.rename_columns(["lock", "n", "tonnes"])
'''
"""


class Held:
    """What Ivrell's own processes hold, watched until told to stop."""

    def __init__(self) -> None:
        self.together = self.one = 0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._thread.start()

    def _watch(self) -> None:
        import os

        own = os.getpid()
        while not self._over.wait(0.2):
            runs = {
                pid for pid in proc.descendants(own)
                if "run/worker/main.py" in proc.read(f"/proc/{pid}/cmdline").replace("\0", " ")
            }  # fmt: skip
            for pid in list(runs):
                runs.update(proc.descendants(pid))
            pids = [own, *(pid for pid in proc.descendants(own) if pid not in runs)]
            states = [state for pid in pids if (state := proc.status(pid))]
            self.together = max(self.together, sum(state.private for state in states))
            self.one = max([self.one, *(state.peak for state in states)])

    def stop(self) -> None:
        self._over.set()
        self._thread.join()


def main(rows: int) -> None:
    with tempfile.TemporaryDirectory(prefix="ivrell-large-") as folder:
        place = Path(folder)
        place.chmod(0o755)
        held, began = Held(), time.monotonic()
        plan = Plan(rounds=2, warm_ups=0)
        trial = Trial(
            TEXT.format(rows=rows), plan, place / "trial", DataStore(place / "made"), data_workers=2
        )
        made = time.monotonic()
        preparing = trial.preparation.make_all

        def timed(*given):
            found = preparing(*given)
            print(f"made in {time.monotonic() - made:.0f} s: {rows:,} rows")
            return found

        trial.preparation.make_all = timed
        found = trial.conduct()
        held.stop()
        for run in trial.runs:
            if not run.memory_run:
                cpu = (run.cpu_user_s or 0) + (run.cpu_system_s or 0)
                peak = (run.peak_memory_bytes or 0) / 1e6
                print(f"{run.approach:8} {run.elapsed_s:6.2f} s, CPU {cpu:6.2f} s, {peak:5.0f} MB")
        print(f"whole trial in {time.monotonic() - began:.0f} s; all lanes agree:",
              all(lane.agreement.agrees for lane in found.points[0].lanes))  # fmt: skip
        print(f"Ivrell itself: {held.together / 1e6:.0f} MB of its own at the most in all, "
              f"{held.one / 1e6:.0f} MB in one process")  # fmt: skip


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else ROWS)
