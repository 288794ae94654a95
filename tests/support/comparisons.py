"""Small comparisons for tests, and trials of them in throwaway folders."""

import tempfile
import textwrap
import unittest
from pathlib import Path
from typing import Any

from ivrell.core.recipe.store import DataStore
from ivrell.core.records.run import RunRecord
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.plan import Limits, Plan

DEMO = Path(__file__).resolve().parents[2] / "demo" / "tolls-per-lock.toml"

HEAD = """format = "ivrell-comparison/1"
name = "Gauge readings"
question = "How many readings of each gauge?"

[answer]
key = ["gauge"]

[knobs]
rows = [300]

[data]
seed = 5

[data.tables.readings]
rows = "{rows}"
columns = [
  { name = "reading", kind = "sequence" },
  { name = "gauge", kind = "category", values = ["Ash", "Elm", "Oak"] },
]
"""


def approach(lane: str, code: str, engine: str = "python", **fields: str) -> str:
    """An approach of the file, its code dedented."""
    lines = [f'id = "{lane}"', f'engine = "{engine}"']
    lines += [f'{name} = "{value}"' for name, value in fields.items()]
    body = textwrap.dedent(code).strip("\n")
    return "\n[[approach]]\n" + "\n".join(lines) + f"\ncode = '''\n{body}\n'''\n"


def python_answer(body: str) -> str:
    """Code whose answer function has this body and returns one fixed row."""
    inside = textwrap.indent(textwrap.dedent(body).strip("\n"), "    ")
    return (
        f"import os, sys, time\n\n\ndef answer(data, knobs, stage):\n{inside}\n"
        '    return [{"gauge": "Ash", "n": 1}]\n'
    )


COUNTING = """
    import csv
    def answer(data, knobs, stage):
        counts = {}
        with stage("read"):
            for row in csv.DictReader(open(data.readings)):
                counts[row["gauge"]] = counts.get(row["gauge"], 0) + 1
        return [{"gauge": gauge, "n": n} for gauge, n in counts.items()]
"""


UNDISTURBED = {"share": 1, "wait_s": 0}
"""Of a plan: tests run beside each other, do no run again and wait for no quiet moment."""


class TrialCase(unittest.TestCase):
    """Test case with a throwaway folder in which trials can be conducted."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="ivrell-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def trial(
        self,
        text: str,
        *,
        name: str = "trial",
        limits: dict[str, Any] | None = None,
        runtimes: Path | None = None,
        **plan: Any,
    ) -> Trial:
        """A trial of the text, one round and no warm-up unless said otherwise."""
        usual: dict[str, Any] = {"rounds": 1, "warm_ups": 0, "disturbed": UNDISTURBED}
        made = Plan(**(usual | plan), limits=Limits(**(limits or {})))
        folder = self.folder / name
        return Trial(text, made, folder, self.store, data_workers=1, runtimes=runtimes)

    @property
    def store(self) -> DataStore:
        """Where data is made and loaded: beside the trials of this test."""
        return DataStore(self.folder / "made")

    def run_one(self, body: str, **limits: Any) -> RunRecord:
        """The record of one run of a body, see python_answer."""
        trial = self.trial(HEAD + approach("only", python_answer(body)), limits=limits)
        trial.conduct()
        return trial.runs[0]
