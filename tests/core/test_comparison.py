"""The comparison file: reading, errors that name the place, changing in place."""

import unittest

import tomlkit

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import edit
from ivrell.core.comparison.file import load, parse
from tests.support.comparisons import DEMO, HEAD, approach
from tools.file_schema import text

TEXT = DEMO.read_text()


class Reading(unittest.TestCase):
    def test_demo(self):
        comparison = load(DEMO)
        self.assertEqual(comparison.baseline_id, "loop")
        self.assertEqual(comparison.targets.elapsed, 1.0)
        self.assertEqual(comparison.targets.memory, 500_000_000)
        self.assertEqual(comparison.approach_called("columnar").parent, "query")
        self.assertEqual(list(comparison.points({})), [{"rows": 1_000_000}])
        points = list(comparison.points({"rows": [5, 6]}))
        self.assertEqual([point["rows"] for point in points], [5, 6])

    def test_errors_name_the_place_and_the_cure(self):
        cases = [
            (
                "skew = 1.1",
                "skw = 1.1",
                r"line {line}, data.tables.passages.columns\[1\].skw",
                "skew",
            ),
            ('kind = "sequence"', 'kind = "serial"', r"columns\[0\]: .*serial", "'sequence'"),
            ("order = false", "ordr = false", r"line {line}, answer.ordr", "spelling"),
            ('engine = "duckdb"', 'engine = "duck"', r"approach\[3\]", "'duckdb'"),
            ('elapsed = "1 s"', 'elapsed = "1 fortnight"', r"targets.elapsed", "2 s"),
            ("low = 3,", "", r"columns\[4\]", "needs low"),
            ("seed = 7302", 'seed = "x"', r"line {line}, data.seed", "whole number"),
            ('baseline = "loop"', 'baseline = "lop"', "baseline", "loop, pandas"),
            ('parent = "query"', 'perent = "query"', r"approach\[4\].perent", "delivery"),
            ('input = "parquet"', 'input = "parkay"', "parkay", "jsonl, parquet"),
            ("{3}-[0-9]", "{3}-[0-9", "cannot be read at character", "[AEIOU]"),
            ("skew = 1.1", 'skew = "a lot"', r"columns\[1\].skew", "number"),
        ]
        for old, new, place, hint in cases:
            with self.subTest(new=new):
                self.assertIn(old, TEXT)
                with self.assertRaises(BadInput) as caught:
                    parse(TEXT.replace(old, new), source="tolls.toml")
                line = TEXT[: TEXT.index(old)].count("\n") + 1
                self.assertRegex(str(caught.exception), place.replace("{line}", str(line)))
                self.assertIn(hint, str(caught.exception))

    def test_broken_toml_names_its_line(self):
        with self.assertRaisesRegex(BadInput, r"tolls.toml, line 3.*not TOML"):
            parse('format = "ivrell-comparison/1"\nname = "x"\nrows = = 3\n', source="tolls.toml")

    def test_a_key_twice_in_a_table_is_refused(self):
        with self.assertRaisesRegex(BadInput, 'not TOML: Key "ordered" already exists'):
            parse(HEAD + "\n[agreement]\nordered = true\nordered = false\n")

    def test_a_file_of_too_many_lines_or_characters_is_refused_at_once(self):
        with self.assertRaisesRegex(BadInput, "20,001 lines; a comparison has at most 20,000"):
            parse("\n" * 20_001)
        with self.assertRaisesRegex(BadInput, "2,000,001 characters"):
            parse("#" * 2_000_001)

    def test_a_long_value_is_cut_where_it_is_shown(self):
        with self.assertRaises(BadInput) as caught:
            parse(DEMO.read_text() + f'\n[[note]]\ntext = "{"weir " * 8000}"\n')
        self.assertLess(len(str(caught.exception)), 300)
        self.assertIn("40,000 characters", str(caught.exception))

    def test_two_lanes_of_one_id(self):
        with self.assertRaisesRegex(BadInput, "Two approaches"):
            parse(HEAD + approach("a", "SELECT 1", "duckdb") + approach("a", "SELECT 2", "duckdb"))

    def test_missing_file(self):
        with self.assertRaisesRegex(BadInput, "no file"):
            load(DEMO.with_name("nowhere.toml"))


