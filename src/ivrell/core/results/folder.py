"""One result folder: its files by name, read and written whole.

Everything of a trial stands here; records elsewhere are an index of it, which can be made anew.
Files that are replaced are written beside themselves first, on the same file system, so that a
reader finds the one or the other and never a half. Runs are added a line at a time.
"""

import gzip
import json
import logging
import os
import shutil
import stat
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Generic, TypeVar

import pyarrow as pa
import pyarrow.parquet
from pydantic import TypeAdapter

from ivrell.core.base.errors import BadInput
from ivrell.core.base.json_lines import as_line, cut_to_whole_lines, whole_lines
from ivrell.core.base.locks import FileLock
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.bundle import Origin
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.history import Remarks
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Plan
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet, Session
from ivrell.core.records.sweep import SweepFindings

log = logging.getLogger("ivrell.results")
COMPARISON = "comparison.toml"
RUNS = "runs.jsonl"
REPORT = "report.html"
CURVES = "curves.parquet"
_CURVES = "curves"
_ANSWERS = "answers"
_FILES = "files"
_EVENT_LOGS = "spark-events"
_LONGEST_LOG = 1 << 30
_JOURNAL = "journal.jsonl"
_LOCK = "conductor.lock"
_THINNED = "thinned"

CURVE = pa.schema(
    [
        ("run", pa.int32()),
        ("t_s", pa.float64()),
        ("cpu_s", pa.float64()),
        ("memory_bytes", pa.int64()),
    ]
)
"""Columns of the file of curves: seconds since the clock started, CPU seconds, bytes."""

Shape = TypeVar("Shape")


class RecordFile(Generic[Shape]):
    """A record that has a file of its own: the file's name, and the record's shape."""

    def __init__(self, name: str, shape: type[Shape]) -> None:
        self.name = name
        self.shape: TypeAdapter[Shape] = TypeAdapter(shape)


PLAN = RecordFile("plan.json", Plan)
SESSIONS = RecordFile("sessions.json", list[Session])
MACHINE = RecordFile("machine.json", Machine)
"""Of trials of earlier versions, which had one machine for all sessions."""

DATA = RecordFile("data.json", list[MadeTable])
AGREEMENT = RecordFile("agreement.json", dict[str, dict[str, Agreement]])
"""Agreement by the name of the point and by lane."""

REMARKS = RecordFile("remarks.json", Remarks)
"""What people said of it; not there where nobody said anything."""

ORIGIN = RecordFile("origin.json", Origin)
"""Where it came from, of a trial that was run elsewhere and came as a bundle."""

FINDINGS = RecordFile("findings.json", TrialFindings)
SWEEP = RecordFile("sweep.json", list[SweepFindings])
"""What is found along each knob of several sizes; not there where no knob has them."""

Sample = tuple[float, float, int]
"""Of a curve: seconds since the clock started, CPU seconds until then, bytes held."""


AddRun = Callable[[RunRecord], None]
"""Adds a run at the end of a folder's runs."""


