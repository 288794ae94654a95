"""Spark: rows a second of making tables in its tasks against the one-machine maker, a core each,
and what it costs to be told what tasks used.

    python -m tests.bench.spark [ROWS]

Both makers write the same Parquet table, each pinned to one core, Spark's JVM and its Python
worker together (they would use a second one beside each other); the session's start and the first
blocks, in which Java compiles, are left out. A query is timed in sessions with and without the
event log, in turns.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from ivrell.core.comparison.file import parse
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.store import DataStore

DEMO = Path(__file__).resolve().parents[2] / "demo" / "tolls-on-a-cluster.toml"
_TURNS = 3
_CALLS = 12


def _in_a_process(what: str, *words: str) -> list[float]:
    told = subprocess.run(
        [sys.executable, "-W", "ignore", "-m", "tests.bench.spark", what, *words],
        check=True, capture_output=True, text=True,
    )  # fmt: skip
    return [float(word) for word in told.stdout.split()]


def _session(folder: Path, cores: int, settings: dict[str, str]):
    from ivrell.core.records.wire import SparkPlace
    from ivrell.core.spark.session import open_session

    return open_session(SparkPlace(f"local[{cores}]"), folder, settings)


def _to_one_core() -> None:
    os.sched_setaffinity(0, sorted(os.sched_getaffinity(0))[-1:])


def own(rows: int, folder: Path) -> float:
    """Seconds of making as many on one machine, with one core."""
    _to_one_core()
    recipe = parse(DEMO.read_text()).data.resolved({"rows": rows, "partitions": 8})
    store = DataStore(folder)
    small = parse(DEMO.read_text()).data.resolved({"rows": 1_000_000, "partitions": 8})
    store.ensure(small, "passages", "parquet", workers=1)
    began = time.monotonic()
    store.ensure(recipe, "passages", "parquet", workers=1)
    return time.monotonic() - began


def making(rows: int, folder: Path) -> float:
    """Seconds of making so many rows with one core of Spark, once it is warm."""
    from ivrell.core.spark.making import _Wanted, make

    _to_one_core()
    session = _session(folder, 1, {})
    recipe = parse(DEMO.read_text()).data.resolved({"rows": rows, "partitions": 8})
    text = recipe.model_dump_json(by_alias=True)
    small = parse(DEMO.read_text()).data.resolved({"rows": 1_000_000, "partitions": 8})
    warm = _Wanted(table="passages", address=str(folder / "warm"), tasks=4)
    make(session, small.model_dump_json(by_alias=True), warm, Input(form="parquet"))
    began = time.monotonic()
    make(session, text, _Wanted(table="passages", address=str(folder / "out"), tasks=4),
         Input(form="parquet"))  # fmt: skip
    return time.monotonic() - began


def query(path: str, logged: str, folder: Path) -> list[float]:
    """Seconds of each of some calls of a query, with the event log or without."""
    from ivrell.core.spark.session import Watch

    session = _session(folder, 2, {"spark.eventLog.enabled": logged})
    watch = Watch(session, folder) if logged == "true" else None
    session.read.parquet(path).createOrReplaceTempView("passages")
    took = []
    for _ in range(_CALLS):
        if watch:
            watch.begin()
        began = time.monotonic()
        session.sql(
            "SELECT lock, month(passed_at) AS month, count(*) AS n, sum(toll) AS toll "
            "FROM passages GROUP BY lock, month(passed_at)"
        ).toArrow()
        took.append(time.monotonic() - began)
        if watch:
            watch.settle()
    return took[4:]


def main(rows: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        recipe = parse(DEMO.read_text()).data.resolved({"rows": rows, "partitions": 8})
        ratios = []
        for turn in range(_TURNS):
            (one,) = _in_a_process("own", str(rows), str(folder / f"own-{turn}"))
            there = folder / f"spark-{turn}"
            there.mkdir()
            (spark,) = _in_a_process("making", str(rows), str(there))
            ratios.append(one / spark)
            print(f"{rows:,} rows: one machine {rows / one:,.0f} rows/s, Spark "
                  f"{rows / spark:,.0f} rows/s, {100 * one / spark:.0f} % of it")  # fmt: skip
            shutil.rmtree(there)
        print(f"median: {100 * median(ratios):.0f} %")
        made = DataStore(folder / "own-0").ensure(recipe, "passages", "parquet")
        logged, bare = [], []
        for _turn in range(_TURNS):
            for flag, found in (("true", logged), ("false", bare)):
                place = folder / f"query-{len(logged)}-{len(bare)}"
                place.mkdir()
                found.append(median(_in_a_process("query", made.paths[0], flag, str(place))))
                print(f"event log {flag}: {found[-1]:.4f} s a call", flush=True)
        print(f"with / without: {median(logged) / median(bare):.4f}")


if __name__ == "__main__":
    if sys.argv[1:2] == ["making"]:
        print(making(int(sys.argv[2]), Path(sys.argv[3])), flush=True)
        os._exit(0)
    if sys.argv[1:2] == ["own"]:
        print(own(int(sys.argv[2]), Path(sys.argv[3])), flush=True)
        os._exit(0)
    if sys.argv[1:2] == ["query"]:
        print(*query(sys.argv[2], sys.argv[3], Path(sys.argv[4])), flush=True)
        os._exit(0)
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 8_000_000)
