"""Keeping track of the answers of a trial as its runs end."""

import logging
import shutil
from pathlib import Path

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from ivrell.core.agreement.compare import VERDICTS, compare, no_answer
from ivrell.core.agreement.judge import ClusterJudge, Rows
from ivrell.core.agreement.sources import Sources
from ivrell.core.agreement.stored import StoredParts
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.agreement import REPEATED, Agreement, TracedRows
from ivrell.core.records.points import Point, expected_name, point_name

log = logging.getLogger("ivrell.answers")
EXPECTED = "the expected answer"
"""What stands in the place of the reference's lane where a stored answer is the reference."""


_MOST_WHILE_WAITING = 64_000_000


def stored_answer(path: Path) -> pa.Table:
    """A stored answer from a parquet or csv file. Raises BadInput where it cannot be read."""
    try:
        if path.suffix == ".parquet":
            return pyarrow.parquet.read_table(path)
        if path.suffix == ".csv":
            return pyarrow.csv.read_csv(path)
    except (OSError, pa.ArrowException) as error:
        raise BadInput(f"{path.name} cannot be read: {error}", where="answer.expected") from error
    raise BadInput(f"{path.name} is neither .parquet nor .csv.", where="answer.expected")


class NotKept(Exception):
    """The rows of an answer could not be taken over; the message says why."""


