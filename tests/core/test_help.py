"""The help: its pages are of the code, its commands can be typed, its places exist."""

import contextlib
import io
import re
import shlex
import unittest
from pathlib import Path
from unittest import mock

import yaml

import ivrell
from ivrell.cli import main
from ivrell.core.base.errors import BadInput
from ivrell.core.base.help import _PLACES, caution_place, error_place, slug
from tools import reference

DOCS = Path(__file__).resolve().parents[2] / "docs"
_FENCE = re.compile(r"^ *```(\w+)\n(.*?)^ *```$", re.DOTALL | re.MULTILINE)


def fences(page, language):
    """What stands in the fences of a language of a page."""
    return [text for kind, text in _FENCE.findall((DOCS / page).read_text()) if kind == language]


def commands(page):
    """The lines of a page that somebody is to type."""
    return [line.strip() for text in fences(page, "sh") for line in text.splitlines()]


class Pages(unittest.TestCase):
    def test_what_is_made_of_the_code_is_made_of_this_code(self):
        for name, made in reference.PAGES.items():
            told = (DOCS / "reference" / name).read_text()
            self.assertEqual(told, made(), f"{name}: run python -m tools.reference")

    def test_what_is_to_be_typed_is_taken(self):
        pages = [
            path.relative_to(DOCS) for path in (*DOCS.glob("howto/*.md"), DOCS / "tutorial.md")
        ]
        typed = [line for page in pages for line in commands(page)]
        self.assertGreater(len(typed), 12)
        for line in typed:
            program, *arguments = shlex.split(line)
            self.assertEqual(program, "ivrell")
            with self.subTest(line), contextlib.redirect_stderr(io.StringIO()) as said:
                try:
                    main.parser(with_plan=True).parse_args(arguments)
                except SystemExit:
                    self.fail(said.getvalue())

    def test_pipelines_are_files_that_can_be_read_and_their_gates_commands(self):
        page = "howto/pipeline.md"
        for text in fences(page, "yaml"):
            self.assertIsInstance(yaml.safe_load(text), dict)
        self.assertEqual(3, len(fences(page, "yaml")))
        text = "\n".join(fences(page, "yaml") + fences(page, "groovy"))
        typed = re.findall(r"ivrell (gate [^'\n]+)", text)
        self.assertEqual(4, len(typed))
        for line in typed:
            given = main.parser(with_plan=False).parse_args(shlex.split(line))
            self.assertEqual("tolls.toml@origin/main", given.against)

    def test_errors_lead_to_places_that_exist(self):
        for place in {place for _, place in _PLACES}:
            page, _, part = place.partition("#")
            text = (DOCS / f"{page.strip('/')}.md").read_text()
            headings = {slug(line.lstrip("# ")) for line in text.splitlines() if line[:1] == "#"}
            if part and f'id="{part}"' not in text:
                self.assertIn(part, headings, place)

    def test_each_caution_has_its_part(self):
        text = (DOCS / "reference/cautions.md").read_text()
        words = {word for word, *_ in reference.told_cautions()}
        self.assertGreater(len(words), 30)
        for word in words:
            self.assertIn(f"{{ #{caution_place(word).partition('#')[2]} }}", text)

    def test_where_an_error_leads(self):
        for wrong, place in (
            ("", "file/"),
            (
                '[data.tables.locks]\nrows = 3\ncolumns = [{ name = "a", kind = "nothing" }]',
                "file/",
            ),
        ):
            try:
                ivrell.Comparison(wrong)
            except BadInput as error:
                self.assertTrue(error_place(error.__traceback__).startswith(place))
        self.assertEqual(error_place(None), "")

    def test_on_a_terminal(self):
        def told(place):
            with mock.patch("ivrell.cli.help.OUT") as out:
                status = main.main(["help", place])
            return status, out.print.call_args and out.print.call_args[0][0].markup

        status, text = told("reference/cautions#few-rounds")
        self.assertEqual(status, 0)
        self.assertIn("at least five rounds", text)
        self.assertNotIn("## noisy", text)
        self.assertIn("FILE@REF", told("file#gate")[1])
        with contextlib.redirect_stderr(io.StringIO()) as said:
            self.assertEqual(main.main(["help", "../README"]), 2)
        self.assertIn("has no page", said.getvalue())


if __name__ == "__main__":
    unittest.main()
