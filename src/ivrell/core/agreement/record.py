"""Keeping track of the answers of a trial as its runs end."""

import json
from pathlib import Path
from typing import Any

import pyarrow as pa

from ivrell.core.agreement.canonical import canonical, fingerprint
from ivrell.core.agreement.compare import VERDICTS, Agreement, compare, no_answer
from ivrell.core.comparison.model import Comparison


def point_name(point: dict[str, Any]) -> str:
    """A point as one stable text, for keys and file names."""
    return json.dumps(point, sort_keys=True)


class Answers:
    """The answers of one trial, a file for each different one of a lane at a point.

    Every run's answer is fingerprinted; only a fingerprint not seen before in its lane at
    its point is kept and compared.
    """

    def __init__(self, comparison: Comparison, folder: Path) -> None:
        self._comparison = comparison
        self._folder = folder
        self._seen: dict[tuple[str, str], dict[str, int]] = {}
        folder.mkdir(parents=True, exist_ok=True)

    def take(self, lane: str, point: dict[str, Any], file: Path) -> tuple[str, int]:
        """Take over the answer file of a run; returns its fingerprint and its row count."""
        with pa.memory_map(str(file)) as source:
            table = pa.ipc.open_file(source).read_all()
            print_ = fingerprint(canonical(table))
            rows = table.num_rows
        self.count(lane, point, print_)
        kept = self._path(lane, print_)
        if not kept.exists():
            file.replace(kept)
        return print_, rows

    def count(self, lane: str, point: dict[str, Any], print_: str) -> None:
        """Count a run whose answer is known already, such as one of an earlier session."""
        seen = self._seen.setdefault((lane, point_name(point)), {})
        seen[print_] = seen.get(print_, 0) + 1

    def _path(self, lane: str, print_: str) -> Path:
        return self._folder / f"{lane}-{print_}.arrow"

    def table(self, lane: str, print_: str) -> pa.Table:
        """The answer of a lane that has this fingerprint, as it came."""
        with pa.OSFile(str(self._path(lane, print_))) as source:
            return pa.ipc.open_file(source).read_all()

    def judge(self, lanes: list[str], point: dict[str, Any]) -> dict[str, dict[str, Any]]:
        """Agreement of each lane with the baseline at a point, by lane id.

        Where the baseline has no answer, the first lane that has one is the reference.
        A lane whose answer varies between runs gets its worst verdict, and says so.
        """
        at = point_name(point)
        baseline = self._comparison.baseline_id
        order = sorted(lanes, key=lambda lane: lane != baseline)
        reference = next((lane for lane in order if self._seen.get((lane, at))), None)
        found: dict[str, dict[str, Any]] = {}
        for lane in lanes:
            seen = self._seen.get((lane, at), {})
            if reference is None or not seen:
                found[lane] = no_answer("it gave no answer").as_dict()
            else:
                usual = max(self._seen[reference, at].items(), key=lambda item: item[1])[0]
                verdicts = [
                    compare(
                        self.table(reference, usual),
                        self.table(lane, print_),
                        self._comparison.answer,
                    )
                    for print_ in seen
                ]
                worst = max(verdicts, key=lambda v: VERDICTS.index(v.verdict))
                found[lane] = self._told(worst, verdicts, seen)
            found[lane] |= {"reference": reference, "fingerprints": dict(seen)}
        return found

    def _told(
        self, worst: Agreement, verdicts: list[Agreement], seen: dict[str, int]
    ) -> dict[str, Any]:
        told = worst.as_dict()
        told["unstable"] = len({verdict.agrees for verdict in verdicts}) > 1
        if told["unstable"]:
            good = sum(
                count
                for verdict, count in zip(verdicts, seen.values(), strict=True)
                if verdict.agrees
            )
            told["reasons"] = [
                f"{good} of {sum(seen.values())} runs gave the right answer",
                *told["reasons"],
            ]
        return told
