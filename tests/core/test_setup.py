"""What start, test and the command line set up first."""

import subprocess
import tempfile
import unittest
from pathlib import Path

SETUP = Path(__file__).resolve().parents[2] / "tools" / "setup.sh"


class Environment(unittest.TestCase):
    def elsewhere(self, *stamps):
        """Whether an environment with these stamps counts as made for another folder."""
        with tempfile.TemporaryDirectory() as name:
            for number, text in enumerate(stamps):
                (Path(name) / f".ivrell-{number}").write_text(text)
            script = f'source "{SETUP}"; made_elsewhere "{name}"'
            return subprocess.run(["bash", "-c", script]).returncode == 0

    def test_one_that_came_with_a_copied_checkout_is_noticed(self):
        home = SETUP.parents[1]
        self.assertFalse(self.elsewhere())
        self.assertFalse(self.elsewhere(f"abc  -\n{home}\n"))
        self.assertTrue(self.elsewhere("abc  -\n/somewhere/else\n"))
        self.assertTrue(self.elsewhere(f"abc  -\n{home}\n", "abc  -\n/somewhere/else\n"))
        # As earlier versions left it: no folder stands there, so nobody can tell.
        self.assertTrue(self.elsewhere("abc  -\n"))


if __name__ == "__main__":
    unittest.main()
