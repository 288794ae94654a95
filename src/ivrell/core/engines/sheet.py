"""Approaches written as formulas for a real spreadsheet engine."""

import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from ivrell.core.engines.base import Approach, Engine, Problem, Scope, Seen
from ivrell.core.recipe.csv_style import style_from
from ivrell.core.recipe.input import Input
from ivrell.core.records.wire import Job
from ivrell.core.sheets.check import Cost, Wrong, cost, labelled, problem
from ivrell.core.sheets.model import Cell, Change, Column, Repeat, Sheet, with_knobs
from ivrell.core.tasks.task import Counted, Stage, Task

if TYPE_CHECKING:
    import pyarrow as pa

    from ivrell.core.sheets.book import Book

STAGES = {
    "bring": "bring the data in",
    "fill": "write the formulas",
    "calculate": "calculate everything",
    "change": "calculate after a change",
    "read": "read the answer",
    "save": "save",
}


@dataclass(frozen=True, kw_only=True)
class SheetApproach(Approach, Sheet):
    """An answer sheet beside the tables' sheets; see sheets.model.

    ``input`` says how tables come in: "arrow" writes them cell by cell through the engine's
    interface, "csv" and "ods" let the engine read the files. ``many_threads`` off makes it
    calculate with one.
    """

    engine: Literal["sheet"]
    input: str | Input = "arrow"
    many_threads: bool = True

    def text(self) -> str:
        return "\n".join(f"{label} {formula}".rstrip() for label, formula in labelled(self))


def _sheet(approach: Mapping[str, Any]) -> Sheet:
    """The sheet of an approach's fields, which came as plain data."""
    given = {field.name: approach[field.name] for field in fields(Sheet) if field.name in approach}
    return Sheet(
        **given
        | {
            "columns": tuple(Column(**column) for column in given["columns"]),
            "cells": tuple(Cell(**cell) for cell in given["cells"]),
            "repeat": Repeat(**given["repeat"]) if given.get("repeat") else None,
            "change": Change(**given["change"]) if given.get("change") else None,
            "timed": tuple(given["timed"]),
            "sorted": tuple(given.get("sorted", ())),
        }
    )


class _Task(Task):
    works_on = True

    sets_up_each = True
    hands_over_as_is = False

    def __init__(self, job: Job) -> None:
        from ivrell.core.sheets.office import Office

        self._sheet = with_knobs(_sheet(job.approach), job.knobs)
        self._folder = job.folder
        self._form = job.form
        self._styles = {name: style_from(told) for name, told in job.styles.items()}
        self._files = {
            name: Path(path if isinstance(path, str) else path[0])
            for name, path in job.tables.items()
        }
        self._look_at_tables(job)
        threads = job.threads if job.approach.get("many_threads", True) else 1
        self._office = Office(job.folder, threads)
        self._book: Book | None = None
        self._values: dict[str, list[Any]] | None = None
        self._counted: dict[str, float] = {}
        self._took: dict[str, float] = {}

    def _look_at_tables(self, job: Job) -> None:
        import pyarrow as pa

        from ivrell.core.sheets.check import places_of

        self._schemas = {
            name: pa.ipc.read_schema(pa.py_buffer(bytes.fromhex(told.schema)))
            for name, told in job.shapes.items()
        }
        tables = {name: (self._schemas[name].names, told.rows) for name, told in job.shapes.items()}
        self._places = places_of(self._sheet, tables)

    def before_each(self) -> None:
        from ivrell.core.sheets.book import Book

        if self._book:
            self._book.close()
        self._values, self._counted, self._took = None, {}, {}
        self._book = Book(
            self._office, self._sheet, self._places, self._files, self._schemas, self._form,
            self._styles,
        )  # fmt: skip
        for part in STAGES:
            if part == self._sheet.timed[0]:
                break
            self._do(part)

    def run(self, stage: Stage) -> object:
        for part in self._sheet.timed:
            with stage(STAGES[part]):
                self._do(part)
        return self._values

    def _do(self, part: str) -> None:
        book = self._book
        assert book
        began = time.perf_counter()
        steps: dict[str, Callable[[], Any]] = {
            "bring": book.bring,
            "fill": lambda: self._counted.update({"formula cells": float(book.fill())}),
            "calculate": book.calculate,
            "change": lambda: book.change(self._sheet.change) if self._sheet.change else None,
            "read": self._read,
            "save": lambda: self._counted.update(
                {"saved bytes": float(book.save(self._folder / "answer.ods"))}
            ),
        }
        steps[part]()
        self._took[part] = time.perf_counter() - began

    def _read(self) -> None:
        assert self._book
        self._values = self._book.read()

    def hand_over(self, answer: object) -> "pa.Table":
        from ivrell.core.sheets.book import answer_table

        if self._values is None:
            if "change" not in self._took and self._sheet.change and self._took:
                self._do("change")
            self._read()
        assert self._values is not None
        return answer_table(self._values, {c.name: c.kind for c in self._sheet.columns})

    def counted(self) -> Counted:
        assert self._book
        found = dict(self._counted)
        calculating = self._took.get("calculate")
        if calculating and "formula cells" in found:
            found["formula cells a second"] = found["formula cells"] / calculating
        if calculating and "change" in self._took:
            found["share recalculated after the change"] = self._took["change"] / calculating
        for kind, count in self._book.errors().items():
            found[f"errors: {kind}"] = float(count)
        return Counted(found)

    def engine_process(self) -> str:
        """Name of the process that does the work, told apart from this client's."""
        from ivrell.core.sheets.office import NAME

        return NAME

    def close(self) -> None:
        self._office.close()


