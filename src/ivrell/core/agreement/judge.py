"""The process that holds stored answers against each other in Spark, and who starts it:
``python -m ivrell.core.agreement.judge FOLDER``."""

import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet
from pydantic import BaseModel, ValidationError

from ivrell.core.agreement.compare import DIFFERENT, no_answer
from ivrell.core.comparison.model import Answer
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.wire import SparkPlace
from ivrell.core.spark.driver import ASKED, SAID, DriverFailed, driven, driver_folder
from ivrell.core.spark.places import Places

_SECONDS = 3600.0


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
        with driver_folder() as folder:
            asked = _Asked(
                place=at.place, question=question,
                reference=_address(reference, folder / "reference.parquet"),
                answer=_address(answer, folder / "answer.parquet"),
            )  # fmt: skip
            shown = (text.removeprefix("file://") for text in (asked.reference, asked.answer))
            inputs = [place for place in shown if place.startswith("/")]
            try:
                said = driven(
                    __name__, asked.model_dump_json(), at, folder, inputs=inputs, seconds=_SECONDS
                )
                return Agreement.model_validate_json(said)
            except (DriverFailed, ValidationError) as error:
                return _unknown(str(error))
            finally:
                at.leave()


def _is_away(address: str) -> bool:
    """Whether rows stand on a storage, not in the result folder."""
    return "://" in address


def _address(rows: Rows, place: Path) -> str:
    if rows.table is None:
        return rows.address
    pyarrow.parquet.write_table(rows.table, place)
    return str(place)


def _unknown(why: str) -> Agreement:
    """Of an answer that could not be looked at: not known to agree is not agreeing."""
    found = no_answer("")
    found.verdict = DIFFERENT
    found.reasons = [f"it could not be compared with the reference in Spark: {why}"]
    return found


def look(folder: Path, held: Callable[..., Agreement]) -> None:
    """In the process: open a session, read both, say how they agree."""
    from ivrell.core.spark.session import open_session

    asked = _Asked.model_validate_json((folder / ASKED).read_text())
    session = open_session(asked.place, folder, {"spark.eventLog.enabled": "false"})
    ours, theirs = (_read(session, address, asked.place)
                    for address in (asked.reference, asked.answer))  # fmt: skip
    found = held(ours, theirs, asked.question)
    (folder / SAID).write_text(found.model_dump_json())


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
