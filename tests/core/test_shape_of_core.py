"""How the house is built: what the worker loads stays small; import contracts keep the rest."""

import re
import subprocess
import sys
import unittest
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import (
    format_bytes,
    format_limit,
    format_seconds,
    parse_bytes,
    parse_seconds,
)


class Arrows(unittest.TestCase):
    def test_runner_and_worker_load_only_the_standard_library(self):
        for module in (
            "ivrell.core.run.runner.main",
            "ivrell.core.run.worker.main",
            "ivrell.core.engines.builtin",
        ):
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
        self.assertEqual(format_bytes(0.8), "0.800 B")
        self.assertEqual(format_bytes(999_960), "1.00 MB")

    def test_a_limit_comes_back_as_it_was_chosen(self):
        for text, told in (("300 MiB", "300 MiB"), ("4GiB", "4 GiB"), ("512MB", "512 MB"),
                           ("1536 MiB", "1,536 MiB"), ("3GB", "3.00 GB")):  # fmt: skip
            self.assertEqual(format_limit(parse_bytes(text)), told)


class Docs(unittest.TestCase):
    def test_every_variable_of_the_environment_stands_in_the_table(self):
        root = Path(__file__).resolve().parents[2]
        sources = [path.read_text() for path in (root / "src").rglob("*.py")]
        read = {
            name for text in sources for name in re.findall(r"[\"'](IVRELL_[A-Z_]+)[\"']", text)
        }
        rows = [line for line in (root / "docs" / "file.md").read_text().splitlines()
                if line.startswith("| `IVRELL_")]  # fmt: skip
        told = {name for row in rows for name in re.findall(r"`(IVRELL_[A-Z_]+)`", row)}
        self.assertEqual(told, read)


if __name__ == "__main__":
    unittest.main()
