"""What commands print for machines is of the shape that is published."""

import argparse
import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import jsonschema

from ivrell.cli.main import parser
from ivrell.cli.outputs import OUTPUTS
from tests.support.comparisons import DEMO
from tools import file_schema

PUBLISHED = DEMO.parents[1] / "docs" / "output.schema.json"


class Published(unittest.TestCase):
    def test_the_schema_is_that_of_the_shapes(self):
        self.assertEqual(PUBLISHED.read_text(), file_schema.output_text())

    def test_each_command_for_machines_has_one(self):
        [commands] = (
            one for one in parser(with_plan=True)._actions
            if isinstance(one, argparse._SubParsersAction)
        )  # fmt: skip
        able = {
            name for name, command in commands.choices.items()
            if any("--json" in action.option_strings for action in command._actions)
        }  # fmt: skip
        self.assertEqual(able, {*OUTPUTS})

    def test_what_is_printed_fits(self):
        schema = json.loads(PUBLISHED.read_text())
        with tempfile.TemporaryDirectory() as folder:
            sample = Path(folder, "locks.csv")
            sample.write_text("lock,rise\n" + "".join(f"{n % 3},{n}\n" for n in range(40)))
            few = ["--rounds", "1", "--warm-ups", "0", "--only", "loop", "--out", "trial"]
            for command in (
                ["engines"], ["prices"], ["machine"], ["try", str(DEMO), "loop"],
                ["propose", str(sample)], ["runtimes"], ["environment", "list"], ["servers"],
                ["clusters"], ["data", str(DEMO), "--forms", "csv,duckdb", "--out", "made"],
                ["run", str(DEMO), *few], ["measures", "trial"],
            ):  # fmt: skip
                with self.subTest(command[0]):
                    done = subprocess.run(
                        [sys.executable, "-m", "ivrell.cli", *command, "--json"],
                        capture_output=True, text=True, timeout=300, cwd=folder,
                        stdin=subprocess.DEVNULL, check=True,
                    )  # fmt: skip
                    own = schema["properties"][command[0]]
                    jsonschema.validate(json.loads(done.stdout), own | {"$defs": schema["$defs"]})


if __name__ == "__main__":
    unittest.main()
