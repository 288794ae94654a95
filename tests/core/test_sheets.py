"""Approaches of formulas on the real spreadsheet engine: layouts, recalculation, limits, traps."""

import os
import time
import unittest

import pyarrow as pa

from ivrell.core.base.errors import BadInput
from ivrell.core.sheets import office
from ivrell.core.sheets.book import answer_table
from tests.support.comparisons import TrialCase
from tests.support.processes import processes_with

HEAD = """format = "ivrell-comparison/1"
name = "Barges beside passages"
question = "Asked in each test."

[answer]
key = [{key}]
absolute = 1e-9

[data]
seed = 9

[data.tables.barges]
rows = {barges}
order = "shuffled"
columns = [
  {{ name = "number", kind = "sequence", start = 1001 }},
  {{ name = "hull", kind = "category", values = ["steel", "oak"] }},
  {{ name = "code", kind = "code", width = 5, zeros_share = 0.5 }},
  {{ name = "built", kind = "date", from = "1990-01-01", until = "2030-01-01" }},
  {{ name = "length", kind = "number", low = 12, high = 40, decimals = 1, null_share = 0.1 }},
  {{ name = "iron", kind = "boolean" }},
]

[data.tables.passages]
rows = {passages}
columns = [
  {{ name = "passage", kind = "sequence" }},
  {{ name = "barge", kind = "reference", to = "barges.number" }},
]
"""
QUERY = """
[[approach]]
id = "query"
engine = "duckdb"
input = "parquet"
code = "{code}"
"""
JOIN = QUERY.format(
    code="SELECT passage, hull FROM passages JOIN barges ON barges.number = passages.barge"
)
MATCH = "MATCH({row.barge};{barges.number};0)"


def head(*key, barges=120, passages=400):
    return HEAD.format(key=", ".join(f'"{k}"' for k in key), barges=barges, passages=passages)


def lane(name, *columns, more=""):
    lines = ",\n  ".join(
        "{ " + ", ".join(f"{k} = '''{v}'''" for k, v in column.items()) + " }" for column in columns
    )
    return f'\n[[approach]]\nid = "{name}"\nengine = "sheet"\n{more}\ncolumns = [\n  {lines}\n]\n'


def column(name, formula, layout="rows", **more):
    return {"name": name, "formula": formula, "layout": layout, **more}


LOOKUP = "=LOOKUP({passages.barge};{barges.number};{barges.hull})"
PASSAGE = column("passage", "={row.passage}")


@unittest.skipUnless(office.version(), "the spreadsheet engine is not installed here")
class SheetCase(TrialCase):
    def conducted(self, text, *, fine=True, **plan):
        trial = self.trial(text, **plan)
        point = trial.conduct().points[0]
        if fine:
            self.assertEqual([run.error for run in trial.runs if run.error], [])
        self.ran = trial
        return {lane.id: lane for lane in point.lanes}, {run.approach: run for run in trial.runs}

    def answer(self, runs, name):
        return self.ran.answers.table(name, runs[name].answer_fingerprint)


class Layouts(SheetCase):
    def test_every_layout_gives_the_rows_that_a_join_gives(self):
        lanes, runs = self.conducted(
            head("passage")
            + JOIN
            + lane("rows", PASSAGE, column("hull", f"=INDEX({{barges.hull}};{MATCH})"))
            + lane("helper", PASSAGE, column("at", f"={MATCH}", "helper"),
                   column("hull", "=INDEX({barges.hull};{row.at})"))
            + lane("array", column("passage", "={passages.passage}", "array"),
                   column("hull", LOOKUP, "array"),
                   more='sorted = ["barges(number)"]')
            + lane("bare", PASSAGE, column("hull", f"=INDEX({{barges.hull}};{MATCH})"),
                   more="header = false")
            + lane("csv", PASSAGE, column("hull", f"=INDEX({{barges.hull}};{MATCH})"),
                   more='input = "csv"')
            + lane("ods", PASSAGE, column("hull", f"=INDEX({{barges.hull}};{MATCH})"),
                   more='input = "ods"')
            + lane("xlsx", PASSAGE, column("hull", f"=INDEX({{barges.hull}};{MATCH})"),
                   more='input = "xlsx"')
        )  # fmt: skip
        for name, found in lanes.items():
            with self.subTest(name):
                self.assertTrue(found.agreement.agrees, found.agreement.reasons)
        counted = {name: run.counters.get("formula cells") for name, run in runs.items()}
        self.assertEqual((counted["rows"], counted["helper"], counted["array"]), (800, 1200, 2))
        stages = [stage.name for stage in runs["rows"].stages]
        self.assertEqual(stages, ["bring the data in", "write the formulas",
                                  "calculate everything", "read the answer"])  # fmt: skip

    def test_single_cells_inputs_and_a_repeat_table(self):
        cells = (
            'cells = [ { name = "rate", value = 2 },'
            ' { name = "total", formula = "=SUM({passages.passage})*{cells.rate}" } ]\n'
        )
        _, runs = self.conducted(
            head()
            + lane("one", column("total", "={cells.total}", "cell"),
                   column("longest", "=MAX({barges.length})", "cell"), more=cells)
            + '\n[[approach]]\nid = "many"\nengine = "sheet"\n' + cells
            + 'repeat = { input = "rate", result = "total", times = 4 }\n'
            + '\n[[approach]]\nid = "for_each"\nengine = "sheet"\n' + cells
            + 'repeat = { input = "rate", result = "total", times = "barges" }\n'
        )  # fmt: skip
        total = 400 * 401 // 2
        self.assertEqual(self.answer(runs, "one")["total"].to_pylist(), [2 * total])
        many = self.answer(runs, "many")
        self.assertEqual(many.column_names, ["rate", "total"])
        self.assertEqual(many["total"].to_pylist(), [n * total for n in (1, 2, 3, 4)])
        each = self.answer(runs, "for_each")
        barges = len(each)
        self.assertGreater(barges, 4)
        self.assertEqual(each["total"].to_pylist(), [n * total for n in range(1, barges + 1)])

    def test_the_work_is_the_engine_s_and_the_client_stands_apart(self):
        heavy = "=SUMPRODUCT(SIN({passages.passage})*COS({passages.passage}+{row.passage}))"
        _, runs = self.conducted(
            head("passage", passages=2500) + lane("heavy", PASSAGE, column("x", heavy),
                                                  more='timed = ["calculate"]')
        )  # fmt: skip
        run = runs["heavy"]
        used = run.cpu_user_s + run.cpu_system_s
        self.assertGreater(used, 0.1)
        self.assertLess(run.counters["client: CPU seconds"], 0.3 * used)
        self.assertGreater(run.start_memory_bytes, 50_000_000)
        self.assertEqual([stage.name for stage in run.stages], ["calculate everything"])


