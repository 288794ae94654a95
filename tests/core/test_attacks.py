"""Lanes of every engine that reach for what is not theirs, and answers that nobody expected."""

import gzip
import http.server
import json
import resource
import textwrap
import threading
import unittest

import numpy as np
import pyarrow as pa
from pyarrow import parquet as pq

from ivrell.core.base.errors import BadInput
from ivrell.core.contain import sandbox
from ivrell.core.sheets import office
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer


class Called(http.server.BaseHTTPRequestHandler):
    """Notes who calls."""

    calls: list[str] = []

    def do_GET(self):
        Called.calls.append(self.path)
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"7")

    def log_message(self, *_):
        pass


@unittest.skipIf(sandbox.why_not(), "without a sandbox a lane may do what its account may")
class Reaching(EngineCase):
    """Each lane tries; files, tables and the network outside its walls are as they were."""

    def setUp(self):
        super().setUp()
        Called.calls.clear()
        self.server = http.server.HTTPServer(("127.0.0.1", 0), Called)
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)
        self.secret = self.folder / "secret.csv"
        self.secret.write_text("gauge,n\nsecret,1\n")
        self.secret.chmod(0o666)

    def tried(self, engine, statements, more="", **plan):
        """Runs a lane for each statement; those that did not fail."""
        lanes = [
            sql(f"try_{n}", engine, f"{statement};\nSELECT 'Ash' AS gauge, 1 AS n", more)
            for n, statement in enumerate(statements)
        ]
        trial = self.trial(HEAD + "".join(lanes) + approach("good", COUNTING), **plan)
        trial.conduct()
        states = {run.approach: run for run in trial.runs}
        self.assertEqual(states["good"].state, "done")
        self.assertEqual(self.secret.read_text(), "gauge,n\nsecret,1\n")
        self.assertEqual(Called.calls, [])
        return {
            statements[int(name.removeprefix("try_"))]
            for name, run in states.items()
            if name != "good" and run.state == "done"
        }, trial

    def test_duckdb(self):
        at = f"http://127.0.0.1:{self.port}"
        allowed, _ = self.tried(
            "duckdb",
            (
                f"SELECT * FROM read_csv('{self.secret}')",
                f"COPY (SELECT 1) TO '{self.secret}'",
                f"COPY (SELECT 1) TO '{self.folder}/mine.csv'",
                f"ATTACH '{self.folder}/mine.duckdb' AS mine",
                "INSTALL httpfs; LOAD httpfs",
                f"INSTALL mine FROM '{at}'",
                f"SELECT * FROM read_csv('{at}/x.csv')",
                "SELECT * FROM read_text('/root/.profile')",
                "SELECT * FROM glob('/root/*')",
                "COPY (SELECT 1) TO '/etc/mine'",
                "COPY (SELECT 1) TO '/usr/lib/mine'",
            ),
        )
        # A list of what is not there is empty.
        lists = {"SELECT * FROM glob('/root/*')", "SELECT * FROM read_text('/root/.profile')"}
        self.assertLessEqual(allowed, lists)
        self.assertFalse((self.folder / "mine.csv").exists())

    def test_a_loaded_file_that_others_share_is_read_only(self):
        for engine in ("duckdb", "sqlite"):
            allowed, _ = self.tried(
                engine,
                ("DELETE FROM readings", "UPDATE readings SET gauge = 'x'", "DROP TABLE readings",
                 "CREATE TABLE kept AS SELECT 1 AS n", "CREATE VIEW kept AS SELECT 1 AS n"),
                f'input = "{engine}"\n',
                name=engine,
            )  # fmt: skip
            with self.subTest(engine):
                self.assertEqual(allowed, set())
                lane = sql("count", engine, more=f'input = "{engine}"\n')
                again = self.trial(HEAD + lane + approach("good", COUNTING), name=f"{engine}-2")
                lanes = again.conduct().points[0].lanes
                self.assertTrue(all(lane.agreement.agrees for lane in lanes))

    def test_sqlite(self):
        allowed, _ = self.tried(
            "sqlite",
            (
                f"ATTACH '{self.folder}/mine.db' AS mine; CREATE TABLE mine.t (a)",
                f"ATTACH '{self.secret}' AS mine; CREATE TABLE mine.t (a)",
                "ATTACH '/etc/mine.db' AS mine; CREATE TABLE mine.t (a)",
                "SELECT load_extension('/usr/lib/mine.so')",
                f"SELECT readfile('{self.secret}')",
                f"SELECT writefile('{self.folder}/mine', 'x')",
                "PRAGMA writable_schema = on; DELETE FROM sqlite_schema",
                f"VACUUM INTO '{self.folder}/mine.db'",
            ),
        )
        self.assertEqual(allowed, set())

    def test_programs(self):
        lines = (
            f"cat {self.secret}", f"echo x > {self.secret}", "ls /tmp/ivrell-test-*",
            f"curl -s http://127.0.0.1:{self.port}/", "grep -az IVRELL /proc/1/environ",
            "kill -9 -1", "mount -t tmpfs none /mnt", "unshare -Ur true", "chroot / true",
            "echo x > /proc/sys/kernel/hostname", "su -c true", "dmesg",
        )  # fmt: skip
        lanes = []
        for number, line in enumerate(lines):
            shell = f"echo gauge,n; {line} >/dev/null 2>&1 && echo got,1 || true"
            lanes.append(f'[[approach]]\nid = "p{number}"\nengine = "command"\nanswer = "csv"\n')
            lanes[-1] += f"argv = {['sh', '-c', shell]}\n"
        trial = self.trial(HEAD + "".join(lanes))
        trial.conduct()
        runs = {run.approach: run for run in trial.runs}
        self.assertEqual(len(runs), len(lines))
        for run, line in zip(runs.values(), lines, strict=True):
            with self.subTest(line):
                if run.state == "done" and run.answer_rows:
                    rows = trial.answers.table(run.approach, run.answer_fingerprint).to_pylist()
                    self.assertNotIn("got", str(rows))
        self.assertEqual(Called.calls, [])
        self.assertEqual(self.secret.read_text(), "gauge,n\nsecret,1\n")


