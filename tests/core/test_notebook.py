"""The notebook of the documents, executed: what its cells show, and that it can be kept."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import nbformat
from nbclient import NotebookClient

from ivrell.core.records.events import RunStarted
from ivrell.progress import NotebookLine, Watched

NOTEBOOK = Path(__file__).resolve().parents[2] / "docs" / "notebook.ipynb"


class Notebook(unittest.TestCase):
    def executed(self):
        """The cells of code with what they show, by their last line."""
        book = nbformat.read(NOTEBOOK, 4)
        with tempfile.TemporaryDirectory() as folder:
            there = {"IVRELL_DATA": f"{folder}/data", "HOME": folder}
            with mock.patch.dict(os.environ, there):
                where = {"metadata": {"path": folder}}
                NotebookClient(book, timeout=300, resources=where).execute()
        nbformat.validate(book)
        cells = [cell for cell in book.cells if cell.cell_type == "code"]
        return {cell.source.splitlines()[-1]: cell.outputs for cell in cells}

    def test_its_cells_show_board_picture_pair_and_frame_and_keep_no_bar(self):
        shown = self.executed()
        (bar,) = shown.pop("trial = comparison.run(rounds=3, warm_ups=1, "
                           'knobs={"rows": [3_000, 30_000, 300_000]})')  # fmt: skip
        self.assertEqual(bar.data, {"text/html": "", "text/plain": ""})
        board, picture, pair, frame = (outputs[0].data for outputs in shown.values() if outputs)
        for shown_as in (board["text/html"], picture["image/svg+xml"], pair["text/html"]):
            self.assertNotIn("<script", shown_as)
            self.assertNotIn("http", shown_as.replace("http://www.w3.org/2000/svg", ""))
        self.assertIn("rows = 300,000", board["text/html"])
        self.assertIn("<svg", board["text/html"])
        self.assertIn("300,000", picture["image/svg+xml"])
        self.assertIn("elapsed time", pair["text/html"])
        # Three sizes of three lanes.
        self.assertIn("(9, 3)", frame["text/plain"])

    def test_it_is_kept_with_what_it_shows(self):
        book = nbformat.read(NOTEBOOK, 4)
        kept = [output for cell in book.cells for output in cell.get("outputs", [])]
        self.assertEqual(len(kept), 4)

    def test_the_line_of_a_notebook(self):
        told = []
        handle = mock.Mock(update=lambda shown, raw: told.append(shown["text/html"]))

        def display(shown, raw, display_id):
            told.append(shown["text/html"])
            return handle

        with NotebookLine(display) as line:
            watched = Watched(line, planned=6)
            watched.listen(
                RunStarted(
                    run=1,
                    approach="a<b",
                    round=1,
                    point={"rows": 30},
                    warm_up=False,
                    memory_run=False,
                )
            )
        self.assertIn('<progress value="0" max="6">', told[0])
        self.assertIn("a&lt;b (rows 30)", told[0])
        self.assertEqual(told[-1], "")


if __name__ == "__main__":
    unittest.main()