class Traps(SheetCase):
    def test_codes_days_truth_and_nulls_come_through(self):
        columns = (
            column("number", "={row.number}"),
            column("code", "={row.code}", kind="text"),
            column("built", "={row.built}", kind="date"),
            column("length", '=IF(ISBLANK({row.length});"";{row.length})'),
            column("iron", "={row.iron}"),
        )
        query = "SELECT number, code, built, length, CAST(iron AS INT) AS iron FROM barges"
        lanes, _ = self.conducted(
            head("number")
            + QUERY.format(code=query)
            + lane("cells", *columns, more='rows_of = "barges"')
            + lane("book", *columns, more='rows_of = "barges"\ninput = "xlsx"')
            + lane("csv", *columns[:2], *columns[3:4], more='rows_of = "barges"\ninput = "csv"')
        )
        for name in ("cells", "book"):
            self.assertEqual(lanes[name].agreement.reasons, [])
            self.assertEqual(lanes[name].agreement.verdict, "same")
        _, runs = self.conducted(
            head("number") + lane("csv", *columns[:2], more='rows_of = "barges"\ninput = "csv"'),
            name="codes",
        )
        codes = self.answer(runs, "csv")["code"].to_pylist()
        self.assertTrue(any(code.startswith("0") for code in codes))

    def test_errors_are_counted_by_kind_and_are_no_numbers(self):
        _, runs = self.conducted(
            head("passage")
            + lane("one", PASSAGE, column("a", "=1/({row.passage}-5)"),
                   column("b", "=MATCH(-1;{barges.number};0)"))
        )  # fmt: skip
        counters = runs["one"].counters
        self.assertEqual(counters["errors: division by zero"], 1)
        self.assertEqual(counters["errors: not available"], 400)
        answer = self.answer(runs, "one")
        self.assertEqual(answer["a"].null_count, 1)
        self.assertEqual(answer["b"].null_count, 400)

    def test_a_file_of_one_s_own_stands_on_a_sheet(self):
        (self.folder / "depots.csv").write_text("depot,berths\nHallow,3\nSill,5\n")
        own = '\n[data.tables.depots]\nfile = "depots.csv"\n'
        _, runs = self.conducted(
            head("depot") + own
            + lane("one", column("depot", "={row.depot}"), column("all", "=SUM({depots.berths})")),
            own_files=str(self.folder),
        )  # fmt: skip
        self.assertEqual(self.answer(runs, "one").to_pydict(),
                         {"depot": ["Hallow", "Sill"], "all": [8, 8]})  # fmt: skip

    def test_whole_numbers_are_integers_again(self):
        table = answer_table({"n": [1.0, 2.0, ""], "x": [1.5, None, 2.0], "t": ["a", 3.0, ""]}, {})
        self.assertEqual(table.schema.types, [pa.int64(), pa.float64(), pa.string()])
        self.assertEqual(table["t"].to_pylist(), ["a", "3", None])

    def test_mistakes_are_told_before_anything_runs(self):
        for columns, words in (
            ((column("a", "=SUM(1,2)"),), "semicolon"),
            ((column("a", "={boats.hull}"),), "no table boats"),
            ((column("a", "={row.a}"),), "need each other"),
        ):
            with self.subTest(words), self.assertRaisesRegex(BadInput, words):
                self.trial(head("passage") + lane("one", *columns), name=words)