class ResultFolder:
    """The result folder at a path; it need not be there yet."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __str__(self) -> str:
        return str(self.path)

    @property
    def is_one(self) -> bool:
        """Whether a trial has been begun there."""
        return self.has(PLAN) and (self.path / COMPARISON).exists()

    @property
    def has_ended(self) -> bool:
        """Whether the trial there has come to an end."""
        return self.has(FINDINGS)

    def reopen(self) -> None:
        """Let it be one that has not ended: what was found of it is not the whole any more."""
        for record in (FINDINGS, SWEEP):
            (self.path / record.name).unlink(missing_ok=True)
        self.report.unlink(missing_ok=True)

    def make(self) -> None:
        """Make the folder where it is missing."""
        self.path.mkdir(parents=True, exist_ok=True)

    @contextmanager
    def conducted(self) -> Iterator[None]:
        """Let nobody else conduct the trial meanwhile. Raises BadInput where somebody does."""
        self.make()
        lock = FileLock(self.path / _LOCK)
        if not lock.take():
            raise BadInput(
                "Another process conducts this trial.",
                where=str(self.path),
                hint="Wait until it ends, or stop it there.",
            )
        try:
            yield
        finally:
            lock.release()

    def write(self, name: str, text: str) -> None:
        """Put a whole file in the place of the one that is there, if any."""
        part = self.path / f"{name}.part"
        part.write_text(text, encoding="utf-8")
        part.replace(self.path / name)

    def keep(self, record: RecordFile[Any], value: object) -> None:
        """Put a record's file in the place of the one that is there, if any."""
        self.write(record.name, record.shape.dump_json(value, indent=2).decode())

    def has(self, record: RecordFile[Any]) -> bool:
        """Whether a record's file is there."""
        return (self.path / record.name).exists()

    def read(self, record: RecordFile[Shape]) -> Shape:
        """A record from its file, of an earlier version too. Raises BadInput where it is none or
        not there."""
        name = record.name
        try:
            return record.shape.validate_json((self.path / name).read_bytes())
        except FileNotFoundError:
            raise BadInput(
                f"{self.path} has no {name}.", hint="Name the folder of a trial that has ended."
            ) from None
        except (OSError, ValueError) as error:
            raise BadInput(f"{name} cannot be read: {error}", where=str(self.path)) from None

    def keep_event_log(self, run: int, log: Path) -> None:
        """Keep the log of a run's session of Spark, packed; one that is no plain file, or larger
        than any session's, is left."""
        place = self.path / _EVENT_LOGS
        place.mkdir(exist_ok=True)
        try:
            handle = os.open(log, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
        except OSError:
            return
        with os.fdopen(handle, "rb") as given:
            state = os.fstat(handle)
            if not stat.S_ISREG(state.st_mode) or state.st_size > _LONGEST_LOG:
                return
            with gzip.open(place / f"{run}.json.gz", "wb", compresslevel=1) as kept:
                shutil.copyfileobj(given, kept)

    @property
    def comparison_text(self) -> str:
        """The comparison file as it was when the trial was launched. Raises BadInput."""
        try:
            return (self.path / COMPARISON).read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise BadInput(
                f"{self.path} is no result folder of a trial: {error}.",
                hint="Name a folder that ivrell run has made.",
            ) from None

    def sessions(self) -> list[Session]:
        """The sessions there were, the oldest first. Raises BadInput."""
        if self.has(SESSIONS):
            return self.read(SESSIONS)
        if self.has(MACHINE):
            machine = self.read(MACHINE)
            return [Session(began=machine.taken_at, plan=self.read(PLAN), machine=machine)]
        return []

    def run_set(self) -> RunSet:
        """All runs with their sessions. Raises BadInput as ``runs`` does."""
        return RunSet(self.runs(), self.sessions())

    def runs(self) -> list[RunRecord]:
        """The runs there are, without one that was cut off while it was written; a line that
        stands there twice counts once. Raises BadInput where a line is no run, or two runs have
        one number."""
        try:
            told = [RunRecord.model_validate(line) for line in whole_lines(self.path / RUNS)]
        except ValueError as error:
            raise BadInput(f"{RUNS} cannot be read: {error}", where=str(self.path)) from None
        found: dict[int, RunRecord] = {}
        for run in told:
            if found.setdefault(run.run, run) != run:
                raise BadInput(
                    f"{RUNS} has two runs of the number {run.run}, which are not the same.",
                    where=str(self.path),
                    hint="Take out the line that is not the run's own.",
                )
        if len(found) < len(told):
            log.warning("%s: lines that stand there twice count once", self.path / RUNS)
        return list(found.values())

    @contextmanager
    def adding_runs(self) -> Iterator[AddRun]:
        """What adds a run at the end; each is on the disk before the next begins."""
        path = self.path / RUNS
        with path.open("a", encoding="utf-8") as lines:
            cut_to_whole_lines(path)

            def add(run: RunRecord) -> None:
                lines.write(as_line(run.model_dump(mode="json")))
                lines.flush()
                os.fsync(lines.fileno())

            yield add

    def write_runs(self, runs: Iterable[RunRecord]) -> None:
        """Put all of these runs in the place of those that are there."""
        self.write(RUNS, "".join(as_line(run.model_dump(mode="json")) for run in runs))

    def keep_curve(self, run: int, curve: Sequence[Sequence[float]]) -> None:
        """Keep the curve of one run."""
        folder = self.path / _CURVES
        folder.mkdir(exist_ok=True)
        (folder / f"{run}.json").write_text(json.dumps(curve))

    def curve(self, run: int) -> list[Sample]:
        """The curve of one run; empty where there is none."""
        path = self.path / _CURVES / f"{run}.json"
        if not path.exists():
            return []
        return [(t, cpu, round(memory)) for t, cpu, memory in json.loads(path.read_text())]

    def write_curves(self, runs: Iterable[int]) -> None:
        """Put the curves of these runs into one file of columns, see CURVE."""
        rows = [(run, *sample) for run in runs for sample in self.curve(run)]
        named = [dict(zip(CURVE.names, row, strict=True)) for row in rows]
        pyarrow.parquet.write_table(pa.Table.from_pylist(named, CURVE), self.path / CURVES)

    @property
    def answers(self) -> Path:
        """Folder of the answers that differ, a file each."""
        return self.path / _ANSWERS

    @property
    def files(self) -> Path:
        """Folder of the files that lanes left, where they were to be kept: by lane and point."""
        return self.path / _FILES

    @property
    def journal(self) -> Path:
        """The runner's own record."""
        return self.path / _JOURNAL

    @property
    def report(self) -> Path:
        """The report, a page of its own."""
        return self.path / REPORT

    @property
    def is_thinned(self) -> bool:
        """Whether only summaries are there any more."""
        return (self.path / _THINNED).exists()

    @property
    def thinned_bytes(self) -> int:
        """Bytes that thinning would give back."""
        return sum(
            path.stat().st_size
            for one in self._raw
            for path in ([one] if one.is_file() else one.rglob("*"))
            if path.is_file() and not path.is_symlink()
        )

    def thin(self) -> None:
        """Take out what single runs left: answers, curves, files, logs. Figures of runs, findings
        and report stay."""
        (self.path / _THINNED).touch()
        for one in self._raw:
            if one.is_dir():
                shutil.rmtree(one)
            else:
                one.unlink(missing_ok=True)

    def refuse_thinned(self) -> None:
        """Raise BadInput where only summaries are there any more."""
        if self.is_thinned:
            raise BadInput(
                "Of this trial only summaries are kept: its answers were thinned out.",
                where=str(self.path),
                hint="Run a trial anew.",
            )

    @property
    def _raw(self) -> list[Path]:
        names = _ANSWERS, _FILES, _CURVES, CURVES, _EVENT_LOGS, _JOURNAL
        return [self.path / name for name in names]

    def contents(self) -> dict[str, int]:
        """Bytes of each file there, by its name within the folder."""
        return {
            str(path.relative_to(self.path)): path.stat().st_size
            for path in sorted(self.path.rglob("*"))
            if path.is_file()
        }