class Answers:
    """The answers of one trial, a file for each different one of a lane at a point.

    Every run's answer is fingerprinted; only a fingerprint not seen before in its lane at
    its point is kept and compared. Files are mapped into memory, not read.

    Args:
        own_files: folder that the path of a stored expected answer starts from.
        judge: holds answers against each other whose rows are elsewhere; without one they are not
            looked at.
    """

    def __init__(
        self,
        comparison: Comparison,
        folder: Path,
        own_files: Path | None = None,
        judge: ClusterJudge | None = None,
    ) -> None:
        self._comparison = comparison
        self._folder = folder
        self._own_files = own_files or Path.cwd()
        self._seen: dict[tuple[str, str], dict[str, int]] = {}
        self.parts = StoredParts()
        self._judge = judge
        folder.mkdir(parents=True, exist_ok=True)

    def take(self, lane: str, point: Point, file: Path, print_: str, parts: str = "") -> None:
        """Take over the answer file of a run, whose fingerprint is this one; of one that only tells
        of rows ``parts`` is where they are."""
        self.count(lane, point, print_)
        kept = self.path(lane, print_)
        if not kept.exists():
            try:
                self.parts.take(kept, file, parts)
            except (OSError, ValueError) as error:
                raise NotKept(str(error)) from None
            # The run's folder may lie on another file system, where nothing can be renamed from.
            part = kept.with_suffix(".part")
            shutil.move(file, part)
            part.replace(kept)

    def count(self, lane: str, point: Point, print_: str) -> None:
        """Count a run whose answer is known already, such as one of an earlier session."""
        seen = self._seen.setdefault((lane, point_name(point)), {})
        seen[print_] = seen.get(print_, 0) + 1

    def count_kept(self, lane: str, point: Point, print_: str) -> None:
        """Count a run of an earlier session, if its answer is still there; what is left of one
        that is not whole is removed, so that a later run can leave it anew."""
        try:
            self.table(lane, print_)
        except BadInput as error:
            log.warning("%s It is not compared with the others.", error.what)
            self.path(lane, print_).unlink(missing_ok=True)
        else:
            self.count(lane, point, print_)

    def path(self, lane: str, print_: str) -> Path:
        """The file of a lane's answer that has this fingerprint."""
        return self._folder / f"{lane}-{print_}.arrow"

    def table(self, lane: str, print_: str) -> pa.Table:
        """The answer of a lane that has this fingerprint, as it came. Raises BadInput where it is
        not there any more, or cut."""
        path = self.path(lane, print_)
        try:
            return pa.ipc.open_file(pa.memory_map(str(path))).read_all()
        except (OSError, pa.ArrowInvalid) as error:
            raise BadInput(
                f"The answer of {lane} that was kept cannot be read: {error}.",
                where=str(path),
                hint="It was removed, cut or changed. Run the trial again.",
            ) from None

    def usual(self, lane: str, point: Point) -> str | None:
        """Fingerprint of the answer that a lane gave most often at a point."""
        seen = self._seen.get((lane, point_name(point)))
        return max(seen.items(), key=lambda item: item[1])[0] if seen else None

    def judge(
        self, lanes: list[str], point: Point, sources: Sources | None = None
    ) -> dict[str, Agreement]:
        """Agreement of each lane with the reference at a point, by lane id.

        The reference is the stored expected answer, else the lane that the question names,
        else the baseline; where that has no answer, the first lane that has one. A lane whose
        answer varies between runs gets its worst verdict, and says so. Lanes that say the same
        among themselves are in one ``group``, the reference's being 0. With ``sources`` what
        became of broken and repeated rows is told too. ``reference`` names the lane (or
        EXPECTED), ``itself`` says that a lane is that one.
        """
        name, reference = self._reference(lanes, point)
        judged: dict[str, Agreement] = {}
        for lane in lanes:
            seen = self._seen.get((lane, point_name(point)), {})
            if reference is None or not seen:
                agreement = no_answer("it gave no answer")
            else:
                verdicts = [
                    self._compared(reference, self.rows(lane, print_), sources) for print_ in seen
                ]
                worst = max(verdicts, key=lambda v: VERDICTS.index(v.verdict))
                agreement = self._over_runs(worst, verdicts, seen)
                agreement.traced = self._traced(lane, point, sources)
            agreement.broken_lines = self._broken_lines(lane, sources, agreement)
            agreement.reference = name
            agreement.itself = lane == name
            agreement.fingerprints = dict(seen)
            judged[lane] = agreement
        self._put_in_groups(judged, point)
        return judged

    def of_two(self, reference: str, lane: str, point: Point) -> Agreement | None:
        """How the answers agree that two lanes gave most often at a point; None where one gave
        none, or they are too big to be looked at while somebody waits."""
        prints = self.usual(reference, point), self.usual(lane, point)
        if prints[0] is None or prints[1] is None:
            return None
        sizes = self.path(reference, prints[0]).stat(), self.path(lane, prints[1]).stat()
        if sum(size.st_size for size in sizes) > _MOST_WHILE_WAITING:
            return None
        if self.rows(reference, prints[0]).address or self.rows(lane, prints[1]).address:
            return None
        tables = self.table(reference, prints[0]), self.table(lane, prints[1])
        found = compare(*tables, self._comparison.answer)
        found.reference = reference
        return found

    def rows(self, lane: str, print_: str) -> Rows:
        """The rows of such an answer, wherever they are."""
        if address := self.parts.address(self.path(lane, print_)):
            return Rows(address=address, at=self._comparison.approach_called(lane).needs.at)
        return Rows(self.table(lane, print_))

    def _compared(self, reference: Rows, answer: Rows, sources: Sources | None = None) -> Agreement:
        if reference.table is not None and answer.table is not None:
            return compare(reference.table, answer.table, self._comparison.answer, sources)
        if self._judge is None:
            return no_answer("its rows are elsewhere, and were not looked at")
        return self._judge.compare(reference, answer, self._comparison.answer)

    def _reference(self, lanes: list[str], point: Point) -> tuple[str | None, Rows | None]:
        if expected := self._comparison.answer.expected:
            path = self._own_files / expected_name(expected, point)
            if path.exists():
                return EXPECTED, Rows(stored_answer(path))
        wanted = [self._comparison.answer.reference, self._comparison.baseline_id, *lanes]
        for lane in wanted:
            if lane is not None and (usual := self.usual(lane, point)):
                return lane, self.rows(lane, usual)
        return None, None

    def _traced(self, lane: str, point: Point, sources: Sources | None) -> list[TracedRows]:
        usual = self.usual(lane, point)
        if sources is None or usual is None or self.parts.address(self.path(lane, usual)):
            return []
        form = self._comparison.approach_called(lane).wanted.form
        return sources.traced(self.table(lane, usual), form)

    def _broken_lines(self, lane: str, sources: Sources | None, found: Agreement) -> str:
        """A reader's way with the lines that are broken on purpose in what it reads, in words."""
        form = self._comparison.approach_called(lane).wanted.form
        count = sources.broken_lines(form) if sources else 0
        if not count:
            return ""
        went_in = f"{count:,} broken {'line' if count == 1 else 'lines'}"
        if found.verdict == "no answer":
            return f"It gave no answer where {went_in} went in"
        traced = [rows for rows in found.traced if rows.what != REPEATED]
        if not traced:
            return f"{went_in} went in; this answer has no column that tells what became of them"
        dropped, nulls = (
            sum(getattr(t, part) for t in traced) for part in ("dropped", "with_nulls")
        )
        kept = sum(rows.kept for rows in traced) - nulls
        return f"Of {went_in} {dropped:,} dropped, {nulls:,} kept with nulls, {kept:,} kept"

    def _put_in_groups(self, judged: dict[str, Agreement], point: Point) -> None:
        """Give every lane that has an answer the number of its group."""
        speakers: list[str] = []
        for lane, agreement in judged.items():
            usual = self.usual(lane, point)
            if usual is None:
                continue
            if agreement.agrees:
                agreement.group = 0
                continue
            own = self.rows(lane, usual)
            for number, speaker in enumerate(speakers, 1):
                print_ = self.usual(speaker, point)
                assert print_ is not None
                if self._compared(self.rows(speaker, print_), own).agrees:
                    agreement.group = number
                    break
            else:
                speakers.append(lane)
                agreement.group = len(speakers)

    def _over_runs(
        self, worst: Agreement, verdicts: list[Agreement], seen: dict[str, int]
    ) -> Agreement:
        """The worst of the verdicts on different answers, saying how many runs were right."""
        runs = sum(seen.values())
        good = sum(
            count for verdict, count in zip(verdicts, seen.values(), strict=True) if verdict.agrees
        )
        worst.right_share = good / runs
        worst.unstable = len({verdict.agrees for verdict in verdicts}) > 1
        if worst.unstable:
            worst.reasons.insert(0, f"{good} of {runs} runs gave the right answer")
        return worst