class OddAnswers(TrialCase):
    """The lane beside them is done, and the page gets a verdict for each."""

    def judged(self, *bodies, **plan):
        """The lanes of some bodies, one each, beside one that is as it should be."""
        text = HEAD + approach("good", COUNTING)
        for number, body in enumerate(bodies):
            text += approach(f"odd_{number}", python_answer(textwrap.dedent(body)))
        trial = self.trial(text, **plan)
        good, *odd = trial.conduct().points[0].lanes
        self.assertEqual(good.state, "done")
        for lane in odd:
            json.dumps(lane.model_dump(mode="json"), allow_nan=False)
        return odd, trial.runs

    def test_two_hundred_thousand_columns(self):
        [lane], runs = self.judged("return [{f'c{n}': n for n in range(200_000)}]")
        self.assertIn(lane.state, ("done", "failed"))
        self.assertTrue(all(run.state in ("done", "failed") for run in runs))
        self.assertFalse(lane.agreement and lane.agreement.agrees)

    def test_deep_nesting(self):
        body = """
            import pyarrow as pa
            deep = 1
            for _ in range({levels}):
                deep = [deep]
            return pa.table({{"gauge": pa.array([deep])}})
        """
        odd, _ = self.judged(*(body.format(levels=levels) for levels in (60, 3000)))
        for lane in odd:
            self.assertFalse(lane.agreement and lane.agreement.agrees)

    def test_keys_that_equal_nothing(self):
        body = "return [{'gauge': float('nan'), 'n': 1}, {'gauge': float('nan'), 'n': 2}]"
        [lane], _ = self.judged(body)
        self.assertFalse(lane.agreement.agrees)

    def test_decimals_of_seventy_six_digits(self):
        body = """
            import pyarrow as pa, decimal
            decimal.getcontext().prec = 80
            big = decimal.Decimal("9" * 76)
            return pa.table({"gauge": ["Ash"], "n": pa.array([big], pa.decimal256(76, 0))})
        """
        [lane], _ = self.judged(body)
        self.assertFalse(lane.agreement.agrees)

    def test_types_that_hold_no_value_or_name_no_column(self):
        bodies = (
            "import pyarrow as pa\nreturn pa.table({'gauge': pa.nulls(5), 'n': pa.nulls(5)})",
            "import pyarrow as pa\nreturn pa.table([pa.array([1])] * 2, names=['n', 'n'])",
            "import pyarrow as pa\nreturn pa.table({'': pa.array([1]), '\\x00': pa.array([1])})",
            "return [{1: 2, None: 3}]", "return [{}]", "return []", "return {'gauge': {}}",
            "return [{'gauge': object(), 'n': 1}]", "return iter(int, 1)",
            "return [{'gauge': 'x' * 50_000_000, 'n': 1}]",
        )  # fmt: skip
        odd, _ = self.judged(*bodies, limits={"seconds": 3, "memory_bytes": 400 << 20})
        for lane, body in zip(odd, bodies, strict=True):
            with self.subTest(body):
                self.assertFalse(lane.agreement and lane.agreement.agrees)


