"""The process that holds stored answers against each other in Spark, and who starts it:
``python -m ivrell.core.agreement.judge FOLDER``."""

import os
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet
from pydantic import BaseModel, ValidationError

from ivrell.core.agreement.compare import DIFFERENT, no_answer
from ivrell.core.comparison.model import Answer
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, Sandbox, give, why_not
from ivrell.core.folders import data_folder
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.wire import SparkPlace
from ivrell.core.scratch import scratch
from ivrell.core.spark.places import At, Places

_SECONDS = 3600.0
_MOST_BYTES = 64 << 20
_ASKED, _SAID, _LOG = "asked.json", "said.json", "judge.log"


class _Asked(BaseModel):
    """What is to be held against each other: folders or addresses of Parquet files."""

    place: SparkPlace
    reference: str
    answer: str
    question: Answer


@dataclass(frozen=True)
class Rows:
    """Rows of one answer: a table that is at home, or where executors wrote them, reached from the
    place of this name."""

    table: pa.Table | None = None
    address: str = ""
    at: str = ""


class ClusterJudge:
    """Holds answers against each other in Spark, where one of them is kept there.

    Args:
        places: where sessions run.
    """

    def __init__(self, places: Places) -> None:
        self._places = places

    def compare(self, reference: Rows, answer: Rows, question: Answer) -> Agreement:
        """As ``compare`` does, by a process of its own in a sandbox."""
        away = [rows.at for rows in (reference, answer) if rows.address and _is_away(rows.address)]
        at = self._places.at(away[0] if away else "")
        with scratch() as outer:
            folder = outer / "judge"
            (folder / "tmp").mkdir(parents=True)
            asked = _Asked(
                place=at.place, question=question,
                reference=_address(reference, folder / "reference.parquet"),
                answer=_address(answer, folder / "answer.parquet"),
            )  # fmt: skip
            (folder / _ASKED).write_text(asked.model_dump_json())
            return _said(folder, at, [asked.reference, asked.answer])


def _is_away(address: str) -> bool:
    """Whether rows stand on a storage, not in the result folder."""
    return "://" in address


def _address(rows: Rows, place: Path) -> str:
    if rows.table is None:
        return rows.address
    pyarrow.parquet.write_table(rows.table, place)
    return str(place)


def _said(folder: Path, at: At, addresses: list[str]) -> Agreement:
    """Have the process look, and take what it says."""
    command = [sys.executable, "-m", __name__, str(folder)]
    if why_not() is None:
        give(folder)
        shown = (address.removeprefix("file://") for address in addresses)
        inputs = [place for place in shown if place.startswith("/")]
        sandbox = Sandbox(
            folder, ours=OURS, inputs=tuple(inputs), hidden=(str(data_folder()),),
            network=at.network, beside=at.beside,
        )  # fmt: skip
        command = sandbox.around(command)
    with (folder / _LOG).open("wb") as log:
        try:
            subprocess.run(
                command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, timeout=_SECONDS,
                cwd=folder, env=scrubbed_environment(folder),
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return _unknown(f"that took more than {_SECONDS:.0f} s")
    path = folder / _SAID
    try:
        if path.is_symlink() or path.stat().st_size > _MOST_BYTES:
            return _unknown("what was said of it is too long")
        return Agreement.model_validate_json(path.read_bytes())
    except (OSError, ValidationError):
        said = (folder / _LOG).read_text(errors="replace").strip().splitlines()
        return _unknown(said[-1][:400] if said else "the process said nothing")


def _unknown(why: str) -> Agreement:
    """Of an answer that could not be looked at: not known to agree is not agreeing."""
    found = no_answer("")
    found.verdict = DIFFERENT
    found.reasons = [f"it could not be held against the reference in Spark: {why}"]
    return found


def look(folder: Path, held: Callable[..., Agreement]) -> None:
    """In the process: open a session, read both, say how they agree."""
    from ivrell.core.spark.session import open_session

    asked = _Asked.model_validate_json((folder / _ASKED).read_text())
    session = open_session(asked.place, folder, {"spark.eventLog.enabled": "false"})
    ours, theirs = (_read(session, address, asked.place)
                    for address in (asked.reference, asked.answer))  # fmt: skip
    found = held(ours, theirs, asked.question)
    (folder / _SAID).write_text(found.model_dump_json())


def _read(session: object, address: str, place: SparkPlace) -> object:
    """A DataFrame of an answer; one that is at home is sent along where executors are elsewhere."""
    if place.master.startswith("local") or "://" in address:
        return session.read.parquet(address)  # type: ignore[attr-defined]
    return session.createDataFrame(pyarrow.parquet.read_table(address))  # type: ignore[attr-defined]


if __name__ == "__main__":
    from ivrell.core.agreement.in_cluster import held as by_joins

    look(Path(sys.argv[1]), by_joins)
    sys.stdout.flush()
    os._exit(0)
