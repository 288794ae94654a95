"""Csv files of the user's own as they come: other delimiters, encodings, line breaks in values."""

import csv
import datetime as dt
import os

import pyarrow.parquet as pq

from ivrell.core.base.errors import BadInput
from ivrell.core.propose.recipe import propose
from ivrell.core.recipe.csv_look import seen_style
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.own_file import own_file
from ivrell.core.recipe.preview import preview
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import HEAD, approach

PLACES = ["Höhe", "Tür; links", 'the "Elm"', "two\nlines", "Süd, Ost"]
OWN_HEAD = HEAD.split("[data.tables.readings]")[0].replace("rows = [300]", "")


class OwnCsv(EngineCase):
    def written(self, name="own.csv", rows=400, encoding="utf-8", **how):
        path = self.folder / name
        with path.open("w", encoding=encoding, newline="") as file:
            writer = csv.writer(file, **how)
            writer.writerow(["reading", "gauge", "level", "seen"])
            for n in range(rows):
                level = f"{n % 97 / 8}".replace(".", "," if how.get("delimiter") == ";" else ".")
                day = dt.date(2026, 1, 1) + dt.timedelta(days=n % 300)
                writer.writerow([n, PLACES[n % 5], level, day])
        return path

    def test_how_a_file_is_written_is_seen(self):
        usual = {"delimiter": ";", "decimal": ","}
        for how, style in (
            ({}, {}),
            ({"delimiter": ";"}, usual),
            ({"delimiter": ";", "encoding": "utf-8-sig"}, {**usual, "byte_order_mark": True}),
            ({"delimiter": ";", "encoding": "latin-1"}, {**usual, "encoding": "latin-1"}),
            ({"delimiter": "\t"}, {"delimiter": "\t"}),
            ({"delimiter": "|", "quoting": csv.QUOTE_ALL}, {"delimiter": "|", "quoting": "all"}),
        ):
            with self.subTest(how):
                self.assertEqual(seen_style(self.written(**how)), CsvStyle(**style))

    def seen_in(self, text, encoding="utf-8"):
        path = self.folder / "text.csv"
        path.write_bytes(text.encode(encoding))
        return seen_style(path)

    def test_what_a_file_does_not_speak_for_is_not_seen(self):
        lines = "".join(f"{n},{n}5\n" for n in range(9))
        self.assertEqual(self.seen_in(f"a,b\n{lines}"), CsvStyle())
        # A comma behind each thousand is no decimal comma.
        self.assertEqual(self.seen_in("a;b\n1,234;2\n5,678;3\n"), CsvStyle(delimiter=";"))
        self.assertEqual(self.seen_in("codes\na;b;c\nd;e;f\n"), CsvStyle())
        self.assertEqual(self.seen_in(""), CsvStyle())
        self.assertEqual(self.seen_in("price\n5 €\n", "windows-1252").encoding, "windows-1252")
        # What is odd far behind the first lines counts too.
        late = self.seen_in("a,b\n" + "1,2\n" * 400_000 + "Höhe,3\n", "latin-1")
        self.assertEqual(late.encoding, "latin-1")

    def test_what_is_no_plain_file_is_refused_at_once(self):
        os.mkfifo(self.folder / "pipe.csv")
        (self.folder / "folder.csv").mkdir()
        for name, why in (("pipe.csv", "no plain file"), ("folder.csv", "no plain file"),
                          ("gone.csv", "cannot be read")):  # fmt: skip
            recipe = Recipe.model_validate(
                {"seed": 5, "tables": {"own": {"file": str(self.folder / name)}}}
            )
            with self.subTest(name), self.assertRaisesRegex(BadInput, why):
                recipe.resolved({})

    def test_a_wrong_delimiter_is_noticed(self):
        path = self.written(delimiter=";")
        with self.assertRaisesRegex(BadInput, 'seems to have ";" between') as caught:
            own_file(str(path), 1000, CsvStyle())
        self.assertIn("leave csv out", caught.exception.hint)

    def test_a_sample_is_read_as_it_is_written(self):
        proposal = propose({"own": self.written(delimiter=";", encoding="latin-1")})
        columns = {c["name"]: c["kind"] for c in proposal.data["tables"]["own"]["columns"]}
        self.assertEqual(columns["level"], "number")
        self.assertEqual(
            proposal.read_as["own"], "semicolons between fields, decimal comma, latin-1"
        )
        self.assertIn(
            "# own read as: semicolons between fields, decimal comma, latin-1", proposal.toml()
        )

    def test_every_engine_reads_what_nobody_described(self):
        path = self.written(delimiter=";", encoding="latin-1")
        text = f'{OWN_HEAD}[data.tables.readings]\nfile = "{path}"\n'
        query = "SELECT gauge, count(*) AS n, sum(level) AS level FROM readings GROUP BY gauge"
        lanes, _ = self.conducted(
            sql("duck", "duckdb", query, 'input = "csv"\n'),
            sql("packed", "duckdb", query, 'input = "parquet"\n'),
            sql("lite", "sqlite", query), sql("server", "postgres", query),
            approach("own", """
                import pandas as pd
                def answer(data, knobs, stage):
                    all = pd.read_csv(data.readings, sep=";", decimal=",", encoding="latin-1")
                    return all.groupby("gauge").agg(n=("level", "size"), level=("level", "sum"))
            """),
            text=text,
        )  # fmt: skip
        for name, lane in lanes.items():
            with self.subTest(name):
                self.assertTrue(lane.agreement and lane.agreement.agrees, lane)

    def test_more_rows_than_one_process_draws_in_every_form(self):
        path = self.written(rows=700_000, delimiter=";")
        recipe = Recipe.model_validate({"seed": 5, "tables": {"own": {"file": str(path)}}})
        recipe = recipe.resolved({})
        self.assertEqual(recipe.rows_of("own"), 700_000)
        shown = preview(Generator(recipe), "own").read_as
        self.assertEqual(shown, "semicolons between fields, decimal comma")
        for form in ("csv.gz", "parquet", "jsonl", "arrow"):
            with self.subTest(form):
                made = self.store.ensure(recipe, "own", form, workers=2)
                self.assertEqual(made.rows, 700_000)
        kept = pq.read_table(self.store.ensure(recipe, "own", "parquet").paths[0])
        self.assertEqual(kept.num_rows, 700_000)
        self.assertEqual(kept["reading"][699_999].as_py(), 699_999)
        self.assertEqual(set(kept["gauge"].unique().to_pylist()), set(PLACES))
        self.assertEqual(kept["level"][3].as_py(), 0.375)

    def test_no_rows_are_rows_too(self):
        for content in ("reading,gauge\n", "reading,gauge"):
            path = self.folder / "few.csv"
            path.write_text(content)
            own = own_file(str(path), 1000)
            self.assertEqual((own.rows, own.schema.names), (0, ["reading", "gauge"]))
        path.write_text("")
        with self.assertRaisesRegex(BadInput, "empty"):
            own_file(str(path), 1000)

    def test_lanes_go_on_over_a_header_alone(self):
        path = self.folder / "few.csv"
        path.write_text("reading,gauge\n")
        text = f'{OWN_HEAD}[data.tables.readings]\nfile = "{path}"\n'
        query = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        text += sql("duck", "duckdb", query) + sql("lite", "sqlite", query)
        trial = self.trial(text + sql("broken", "duckdb", "SELECT nothing FROM readings"))
        [point] = trial.conduct().points
        states = {run.approach: run.state for run in trial.runs}
        self.assertEqual(states, {"duck": "done", "lite": "done", "broken": "failed"})
        agrees = {lane.id: lane.agreement.agrees for lane in point.lanes if lane.agreement}
        self.assertTrue(agrees["duck"] and agrees["lite"])
        self.assertIn("No answer has a row", point.conclusion)

    def test_broken_lines_are_read_as_the_lane_says(self):
        text = HEAD.replace('rows = "{rows}"', 'rows = "{rows}"\nmalformed_share = 0.1')
        query = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        own = "SELECT 'Ash' AS gauge, 1 AS n"
        strict = 'reading = { strict_mode = true, quote = "\\"", auto_detect = false, '
        strict += 'delim = ",", columns = "no columns" }\n'
        trial = self.trial(
            text + sql("lenient", "duckdb", query, "reading = { ignore_errors = true }\n")
            + sql("shut", "duckdb", query, strict) + sql("unasked", "duckdb", own, strict)
        )  # fmt: skip
        trial.conduct()
        runs = {run.approach: run for run in trial.runs}
        self.assertEqual(runs["lenient"].state, "done", runs["lenient"].error)
        self.assertEqual(runs["unasked"].state, "done", runs["unasked"].error)
        self.assertEqual(runs["shut"].error.kind, "file cannot be read")
        self.assertIn("reading = { ignore_errors = true }", runs["shut"].error.message)
        with self.assertRaisesRegex(BadInput, "no name of a setting"):
            self.trial(HEAD + sql("odd", "duckdb", query, 'reading = { "a; b" = 1 }\n'))
