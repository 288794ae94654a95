"""Delimited text as files really have it: other delimiters, no header, quotes, fixed decimals."""

from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.propose.recipe import propose
from ivrell.core.recipe.csv_style import DELIMITERS, CsvStyle
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.model import Recipe
from ivrell.core.sheets import office
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import HEAD, approach

ODD = '{ delimiter = ";", header = false, quoting = "all", fixed_decimals = true }'
INPUT = f'input = {{ form = "csv", csv = {ODD} }}\n'
RECIPE = Recipe.model_validate({"seed": 5, "tables": {"readings": {"rows": 60, "columns": [
    {"name": "gauge", "kind": "category", "values": ["Ash; left", 'the "Elm"', "Oak"]},
    {"name": "level", "kind": "number", "spread": "uniform", "low": -4, "high": 4, "decimals": 1},
    {"name": "seen", "kind": "boolean", "null_share": 0.2},
]}}}).resolved({})  # fmt: skip


class Written(EngineCase):
    def lines(self, **style):
        wanted = Input(form="csv", csv=CsvStyle(**style))
        made = self.store.ensure(RECIPE, "readings", wanted)
        return Path(made.paths[0]).read_text().splitlines()

    def test_each_setting_shows_in_the_file(self):
        usual = self.lines()
        self.assertEqual(usual[0], "gauge,level,seen")
        for delimiter in DELIMITERS:
            self.assertEqual(self.lines(delimiter=delimiter)[0].split(delimiter),
                             ["gauge", "level", "seen"])  # fmt: skip
        self.assertEqual(len(self.lines(header=False)), len(usual) - 1)
        self.assertTrue(all(line.startswith('"') for line in self.lines(quoting="all")))
        levels = [line.rsplit(",", 2)[1] for line in self.lines(fixed_decimals=True)[1:]]
        self.assertTrue(all(len(level.split(".")[1]) == 1 for level in levels), levels)
        self.assertTrue(any(level.endswith(".0") for level in levels))

    def raw(self, recipe, **style):
        made = self.store.ensure(recipe, "readings", Input(form="csv", csv=CsvStyle(**style)))
        return Path(made.paths[0]).read_bytes()

    def test_encodings_and_marks_stand_in_the_bytes(self):
        words = RECIPE.tables["readings"].columns[0].model_copy(update={"values": ["Höhe", "Tür"]})
        table = RECIPE.tables["readings"]
        changed = table.model_copy(update={"columns": [words, *table.columns[1:]]})
        recipe = RECIPE.model_copy(update={"tables": {"readings": changed}})
        plain = self.raw(recipe)
        for encoding in ("latin-1", "windows-1252"):
            told = self.raw(recipe, encoding=encoding)
            self.assertEqual(told.decode(encoding), plain.decode())
            self.assertIn("Höhe".encode(encoding), told)
        self.assertEqual(self.raw(recipe, byte_order_mark=True), b"\xef\xbb\xbf" + plain)
        bare = self.raw(recipe, byte_order_mark=True, header=False)
        self.assertEqual(bare, b"\xef\xbb\xbf" + plain.split(b"\n", 1)[1])
        with self.assertRaises(ValueError):
            CsvStyle(encoding="latin-1", byte_order_mark=True)
        beyond = words.model_copy(update={"values": ["Ωmega"]})
        changed = table.model_copy(update={"columns": [beyond, *table.columns[1:]]})
        with self.assertRaisesRegex(BadInput, "latin-1 has no"):
            self.raw(
                RECIPE.model_copy(update={"tables": {"readings": changed}}), encoding="latin-1"
            )

    def test_numbers_with_a_comma(self):
        lines = self.lines(delimiter="|", decimal=",", fixed_decimals=True)
        self.assertRegex(lines[1].split("|")[1], r'^"?-?\d,\d"?$')
        # Where it is the delimiter too, numbers are quoted.
        self.assertRegex(self.lines(decimal=",", fixed_decimals=True)[1], r'"-?\d,\d"')

    def test_each_is_read_back_as_what_was_drawn(self):
        drawn = Generator(RECIPE).block("readings", 0).to_pylist()
        for number, style in enumerate((
            {"delimiter": ";"}, {"delimiter": "\t", "quoting": "all"}, {"header": False},
            {"delimiter": "|", "header": False, "fixed_decimals": True},
            {"delimiter": ";", "decimal": ","}, {"encoding": "latin-1"},
            {"encoding": "windows-1252"}, {"byte_order_mark": True},
        )):  # fmt: skip
            with self.subTest(style=style):
                path = self.folder / f"own-{number}.csv"
                path.write_bytes(self.raw(RECIPE, **style))
                own = Recipe.model_validate(
                    {"tables": {"readings": {"file": str(path), "csv": style}}}
                ).resolved({})
                found = Generator(own).block("readings", 0)
                self.assertEqual([list(row.values()) for row in found.to_pylist()],
                                 [list(row.values()) for row in drawn])  # fmt: skip

    def test_other_forms_take_no_such_settings(self):
        with self.assertRaisesRegex(BadInput, "is no csv"):
            self.store.ensure(RECIPE, "readings", Input(form="parquet", csv=CsvStyle()))
        with self.assertRaisesRegex(ValueError, "this table has none"):
            Recipe.model_validate({"tables": {"readings": {"rows": 3, "csv": {}, "columns": [
                {"name": "gauge", "kind": "sequence"}]}}})  # fmt: skip


