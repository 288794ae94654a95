"""Row groups made apart and joined: what other libraries read of such a file."""

import io
import tempfile
import unittest
from pathlib import Path

import duckdb
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given, settings
from hypothesis import strategies as st

from ivrell.core.recipe.forms import FORMS, Layout
from ivrell.core.recipe.forms.thrift import (
    BINARY,
    DOUBLE,
    FALSE,
    I16,
    I64,
    LIST,
    STRUCT,
    TRUE,
    Reader,
    Values,
    written,
)

FORM = FORMS["parquet"]
TABLE = pa.table(
    {
        "n": pa.array(range(1000)),
        "word": [None if k % 7 == 0 else f"x{k % 5}" for k in range(1000)],
        "share": [k / 3 for k in range(1000)],
        "marks": [[k] * (k % 4) for k in range(1000)],
        "day": pa.array(range(1000), pa.date32()),
        "even": [k % 2 == 0 for k in range(1000)],
        "nothing": pa.array([None] * 1000, pa.float64()),
    }
)


def joined(sizes, codec=None):
    layout, sink = Layout(TABLE.schema, codec=codec), io.BytesIO()
    writer = FORM.writer(sink, layout)
    at = 0
    for size in sizes:
        batch = TABLE.slice(at, size).combine_chunks().to_batches()[0]
        writer.add(FORM.encode(batch, layout, []))
        at += size
    writer.close()
    return sink.getvalue()


class Joined(unittest.TestCase):
    def test_three_readers_give_every_value_back_whatever_the_codec(self):
        for codec in FORM.codecs:
            with self.subTest(codec), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "t.parquet"
                path.write_bytes(joined([300, 300, 399, 1], codec))
                self.assertTrue(pq.read_table(path).equals(TABLE))
                self.assertEqual(pl.read_parquet(path).to_dicts(), TABLE.to_pylist())
                query = f"SELECT * FROM '{path}'"
                self.assertEqual(duckdb.sql(query).to_arrow_table().to_pylist(), TABLE.to_pylist())
                told = pq.ParquetFile(path).metadata.row_group(0).column(1).compression
                self.assertEqual(told, {"none": "UNCOMPRESSED"}.get(codec, codec.upper()))

    def test_each_row_group_stands_where_the_footer_says_with_its_own_statistics(self):
        data = joined([400, 600])
        told = pq.ParquetFile(io.BytesIO(data)).metadata
        self.assertEqual((told.num_rows, told.num_row_groups), (1000, 2))
        ends = [group.column(0).statistics for group in map(told.row_group, range(2))]
        self.assertEqual([(e.min, e.max) for e in ends], [(0, 399), (400, 999)])
        second = pq.ParquetFile(io.BytesIO(data)).read_row_group(1)
        self.assertTrue(second.equals(TABLE.slice(400)))

    def test_a_table_of_no_rows(self):
        found = pq.read_table(io.BytesIO(joined([])))
        self.assertEqual((found.num_rows, found.schema.names), (0, TABLE.schema.names))


records = st.recursive(
    st.one_of(
        st.integers(-(2**63), 2**63 - 1).map(lambda value: (I64, value)),
        st.integers(-(2**15), 2**15 - 1).map(lambda value: (I16, value)),
        st.binary(max_size=20).map(lambda value: (BINARY, value)),
        st.floats(allow_nan=False).map(lambda value: (DOUBLE, value)),
        st.booleans().map(lambda value: (TRUE if value else FALSE, value)),
        st.lists(st.integers(0, 2**40), max_size=40).map(lambda v: (LIST, Values(I64, v))),
        st.lists(st.booleans(), max_size=3).map(lambda v: (LIST, Values(TRUE, v))),
    ),
    lambda inner: st.dictionaries(st.integers(1, 300), inner, max_size=6).map(
        lambda value: (STRUCT, value)
    ),
    max_leaves=20,
)


class Thrift(unittest.TestCase):
    @given(st.dictionaries(st.integers(1, 300), records, max_size=8))
    @settings(deadline=None, max_examples=100)
    def test_what_is_written_is_read(self, record):
        self.assertEqual(Reader(written(record)).record(), record)


if __name__ == "__main__":
    unittest.main()
