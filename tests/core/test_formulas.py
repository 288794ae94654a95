"""The reader of formulas: what it takes, what it refuses and where, and the engine's own view."""

import shutil
import tempfile
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ivrell.core.sheets import office
from ivrell.core.sheets.check import cost, problem
from ivrell.core.sheets.formula import FormulaError, parse, written
from ivrell.core.sheets.functions import FUNCTIONS, engine_name
from ivrell.core.sheets.layout import Block, Places, letters
from ivrell.core.sheets.model import Cell, Change, Column, Repeat, Sheet, with_knobs

TABLES = {"barges": (["number", "hull"], 6000), "passages": (["passage", "barge"], 20_000)}
HERE = office.version() is not None


def columns(**formulas):
    return Sheet(columns=tuple(Column(name=n, formula=f) for n, f in formulas.items()))


def changed(**where):
    return Sheet(columns=columns(a="=1").columns, timed=("change",), change=Change(to=1, **where))


class Reader(unittest.TestCase):
    def test_precedence_as_in_the_standard(self):
        for text, whole in (
            ("=1+2*3", "(1+(2*3))"),
            ("=-2^2", "((-2)^2)"),
            ("=2^3^2", "((2^3)^2)"),
            ("=1-2-3", "((1-2)-3)"),
            ('=1+2&"a"="3a"', '(((1+2)&"a")="3a")'),
            ("=50%*2", "((50%)*2)"),
            ("=SUM(1;;2)", "SUM(1;;2)"),
            ("={1;2|3;4}", "{1;2|3;4}"),
            ("=if({row.barge}>[.B2];[$'a b'.$C$1:.$D$9];\"x\"\"y\")",
             "IF(({row.barge}>[.B2]);[$'a b'.$C$1:.$D$9];\"x\"\"y\")"),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(written(parse(text)), whole)

    def test_mistakes_point_at_their_character(self):
        for text, position, words in (
            ("1+2", 0, "begins with ="),
            ("=SUM(1,2)", 6, "semicolon, not a comma"),
            ("=1,2", 2, "semicolon, not a comma"),
            ("=SUMM(1;2)", 1, "no function SUMM"),
            ("=barge+1", 1, "neither a function nor a reference"),
            ("=SUM(1;2", 4, "never closed"),
            ('="open', 1, "no closing quote"),
            ("=1+", 3, "ends where a value is wanted"),
            ("=(1+2))", 6, "one too many"),
            ("=1+*2", 3, "A value is wanted here"),
            ("=[B2]+1", 1, "is no reference"),
            ("=1 ~ 2", 3, "no meaning"),
        ):
            with self.subTest(text), self.assertRaises(FormulaError) as caught:
                parse(text)
            self.assertEqual(caught.exception.position, position, text)
            self.assertIn(words, caught.exception.message)

    def test_a_near_name_is_offered(self):
        with self.assertRaises(FormulaError) as caught:
            parse("=SUMPRODUKT(1)")
        self.assertIn("SUMPRODUCT", caught.exception.hint)

    def test_letters_of_columns(self):
        self.assertEqual([letters(i) for i in (0, 25, 26, 701, 702)], ["A", "Z", "AA", "ZZ", "AAA"])


class Addresses(unittest.TestCase):
    def setUp(self):
        blocks = {name: Block(name, *told) for name, told in TABLES.items()}
        answer = Block("answer", ["passage", "near"], 20_000)
        self.places = Places(blocks, "passages", answer, ["tariff"])

    def test_braces_become_addresses(self):
        for formula, engine in (
            ("={barges.hull}", "=$'barges'.$B$2:$B$6001"),
            ("={barges}", "=$'barges'.$A$2:$B$6001"),
            ("={row.barge}+{row.near}", "=$'passages'.$B2+$'answer'.$B2"),
            ("={answer.near}*{cells.tariff}", "=$'answer'.$B$2:$B$20001*$'cells'.$B$1"),
            ("=[.A1]+[$cells.$B$1:.$B$3]", "=A1+$cells.$B$1:$B$3"),
            ("=multiple.operations(1;2;3)", "=TABLE(1;2;3)"),
        ):
            with self.subTest(formula):
                self.assertEqual(self.places.translated(formula), engine)

    def test_knobs_become_values(self):
        cell = Cell(name="top", formula="={knobs.top}")
        column = Column(name="a", formula="=IF({row.x}<{knobs.top};{knobs.word};{knobs.gone})")
        found = with_knobs(Sheet(columns=(column,), cells=(cell,)), {"top": 5, "word": 'a "b"'})
        self.assertEqual(found.cells[0].formula, "=5")
        self.assertEqual(found.columns[0].formula, '=IF({row.x}<5;"a ""b""";{knobs.gone})')
        blank = with_knobs(Sheet(columns=(column,)), None).columns[0].formula
        self.assertEqual((len(blank), "knobs" in blank), (len(column.formula), False))

    def test_what_is_not_there_is_named_with_what_is(self):
        for formula, words in (
            ("={boats.hull}", "no table boats"),
            ("={barges.mast}", "no column mast in barges"),
            ("={row.mast}", "no column mast on the own row"),
            ("={cells.rate}", "no cell rate"),
        ):
            with self.subTest(formula), self.assertRaisesRegex(FormulaError, words):
                self.places.translated(formula)


class Checks(unittest.TestCase):
    def test_problems_name_line_and_character(self):
        wrong = problem(columns(a="={row.passage}", b="=SUM(1,2)"), TABLES)
        self.assertEqual((wrong.line, wrong.column), (2, len("b: ") + 7))
        wrong = problem(columns(b="={barges.mast}"), TABLES)
        self.assertIn("no column mast", wrong.what)

    def test_circles_are_found_before_the_engine_would(self):
        self.assertIn("a, b", problem(columns(a="={row.b}+1", b="={answer.a}"), TABLES).what)
        self.assertIn("need each other", problem(columns(a="=SUM({answer.a})"), TABLES).what)
        self.assertIsNone(problem(columns(passage="={row.passage}"), TABLES))

    def test_more_rows_than_a_sheet_has(self):
        tall = {"passages": (["passage"], 1_048_576)}
        self.assertIn("a sheet ends at", problem(columns(a="={row.passage}"), tall).what)
        self.assertIsNone(problem(columns(a="={row.passage}"), {"passages": (["passage"], 900)}))

    def test_shapes_that_cannot_be(self):
        mixed = Sheet(columns=(Column(name="a", formula="=1", layout="cell"),
                               Column(name="b", formula="=2")))  # fmt: skip
        for sheet, words in (
            (Sheet(), "no column"),
            (mixed, "single cell"),
            (Sheet(columns=(Column(name="a", formula="=1", layout="helper"),)), "helper"),
            (Sheet(columns=columns(a="=1").columns, timed=("fill", "read")), "follow each other"),
            (Sheet(columns=columns(a="=1").columns, timed=("change",)), "none is named"),
            (
                Sheet(columns=columns(a="=1").columns, change=Change(cell="rate", to=1)),
                "names no cell “rate”",
            ),
            (changed(table="boats"), "no table “boats”"),
            (changed(table="barges", column="hull", row=6001), "6,000 rows"),
            (
                Sheet(
                    cells=(Cell(name="m", value=1),),
                    repeat=Repeat(input="m", result="total", times=3),
                ),
                "no cell “total”",
            ),
            (
                Sheet(
                    cells=(Cell(name="m", value=1),), repeat=Repeat(input="m", result="m", times=0)
                ),
                "repeated 0 times",
            ),
        ):
            with self.subTest(words):
                self.assertIn(words, problem(sheet, TABLES).what)

    def test_a_linear_scan_of_hours_is_said_before_it_starts(self):
        exact = "=INDEX({barges.hull};MATCH({row.barge};{barges.number};0))"
        large = {"barges": (["number", "hull"], 500_000), "passages": (["barge"], 500_000)}
        told = cost(columns(a=exact, b=exact), large)
        self.assertEqual(told.cells, 1_000_000)
        self.assertIn("hours", told.words)
        self.assertGreater(told.scan_s, 3600)
        near = exact.replace(";0)", ";1)")
        self.assertEqual(cost(columns(a=near), large).words, "")
        self.assertEqual(cost(columns(a=exact), TABLES).words, "")

    def test_random_models_are_known(self):
        self.assertTrue(cost(columns(a="=RAND()"), TABLES).random)
        cells = Sheet(cells=(Cell(name="m", formula="=RANDBETWEEN(1;6)"),),
                      columns=columns(a="={cells.m}").columns)  # fmt: skip
        self.assertTrue(cost(cells, TABLES).random)
        self.assertFalse(cost(columns(a="=1"), TABLES).random)


FLAT = """<?xml version="1.0" encoding="UTF-8"?>
<office:document xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"
 xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"
 xmlns:of="urn:oasis:names:tc:opendocument:xmlns:of:1.2" office:version="1.2"
 office:mimetype="application/vnd.oasis.opendocument.spreadsheet"><office:body>
<office:spreadsheet><table:table table:name="a">{cells}</table:table></office:spreadsheet>
</office:body></office:document>
"""

numbers = st.integers(0, 50).map(str) | st.floats(0.5, 9).map(lambda x: f"{x:.3f}")


def deeper(inner):
    signs = st.sampled_from(["+", "-", "*", "/", "^", "&", "=", "<", ">=", "<>"])
    two = st.tuples(inner, signs, inner).map(lambda t: f"{t[0]}{t[1]}{t[2]}")
    one = st.tuples(st.sampled_from(["ABS", "SIN", "INT", "EVEN", "ISERROR", "LEN"]), inner).map(
        lambda t: f"{t[0]}({t[1]})"
    )
    many = st.tuples(st.sampled_from(["SUM", "MAX", "CONCATENATE", "COUNT"]), inner, inner).map(
        lambda t: f"{t[0]}({t[1]};{t[2]})"
    )
    three = st.tuples(inner, inner, inner).map(lambda t: f"IF({t[0]};{t[1]};{t[2]})")
    return two | one | many | three | inner.map(lambda t: f"({t})") | inner.map(lambda t: f"-{t}")


formulas = st.recursive(numbers | st.sampled_from(['"ab"', "PI()", "TRUE()", "5%"]), deeper,
                        max_leaves=8)  # fmt: skip


@unittest.skipUnless(HERE, "the spreadsheet engine is not installed here")
class BesideTheEngine(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = Path(tempfile.mkdtemp(prefix="ivrell-formulas-"))
        cls.addClassCleanup(shutil.rmtree, folder, ignore_errors=True)
        cls.folder = folder
        cls.office = office.Office(folder)
        cls.addClassCleanup(cls.office.close)
        cls.sheet = cls.office.book().Sheets.getByIndex(0)

    def value(self, formula):
        cell = self.sheet.getCellByPosition(0, 0)
        cell.setFormula(formula)
        return cell.getError() or (cell.getString(), cell.getValue())

    @given(formulas)
    @settings(deadline=None, max_examples=150, suppress_health_check=list(HealthCheck))
    def test_the_engine_reads_a_formula_as_the_reader_does(self, text):
        tree = parse(f"={text}")
        self.assertEqual(self.value(f"={text}"), self.value(f"={written(tree)}"), text)

    def test_each_function_is_the_one_that_a_file_of_the_standard_means(self):
        # Some names mean another function in the engine's interface than in the standard: a file
        # of the standard's is opened, and the engine asked what it made of each.
        names = sorted(FUNCTIONS)
        cells = "".join(
            f'<table:table-row><table:table-cell table:formula="of:={name}()"/></table:table-row>'
            for name in names
        )
        path = self.folder / "functions.fods"
        path.write_text(FLAT.format(cells=cells))
        hidden = (self.office.property("Hidden", True),)
        book = self.office.desktop.loadComponentFromURL(path.as_uri(), "_blank", 0, hidden)
        sheet = book.Sheets.getByIndex(0)
        meant = [sheet.getCellByPosition(0, row).getFormula() for row in range(len(names))]
        self.assertEqual(meant, [f"={engine_name(name)}()" for name in names])

    def test_additions_are_called_by_what_they_are_called_in_the_interface(self):
        for formula, value in (("=QUOTIENT(7;2)", 3.0), ("=EFFECT(0.1;2)", 0.1025),
                               ("=RRI(2;100;121)", 0.1)):  # fmt: skip
            translated = Places({}, "", Block("answer", [], 1), []).translated(formula)
            self.assertAlmostEqual(self.value(translated)[1], value)

    def test_what_the_reader_refuses_the_engine_refuses_too(self):
        for text in ("=1+*2", "=(1+2))", "=NOSUCH(1)"):
            with self.subTest(text):
                with self.assertRaises(FormulaError):
                    parse(text)
                self.assertIsInstance(self.value(text), int)


if __name__ == "__main__":
    unittest.main()
