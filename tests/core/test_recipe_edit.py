"""Changing a recipe a field at a time."""

import tomllib
import unittest

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.edit import Edit, changed
from ivrell.core.recipe.kinds import KINDS
from ivrell.core.recipe.kinds.settings import settings_of

TEXT = """[data]
seed = 7 # kept

[data.tables.locks]
rows = 60
columns = [
  { name = "lock", kind = "text", pattern = "[A-Z]{3}" }, # the lock's name
  { name = "depth", kind = "number", low = 1, high = 9 },
]
"""


def after(**edit):
    text = changed(TEXT, Edit(**edit))
    return text, tomllib.loads(text)["data"]


class Edits(unittest.TestCase):
    def test_a_field_of_a_column_and_comments_stay(self):
        text, data = after(table="locks", column=1, fields={"high": 12.5, "low": None})
        self.assertEqual(
            data["tables"]["locks"]["columns"][1],
            {"name": "depth", "kind": "number", "high": 12.5},
        )
        self.assertIn("# the lock's name", text)
        self.assertIn("seed = 7 # kept", text)

    def test_settings_of_table_and_recipe(self):
        self.assertEqual(after(table="locks", fields={"order": "shuffled"})[1]["tables"]["locks"]
                         ["order"], "shuffled")  # fmt: skip
        self.assertEqual(after(fields={"seed": 8})[1]["seed"], 8)

    def test_a_table_takes_another_name_in_its_place_and_where_others_refer_to_it(self):
        text = TEXT + (
            "\n# those that pass\n[data.tables.barges]\nrows = 9\n"
            'columns = [{ name = "lock", kind = "reference", to = "locks.lock" }]\n'
        )
        renamed = changed(text, Edit(table="locks", rename="gates"))
        data = tomllib.loads(renamed)["data"]
        self.assertEqual(list(data["tables"]), ["gates", "barges"])
        self.assertEqual(data["tables"]["barges"]["columns"][0]["to"], "gates.lock")
        self.assertEqual(
            renamed,
            text.replace("tables.locks", "tables.gates").replace('"locks.lock"', '"gates.lock"'),
        )
        with self.assertRaisesRegex(BadInput, "already"):
            changed(text, Edit(table="locks", rename="barges"))
        with self.assertRaisesRegex(BadInput, "only text"):
            inline = "[data]\ntables = { locks = { rows = 1, columns = [] } }\n"
            changed(inline, Edit(table="locks", rename="gates"))
        with self.assertRaises(ValueError):
            Edit(table="locks", rename="no name")

    def test_columns_and_tables_come_and_go(self):
        needle = {"value": 3, "at": "last"}
        fields = {"name": "n", "kind": "integer", "low": 1, "high": 3, "needle": needle}
        columns = after(table="locks", add=True, fields=fields)[1]["tables"]["locks"]["columns"]
        self.assertEqual(columns[2], fields)
        columns = after(table="locks", column=0, remove=True)[1]["tables"]["locks"]["columns"]
        self.assertEqual([column["name"] for column in columns], ["depth"])
        added = after(table="barges", add=True)[1]["tables"]
        self.assertEqual(added["barges"]["columns"], [{"name": "number", "kind": "sequence"}])
        self.assertEqual(list(after(table="locks", remove=True)[1].get("tables", {})), [])

    def test_what_is_not_there(self):
        for edit, why in (
            ({"table": "docks"}, "no table"),
            ({"table": "locks", "column": 5}, "no column 6"),
        ):
            with self.assertRaisesRegex(BadInput, why):
                after(**edit)
        with self.assertRaisesRegex(BadInput, "as text first"):
            changed("[data", Edit())

    def test_every_kind_tells_its_settings(self):
        known = {"number", "integer", "text", "boolean", "choice", "list", "numbers", "moment",
                 "value", "needle"}  # fmt: skip
        for kind in KINDS:
            for setting in settings_of(kind):
                with self.subTest(kind=kind, setting=setting.name):
                    self.assertIn(setting.type, known)


if __name__ == "__main__":
    unittest.main()
