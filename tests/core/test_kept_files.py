"""Files that lanes leave, kept for people to open."""

import os
import unittest
import zipfile

from ivrell.core.results.kept_files import keep_files
from tests.support.comparisons import HEAD, TrialCase, approach, python_answer

LEAVES = python_answer(
    """
    open("note.txt", "w").write("kept")
    os.makedirs("a/b", exist_ok=True)
    open("a/b/note.txt", "w").write("another")
    os.symlink("/etc/passwd", "link.txt")
    os.link("note.txt", "twice.txt")
    os.mkfifo("pipe")
    open("large.bin", "wb").write(bytes(400_000))
    where = "."
    for _ in range(300):
        where += "/deep"
        os.mkdir(where)
    """
)
BOOK = """
[[approach]]
id = "book"
engine = "sheet"
input = "csv"
timed = ["bring", "fill", "calculate", "read", "save"]
columns = [ { name = "gauge", formula = "={row.gauge}" } ]
"""


class Kept(TrialCase):
    def kept(self, trial, lane):
        folders = list((trial.folder / "files" / lane).iterdir())
        self.assertEqual(len(folders), 1)
        return {path.name: path for path in folders[0].iterdir()}

    def test_plain_files_of_the_first_run_that_counts_and_nothing_else(self):
        trial = self.trial(
            HEAD + approach("a", LEAVES), rounds=2, warm_ups=1, keep_files=True,
            limits={"written_bytes": 500_000},
        )  # fmt: skip
        trial.conduct()
        self.assertEqual([run.state for run in trial.runs], ["done"] * 3, trial.runs[0].error)
        found = self.kept(trial, "a")
        self.assertEqual(set(found), {"note.txt", "2-note.txt", "twice.txt", "large.bin"})
        told = {found[name].read_text() for name in ("note.txt", "2-note.txt")}
        self.assertEqual(told, {"kept", "another"})
        self.assertFalse(any(path.is_symlink() for path in found.values()))

    def test_what_has_no_room_is_left(self):
        for name, size in (("big", 100), ("small", 10)):
            (self.folder / name).write_bytes(bytes(size))
        with os.scandir(self.folder) as left, self.assertLogs("ivrell.results") as told:
            keep_files(left, self.folder / "kept", 50)
        self.assertEqual([path.name for path in (self.folder / "kept").iterdir()], ["small"])
        self.assertTrue(any("big is not kept: there is no room" in line for line in told.output))

    def test_stop_leaves_no_half_a_file(self):
        for name in ("one", "two"):
            (self.folder / name).write_bytes(bytes(9_000_000))
        asked = iter([False] * 4 + [True])
        with os.scandir(self.folder) as left, self.assertLogs("ivrell.results") as told:
            keep_files(left, self.folder / "kept", 10**9, lambda: next(asked))
        [kept] = (self.folder / "kept").iterdir()
        self.assertEqual(kept.stat().st_size, 9_000_000)
        self.assertIn("stopped", told.output[0])

    def test_none_unless_asked(self):
        trial = self.trial(HEAD + approach("a", LEAVES))
        trial.conduct()
        self.assertFalse((trial.folder / "files").exists())

    def test_a_book_that_a_sheet_saved_opens(self):
        trial = self.trial(HEAD + BOOK, keep_files=True)
        trial.conduct()
        self.assertEqual(trial.runs[0].state, "done", trial.runs[0].error)
        [book] = self.kept(trial, "book").values()
        self.assertIn("content.xml", zipfile.ZipFile(book).namelist())


if __name__ == "__main__":
    unittest.main()
