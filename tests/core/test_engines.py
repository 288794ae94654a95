"""Engines: answers of every library, SQL cut into statements, plain mistakes found early."""

import unittest

import dask.dataframe
import datafusion
import duckdb
import ibis
import narwhals
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa

from ivrell.core.engines.base import state_of
from ivrell.core.engines.duckdb import DuckdbApproach
from ivrell.core.engines.python import PythonApproach
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.sql_text import statements
from ivrell.core.tasks.answers import how_to_force, to_arrow
from ivrell.core.tasks.task import ApproachFailed
from tests.support.comparisons import HEAD, TrialCase, approach


class Given:
    """Something that says what it holds by one protocol alone."""

    def __init__(self, held, protocol):
        self._held, self._protocol = held, protocol

    def __getattr__(self, name):
        if name == self._protocol:
            return getattr(self._held, name)
        raise AttributeError(name)


class Answers(unittest.TestCase):
    def test_every_library(self):
        frame = pd.DataFrame({"lock": ["a", "b"], "n": [1, 2]})
        for answer in (
            frame,
            frame.set_index("lock"),
            pl.from_pandas(frame),
            pa.Table.from_pandas(frame),
            frame.to_dict("records"),
            {"lock": ["a", "b"], "n": np.array([1, 2])},
        ):
            with self.subTest(type(answer)):
                self.assertEqual(to_arrow(answer).to_pydict(), {"lock": ["a", "b"], "n": [1, 2]})

    def test_lazy_ones(self):
        lazy = pl.LazyFrame({"n": [1]})
        self.assertEqual(how_to_force(lazy)().to_dict(as_series=False), {"n": [1]})
        self.assertEqual(how_to_force(n for n in (1, 2))(), [1, 2])
        self.assertIsNone(how_to_force([1, 2]))

    def test_those_of_other_libraries(self):
        table = pa.table({"lock": ["a", "b"], "n": [1, 2]})
        kept = pl.LazyFrame(table.to_pydict())
        for answer in (
            dask.dataframe.from_pandas(table.to_pandas(), npartitions=1),
            datafusion.SessionContext().from_arrow(table),
            ibis.memtable(table).filter(ibis._.n > 0),
            narwhals.from_native(kept),
            narwhals.from_native(kept.collect()),
            duckdb.from_arrow(table),
            table.to_reader(),
            Given(table, "__arrow_c_stream__"),
            Given(table.to_batches()[0], "__arrow_c_array__"),
            Given(table, "__dataframe__"),
        ):
            with self.subTest(type(answer)):
                compute = how_to_force(answer)
                self.assertIsNotNone(compute, "it would be computed outside the clock")
                self.assertEqual(to_arrow(compute()).to_pydict(), table.to_pydict())

    def test_arrays(self):
        n = np.array([1, 2])
        for answer in (
            {"n": n},
            {"n": Given(n, "__array__")},
            np.array([(1,), (2,)], [("n", int)]),
        ):
            with self.subTest(type(answer)):
                compute = how_to_force(answer)
                found = compute() if compute else answer
                self.assertEqual(to_arrow(found).to_pydict(), {"n": [1, 2]})
        with self.assertRaisesRegex(ApproachFailed, "Return a dict of columns"):
            to_arrow(n)

    def test_what_fails_when_it_is_read_is_the_lane_s_with_its_trace(self):
        def rows():
            yield {"n": 1}
            raise RuntimeError("the lock is shut")

        with self.assertRaisesRegex(ApproachFailed, "the lock is shut") as caught:
            to_arrow(rows())
        self.assertIn("RuntimeError", caught.exception.trace)

    def test_refused(self):
        for answer, pattern in (
            (None, "returned nothing"),
            (3, "type int"),
            ([1, 2], "list of dicts"),
            ("nowhere.csv", "no file"),
            (pa.table([[1], [2]], names=["n", "n"]), "more than one column"),
        ):
            with self.subTest(answer=answer), self.assertRaisesRegex(ApproachFailed, pattern):
                to_arrow(answer)


class Sql(unittest.TestCase):
    def test_statements_stages_and_lines(self):
        sql = (
            "-- stage: read\nCREATE TABLE a AS\nSELECT ';' AS x;\n\n-- stage: sum\nSELECT 1 -- ;\n"
        )
        found = statements(sql, {})
        self.assertEqual([(s.stage, s.line) for s in found], [("read", 2), ("sum", 6)])
        self.assertTrue(found[0].text.endswith("';' AS x"))

    def test_knobs_in_the_body_of_procedural_code(self):
        sql = (
            "DO $$\nBEGIN\n FOR i IN 1..{batch} LOOP\n  PERFORM '{kept}', i::int;\n"
            " END LOOP;\nEND $$"
        )
        (found,) = statements(sql, {"batch": 5})
        self.assertIn("1..5 LOOP", found.text)
        self.assertIn("'{kept}', i::int;", found.text)
        with self.assertRaisesRegex(ApproachFailed, "no knob “bach”") as caught:
            statements(sql.replace("{batch}", "{bach}"), {"batch": 5})
        self.assertEqual(caught.exception.line, 3)
        with self.assertRaises(ApproachFailed):
            statements("DO $$ {batch} $$", {"batch": "1; DROP TABLE x"})

    def test_knobs(self):
        found = statements("SELECT :batch, x::int, ':batch', {batch} FROM t", {"batch": 5})
        self.assertEqual(found[0].text, "SELECT $batch, x::int, ':batch', 5 FROM t")
        self.assertEqual(found[0].bound, ("batch",))

    def test_refused(self):
        with self.assertRaisesRegex(ApproachFailed, "no knob “lot”; there are: batch"):
            statements("SELECT :lot", {"batch": 1})
        with self.assertRaisesRegex(ApproachFailed, "cannot be put into SQL"):
            statements("SELECT {batch}", {"batch": "1; DROP TABLE x"})