class Recalculation(SheetCase):
    def test_only_what_depends_on_a_change_is_calculated_again(self):
        toll = column("toll", "=LOOKUP({row.barge};{barges.number};{barges.length})"
                              "+SIN({row.passage})^2*SQRT({row.passage})")  # fmt: skip
        more = 'sorted = ["barges(number)"]\n'
        change = 'change = { table = "passages", column = "passage", row = 7, to = 7 }\n'
        lanes, _ = self.conducted(
            head("passage", passages=20_000)
            + lane("all", PASSAGE, toll, more=more + 'timed = ["calculate"]')
            + lane("one", PASSAGE, toll, more=more + change + 'timed = ["change"]'),
            rounds=3,
        )
        self.assertTrue(lanes["one"].agreement.agrees)
        shares = [
            run.counters["share recalculated after the change"]
            for run in self.ran.runs
            if run.approach == "one"
        ]
        self.assertLess(min(shares), 0.3)
        best = {
            name: min(run.elapsed_s for run in self.ran.runs if run.approach == name)
            for name in ("all", "one")
        }
        self.assertLess(best["one"], best["all"] / 3)

    def test_a_change_changes_what_depends_on_it(self):
        change = 'cells = [ { name = "rate", value = 2 } ]\nchange = { cell = "rate", to = 5 }\n'
        timed = 'timed = ["bring", "fill", "calculate", "change", "read", "save"]'
        _, runs = self.conducted(
            head("passage") + lane("one", PASSAGE, column("x", "={row.passage}*{cells.rate}"),
                                   more=change + timed)
        )  # fmt: skip
        self.assertEqual(self.answer(runs, "one")["x"].to_pylist()[:3], [5, 10, 15])
        self.assertGreater(runs["one"].counters["saved bytes"], 1000)
        self.assertEqual(len(runs["one"].stages), 6)


class Limits(SheetCase):
    def test_a_long_calculation_is_ended_and_nothing_of_it_is_left(self):
        long = "=SUMPRODUCT(SIN({passages.passage})*SIN({passages.passage}+{row.passage}))"
        text = head("passage", passages=30_000)
        began = time.monotonic()
        _, runs = self.conducted(
            text + lane("long", PASSAGE, column("x", long), more='timed = ["calculate"]'),
            fine=False, limits={"seconds": 1.0}, name="long",
        )  # fmt: skip
        run = runs["long"]
        self.assertEqual((run.state, run.limit.kind), ("limit", "elapsed"))
        self.assertLess(run.elapsed_at_least_s, 2.0)
        # Those of this process alone: other tests may calculate beside it.
        ours = processes_with(f"ivrell-run-{os.getpid()}-")
        self.assertEqual(set(processes_with("soffice.bin")) & set(ours), set())
        self.assertLess(time.monotonic() - began, 40)
        _, runs = self.conducted(
            head("passage") + lane("long", PASSAGE, column("x", "={row.passage}+1")), name="after"
        )
        self.assertEqual(runs["long"].state, "done")

    def test_one_thread_where_asked(self):
        heavy = "=SUMPRODUCT(SIN({passages.passage})*COS({passages.passage}+{row.passage}))"
        _, runs = self.conducted(
            head("passage", passages=3000)
            + lane("many", PASSAGE, column("x", heavy), more='timed = ["calculate"]')
            + lane("one", PASSAGE, column("x", heavy),
                   more='timed = ["calculate"]\nmany_threads = false')
        )  # fmt: skip
        cores = {
            name: (run.cpu_user_s + run.cpu_system_s) / run.elapsed_s for name, run in runs.items()
        }
        self.assertLess(cores["one"], 1.25)
        self.assertEqual(
            self.answer(runs, "many")["x"].to_pylist(), self.answer(runs, "one")["x"].to_pylist()
        )


class Random(SheetCase):
    def test_random_models_are_held_against_each_other_by_statistics(self):
        text = head().replace("[answer]", "[answer]\nstatistics = { mean = 0.05, spread = 0.2 }")
        draws = column("x", "=NORMINV(RAND();10;2)")
        numpy = """
[[approach]]
id = "arrays"
engine = "python"
code = '''
import numpy as np
def answer(data, knobs, stage):
    return {"x": np.random.default_rng().normal(MEAN, SD, 400)}
'''
"""
        for mean, sd, agrees in (("10", "2", True), ("12", "2", False), ("10", "5", False)):
            with self.subTest(mean=mean, sd=sd):
                code = numpy.replace("MEAN", mean).replace("SD", sd)
                lanes, _ = self.conducted(text + lane("drawn", draws) + code, name=mean + sd)
                agreement = lanes["arrays"].agreement
                self.assertEqual(agreement.agrees, agrees, agreement.reasons)
                self.assertIn("compared by statistics", agreement.reasons[0])


if __name__ == "__main__":
    unittest.main()
