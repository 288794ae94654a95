"""Approaches written as SQL for DuckDB, over files."""

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from ivrell.core.engines.base import Approach, ApproachFailed, Job, Problem, Stage, Task
from ivrell.core.engines.sql_text import Statement, statements

_READERS = {
    "csv": "read_csv",
    "csv.gz": "read_csv",
    "csv.zst": "read_csv",
    "jsonl": "read_json",
    "parquet": "read_parquet",
}
_AT_LINE = re.compile(r"^LINE (\d+):", re.MULTILINE)


@dataclass(frozen=True, kw_only=True)
class DuckdbApproach(Approach):
    """SQL whose last statement gives the answer; ``setup`` and ``teardown`` are untimed.

    ``delivery`` says whether the rows of the answer are fetched inside the clock
    ("rows") or only computed there and counted ("discard").
    """

    engine: Literal["duckdb"]
    code: str
    setup: str = ""
    teardown: str = ""
    delivery: Literal["rows", "discard"] = "rows"

    def text(self) -> str:
        return self.code


class _Task(Task):
    def __init__(self, job: Job) -> None:
        import duckdb
        import pyarrow  # noqa: F401 - the answer is fetched as Arrow, so it loads untimed

        self._duckdb_error = duckdb.Error
        self._knobs = job.knobs
        self._code = statements(job.approach["code"], job.knobs)
        self._teardown = statements(job.approach.get("teardown", ""), job.knobs)
        self._discard = job.approach.get("delivery") == "discard"
        if not self._code:
            raise ApproachFailed("no answer", "There is no statement in the code. Write a SELECT.")
        self._db = duckdb.connect(":memory:")
        self._db.execute("SET enable_progress_bar = false")
        self._db.execute("SET TimeZone = 'UTC'")
        self._db.execute(f"SET temp_directory = {_quoted(str(job.folder / 'spill'))}")
        if job.threads:
            self._db.execute(f"SET threads = {job.threads}")
        for name, path in job.tables.items():
            paths = [path] if isinstance(path, str) else path
            files = f"[{', '.join(map(_quoted, paths))}]"
            options = ", hive_partitioning = true" if "=" in Path(paths[0]).parent.name else ""
            reader = f"{_READERS[job.form]}({files}{options})"
            self._db.execute(f'CREATE VIEW "{name}" AS FROM {reader}')
        for statement in statements(job.approach.get("setup", ""), job.knobs):
            self._execute(statement)

    def run(self, stage: Stage) -> object:
        named = any(statement.stage for statement in self._code)
        answer: object = None
        for position, statement in enumerate(self._code):
            with stage((statement.stage or "first") if named else "query"):
                last = position == len(self._code) - 1
                answer = self._execute(statement, fetch=last)
        return answer

    def _execute(self, statement: Statement, fetch: bool = False) -> object:
        values = {name: self._knobs[name] for name in statement.bound}
        text = statement.text
        if fetch and self._discard:
            text = f"SELECT count(*) AS rows FROM ({text}) AS answer"
        try:
            if fetch:
                return self._db.sql(text, params=values or None).to_arrow_table()
            self._db.execute(text, values or None)
            return None
        except self._duckdb_error as error:
            message = str(error)
            at = _AT_LINE.search(message)
            line = statement.line + (int(at[1]) - 1 if at else 0)
            raise ApproachFailed(type(error).__name__, message, line, message) from error

    def threads(self) -> dict[str, int]:
        row = self._db.execute("SELECT current_setting('threads')").fetchone()
        return {"duckdb": int(row[0])} if row else {}

    def close(self) -> None:
        for statement in self._teardown:
            self._execute(statement)
        self._db.close()


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _without_knobs(code: str) -> str:
    """The code with plain values where knobs stand, for a look at its grammar alone."""
    return re.sub(r"\{\w+\}", "0", re.sub(r"(?<![:\w]):([A-Za-z_]\w*)", r"$\1", code))


class DuckdbEngine:
    """Runs SQL in an in-memory DuckDB with a view a table over its file."""

    name = "duckdb"
    language = "sql"
    approach = DuckdbApproach
    packages = ("duckdb", "pyarrow")
    forms = tuple(_READERS)

    def problem(self, approach: DuckdbApproach) -> Problem | None:
        import duckdb

        if not approach.code.strip():
            return Problem("There is no statement in the code.", cure="Write a SELECT.")
        try:
            duckdb.extract_statements(_without_knobs(approach.code))
        except duckdb.Error as error:
            at = _AT_LINE.search(str(error))
            return Problem(str(error).split("\n")[0], int(at[1]) if at else None)
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
