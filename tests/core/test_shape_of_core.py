"""How the house is built: arrows point one way, and what the worker loads stays small."""

import ast
import subprocess
import sys
import unittest
from pathlib import Path

from ivrell.core.errors import BadInput
from ivrell.core.quantities import format_bytes, format_seconds, parse_bytes, parse_seconds

SOURCE = Path(__file__).resolve().parents[2] / "src" / "ivrell"


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {name.name for name in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


class Arrows(unittest.TestCase):
    def test_core_and_command_line_know_nothing_of_the_server(self):
        for part in ("core", "cli"):
            for path in (SOURCE / part).rglob("*.py"):
                for name in imports(path):
                    self.assertFalse(
                        name.startswith(("django", "rest_framework", "ivrell.server")),
                        f"{path} imports {name}",
                    )

    def test_core_knows_nothing_of_the_command_line(self):
        for path in (SOURCE / "core").rglob("*.py"):
            self.assertFalse(any(n.startswith("ivrell.cli") for n in imports(path)), path)

    def test_runner_and_worker_load_only_the_standard_library(self):
        for module in ("ivrell.core.trial.runner", "ivrell.core.trial.worker"):
            code = (
                f"import sys, {module}\n"
                "third = {'numpy', 'pandas', 'polars', 'pyarrow', 'duckdb', 'pydantic', 'psutil'}\n"
                "print(sorted(third & set(sys.modules)))"
            )
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
            self.assertEqual(done.stdout.strip(), "[]", done.stderr)


class Quantities(unittest.TestCase):
    def test_read(self):
        self.assertEqual(parse_seconds("250 ms"), 0.25)
        self.assertEqual(parse_seconds("2"), 2)
        self.assertEqual(parse_bytes("1 GiB"), 2**30)
        self.assertEqual(parse_bytes("500MB"), 500_000_000)
        for bad in ("soon", "-1 s", "1 fortnight", ""):
            with self.subTest(bad=bad), self.assertRaises(BadInput):
                parse_seconds(bad)

    def test_write(self):
        cases = {
            0.0413: "41.3 ms",
            2.0512: "2.05 s",
            3e-5: "30.0 µs",
            600: "10.0 min",
            0.9996: "1.00 s",
        }
        for value, text in cases.items():
            self.assertEqual(format_seconds(value), text)
        self.assertEqual(format_bytes(214_958_080), "215 MB")
        self.assertEqual(format_bytes(512), "512 B")
        self.assertEqual(format_bytes(999_960), "1.00 MB")


if __name__ == "__main__":
    unittest.main()
