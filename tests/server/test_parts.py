"""What a start keeps running: pauses that grow, and who is at fault."""

import tempfile
import time
from pathlib import Path

from django.test import SimpleTestCase

from ivrell.server.parts import FIRST_PAUSE_S, FOR_NOW, LONGEST_PAUSE_S, STEADY_S, Part, Pause


class Pauses(SimpleTestCase):
    def test_they_grow_to_a_bound_and_begin_anew_after_what_held(self):
        pause = Pause()
        found = [pause.after(1.0) for _ in range(12)]
        self.assertEqual(found[:4], [FIRST_PAUSE_S * 2**n for n in range(4)])
        self.assertEqual(found[-1], LONGEST_PAUSE_S)
        self.assertEqual(pause.after(STEADY_S), FIRST_PAUSE_S)


class Parts(SimpleTestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.said = []

    def part(self, code):
        """A part that writes its arguments down and then does something."""
        (self.folder / "part.py").write_text(
            f"import sys\nopen('starts', 'a').write(repr(sys.argv[1:]) + '\\n')\n{code}\n"
        )
        return Part(
            "part", "The part", ["part"], lambda: {"PYTHONPATH": str(self.folder)},
            self.folder / "part.log", after_death=("--after-death",), say=self.said.append,
        )  # fmt: skip

    def run_until(self, part, starts):
        import os

        before = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)
        part.start()
        deadline = time.monotonic() + 20
        while len(self.starts()) < starts:
            self.assertLess(time.monotonic(), deadline, self.said)
            part.look()
            time.sleep(0.02)

    def starts(self):
        path = self.folder / "starts"
        return path.read_text().splitlines() if path.exists() else []

    def test_one_that_was_killed_knows_it_and_the_log_is_named(self):
        part = self.part("import os, signal; os.kill(os.getpid(), signal.SIGKILL)")
        self.run_until(part, 2)
        self.assertEqual(self.starts(), ["[]", "['--after-death']"])
        self.assertIn("The part ended unexpectedly (SIGKILL)", self.said[0])
        self.assertIn("part.log", self.said[0])
        part.wait(time.monotonic())

    def test_one_that_waits_for_something_else_is_not_at_fault(self):
        part = self.part(f"sys.exit({FOR_NOW})")
        self.run_until(part, 2)
        self.assertEqual(self.starts(), ["[]", "[]"])
        part.wait(time.monotonic())

    def test_nothing_starts_before_what_it_needs(self):
        part = self.part("sys.exit(1)")
        self.run_until(part, 1)
        deadline = time.monotonic() + 3 * FIRST_PAUSE_S
        while time.monotonic() < deadline:
            part.look(ready=False)
            time.sleep(0.02)
        self.assertEqual(len(self.starts()), 1)
        part.look()
        part.wait(time.monotonic() + 5)
        self.assertEqual(len(self.starts()), 2)

    def test_one_that_runs_is_asked_to_end_in_order(self):
        part = self.part(
            "import signal, time\nsignal.signal(signal.SIGTERM, lambda *a: sys.exit(0))\n"
            "open('ready', 'w').close()\ntime.sleep(60)"
        )
        self.run_until(part, 1)
        while not (self.folder / "ready").exists():
            time.sleep(0.02)
        part.ask_to_end()
        began = time.monotonic()
        part.wait(began + 30)
        self.assertLess(time.monotonic() - began, 10)
        self.assertTrue(part.ended)
