"""Filling, calculating, saving and reading a sheet: python -m tests.bench.sheets [ROWS]

Four detail columns beside each row, looked up by halves in 50,000 sorted keys, medians of three
fresh engine processes; the same join with Polars beside it, and the rest of the engine's life:
its start, an exact search on a size that it bears.
"""

import statistics
import sys
import tempfile
import time
from pathlib import Path

import polars as pl

from ivrell.core.recipe.store import DataStore
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Limits, Plan

TEXT = """format = "ivrell-comparison/1"
name = "Details beside passages"
[answer]
key = ["passage"]
[knobs]
rows = [{rows}]
[data]
seed = 3
[data.tables.barges]
rows = 50_000
columns = [
  {{ name = "number", kind = "sequence", start = 100_001 }},
  {{ name = "berth", kind = "integer", low = 1, high = 400 }},
  {{ name = "length", kind = "number", low = 12, high = 40, decimals = 1 }},
  {{ name = "hull", kind = "category", values = ["steel", "oak"] }},
]
[data.tables.passages]
rows = "{{rows}}"
columns = [
  {{ name = "passage", kind = "sequence" }},
  {{ name = "barge", kind = "reference", to = "barges.number" }},
]
"""
COLUMNS = """columns = [
  {{ name = "passage", formula = "={{row.passage}}" }},
  {{ name = "at", formula = "=MATCH({{row.barge}};{{barges.number}};1)", layout = "helper" }},
  {{ name = "berth", formula = "=INDEX({{barges.berth}};{{row.at}})" }},
  {{ name = "length", formula = "=INDEX({{barges.length}};{{row.at}})" }},
  {{ name = "hull", formula = "=INDEX({{barges.hull}};{{row.at}})" }},
]
timed = ["bring", "fill", "calculate", "read", "save"]
"""
LANE = """
[[approach]]
id = "{id}"
engine = "sheet"
input = "{form}"
"""
JOIN = """
[[approach]]
id = "polars"
engine = "python"
input = "parquet"
code = '''
import polars as pl
def answer(data, knobs, stage):
    passages, barges = pl.scan_parquet(data.passages), pl.scan_parquet(data.barges)
    found = passages.join(barges, left_on="barge", right_on="number")
    return found.select("passage", "berth", "length", "hull")
'''
"""


def main(rows: int) -> None:
    text = TEXT.format(rows=rows)
    for form in ("arrow", "csv", "ods"):
        text += LANE.format(id=form, form=form) + COLUMNS.format()
    text += JOIN
    with tempfile.TemporaryDirectory(prefix="ivrell-bench-") as folder:
        Path(folder).chmod(0o755)
        plan = Plan(rounds=3, warm_ups=0, limits=Limits(seconds=600))
        trial = Trial(text, plan, Path(folder) / "trial", DataStore(Path(folder) / "made"))
        began = time.monotonic()
        point = trial.conduct().points[0]
        print(f"{rows:,} rows, five columns, {time.monotonic() - began:.0f} s in all")
        for lane in point.lanes:
            runs = [run for run in trial.runs if run.approach == lane.id]
            assert all(run.state == "done" for run in runs), [run.error for run in runs]
            told = [f"{lane.id:8} agrees {lane.agreement.agrees!s:5}"]
            for number, stage in enumerate(runs[0].stages):
                seconds = [run.stages[number].elapsed_s for run in runs]
                told.append(f"{stage.name} {statistics.median(seconds):.2f} s")
            whole = statistics.median(run.elapsed_s for run in runs)
            peak = max(run.peak_memory_bytes - run.start_memory_bytes for run in runs)
            saved = runs[0].counters.get("saved bytes", 0)
            start = statistics.median(run.start_s for run in runs)
            told.append(f"whole {whole:.2f} s, {peak / 1e6:.0f} MB above its start")
            told.append(f"started in {start:.1f} s, saved {saved / 1e6:.1f} MB")
            print("; ".join(told))
    print(f"Polars {pl.__version__}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 200_000)
