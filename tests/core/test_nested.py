"""Lists and records within a row: drawn, kept in every form, read back, held against each other."""

import json
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
import pyarrow.ipc
import pyarrow.orc
import pyarrow.parquet as pq
from pydantic import ValidationError

from ivrell.core.recipe.flat import flat
from ivrell.core.recipe.forms import FORMS
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.preview import costs, preview, rows_from
from ivrell.core.recipe.store import DataStore
from ivrell.core.sheets import office
from tests.support.comparisons import HEAD, TrialCase, approach

HOLDS = {
    "name": "holds", "kind": "nested", "fewest": 0, "most": 3, "null_share": 0.1,
    "fields": [
        {"name": "cargo", "kind": "category", "values": ["coal", 'said "grain"']},
        {"name": "tonnes", "kind": "integer", "low": 1, "high": 90, "null_share": 0.2},
        {"name": "loaded", "kind": "date", "from": "2031-01-01", "until": "2031-02-01"},
    ],
}  # fmt: skip
PLACE = {
    "name": "place", "kind": "nested",
    "fields": [{"name": "east", "kind": "number", "low": 0, "high": 9, "decimals": 1}],
}  # fmt: skip
MARKS = {
    "name": "marks", "kind": "nested", "most": 4, "bare": True,
    "fields": [{"name": "mark", "kind": "integer", "low": 0, "high": 9}],
}  # fmt: skip


def recipe(rows=200, *columns):
    columns = [{"name": "n", "kind": "sequence"}, *(columns or (HOLDS, PLACE, MARKS))]
    return Recipe.model_validate({"tables": {"barges": {"rows": rows, "columns": columns}}})


class Drawn(unittest.TestCase):
    def test_within_its_bounds_and_the_same_each_time(self):
        block = Generator(recipe()).block("barges", 0)
        self.assertTrue(block.equals(Generator(recipe()).block("barges", 0)))
        rows = block.to_pylist()
        lengths = {len(row["holds"]) for row in rows if row["holds"] is not None}
        self.assertEqual(lengths, {0, 1, 2, 3})
        self.assertTrue(any(row["holds"] is None for row in rows))
        held = [hold for row in rows for hold in row["holds"] or ()]
        self.assertTrue(any(hold["tonnes"] is None for hold in held))
        self.assertTrue(all(0 <= row["place"]["east"] <= 9 for row in rows))
        self.assertEqual({type(mark) for row in rows for mark in row["marks"]}, {int})

    def test_refused_where_it_makes_no_sense(self):
        for change, why in (
            ({"bare": True}, "one field"),
            ({"fewest": 4}, "above most"),
            ({"fields": [HOLDS["fields"][0]] * 2}, "one name"),
            ({"fields": [{"name": "a", "kind": "integer", "unique": True}]}, "unique"),
            ({"fields": [{"name": "a", "kind": "sequence"}]}, "kind|tag"),
        ):
            with self.subTest(change), self.assertRaisesRegex(ValidationError, why):
                recipe(5, HOLDS | change)

    def test_looked_at(self):
        generator = Generator(recipe())
        found = preview(generator, "barges")
        self.assertIn("cargo category", found.columns[1].settings)
        self.assertEqual(json.loads(rows_from(generator, "barges", 0, 1)[0][2]).keys(), {"east"})
        self.assertEqual(set(costs(generator, "barges")), set(FORMS))


class Kept(unittest.TestCase):
    def test_every_form_gives_it_back_or_its_text(self):
        import polars as pl

        readers = {
            "parquet": pq.read_table,
            "arrow": lambda path: pa.ipc.open_file(pa.OSFile(path)).read_all(),
            "arrows": lambda path: pa.ipc.open_stream(pa.OSFile(path)).read_all(),
            "orc": pa.orc.read_table,
            "avro": lambda path: pl.read_avro(path).to_arrow(),
        }
        whole = recipe(300).resolved({})
        block = Generator(whole).block("barges", 0)
        with tempfile.TemporaryDirectory() as folder:
            store = DataStore(Path(folder))
            for form in FORMS:
                with self.subTest(form):
                    path = store.ensure(whole, "barges", Input(form=form)).paths[0]
                    if form in readers:
                        self.assertEqual(readers[form](path).to_pylist(), block.to_pylist())
            lines = Path(store.ensure(whole, "barges", "jsonl").paths[0]).read_text().splitlines()
            told = json.loads(json.dumps(block.to_pylist(), default=str))
            self.assertEqual([json.loads(line) for line in lines], told)
            written = Path(store.ensure(whole, "barges", "csv").paths[0]).read_text()
            head, first, *_ = written.splitlines()
            self.assertEqual(head, "n,holds,place,marks")
            text = flat(block).to_pylist()[0]
            self.assertIn(text["place"].replace('"', '""'), first)


class Compared(TrialCase):
    def test_tonnes_by_cargo_in_three_ways(self):
        fields = (
            '{ name = "cargo", kind = "category", values = ["coal", "grain"] }, '
            '{ name = "tonnes", kind = "integer", low = 1, high = 90 }'
        )
        column = f'  {{ name = "holds", kind = "nested", most = 3, fields = [{fields}] }},\n]'
        text = HEAD.replace('key = ["gauge"]', 'key = ["cargo"]').replace("\n]\n", f"\n{column}\n")
        unnested = (
            "SELECT hold.cargo AS cargo, sum(hold.tonnes)::BIGINT AS tonnes\n"
            "FROM (SELECT unnest(holds) AS hold FROM readings) GROUP BY 1"
        )
        lazy = """
            import polars as pl

            def answer(data, knobs, stage):
                holds = pl.scan_parquet(data.readings).select(pl.col("holds").explode()).unnest("holds")
                return holds.drop_nulls().group_by("cargo").agg(pl.col("tonnes").sum())
        """  # noqa: E501
        loop = """
            import json

            def answer(data, knobs, stage):
                groups = {}
                for line in open(data.readings):
                    for hold in json.loads(line)["holds"]:
                        groups[hold["cargo"]] = groups.get(hold["cargo"], 0) + hold["tonnes"]
                return [{"cargo": cargo, "tonnes": tonnes} for cargo, tonnes in groups.items()]
        """
        trial = self.trial(
            text
            + approach("query", unnested, "duckdb", input="parquet")
            + approach("lines", unnested, "duckdb", input="jsonl")
            + approach("lazy", lazy, input="parquet")
            + approach("loop", loop, input="jsonl")
        )
        lanes = trial.conduct().points[0].lanes
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        for lane in lanes:
            with self.subTest(lane.id):
                self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)

    @unittest.skipUnless(office.version(), "no spreadsheet engine here")
    def test_a_cell_holds_its_text(self):
        fields = '{ name = "cargo", kind = "category", values = ["coal"] }'
        column = f'  {{ name = "holds", kind = "nested", most = 3, fields = [{fields}] }},\n]'
        text = HEAD.replace('key = ["gauge"]', 'key = ["n"]').replace("\n]\n", f"\n{column}\n")
        sheet = (
            '\n[[approach]]\nid = "sheet"\nengine = "sheet"\ncolumns = [\n'
            '{ name = "n", formula = "={row.reading}" },\n'
            '{ name = "held", formula = "={row.holds}", kind = "text" },\n]\n'
        )
        query = "SELECT reading AS n, holds AS held FROM readings"
        trial = self.trial(
            text.replace("[300]", "[10]") + approach("lite", query, "sqlite") + sheet
        )
        lanes = trial.conduct().points[0].lanes
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        for lane in lanes:
            self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)


if __name__ == "__main__":
    unittest.main()
