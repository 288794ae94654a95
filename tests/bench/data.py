"""How fast data is made, as ratios within one run: python -m tests.bench.data [ROWS].

Prints, for the columns of the demo's passages: Ivrell on one core against the same columns
drawn straight from NumPy and written by the same writer with nothing between; two workers
against one; loading into PostgreSQL against a bare binary COPY of the same buffers; and the
peak memory of a process that makes a table of several sizes, up to 100 million rows with
--large.
"""

import multiprocessing
import os
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import psycopg
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from ivrell.core.comparison.file import load
from ivrell.core.measure import proc
from ivrell.core.recipe.databases import pg_binary
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.encode import drawers_at_hand
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import BLOCK_ROWS
from ivrell.core.recipe.store import DataStore

DEMO = Path(__file__).resolve().parents[2] / "demo" / "tolls-per-lock.toml"


def bare_blocks(rows: int, locks: pa.Array):
    """The demo's passages drawn with the same generator, a block at a time, by hand."""
    rng = np.random.Generator(np.random.Philox(1))
    year = 365 * 86_400
    weights = np.arange(1, 61) ** -1.1
    table = np.searchsorted(np.cumsum(weights / weights.sum()), (np.arange(65_536) + 0.5) / 65_536)
    for first in range(0, rows, BLOCK_ROWS):
        n = min(BLOCK_ROWS, rows - first)
        seconds = rng.integers(1_924_992_000, 1_924_992_000 + year, n)
        yield pa.RecordBatch.from_arrays(
            [
                pa.array(np.arange(first + 1, first + n + 1)),
                locks.take(pa.array(table[rng.integers(0, 65_536, n)])),
                pa.array(seconds).cast(pa.timestamp("s")),
                pa.array(np.round(rng.standard_normal(n) * 0.2 + 1.4, 2)),
                pa.array(np.round(rng.uniform(3, 90, n), 2)),
            ],
            names=["passage", "lock", "passed_at", "draught", "toll"],
        )


def bare(form: str, rows: int, path: Path, locks: pa.Array) -> float:
    began = time.perf_counter()
    blocks = bare_blocks(rows, locks)
    first = next(blocks)
    if form == "csv":
        options = pyarrow.csv.WriteOptions(quoting_style="none")
        writer = pyarrow.csv.CSVWriter(path, first.schema, write_options=options)
    elif form == "parquet":
        writer = pyarrow.parquet.ParquetWriter(path, first.schema, compression="zstd")
    else:
        writer = pa.ipc.new_file(path, first.schema)
    with writer:
        for batch in (first, *blocks):
            writer.write_batch(batch)
    # Ivrell does not call a file made before it is on the disk.
    with path.open("rb") as file:
        os.fsync(file.fileno())
    return time.perf_counter() - began


def peak_of_making(form: str, rows: int, workers: int, pipe) -> None:
    recipe = load(DEMO).data.resolved({"rows": rows})
    with tempfile.TemporaryDirectory() as folder:
        DataStore(Path(folder)).ensure(recipe, "passages", form, workers=workers)
    # Not ru_maxrss: that remembers what the launcher held when this process was started.
    pipe.send(proc.status(os.getpid()).peak)


def loading(rows: int) -> None:
    """Tables into PostgreSQL: Ivrell's whole loading against the bare COPY of its buffers."""
    recipe = load(DEMO).data.resolved({"rows": rows})
    generator = Generator(recipe)
    buffers = [pg_binary.encode(block) for block in generator.read("passages")]
    with tempfile.TemporaryDirectory(prefix="ivrell-bench-") as name:
        Path(name).chmod(0o755)
        ours, bare = [], []
        for attempt in range(3):
            store = DatabaseStore(Path(name) / str(attempt))
            loaded = store.ensure(recipe, "postgres")
            ours.append(next(t.seconds for t in loaded.tables if t.table == "passages"))
            with psycopg.connect(store.cluster.address(loaded.place), autocommit=True) as db:
                began = time.perf_counter()
                with db.transaction():
                    db.execute("CREATE TABLE bare (LIKE passages)")
                    with (
                        db.cursor() as cursor,
                        cursor.copy("COPY bare FROM STDIN WITH (FORMAT binary, FREEZE)") as copy,
                    ):
                        copy.write(pg_binary.HEADER)
                        for buffer in buffers:
                            copy.write(buffer)
                        copy.write(pg_binary.TRAILER)
                bare.append(time.perf_counter() - began)
            store.stop()
    took, least = float(np.median(ours)), float(np.median(bare))
    print(
        f"  postgres {rows / took / 1e6:.2f} million rows a second, "
        f"{100 * least / took:.0f} % of the rate of a bare COPY of the same buffers"
    )


def main(rows: int, large: bool) -> None:
    recipe = load(DEMO).data.resolved({"rows": rows})
    locks = pa.array([f"LOK-{n:02}" for n in range(60)])
    drawers_at_hand()
    print(f"{rows:,} rows of the demo's passages; medians of three interleaved rounds")
    for form in ("csv", "parquet", "arrow"):
        times: dict[str, list[float]] = {"bare": [], "one worker": [], "two workers": []}
        for _ in range(3):
            with tempfile.TemporaryDirectory() as folder:
                times["bare"].append(bare(form, rows, Path(folder) / "bare", locks))
            for name, workers in (("one worker", 1), ("two workers", 2)):
                with tempfile.TemporaryDirectory() as folder:
                    began = time.perf_counter()
                    DataStore(Path(folder)).ensure(recipe, "passages", form, workers=workers)
                    times[name].append(time.perf_counter() - began)
        middle = {name: float(np.median(values)) for name, values in times.items()}
        print(
            f"  {form:8} {rows / middle['one worker'] / 1e6:.2f} million rows a second, "
            f"{100 * middle['bare'] / middle['one worker']:.0f} % of the bare rate; "
            f"two workers {middle['one worker'] / middle['two workers']:.2f} times one",
            flush=True,
        )
    loading(min(rows, 5_000_000))
    memory(large)


def memory(large: bool) -> None:
    """Peak memory of a process that makes a table, at sizes ten times apart."""
    context = multiprocessing.get_context("spawn")
    for size in (1_000_000, 10_000_000, *([100_000_000] if large else [])):
        for form in ("csv", "parquet"):
            ours, theirs = context.Pipe()
            process = context.Process(target=peak_of_making, args=(form, size, 1, theirs))
            process.start()
            peak = ours.recv()
            process.join()
            print(f"  peak memory, {size:,} rows as {form}: {peak / 1e6:.0f} MB", flush=True)


if __name__ == "__main__":
    given = [word for word in sys.argv[1:] if word != "--large"]
    main(int(given[0]) if given else 5_000_000, "--large" in sys.argv)
