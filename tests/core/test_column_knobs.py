"""Numbers of columns that a knob gives."""

import json
import tomllib
import unittest
from pathlib import Path

import jsonschema

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import looking
from ivrell.core.comparison.file import parse
from ivrell.core.recipe.generate import Generator
from tests.support.comparisons import COUNTING, DEMO, HEAD, approach

FIRST = '{ name = "reading", kind = "sequence" },'
KNOBBED = '{ name = "n", kind = "integer", low = 1, high = "{top}", null_share = "{missing}" },'
ROWS = 300


def text_with(column):
    head = HEAD.replace("rows = [300]", "rows = [300]\nmissing = [0.5, 0]\ntop = [9, 20]")
    return head.replace(FIRST, f"{FIRST}\n{column}") + approach("a", COUNTING)


def drawn(column, **knobs):
    recipe = parse(text_with(column)).data.resolved({"rows": ROWS, **knobs})
    return Generator(recipe).sample("readings", ROWS)


class Knobs(unittest.TestCase):
    def test_each_point_has_its_own_numbers(self):
        few, many = drawn(KNOBBED, top=9, missing=0.5), drawn(KNOBBED, top=20, missing=0)
        self.assertAlmostEqual(few.column("n").null_count / ROWS, 0.5, delta=0.1)
        self.assertEqual(many.column("n").null_count, 0)
        for rows, top in ((few, 9), (many, 20)):
            self.assertEqual(max(filter(None, rows.column("n").to_pylist())), top)
        plain = '{ name = "n", kind = "integer", low = 1, high = 20 },'
        self.assertEqual(many, drawn(plain, top=20, missing=0))

    def test_what_a_point_cannot_have_is_told_with_its_place(self):
        for knobs, what in (
            ({"top": 9}, 'no knob "missing"'),
            ({"top": 9, "missing": 2}, "less than"),
            ({"top": "many", "missing": 0}, "whole number"),
            ({"top": 0, "missing": 0}, "must not be above"),
        ):
            with self.assertRaises(BadInput) as raised:
                drawn(KNOBBED, **knobs)
            self.assertIn(what, raised.exception.what)
            self.assertIn("data.tables.readings (n", raised.exception.where)
        with self.assertRaises(BadInput) as raised:
            drawn(KNOBBED.replace("low = 1, ", ""), top=9, missing=0)
        self.assertEqual(raised.exception.what, "It is missing.")
        self.assertIn("(n.low)", raised.exception.where)
        with self.assertRaisesRegex(BadInput, "hihg"):
            parse(text_with(KNOBBED.replace("high", "hihg")))

    def test_a_look_shows_the_knob_where_it_is_written(self):
        [table] = looking.look(looking.Subject(text_with(KNOBBED), {}, (Path.cwd(),))).tables
        column = next(one for one in table.columns if one.name == "n")
        self.assertEqual((column.given["high"], column.given["low"]), ("{top}", 1))
        self.assertIn("high 9", column.settings)

    def test_shares_of_a_table(self):
        text = text_with(KNOBBED).replace('rows = "{rows}"', 'rows = "{rows}"\n'
                                          'duplicate_share = "{again}"')  # fmt: skip
        recipe = parse(text).data
        knobs = {"rows": ROWS, "top": 9, "missing": 0}
        for again in (0, 0.2):
            generator = Generator(recipe.resolved({**knobs, "again": again}))
            self.assertEqual(generator.duplicates("readings"), round(again * ROWS))
        for refused in (1, "many", True):
            with self.assertRaisesRegex(BadInput, "is no share"):
                recipe.resolved({**knobs, "again": refused})

    def test_the_published_schema_takes_knobs_for_numbers_and_for_nothing_else(self):
        schema = json.loads((DEMO.parents[1] / "docs" / "comparison.schema.json").read_text())
        for column, good in ((KNOBBED, True), (KNOBBED.replace("{top}", "top"), False)):
            document = tomllib.loads(text_with(column))
            self.assertEqual(jsonschema.Draft202012Validator(schema).is_valid(document), good)

    def test_text_in_braces_stays_text(self):
        rows = drawn('{ name = "n", kind = "constant", value = "{top}" },', top=9, missing=0)
        self.assertEqual(set(rows.column("n").to_pylist()), {"{top}"})


if __name__ == "__main__":
    unittest.main()
