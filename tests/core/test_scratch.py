"""Folders for the time of a trial: swept for who was killed, whoever else sweeps beside."""

import os
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core.base.temp_dirs import own_folder, scratch, sweep


class Scratch(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.place = Path(folder.name)
        shared = self.place / "shared"
        shared.mkdir()
        for where, what in (
            ("tempfile.tempdir", str(self.place)),
            ("ivrell.core.base.temp_dirs.SHARED_MEMORY", shared),
        ):
            patch = mock.patch(where, what)
            patch.start()
            self.addCleanup(patch.stop)

    def left_by_the_dead(self, count: int = 1) -> list[Path]:
        done = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                              capture_output=True, text=True, check=True)  # fmt: skip
        made = [self.place / f"ivrell-run-{done.stdout.strip()}-{n}" for n in range(count)]
        for folder in made:
            (folder / "runs").mkdir(parents=True)
        return made

    def test_what_the_dead_left_goes_and_what_the_living_hold_stays(self):
        dead = [*self.left_by_the_dead(), self.place / "shared" / self.left_by_the_dead()[0].name]
        dead[-1].mkdir()
        other = self.place / "ivrell-run-notes"
        other.mkdir()
        with scratch() as mine:
            self.assertFalse(any(folder.exists() for folder in dead))
            sweep()
            self.assertTrue(mine.exists())
        self.assertFalse(mine.parent.exists())
        self.assertTrue(other.exists())

    def test_many_sweep_at_once(self):
        dead = self.left_by_the_dead(200)
        failed: list[BaseException] = []

        def sweeping() -> None:
            try:
                sweep()
            except BaseException as error:
                failed.append(error)

        threads = [threading.Thread(target=sweeping) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(failed, [])
        self.assertFalse(any(folder.exists() for folder in dead))

    def test_folders_in_folders_are_removed_however_deep(self):
        with own_folder() as mine:
            here = os.open(mine, os.O_RDONLY)
            for _ in range(3000):
                os.mkdir("in", dir_fd=here)
                there = os.open("in", os.O_RDONLY, dir_fd=here)
                os.close(here)
                here = there
            os.close(here)
        self.assertFalse(mine.exists())


if __name__ == "__main__":
    unittest.main()
