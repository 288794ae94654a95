"""Approaches that are a program or a pipeline of the machine."""

import shlex
import shutil
import subprocess
from collections.abc import Iterable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from ivrell.core.engines.base import Approach, Engine, Problem, Seen, path_words
from ivrell.core.engines.program_lines import Lines, ended
from ivrell.core.records.wire import Job
from ivrell.core.tasks.buckets import in_buckets
from ivrell.core.tasks.task import ApproachFailed, Stage, Task

if TYPE_CHECKING:
    import pyarrow as pa

_KEPT = 4000
_TAKEN = "A program that is told its calls on standard input cannot have a table there."
Kind = Literal["csv", "jsonl", "parquet"]


@dataclass(frozen=True, kw_only=True)
class CommandApproach(Approach):
    """A program: ``argv``, in which ``{script}`` is a file that holds ``code``, ``{passages}``
    the path of a table (of its part files, as several arguments), ``{out}`` where to leave the
    answer, ``{batch}`` a knob and ``{built}`` what ``build`` made, untimed.

    The answer is what it prints, or ``{out}`` where argv names it: ``answer`` says in which
    form, ``names`` its columns where it prints no header. Instead ``buckets`` may name files
    of that form which it leaves in its own folder.

    ``stdin`` names a table whose file is its standard input. With ``lines = "stages"`` the lines
    that begin with ``::stage`` name parts of the run; with ``lines = "calls"`` it is started
    once, outside the clock, and does a call for each line that it is given, see Lines.
    """

    engine: Literal["command"]
    argv: tuple[str, ...]
    code: str = ""
    build: tuple[str, ...] = ()
    answer: Kind = "csv"
    names: tuple[str, ...] = ()
    buckets: Mapping[str, str] = field(default_factory=dict)
    stdin: str = ""
    lines: Literal["", "stages", "calls"] = ""

    def text(self) -> str:
        return self.code or shlex.join(self.argv)


class _Task(Task):
    works_on = True

    hands_over_as_is = False

    def __init__(self, job: Job) -> None:
        approach = job.approach
        self._answer: str = approach.get("answer", "csv")
        self._names = list(approach.get("names", ()))
        self._buckets: dict[str, str] = dict(approach.get("buckets", {}))
        self._folder = job.folder
        self._out = job.folder / f"answer.{self._answer}"
        script = job.folder / "script"
        script.write_text(approach.get("code", ""))
        places: dict[str, list[str]] = {
            "script": [str(script)],
            "out": [str(self._out)],
            "built": [str(job.folder / "built")],
        }
        for table, path in job.tables.items():
            places[table] = [path] if isinstance(path, str) else list(path)
        places |= {knob: [str(value)] for knob, value in job.knobs.items()}
        self._prints = not any("{out}" in word for word in approach["argv"])
        self._argv = _filled(approach["argv"], places)
        if approach.get("build"):
            _check(_filled(approach["build"], places), "building")
            done = subprocess.run(
                _filled(approach["build"], places), cwd=job.folder, capture_output=True, text=True
            )
            if done.returncode:
                raise ApproachFailed(
                    "build failed", f"{done.stderr or done.stdout}"[-_KEPT:].strip() or "no message"
                )
        _check(self._argv, "running")
        self._stdin = _single(approach.get("stdin", ""), job.tables)
        self._lines: Lines | None = None
        if lines := approach.get("lines", ""):
            if self._stdin and lines == "calls":
                raise ApproachFailed("no standard input", _TAKEN)
            self._lines = Lines(self._argv, job.folder, self._stdin, calls=lines == "calls")

    def run(self, stage: Stage) -> object:
        if self._lines:
            self._lines.call(stage, self._out if self._prints else None)
            return self._out
        with stage("program"), ExitStack() as opened:
            given = opened.enter_context(self._stdin.open("rb")) if self._stdin else None
            out = opened.enter_context(self._out.open("wb")) if self._prints else None
            done = subprocess.run(
                self._argv, cwd=self._folder, stdin=given, stdout=out, stderr=subprocess.PIPE
            )
        if done.returncode:
            raise ended(self._argv, done.returncode, done.stderr)
        return self._out

    def living_cpu(self) -> float:
        return self._lines.living_cpu() if self._lines else 0.0

    def close(self) -> None:
        if self._lines:
            self._lines.close()

    def hand_over(self, answer: object) -> "pa.Table":
        if not self._buckets:
            return self._read(self._out, "{out}")
        return in_buckets(
            {
                bucket: self._read(self._folder / name, name)
                for bucket, name in self._buckets.items()
            }
        )

    def _read(self, path: Path, name: str) -> "pa.Table":
        import pyarrow as pa
        import pyarrow.csv
        import pyarrow.json
        import pyarrow.parquet

        if not path.exists():
            raise ApproachFailed("no answer", f"The program left no file at {name}.")
        try:
            if self._answer == "csv":
                options = pyarrow.csv.ReadOptions(column_names=self._names or None)
                return pyarrow.csv.read_csv(path, read_options=options)
            if self._answer == "jsonl":
                return pyarrow.json.read_json(path)
            return pyarrow.parquet.read_table(path)
        except (pa.ArrowException, OSError) as error:
            raise ApproachFailed(
                "answer cannot be read", f"What it left is no {self._answer}: {error}"
            ) from error