class Problems(unittest.TestCase):
    def python(self, code):
        return ENGINES["python"].problem(PythonApproach(id="a", engine="python", code=code))

    def duckdb(self, code):
        return ENGINES["duckdb"].problem(DuckdbApproach(id="a", engine="duckdb", code=code))

    def test_python(self):
        self.assertIsNone(self.python("def answer(data, knobs, stage):\n    return 1\n"))
        self.assertEqual(self.python("x = 1\ny = (\n").line, 2)
        self.assertIn("no function answer", self.python("x = 1").what)
        self.assertIn("2 arguments", self.python("def answer(data, knobs):\n    pass").what)

    def test_duckdb(self):
        self.assertIsNone(self.duckdb("SELECT x % :n, {n} FROM passages -- a note"))
        self.assertEqual(self.duckdb("SELECT 1\nFORM passages x y").line, 2)
        self.assertIn("no statement", self.duckdb(" \n").what)

    def test_engines_are_installed_here(self):
        for engine in ENGINES.values():
            if engine.name == "spark":
                # An optional part, with tests of its own.
                continue
            state = state_of(engine)
            self.assertTrue(state.installed, state.missing)
            self.assertTrue(all(state.versions.values()))


class Duckdb(TrialCase):
    def test_stages_knobs_setup_and_both_forms(self):
        sql = """
            -- stage: thin
            CREATE TABLE few AS SELECT * FROM readings WHERE reading <= :rows / {divisor};
            -- stage: count
            SELECT gauge, count(*) AS n FROM few, settled GROUP BY gauge
        """
        head = HEAD.replace("rows = [300]", "rows = [300]\ndivisor = [3]")
        setup = "CREATE TABLE settled AS SELECT 1"
        text = head + "".join(
            approach(f"q_{form}", sql, "duckdb", input=form, setup=setup)
            for form in ("csv", "parquet")
        )
        text += approach("parts", sql, "duckdb", setup=setup).replace(
            "code =", 'input = { form = "csv.gz", parts = 4 }\ncode ='
        )
        trial = self.trial(text)
        found = trial.conduct()
        for run in trial.runs:
            self.assertEqual(run.state, "done", run.error)
            self.assertEqual([stage.name for stage in run.stages], ["thin", "count"])
            self.assertEqual(run.answer_rows, 3)
        self.assertTrue(all(lane.agreement.agrees for lane in found.points[0].lanes))

    def test_delivery_discarded_is_counted_only(self):
        text = HEAD + approach("q", "SELECT * FROM readings", "duckdb", delivery="discard")
        trial = self.trial(text)
        trial.conduct()
        self.assertEqual(trial.runs[0].answer_rows, 1)


class Python(TrialCase):
    def test_lazy_answer_is_computed_inside_the_clock(self):
        code = """
            import time
            def answer(data, knobs, stage):
                def rows():
                    time.sleep(0.3)
                    yield {"gauge": "Ash", "n": 1}
                return rows()
        """
        trial = self.trial(HEAD + approach("lazy", code))
        trial.conduct()
        self.assertGreaterEqual(trial.runs[0].elapsed_s, 0.3)
        self.assertEqual(trial.runs[0].stages[0].name, "compute what was lazy")

    def test_libraries_compute_inside_the_clock(self):
        read = {
            "dask": "import dask.dataframe as dd\nread = dd.read_parquet",
            "datafusion": "import datafusion\nread = datafusion.SessionContext().read_parquet",
            "ibis": "import ibis\nread = ibis.read_parquet",
            "narwhals": "import narwhals, polars\n"
            "def read(path):\n    return narwhals.from_native(polars.scan_parquet(path))",
        }
        lanes = "".join(
            approach(name, f"{code}\ndef answer(data, knobs, stage):\n"
                     "    return read(str(data.readings))", input="parquet")
            for name, code in read.items()
        )  # fmt: skip
        text = HEAD.replace('["gauge"]', '["reading"]')
        trial = self.trial(text + lanes)
        found = trial.conduct().points[0].lanes
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        self.assertEqual([lane.agreement.agrees for lane in found], [True] * 4)
        for run in trial.runs:
            with self.subTest(run.approach):
                self.assertIn("compute what was lazy", [stage.name for stage in run.stages])
                self.assertEqual(run.answer_rows, 300)


if __name__ == "__main__":
    unittest.main()
