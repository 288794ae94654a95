"""Tables without rows, and columns that stand for many."""

import json

import pyarrow as pa

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.forms import FORMS
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.kinds import KINDS
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.preview import costs, preview, rows_from, whole_profile
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import HEAD, approach

EVERY_KIND = [
    {"name": "passage", "kind": "sequence"},
    {"name": "mooring", "kind": "identifier", "order": "rising"},
    {"name": "hulls", "kind": "integer", "low": 1, "high": 9},
    {"name": "toll", "kind": "number", "spread": "normal", "mean": 3, "sd": 1},
    {"name": "laden", "kind": "boolean"},
    {"name": "reach", "kind": "category", "values": ["Upper", "Lower"]},
    {"name": "lock", "kind": "reference", "to": "locks.lock", "skew": 1},
    {"name": "mark", "kind": "text", "pattern": "[A-Z]{3}"},
    {"name": "note", "kind": "words", "fewest": 1, "most": 4},
    {"name": "berth", "kind": "code", "width": 4},
    {"name": "cargo", "kind": "packed", "slots": ["coal", "salt"], "low": 1, "high": 9},
    {"name": "day", "kind": "date", "from": "2031-01-01", "until": "2032-01-01"},
    {"name": "at", "kind": "timestamp", "from": "2031-01-01", "until": "2032-01-01"},
    {"name": "line", "kind": "constant", "value": "Merrow"},
    {"name": "double", "kind": "derived", "formula": "toll * 2"},
    {"name": "holds", "kind": "nested", "most": 3,
     "fields": [{"name": "tonnes", "kind": "integer", "low": 1, "high": 9}]},
]  # fmt: skip
LOCKS = [{"name": "lock", "kind": "text", "pattern": "[A-Z][0-9]{3}", "unique": True}]


def recipe(passages=0, locks=0, **table):
    tables = {
        "locks": {"rows": locks, "columns": LOCKS},
        "passages": {"rows": passages, "columns": EVERY_KIND, **table},
    }
    return Recipe.model_validate({"seed": 3, "tables": tables}).resolved({})


class NoRows(EngineCase):
    def test_every_kind_is_here(self):
        self.assertEqual({column["kind"] for column in EVERY_KIND}, set(KINDS))

    def test_every_form_holds_the_columns_and_no_row(self):
        made = recipe(order="by at", duplicate_share=0.1)
        for form in FORMS:
            with self.subTest(form=form):
                told = self.store.ensure(made, "passages", form)
                self.assertEqual((told.rows, len(told.paths)), (0, 1))

    def test_every_database_has_the_empty_tables(self):
        trial = self.trial(HEAD + sql("one", "sqlite"), knobs={"rows": [0]})
        # One of the user's own is needed for "sql".
        for engine in sorted({*DATABASES} - {"sql"}):
            with self.subTest(engine=engine):
                loaded = trial.databases.at("", engine).ensure(recipe(), engine)
                self.assertEqual([table.rows for table in loaded.tables], [0, 0])
        trial.databases.stop()

    def test_it_can_be_looked_at(self):
        generator = Generator(recipe())
        found = preview(generator, "passages")
        self.assertEqual((found.rows, len(found.columns)), (0, len(EVERY_KIND)))
        self.assertEqual(rows_from(generator, "passages", 0, 10), [])
        self.assertEqual([c.rows for c in whole_profile(generator, "locks")], [0])
        self.assertGreaterEqual(costs(generator, "passages")["parquet"]["bytes"], 0)

    def test_a_reference_to_an_empty_table_is_refused_where_it_needs_a_value(self):
        with self.assertRaisesRegex(BadInput, '"locks" has no rows'):
            recipe(passages=3)

    def test_engines_agree_that_nothing_is_there(self):
        count = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        frame = """
        import polars as pl
        def answer(data, knobs, stage):
            return pl.read_csv(data.readings).select("gauge", n=pl.col("reading").cast(pl.Int64))
        """
        lanes, _ = self.conducted(
            approach("frame", frame),
            sql("duck", "duckdb", count.replace("SELECT gauge", "SELECT gauge::varchar AS gauge")),
            sql("lite", "sqlite", count), sql("server", "postgres", count),
            knobs={"rows": [0]},
        )  # fmt: skip
        for name, lane in lanes.items():
            self.assertEqual(lane.answer_rows, 0, name)


class Repeated(EngineCase):
    def wide(self, repeat=70, extra=()):
        columns = [{"name": "gauge", "kind": "sequence"},
                   {"name": "level", "kind": "integer", "low": 0, "high": 999, "repeat": repeat},
                   *extra]  # fmt: skip
        found = {"seed": 3, "tables": {"readings": {"rows": 50, "columns": columns}}}
        return Recipe.model_validate(found)

    def test_it_stands_for_so_many_columns_with_values_of_their_own(self):
        block = Generator(self.wide().resolved({})).block("readings", 0)
        self.assertEqual(block.num_columns, 71)
        self.assertEqual(block.schema.names[1:3] + block.schema.names[-1:],
                         ["level_1", "level_2", "level_70"])  # fmt: skip
        self.assertFalse(block.column("level_1").equals(block.column("level_2")))

    def test_a_column_written_out_has_the_values_of_one_that_is_repeated(self):
        alone = Recipe.model_validate(
            {"seed": 3, "tables": {"readings": {"rows": 50, "columns": [
                {"name": "level_2", "kind": "integer", "low": 0, "high": 999}]}}}
        ).resolved({})  # fmt: skip
        wide = Generator(self.wide().resolved({})).block("readings", 0)
        self.assertTrue(
            pa.array(wide.column("level_2")).equals(
                Generator(alone).block("readings", 0).column("level_2")
            )
        )

    def test_a_name_that_is_there_already_is_refused(self):
        with self.assertRaisesRegex(BadInput, '"level_2"'):
            self.wide(extra=[{"name": "level_2", "kind": "boolean"}]).resolved({})

    def test_fingerprints_are_what_they_were_before_there_was_such_a_setting(self):
        told = self.wide(1).resolved({})._deciding("readings")
        self.assertNotIn("repeat", json.dumps(told))