def _single(table: str, tables: Mapping[str, str | Sequence[str]]) -> Path | None:
    """The one file of a table that is to be standard input. Raises ApproachFailed."""
    if not table:
        return None
    place = tables.get(table)
    if not isinstance(place, str):
        known = ", ".join(tables)
        what = f"Table {table} is in parts" if place else f"There is no table {table}"
        raise ApproachFailed(
            "no standard input", f"{what}; `stdin` takes one whole file. Tables: {known}."
        )
    return Path(place)


def _filled(argv: Any, places: Mapping[str, list[str]]) -> list[str]:
    """The words of a command line with their places filled in; a word that is one place alone
    becomes as many as there are."""
    found: list[str] = []
    for word in argv:
        if word.startswith("{") and word.endswith("}") and word[1:-1] in places:
            found += places[word[1:-1]]
            continue
        for name, values in places.items():
            word = word.replace(f"{{{name}}}", " ".join(values))
        found.append(word)
    return found


def _check(argv: list[str], what: str) -> None:
    if not argv or (shutil.which(argv[0]) is None and not Path(argv[0]).exists()):
        program = argv[0] if argv else "nothing"
        raise ApproachFailed(
            "no such program", f"{program} is not on this machine, and {what} needs it."
        )


class CommandEngine(Engine[CommandApproach]):
    """Runs a program or pipeline; its processes are the run's."""

    how = (
        "Set argv to the program and its arguments; {script} is a file that holds this text, and "
        "what it prints, or leaves at {out}, is the answer."
    )

    name = "command"
    language = "text"
    approach = CommandApproach
    packages = ("pyarrow",)

    def starting(self, table: str, column: str) -> dict[str, Any]:
        code = 'NR > 1 { rows++ }\nEND { print "rows"; print rows }\n'
        return {"argv": ["awk", "-f", "{script}", f"{{{table}}}"], "code": code}

    def table_name(self, table: str) -> str:
        return f"{{{table}}}"

    def knob_name(self, knob: str) -> str:
        return f"{{{knob}}}"

    def table_words(self, approach: CommandApproach) -> str:
        return path_words(approach.wanted)

    def sees(
        self, approach: CommandApproach, tables: Iterable[str], knobs: Iterable[str]
    ) -> list[Seen]:
        # A program is one part: it has no way to name others.
        return super().sees(approach, tables, knobs)[:-1]

    def problem(self, approach: CommandApproach) -> Problem | None:
        if not approach.argv:
            return Problem("There is no program to run.", hint='Write argv = ["awk", ...].')
        if approach.stdin and approach.lines == "calls":
            return Problem(_TAKEN, hint="Leave `stdin` out, and name the table in argv.")
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