class Published(unittest.TestCase):
    def test_schema_is_the_published_one(self):
        path = DEMO.parents[1] / "docs" / "comparison.schema.json"
        self.assertEqual(path.read_text(), text(), "run tools/schema.sh")


class Editing(unittest.TestCase):
    """What was not changed stays to the letter, comments included."""

    def lines_changed(self, after):
        before = TEXT.splitlines()
        return [line for line in after.splitlines() if line not in before and line.strip()]

    def test_nothing_changed_is_the_same_text(self):
        self.assertEqual(edit.edited(TEXT, lambda document: None), TEXT)

    def test_one_setting(self):
        after = edit.set_fields(TEXT, "knobs", {"rows": [20_000, 10]})
        self.assertEqual(self.lines_changed(after), ["rows = [20000, 10]"])
        self.assertIn("# sums of floats differ", after)

    def test_setting_in_a_section_that_was_not_there(self):
        after = edit.set_fields(HEAD, "targets", {"elapsed": "2 s"})
        self.assertEqual(parse(after).targets.elapsed, 2)

    def test_code_round_trip(self):
        code = 'def answer(data, knobs, stage):\n    return "it\'s \\\\ \\"quoted\\""\n'
        after = edit.change_approach(TEXT, "pandas", {"code": code})
        self.assertEqual(parse(after).approach_called("pandas").text(), code)
        self.assertEqual(
            parse(after).approach_called("loop").text(), parse(TEXT).approach_called("loop").text()
        )

    def test_code_with_three_quotes(self):
        code = "x = '''a'''\n\ttab\n"
        after = edit.change_approach(TEXT, "pandas", {"code": code})
        self.assertEqual(parse(after).approach_called("pandas").text(), code)

    def test_add_behind_another_and_order(self):
        fields = {"id": "new", "engine": "duckdb", "code": "SELECT 1\nFROM passages\n"}
        after = edit.add_approach(TEXT, fields, after="loop")
        ids = [lane.id for lane in parse(after).approach]
        self.assertEqual(ids[:3], ["loop", "new", "pandas"])
        self.assertEqual(parse(after).approach_called("new").text(), "SELECT 1\nFROM passages\n")
        turned = edit.order_approaches(after, ids[::-1])
        self.assertEqual([lane.id for lane in parse(turned).approach], ids[::-1])
        with self.assertRaisesRegex(BadInput, "every approach once"):
            edit.order_approaches(after, ids[:2])

    def test_first_approach_of_a_file(self):
        after = edit.add_approach(HEAD, {"id": "a", "engine": "duckdb", "code": "SELECT 1"})
        self.assertEqual(parse(after).baseline_id, "a")

    def test_rename_is_followed(self):
        after = parse(edit.change_approach(TEXT, "query", {"id": "text_query"}))
        self.assertEqual(after.approach_called("columnar").parent, "text_query")
        self.assertEqual(parse(edit.change_approach(TEXT, "loop", {"id": "l"})).baseline, "l")

    def test_remove(self):
        after = parse(edit.remove_approach(TEXT, "loop"))
        self.assertEqual(after.baseline_id, "pandas")
        text = TEXT
        for lane in parse(TEXT).approach:
            text = edit.remove_approach(text, lane.id)
        self.assertEqual(parse(text).approach, [])

    def test_recipe(self):
        recipe = edit.data_text(TEXT)
        self.assertEqual(list(tomlkit.parse(recipe)), ["data"])
        after = edit.replace_data(TEXT, recipe.replace("rows = 60", "rows = 61"))
        self.assertEqual(parse(after).data.tables["locks"].rows, 61)
        self.assertEqual(edit.data_text(after), recipe.replace("rows = 60", "rows = 61"))
        with self.assertRaisesRegex(BadInput, "nothing else"):
            edit.replace_data(TEXT, recipe + "\n[knobs]\nx = [1]\n")

    def test_a_change_that_spoils_the_file_is_refused(self):
        with self.assertRaises(BadInput):
            edit.set_fields(TEXT, None, {"baseline": "nobody"})
        with self.assertRaises(BadInput):
            edit.change_approach(TEXT, "nobody", {"code": ""})


if __name__ == "__main__":
    unittest.main()
