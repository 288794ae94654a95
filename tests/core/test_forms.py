"""Every form of data through every engine that reads it: one table, one answer."""

import unittest

from ivrell.core.engines.registry import ENGINES
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.forms import FORMS
from ivrell.core.sheets import office
from tests.core.test_sql_engines import EngineCase
from tests.support.comparisons import approach

TABLE = """format = "ivrell-comparison/1"
name = "Every form"
question = "What is in each sort of file?"

[answer]
key = ["n"]
relative = 1e-12

[knobs]
rows = [40]

[data]
seed = 12

[data.tables.berths]
rows = "{rows}"
columns = [
  { name = "n", kind = "sequence" },
  { name = "name", kind = "category", values = ["Ash Basin", "Łock 7, upper", "say \\"Elm\\""] },
  { name = "draught", kind = "number", low = 0.5, high = 3.5, decimals = 2, null_share = 0.1 },
]
"""
READERS = {
    "csv": "pd.read_csv(data.berths)",
    "csv.gz": "pd.read_csv(data.berths)",
    "csv.zst": "pl.read_csv(data.berths)",
    "jsonl": "pd.read_json(data.berths, lines=True)",
    "fixed": "fixed(data.berths)",
    "parquet": "pd.read_parquet(data.berths)",
    "arrow": "pd.read_feather(data.berths)",
    "avro": "pl.read_avro(data.berths)",
    "arrows": "pyarrow.ipc.open_stream(data.berths).read_all()",
    "orc": "pd.read_orc(data.berths)",
    "xlsx": "pd.read_excel(data.berths)",
}
CODE = """
import json
import pandas as pd
import polars as pl
import pyarrow

def fixed(path):
    with open(f"{path}.places.json") as file:
        places = json.load(file)
    return pd.read_fwf(
        path,
        colspecs=[(one["start"], one["start"] + one["width"]) for one in places],
        names=[one["name"] for one in places],
    )

def answer(data, knobs, stage):
    return READ
"""
QUERY = "SELECT n, name, draught FROM berths"
SHEET = """columns = [
  { name = "n", formula = "={row.n}" },
  { name = "name", formula = "={row.name}", kind = "text" },
  { name = "draught", formula = "=IF(ISBLANK({row.draught});NA();{row.draught})" },
]
"""


def lane(engine, form):
    """One lane of an engine over a form, or None where nobody here reads it so."""
    name, chosen = f"{engine}_{form.replace('.', '_')}", f'input = "{form}"\n'
    if engine == "python":
        reader = READERS.get(form)
        return reader and approach(name, CODE.replace("READ", reader)) + chosen
    if engine == "sheet":
        return f'\n[[approach]]\nid = "{name}"\nengine = "sheet"\n{chosen}{SHEET}'
    if engine == "command":
        if form not in ("csv", "csv.gz", "jsonl", "parquet"):
            return None
        answer = {"csv.gz": "csv"}.get(form, form)
        reader = '["gzip", "-dc", "{berths}"]' if form == "csv.gz" else '["cat", "{berths}"]'
        more = f'argv = {reader}\nanswer = "{answer}"\n'
        return approach(name, "", "command") + chosen + more
    return approach(name, QUERY, engine) + chosen


class Forms(EngineCase):
    def test_every_form_through_every_engine_that_reads_it(self):
        lanes = {}
        for name, engine in ENGINES.items():
            if name in (*DATABASES, "remote") and name != "duckdb":
                continue
            if name == "spark":
                # Its forms have a test in its own part, where one session reads them all.
                continue
            if name == "sheet" and not office.version():
                continue
            for form in engine.forms or FORMS:
                if form in FORMS and (text := lane(name, form)):
                    lanes[f"{name}_{form.replace('.', '_')}"] = text
        read = {
            form for form in FORMS if any(key.endswith(form.replace(".", "_")) for key in lanes)
        }
        self.assertEqual(set(FORMS) - read, set(), "some engine reads every form")
        trial = self.trial(TABLE + "".join(lanes.values()))
        told = {one.id: one for one in trial.conduct().points[0].lanes}
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        for name, one in told.items():
            with self.subTest(name):
                self.assertTrue(one.agreement.agrees, one.agreement.reasons)
        self.assertGreater(len(told), 20)

    def test_a_column_of_the_path_comes_back(self):
        code = """
        import pyarrow.dataset as ds

        def answer(data, knobs, stage):
            files = ds.dataset(data.berths, partitioning=ds.partitioning(flavor="hive"))
            return files.to_table(columns=["n", "name", "draught"])
        """
        lanes = approach("whole", QUERY, "duckdb") + 'input = "parquet"\n'
        for text in (approach("query", QUERY, "duckdb"), approach("dataset", code)):
            lanes += text + 'input = { form = "parquet", split_by = "name" }\n'
        trial = self.trial(TABLE + lanes, name="split")
        told = {one.id: one for one in trial.conduct().points[0].lanes}
        for name, one in told.items():
            with self.subTest(name):
                self.assertTrue(one.agreement.agrees, one.agreement.reasons)


if __name__ == "__main__":
    unittest.main()
