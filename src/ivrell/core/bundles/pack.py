"""A trial packed into one archive."""

import datetime
import hashlib
import json
import zipfile
from collections.abc import Iterator, Sequence
from pathlib import Path, PurePath

from ivrell.core.base.errors import BadInput
from ivrell.core.base.json_lines import as_line
from ivrell.core.bundles.layout import (
    ANSWER,
    CURVE,
    MANIFEST,
    MOST_BYTES,
    MOST_FILE_BYTES,
    PACKAGES,
)
from ivrell.core.comparison.edit import with_remarks_of
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.bundle import MOST_FILES, BundledFile, Manifest
from ivrell.core.records.data import MadeTable
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Plan
from ivrell.core.records.session import Session
from ivrell.core.report.across import machine_words
from ivrell.core.results.folder import (
    AGREEMENT,
    COMPARISON,
    DATA,
    FINDINGS,
    PLAN,
    REMARKS,
    RUNS,
    SESSIONS,
    RecordFile,
    ResultFolder,
    Shape,
)


def pack(
    results: ResultFolder, to: Path, *, answers: bool = False, now: Comparison | None = None
) -> Manifest:
    """Pack a trial that has ended into a bundle. Where its files lay on this machine is left out.

    Args:
        results: its folder.
        to: the file, which is put in the place of one that is there.
        answers: put in the answers that were kept, beside their digests, which always are.
        now: the comparison whose notes and claims go with it; as it was run unless given.

    Raises BadInput where it has not ended, or is too large.
    """
    if not results.has_ended:
        raise BadInput("This trial has not ended.", hint="Wait for its end, or go on with it.")
    found = results.read(FINDINGS)
    sessions = results.sessions()
    machine = sessions[-1].machine if sessions else Machine()
    runs = results.runs()
    text = results.comparison_text
    text = text if now is None else with_remarks_of(text, now)
    listed: list[BundledFile] = []
    held_bytes = 0
    part = to.with_name(f"{to.name}.part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, held in _files(results, text, sessions, answers=answers):
                content = held.read_bytes() if isinstance(held, Path) else held
                listed.append(_added(archive, name, content))
                held_bytes += listed[-1].bytes
                if held_bytes > MOST_BYTES or len(listed) > MOST_FILES:
                    raise BadInput("This trial is too large for a bundle.", where=str(results))
            manifest = Manifest(
                name=parse(text).name, ended=found.ended,
                made_at=datetime.datetime.now(datetime.UTC).replace(microsecond=0),
                ivrell=machine.ivrell, machine=machine_words(machine), runs=len(runs),
                packages=packages(sessions), files=listed,
            )  # fmt: skip
            archive.writestr(MANIFEST, manifest.model_dump_json(indent=1))
        part.replace(to)
    except OSError as error:
        raise BadInput(f"The bundle cannot be written: {error.strerror}.", where=str(to)) from None
    finally:
        part.unlink(missing_ok=True)
    return manifest


def _added(archive: zipfile.ZipFile, name: str, content: bytes) -> BundledFile:
    if len(content) > MOST_FILE_BYTES:
        raise BadInput(f"{name} is too large for a bundle.", where=name)
    archive.writestr(name, content)
    digest = hashlib.sha256(content).hexdigest()
    return BundledFile(name=name, bytes=len(content), sha256=digest)


def _files(
    results: ResultFolder, text: str, sessions: Sequence[Session], *, answers: bool
) -> Iterator[tuple[str, bytes | Path]]:
    """The files of a bundle, without the paths of this machine."""
    plan = results.read(PLAN) if results.has(PLAN) else Plan()
    made = results.read(DATA) if results.has(DATA) else []
    yield COMPARISON, text.encode()
    yield _record(PLAN, _of_nowhere(plan))
    yield _record(SESSIONS, [_session(one) for one in sessions])
    yield _record(DATA, [_table(one) for one in made])
    yield _record(AGREEMENT, results.read(AGREEMENT))
    yield RUNS, "".join(as_line(run.model_dump(mode="json")) for run in results.runs()).encode()
    if results.has(REMARKS):
        yield _record(REMARKS, results.read(REMARKS))
    yield PACKAGES, "".join(f"{one}\n" for one in packages(sessions)).encode()
    for run in results.runs():
        name = f"curves/{run.run}.json"
        if CURVE.fullmatch(name) and (curve := results.curve(run.run)):
            yield name, json.dumps(curve).encode()
    if answers and results.answers.is_dir():
        for path in sorted(results.answers.iterdir()):
            name = f"answers/{path.name}"
            if ANSWER.fullmatch(name) and path.is_file() and not path.is_symlink():
                yield name, path


def _record(record: RecordFile[Shape], value: Shape) -> tuple[str, bytes]:
    return record.name, record.shape.dump_json(value, indent=1)


def _of_nowhere(plan: Plan) -> Plan:
    return plan.model_copy(update={"own_files": None})


def _session(session: Session) -> Session:
    machine = session.machine
    runtimes = {
        name: runtime.model_copy(update={"interpreter": PurePath(runtime.interpreter).name})
        for name, runtime in machine.runtimes.items()
    }
    stretch = session.stretch
    return session.model_copy(
        update={
            "plan": _of_nowhere(session.plan),
            "machine": machine.model_copy(update={"host": "", "runtimes": runtimes}),
            "stretch": stretch and stretch.model_copy(update={"plan": _of_nowhere(stretch.plan)}),
        }
    )


def _table(table: MadeTable) -> MadeTable:
    return table.model_copy(update={"paths": [PurePath(path).name for path in table.paths]})


def packages(sessions: Sequence[Session]) -> list[str]:
    """What the lanes ran on, in all sessions, each as ``name==version``."""
    found = {
        f"{package}=={version}"
        for session in sessions
        for engine in session.machine.engines.values()
        for package, version in engine.versions.items()
        if version and " " not in f"{package}{version}"
    }
    return sorted(found)
