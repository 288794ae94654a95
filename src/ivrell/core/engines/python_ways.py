"""Ways of working in Python that an approach can start from, each a text that runs as it is.

Every one answers with the row count of a table, named TABLE in the texts.
"""

from dataclasses import dataclass
from textwrap import dedent


@dataclass(frozen=True)
class Way:
    """A starting text: its name, the form of the tables that it reads, the code."""

    name: str
    form: str
    code: str

    def at(self, table: str) -> str:
        """The code for a table."""
        return dedent(self.code).strip("\n").replace("TABLE", table) + "\n"


_BY_CHUNKS = '''
    import os
    {imports}

    CHUNKS = 8


    def lines(path, start, end):
        """Lines that end between two places of a file."""
        with open(path, "rb") as file:
            file.seek(start)
            return file.read(end - start).count(b"\\n")


    def chunks(path):
        size = os.path.getsize(path)
        bounds = [size * n // CHUNKS for n in range(CHUNKS + 1)]
        return [(path, start, end) for start, end in zip(bounds, bounds[1:])]

    {rest}
'''


def _by_chunks(imports: str, rest: str) -> str:
    whole = dedent(_BY_CHUNKS).replace("{imports}", imports)
    return whole.replace("{rest}", "\n" + dedent(rest).strip("\n"))


WAYS = (
    Way(
        "pandas, Arrow types",
        "parquet",
        """
        import pandas as pd


        def answer(data, knobs, stage):
            with stage("read"):
                found = pd.read_parquet(data.TABLE, dtype_backend="pyarrow")
            return pd.DataFrame({"rows": [len(found)]})
        """,
    ),
    Way(
        "PyArrow, a dataset",
        "parquet",
        """
        import pyarrow.compute as pc
        import pyarrow.dataset as ds


        def answer(data, knobs, stage):
            found = ds.dataset(data.TABLE)
            with stage("scan"):
                batches = found.to_batches(columns={"one": pc.scalar(1)})
                return [{"rows": sum(batch.num_rows for batch in batches)}]
        """,
    ),
    Way(
        "NumPy, a structured array",
        "arrow",
        """
        import numpy as np
        import pyarrow as pa


        def answer(data, knobs, stage):
            with stage("read"):
                with pa.memory_map(data.TABLE) as file:
                    found = pa.ipc.open_file(file).read_all()
                columns = {name: found[name].to_numpy() for name in found.column_names}
                kinds = [(name, column.dtype) for name, column in columns.items()]
                rows = np.empty(len(found), kinds)
                for name, column in columns.items():
                    rows[name] = column
            return [{"rows": len(rows)}]
        """,
    ),
    Way(
        "Polars, streamed to a file",
        "parquet",
        """
        import polars as pl


        def answer(data, knobs, stage):
            found = pl.scan_parquet(data.TABLE).select(pl.len().cast(pl.Int64).alias("rows"))
            found.sink_parquet("answer.parquet")
            return "answer.parquet"
        """,
    ),
    Way(
        "DuckDB, relations in Python",
        "parquet",
        """
        import duckdb


        def answer(data, knobs, stage):
            found = duckdb.read_parquet(data.TABLE)
            return found.aggregate("count(*) AS rows").df()
        """,
    ),
    Way(
        "several processes",
        "csv",
        _by_chunks(
            "from multiprocessing import get_context",
            """
            def answer(data, knobs, stage):
                with get_context("fork").Pool() as pool:
                    return [{"rows": sum(pool.starmap(lines, chunks(data.TABLE))) - 1}]
            """,
        ),
    ),
    Way(
        "several threads",
        "csv",
        _by_chunks(
            "from concurrent.futures import ThreadPoolExecutor",
            """
            def answer(data, knobs, stage):
                with ThreadPoolExecutor() as pool:
                    found = pool.map(lambda chunk: lines(*chunk), chunks(data.TABLE))
                    return [{"rows": sum(found) - 1}]
            """,
        ),
    ),
    Way(
        "asyncio",
        "csv",
        _by_chunks(
            "import asyncio",
            """
            async def counted(path):
                tasks = [asyncio.to_thread(lines, *chunk) for chunk in chunks(path)]
                return sum(await asyncio.gather(*tasks))


            def answer(data, knobs, stage):
                return [{"rows": asyncio.run(counted(data.TABLE)) - 1}]
            """,
        ),
    ),
    Way(
        "a memory map",
        "csv",
        """
        import mmap


        def answer(data, knobs, stage):
            rows = -1
            with open(data.TABLE, "rb") as file:
                with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as mapped:
                    at = mapped.find(b"\\n")
                    while at >= 0:
                        rows += 1
                        at = mapped.find(b"\\n", at + 1)
            return [{"rows": rows}]
        """,
    ),
)