class SheetEngine(Engine[SheetApproach]):
    """Drives a fresh spreadsheet engine process per run through its public interface."""

    how = (
        "Each column of the answer sheet has a formula of the OpenFormula standard, arguments "
        "parted by semicolons: {barges.hull} is a whole column, {barges} a whole table, "
        "{row.barge} the cell on the formula's own row, {answer.hull} a column of the answer, "
        "{cells.rate} a single cell, {knobs.rows} a knob's value. Cells, repeats and changes "
        "stand in the settings."
    )

    name = "sheet"
    language = "formulas"
    given_shapes = True
    looks_at_tables = True
    approach = SheetApproach
    packages = ("pyarrow",)
    forms = ("arrow", "csv", "ods", "xlsx")
    arrives_behind = True

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """The spreadsheet engine and the module that reaches it."""
        from ivrell.core.sheets.office import INSTALL, version

        found = version()
        if found is None:
            return {}, ("LibreOffice Calc with its Python interface",), INSTALL
        return {"LibreOffice": found}, (), ""

    def starting(self, table: str, column: str) -> dict[str, Any]:
        counted = f"{{{table}.{column}}}" if column else f"{{{table}}}"
        formula = f"=COUNTA({counted})"
        return {"columns": [{"name": "rows", "formula": formula, "layout": "cell"}]}

    def table_name(self, table: str) -> str:
        return f"{{{table}}}"

    def knob_name(self, knob: str) -> str:
        return f"{{knobs.{knob}}}"

    def table_words(self, approach: SheetApproach) -> str:
        if approach.wanted.form == "arrow":
            return "a sheet, written cell by cell"
        return f"a sheet, read by the engine from {approach.wanted.form}"

    def sees(
        self, approach: SheetApproach, tables: Iterable[str], knobs: Iterable[str]
    ) -> list[Seen]:
        # Its parts are those that it times.
        return super().sees(approach, tables, knobs)[:-1]

    def scope(self, approach: SheetApproach) -> Scope:
        return Scope.ENGINE

    def problem(self, approach: SheetApproach) -> Problem | None:
        if approach.sorted and approach.wanted.form != "arrow":
            return Problem(
                "Tables are sorted beforehand only where they are written cell by cell.",
                hint='Say input = "arrow".',
            )
        return _told(problem(with_knobs(approach, None)))

    def problem_with(
        self, approach: SheetApproach, tables: Mapping[str, tuple[list[str], int]]
    ) -> Problem | None:
        """What is plainly wrong with an approach over tables of these columns and rows."""
        return _told(problem(with_knobs(approach, None), tables))

    def cost(self, approach: SheetApproach, tables: Mapping[str, tuple[list[str], int]]) -> Cost:
        """What an approach without problems will ask of the engine."""
        return cost(with_knobs(approach, None), tables)

    def prepare(self, job: Job) -> _Task:
        return _Task(job)


def _told(wrong: Wrong | None) -> Problem | None:
    if wrong is None:
        return None
    at = f"Character {wrong.column}: " if wrong.column else ""
    return Problem(at + wrong.what, wrong.line, wrong.hint)
