"""Approaches written as SQL for DuckDB, over files or over loaded tables."""

import re
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

from ivrell.core.engines.base import Engine, Problem
from ivrell.core.engines.explain import from_duckdb
from ivrell.core.engines.sql import SqlApproach, SqlTask, counted
from ivrell.core.engines.sql_text import Statement
from ivrell.core.recipe.csv_style import UTF_8, style_from
from ivrell.core.records.wire import Job, Step
from ivrell.core.tasks.task import ApproachFailed

_READERS = {
    "csv": "read_csv",
    "csv.gz": "read_csv",
    "csv.zst": "read_csv",
    "jsonl": "read_json",
    "parquet": "read_parquet",
}
LOADED = "duckdb"
_AT_LINE = re.compile(r"^LINE (\d+):", re.MULTILINE)


_OPTION = re.compile("[a-z_]{1,40}")


@dataclass(frozen=True, kw_only=True)
class DuckdbApproach(SqlApproach):
    """SQL over a view a table on its file, or with ``input = "duckdb"`` over loaded tables.

    ``reading`` holds settings of the engine's reader of those files, such as
    ``{ ignore_errors = true }`` for csv with broken lines.
    """

    engine: Literal["duckdb"]
    reading: dict[str, bool | int | float | str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if odd := [name for name in self.reading if not _OPTION.fullmatch(name)]:
            raise ValueError(f'reading: "{odd[0]}" is no name of a setting; take small letters')
        if self.reading and self.wanted.form == LOADED:
            raise ValueError("reading is of files; these tables are loaded")


class _Task(SqlTask):
    def __init__(self, job: Job) -> None:
        import duckdb
        import pyarrow  # noqa: F401 - the answer is fetched as Arrow, so it loads untimed

        super().__init__(job, mark="$")
        self._duckdb_error = duckdb.Error
        self._job = job
        self._unreadable: dict[str, str] = {}
        self.open()

    def connect(self) -> None:
        import duckdb

        job = self._job
        if job.form == LOADED:
            self._db = duckdb.connect(job.loaded.file, read_only=not self.writes)
        else:
            self._db = duckdb.connect(":memory:")
        self._db.execute("SET enable_progress_bar = false")
        self._db.execute("SET TimeZone = 'UTC'")
        self._db.execute(f"SET temp_directory = {_quoted(str(job.folder / 'spill'))}")
        if job.threads:
            self._db.execute(f"SET threads = {job.threads}")
        for name, value in job.approach.get("settings", {}).items():
            self._set(name, value)
        for name, path in job.tables.items():
            paths = [path] if isinstance(path, str) else path
            files = f"[{', '.join(map(_quoted, paths))}]"
            options = ", hive_partitioning = true" if "=" in Path(paths[0]).parent.name else ""
            options += self._style(name)
            for option, value in job.approach.get("reading", {}).items():
                told = str(value).lower() if isinstance(value, bool) else str(value)
                options += f", {option} = {_quoted(value) if isinstance(value, str) else told}"
            reader = f"{_READERS[job.form]}({files}{options})"
            try:
                self._db.execute(f'CREATE VIEW "{name}" AS FROM {reader}')
            except duckdb.Error as error:
                # Perhaps the lane's own SQL does not ask for it, or reads the file in its own way.
                self._unreadable[name] = str(error).strip()

    def _style(self, table: str) -> str:
        """What the reader of csv is told of a table that is not written in the usual way."""
        style = style_from(self._job.styles.get(table))
        if not style.mark:
            return ""
        told = f", delim = {_quoted(style.delimiter)}, header = {str(style.header).lower()}"
        if style.decimal != ".":
            told += f", decimal_separator = {_quoted(style.decimal)}"
        if style.encoding != UTF_8:
            told += f", encoding = {_quoted(style.encoding)}"
        if not style.header and table in self._job.shapes:
            import pyarrow as pa

            schema = bytes.fromhex(self._job.shapes[table].schema)
            names = pa.ipc.read_schema(pa.py_buffer(schema)).names
            told += f", names = [{', '.join(map(_quoted, names))}]"
        return told

    def disconnect(self) -> None:
        self._db.close()

    def put_back(self, restore: Callable[[], None]) -> None:
        # Tables in memory are gone with their session.
        if self._job.form == LOADED:
            place = self._job.loaded.file
            Path(f"{place}.wal").unlink(missing_ok=True)
            shutil.copyfile(self._job.loaded.pristine, place)

    def _set(self, name: str, value: object) -> None:
        try:
            self._db.execute(f'SET "{name}" = {_quoted(str(value))}')
        except self._duckdb_error as error:
            raise ApproachFailed("bad setting", f"settings.{name}: {error}") from error

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        values = self.values(statement)
        text = counted(statement.text) if fetch and self.discard else statement.text
        try:
            if fetch:
                return self._db.sql(text, params=values or None).to_arrow_table()
            self._db.execute(text, values or None)
            # A statement runs to its end, and lets the next one on, only when told to.
            self._db.complete()
            return None
        except self._duckdb_error as error:
            message = self._with_line(text, values, str(error))
            for name, why in self._unreadable.items():
                if f"Table with name {name} does not exist" in message:
                    raise ApproachFailed(
                        "file cannot be read",
                        f"Table {name}: {why} Settings of the reader stand in the lane's reading, "
                        "such as reading = { ignore_errors = true }.",
                        statement.line,
                    ) from error
            at = _AT_LINE.search(message)
            line = statement.line + (int(at[1]) - 1 if at else 0)
            raise ApproachFailed(type(error).__name__, message, line, message) from error

    def _with_line(self, text: str, values: dict[str, Any], message: str) -> str:
        """The message as the engine gives it to statements, which names the line; queries that
        are read as Arrow fail without it."""
        if _AT_LINE.search(message):
            return message
        try:
            self._db.execute(f"{_EXPLAIN}{text}", values or None)
            self._db.abort()
        except self._duckdb_error as error:
            told = str(error)
            return _without_explain(told) if _AT_LINE.search(told) else message
        return message

    def explain(self, statement: Statement) -> Step:
        text = f"EXPLAIN (ANALYZE, FORMAT json) {statement.text}"
        table = self.execute(replace(statement, text=text), fetch=True)
        return from_duckdb(table["explain_value"][0].as_py())  # type: ignore[index]

    def threads(self) -> dict[str, int]:
        rows = self._db.sql("SELECT current_setting('threads')").fetchall()
        return {"duckdb": int(rows[0][0])}


_EXPLAIN = "EXPLAIN "


def _without_explain(message: str) -> str:
    """The message of a statement that was explained to learn its line, as of the statement."""
    lines = message.split("\n")
    for number, line in enumerate(lines):
        if line.startswith(f"LINE 1: {_EXPLAIN}"):
            lines[number] = line.replace(_EXPLAIN, "", 1)
            # The mark below it moves along.
            for below in range(number + 1, min(number + 2, len(lines))):
                lines[below] = lines[below].replace(" " * len(_EXPLAIN), "", 1)
    return "\n".join(lines)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _without_knobs(code: str) -> str:
    """The code with plain values where knobs stand, for a look at its grammar alone."""
    return re.sub(r"\{\w+\}", "0", re.sub(r"(?<![:\w]):([A-Za-z_]\w*)", r"$\1", code))


class DuckdbEngine(Engine[DuckdbApproach]):
    """Runs SQL in an in-memory DuckDB with a view a table over its file, or in a file of
    loaded tables."""

    name = "duckdb"
    language = "sql"
    given_shapes = True
    approach = DuckdbApproach
    packages = ("duckdb", "pyarrow")
    forms = (*_READERS, LOADED)

    def problem(self, approach: DuckdbApproach) -> Problem | None:
        import duckdb

        if not approach.code.strip():
            return Problem("There is no statement in the code.", hint="Write a SELECT.")
        try:
            duckdb.extract_statements(_without_knobs(approach.code))
        except duckdb.Error as error:
            at = _AT_LINE.search(str(error))
            return Problem(str(error).split("\n")[0], int(at[1]) if at else None)
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