class Read(EngineCase):
    def test_every_engine_reads_it(self):
        count = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        by_hand = """
        import csv
        def answer(data, knobs, stage):
            counts = {}
            for _, gauge in csv.reader(open(data.readings), delimiter=";"):
                counts[gauge] = counts.get(gauge, 0) + 1
            return [{"gauge": gauge, "n": n} for gauge, n in counts.items()]
        """
        awk = '{ gsub(/"/, ""); n[$2]++ } END { print "gauge,n"; for (g in n) print g "," n[g] }'
        lanes = [
            approach("by_hand", by_hand) + INPUT,
            sql("duck", "duckdb", count, INPUT),
            approach("awk", awk, "command") + INPUT
            + 'argv = ["awk", "-F", ";", "-f", "{script}", "{readings}"]\n',
        ]  # fmt: skip
        found, _ = self.conducted(*lanes)
        for name, lane in found.items():
            self.assertTrue(lane.agreement.agrees, (name, lane.agreement.reasons))

    def test_commas_encodings_and_marks_through_the_engines(self):
        head = HEAD.replace('"Ash"', '"Höhe"').replace(
            '{ name = "gauge"',
            '{ name = "level", kind = "number", low = 0, high = 9, decimals = 2 },\n'
            '  { name = "gauge"')  # fmt: skip
        query = "SELECT gauge, count(*) AS n, sum(level) AS level FROM readings GROUP BY gauge"
        for style, named in (
            ('{ delimiter = ";", decimal = "," }', 'sep=";", decimal=","'),
            ('{ encoding = "latin-1" }', 'encoding="latin-1"'),
            ("{ byte_order_mark = true }", ""),
        ):
            wanted = f'input = {{ form = "csv", csv = {style} }}\n'
            pandas = f"""
            import pandas as pd
            def answer(data, knobs, stage):
                found = pd.read_csv(data.readings, {named})
                return found.groupby("gauge", as_index=False).agg(
                    n=("level", "size"), level=("level", "sum"))
            """
            lanes = [sql("usual", "duckdb", query), sql("duck", "duckdb", query, wanted),
                     approach("pandas", pandas) + wanted]  # fmt: skip
            tolerant = head.replace('key = ["gauge"]', 'key = ["gauge"]\nrelative = 1e-9')
            with self.subTest(style):
                found, _ = self.conducted(*lanes, text=tolerant)
                for name, lane in found.items():
                    self.assertTrue(lane.agreement.agrees, (name, lane.agreement.reasons))

    def test_a_file_of_one_s_own_is_given_as_it_is_and_read_so(self):
        path = self.folder / "readings.csv"
        path.write_text("1;Ash\n2;Elm\n3;Ash\n")
        text = HEAD.split("[data.tables.readings]")[0].replace("rows = [300]", "") + (
            f'[data.tables.readings]\nfile = "{path}"\n'
            'csv = { delimiter = ";", header = false }\n'
        )
        count = "SELECT f1 AS gauge, count(*) AS n FROM readings GROUP BY f1"
        lanes, _ = self.conducted(sql("duck", "duckdb", count), sql("lite", "sqlite", count),
                                  text=text)  # fmt: skip
        self.assertTrue(lanes["lite"].agreement.agrees, lanes["lite"].agreement)
        self.assertEqual(lanes["duck"].answer_rows, 2)

    def test_a_sheet_reads_it(self):
        if not office.version():
            self.skipTest("no spreadsheet engine")
        head = HEAD.replace('"Ash"', '"Höhe"').replace(
            '{ name = "gauge"',
            '{ name = "level", kind = "number", low = 1.5, high = 1.5, decimals = 2 },\n'
            '  { name = "gauge"')  # fmt: skip
        for style in ('{ delimiter = ";" }', '{ delimiter = ";", decimal = "," }',
                      '{ encoding = "latin-1" }', "{ byte_order_mark = true }"):  # fmt: skip
            lane = (
                '\n[[approach]]\nid = "sheet"\nengine = "sheet"\n'
                f'input = {{ form = "csv", csv = {style} }}\n'
                "columns = [ "
                '{ name = "n", formula = "=COUNTA({readings.gauge})", layout = "cell" },'
                ' { name = "odd", formula = "=COUNTIF({readings.gauge};\\"Höhe\\")",'
                ' layout = "cell" },'
                ' { name = "level", formula = "=SUM({readings.level})", layout = "cell" } ]\n'
            )
            with self.subTest(style):
                trial = self.trial(head + lane, name=f"trial-{len(style)}")
                trial.conduct()
                self.assertIsNone(trial.runs[0].error)
                table = trial.answers.table("sheet", trial.runs[0].answer_fingerprint)
                [row] = table.to_pylist()
                self.assertEqual((row["n"], row["level"]), (300, 450))
                self.assertGreater(row["odd"], 50)


class Names(EngineCase):
    def test_names_that_a_recipe_cannot_hold_are_told(self):
        path = self.folder / "gauges.csv"
        path.write_text("Gauge no,höhe\n" + "".join(f"{n},{n / 4}\n" for n in range(50)))
        proposal = propose({"gauges": path})
        self.assertIn('called "Gauge no" in the sample', proposal.notes["gauges"]["Gauge_no"])
        self.assertIn('called "höhe" in the sample', str(proposal.notes["gauges"]))

    def test_a_file_of_one_s_own_keeps_its_names(self):
        path = self.folder / "gauges.csv"
        path.write_text("Gauge no,höhe\n1,2.5\n2,3.5\n")
        text = HEAD.split("[data.tables.readings]")[0].replace("rows = [300]", "")
        text = text.replace('key = ["gauge"]', "")
        text += f'[data.tables.readings]\nfile = "{path}"\n'
        query = 'SELECT "Gauge no", "höhe" FROM readings'
        lanes, _ = self.conducted(
            sql("duck", "duckdb", query), sql("lite", "sqlite", query),
            sql("server", "postgres", query), text=text,
        )  # fmt: skip
        for name, lane in lanes.items():
            self.assertTrue(lane.agreement.agrees, (name, lane.agreement.reasons))