class Bombs(TrialCase):
    def own(self, name, content):
        path = self.folder / name
        path.write_bytes(content)
        return path

    def ended(self, path, code, form="csv", **limits):
        """What becomes of a lane that reads a file of the user's own, and bytes that this process
        held more at the most."""
        head = HEAD.split("[data.tables.readings]")[0]
        text = f'{head}[data.tables.readings]\nfile = "{path}"\n'
        text += approach("a", code, input=form)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        try:
            self.trial(text, name=path.stem, limits={"seconds": 20, **limits}).conduct()
        except BadInput as error:
            return error.what, 0
        [run] = self.runs_in(path.stem)
        after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        said = run["limit"]["kind"] if run["limit"] else str(run["error"])[-900:]
        return said, (after - before) * 1024

    def runs_in(self, name):
        lines = (self.folder / name / "runs.jsonl").read_text().splitlines()
        return [json.loads(line) for line in lines]

    def test_a_packed_file_that_is_larger_inside(self):
        path = self.own("bomb.csv.gz", gzip.compress(b"reading,gauge\n" + b"0" * (400 << 20), 1))
        said, held = self.ended(path, COUNTING, memory_bytes=200 << 20)
        self.assertTrue(said)
        self.assertLess(held, 200 << 20)

    def test_columns_of_one_value_repeated_without_end(self):
        path = self.folder / "many.parquet"
        block = pa.table({"reading": pa.array(np.zeros(10_000_000, np.int64)),
                          "gauge": pa.DictionaryArray.from_arrays(
                              pa.array(np.zeros(10_000_000, np.int8)), ["Ash"])})  # fmt: skip
        with pq.ParquetWriter(path, block.schema) as writer:
            for _ in range(40):
                writer.write_table(block)
        self.assertLess(path.stat().st_size, 8 << 20)
        code = """
            import pyarrow.parquet as pq
            def answer(data, knobs, stage):
                table = pq.read_table(data.readings)
                return [{"gauge": "Ash", "n": table.num_rows}]
        """
        said, held = self.ended(path, code, "parquet", memory_bytes=400 << 20)
        self.assertEqual(said, "memory")
        self.assertLess(held, 300 << 20)

    @unittest.skipUnless(office.version(), "no spreadsheet engine here")
    def test_sheets_that_call_out(self):
        calls = []

        class Noting(http.server.BaseHTTPRequestHandler):
            def do_GET(self):
                calls.append(self.path)

        server = http.server.HTTPServer(("127.0.0.1", 0), Noting)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        port = server.server_address[1]
        refused = 0
        for number, formula in enumerate((
            f'WEBSERVICE("http://127.0.0.1:{port}/x")',
            f'COM.MICROSOFT.WEBSERVICE("http://127.0.0.1:{port}/")',
            "'file:///etc/passwd'#$Sheet1.A1", "['file:///etc/passwd'#$Sheet1.A1]",
            'DDE("soffice";"/etc/passwd";"a1")', 'HYPERLINK("macro:///Standard.Module1.Main()")',
            'INFO("directory")', f'HYPERLINK("http://127.0.0.1:{port}/y")',
            "INDIRECT(\"'file:///etc/passwd'#$Sheet1.A1\")",
        )):  # fmt: skip
            lane = '[[approach]]\nid = "a"\nengine = "sheet"\n'
            lane += f"columns = [{{ name = \"gauge\", formula = '''={formula}''' }}]\n"
            with self.subTest(formula):
                try:
                    self.trial(HEAD + lane, name=f"s{number}").conduct()
                except BadInput as error:
                    self.assertTrue(error.what)
                    refused += 1
        self.assertGreater(refused, 3)
        self.assertLess(refused, 9, "some formula must get as far as the engine")
        self.assertEqual(calls, [])


if __name__ == "__main__":
    unittest.main()
