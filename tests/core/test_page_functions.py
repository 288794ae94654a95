"""Pure functions of the page, run by Node's own test runner: each of its tests is one here."""

import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

WEB = Path(__file__).resolve().parents[2] / "web"
FILES = sorted((WEB / "tests").glob("*.test.ts"))
_NAMED = re.compile(r'^test\("([^"]+)"', re.MULTILINE)
_TOLD = re.compile(r"^(not )?ok \d+ - (.*)$")


@unittest.skipUnless(
    (WEB / "node_modules").exists() and shutil.which("node"), "the page's packages are not here"
)
class PageFunctions(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.told: dict[str, str] = {}
        # In there, so that the libraries are found which are not built in.
        with tempfile.TemporaryDirectory(dir=WEB / "node_modules") as folder:
            for file in FILES:
                built = Path(folder) / file.stem
                cls._ran("npx", "vite", "build", "--ssr", str(file), "--outDir", str(built),
                         "--logLevel", "warn")  # fmt: skip
                cls._read(cls._ran("node", "--test", "--test-reporter=tap", str(built), good=False))

    @staticmethod
    def _ran(*command, good=True):
        done = subprocess.run(command, cwd=WEB, capture_output=True, text=True)
        if good and done.returncode:
            raise AssertionError(done.stdout + done.stderr)
        return done.stdout

    @classmethod
    def _read(cls, said):
        """Tests with what was said of each that fails; "" of one that holds."""
        name = None
        for line in said.splitlines():
            if found := _TOLD.match(line.strip()):
                name = found[2] if found[1] else None
                cls.told[found[2]] = line if found[1] else ""
            elif name is not None:
                cls.told[name] += f"\n{line}"


def _test_of(name: str):
    def test(self):
        self.assertIn(name, self.told, "it did not run")
        self.assertEqual(self.told[name], "")

    return test


for _file in FILES:
    for _name in _NAMED.findall(_file.read_text()):
        _method = f"test_{_file.name.split('.')[0]}_{re.sub(r'[^a-z0-9]+', '_', _name.lower())}"
        setattr(PageFunctions, _method.rstrip("_"), _test_of(_name))


if __name__ == "__main__":
    unittest.main()
