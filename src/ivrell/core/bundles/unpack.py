"""A bundle opened: it is a stranger's, and nothing of it is run by that."""

import hashlib
import shutil
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from pydantic import TypeAdapter, ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.bundles.layout import (
    ANSWER,
    CURVE,
    MANIFEST,
    MOST_BYTES,
    MOST_FILE_BYTES,
    MOST_MANIFEST_BYTES,
    NEEDED,
    PACKAGES,
    is_known,
)
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.bundle import MOST_FILES, BundledFile, Manifest, Origin
from ivrell.core.records.plan import Plan
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.results.folder import (
    AGREEMENT,
    COMPARISON,
    DATA,
    ORIGIN,
    PLAN,
    ResultFolder,
    Sample,
)
from ivrell.core.trial.judging import told_of

_PIECE = 1 << 20
_ENCRYPTED = 0x1
_MOST_SAMPLES = 1_000_000
_CURVE: TypeAdapter[list[Sample]] = TypeAdapter(list[Sample])


@dataclass(frozen=True)
class Bundle:
    """A bundle that was looked at: what it says of itself, and the comparison that it ran."""

    path: Path
    manifest: Manifest
    text: str
    digest: str

    @property
    def comparison(self) -> Comparison:
        """What it ran."""
        return parse(self.text)

    @property
    def origin(self) -> Origin:
        """Where it came from."""
        told = self.manifest
        return Origin(
            name=told.name, machine=told.machine, made_at=told.made_at, ivrell=told.ivrell,
            digest=self.digest,
        )  # fmt: skip


def look(path: Path) -> Bundle:
    """What is in a bundle, without unpacking it. Raises BadInput where it is none, or not whole."""
    with _opened(path) as archive:
        manifest, digest = _manifest(archive, path)
        listed = {one.name: one for one in manifest.files}
        content = _held(archive, listed[COMPARISON], path)
    try:
        text = content.decode()
    except UnicodeDecodeError:
        raise BadInput("The comparison file in it is no text.", where=str(path)) from None
    parse(text, source=f"{path.name}: {COMPARISON}")
    return Bundle(path, manifest, text, digest)


def plan_in(bundle: Bundle) -> Plan:
    """The plan that its trial had. Raises BadInput."""
    with _opened(bundle.path) as archive:
        listed = {one.name: one for one in bundle.manifest.files}
        content = _held(archive, listed[PLAN.name], bundle.path)
    try:
        return PLAN.shape.validate_json(content)
    except ValidationError:
        raise BadInput(f"{PLAN.name} in it cannot be read.", where=str(bundle.path)) from None


def unpack(path: Path, to: Path) -> ResultFolder:
    """Make a result folder of a bundle: its figures are read by their shapes, and what they say is
    made anew here. Answers are not taken over.

    Args:
        path: the bundle.
        to: a folder that is not there yet.

    Raises BadInput where it is no bundle, not whole, or holds what none may; then no folder is
    left.
    """
    bundle = look(path)
    if to.exists():
        raise BadInput(f"{to} is there already.", hint="Name a new folder.")
    results = ResultFolder(to)
    results.make()
    try:
        with _opened(path) as archive:
            for one in bundle.manifest.files:
                if not ANSWER.fullmatch(one.name) and one.name != PACKAGES:
                    _put(archive, one, to / one.name, path)
        _made_whole(results, bundle)
    except BaseException:
        shutil.rmtree(to, ignore_errors=True)
        raise
    return results


def _made_whole(results: ResultFolder, bundle: Bundle) -> None:
    """Read every record by its shape, and find anew what they say."""
    comparison = bundle.comparison
    plan, sessions, made = results.read(PLAN), results.sessions(), results.read(DATA)
    agreement = results.read(AGREEMENT)
    runs = results.runs()
    lanes = {approach.id for approach in comparison.approach}
    numbers = {session.number for session in sessions}
    for run in runs:
        if run.approach not in lanes:
            raise BadInput(f"Run {run.run} is of no lane of the comparison.", where="runs.jsonl")
        if run.session not in numbers:
            raise BadInput(f"Run {run.run} is of no session that is told.", where="runs.jsonl")
        if any(took < 0 for took in _times_in(run.model_dump(mode="json"))):
            raise BadInput(f"Run {run.run} took less than no time.", where="runs.jsonl")
    if len(runs) != bundle.manifest.runs:
        raise BadInput("It has not as many runs as it says.", where="runs.jsonl")
    _check_curves(results, runs)
    results.keep(ORIGIN, bundle.origin)
    try:
        told_of(
            comparison, results, RunSet(runs, sessions), agreement,
            made=made, ended=bundle.manifest.ended, plan=plan,
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, ArithmeticError, AssertionError) as error:
        raise BadInput(
            f"What it holds does not go together as a trial: {type(error).__name__}: {error}.",
            where=str(bundle.path),
        ) from error


_TIMES = {"elapsed_s", "first_elapsed_s", "cpu_user_s", "cpu_system_s", "cpu_s", "end_s"}


def _times_in(record: object) -> Iterator[float]:
    """The times of a run, of its stages and of its calls."""
    if isinstance(record, list):
        for one in record:
            yield from _times_in(one)
    elif isinstance(record, dict):
        for name, value in record.items():
            if name in _TIMES and isinstance(value, int | float):
                yield value
            else:
                yield from _times_in(value)


def _check_curves(results: ResultFolder, runs: Sequence[RunRecord]) -> None:
    numbers = {run.run for run in runs}
    for path in (results.path / "curves").glob("*.json"):
        try:
            curve = _CURVE.validate_json(path.read_bytes())
        except ValidationError:
            raise BadInput("A curve is none.", where=f"curves/{path.name}") from None
        if int(path.stem) not in numbers or len(curve) > _MOST_SAMPLES:
            raise BadInput("A curve is of no run, or too long.", where=f"curves/{path.name}")


@contextmanager
def _opened(path: Path) -> Iterator[zipfile.ZipFile]:
    try:
        with zipfile.ZipFile(path) as archive:
            yield archive
    except FileNotFoundError:
        raise BadInput("There is no such file.", where=str(path)) from None
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError) as error:
        raise BadInput(f"This is no archive that can be read: {error}.", where=str(path)) from None
    except OSError as error:
        raise BadInput(f"It cannot be read: {error.strerror or error}.", where=str(path)) from None


def _manifest(archive: zipfile.ZipFile, path: Path) -> tuple[Manifest, str]:
    """The manifest, held against the archive's own list of files; and its digest."""
    entries = archive.infolist()
    names = [entry.filename for entry in entries]
    if MANIFEST not in names:
        raise BadInput(f"It has no {MANIFEST}, so it is no bundle.", where=str(path))
    if len(names) > MOST_FILES + 1 or len(set(names)) < len(names):
        raise BadInput("It has too many files, or two of a name.", where=str(path))
    for entry in entries:
        _refuse_odd(entry, path)
    content = _read(archive, MANIFEST, MOST_MANIFEST_BYTES, path)
    try:
        manifest = Manifest.model_validate_json(content)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise BadInput(
            f"Its manifest cannot be used: {place}: {first['msg']}.", where=str(path),
            hint="A bundle of a later version needs a later Ivrell.",
        ) from None  # fmt: skip
    listed = [one.name for one in manifest.files]
    if sorted([*listed, MANIFEST]) != sorted(names):
        raise BadInput("It holds other files than its manifest lists.", where=str(path))
    if missing := [name for name in NEEDED if name not in listed]:
        raise BadInput(f"It lacks {', '.join(missing)}.", where=str(path))
    if sum(one.bytes for one in manifest.files) > MOST_BYTES:
        raise BadInput(f"It holds more than {MOST_BYTES:,} bytes.", where=str(path))
    return manifest, hashlib.sha256(content).hexdigest()


def _refuse_odd(entry: zipfile.ZipInfo, path: Path) -> None:
    """Refuse what leads out of a folder, is no plain file, or that no bundle has."""
    kind = entry.external_attr >> 28
    if entry.filename != MANIFEST and not is_known(entry.filename):
        raise BadInput(
            f"It holds a file that no bundle has: {entry.filename[:200]!r}.", where=str(path)
        )
    if entry.is_dir() or kind not in (0, 0o10) or entry.flag_bits & _ENCRYPTED:
        raise BadInput(f"{entry.filename} in it is no plain file.", where=str(path))
    if entry.file_size > max(MOST_FILE_BYTES, MOST_MANIFEST_BYTES):
        raise BadInput(f"{entry.filename} in it is too large.", where=str(path))


def _held(archive: zipfile.ZipFile, one: BundledFile, path: Path) -> bytes:
    """A file's content, which is what the manifest says."""
    content = _read(archive, one.name, min(one.bytes, MOST_FILE_BYTES), path)
    if len(content) != one.bytes or hashlib.sha256(content).hexdigest() != one.sha256:
        raise BadInput(f"{one.name} in it is not what its manifest says.", where=str(path))
    return content


def _put(archive: zipfile.ZipFile, one: BundledFile, to: Path, path: Path) -> None:
    if CURVE.fullmatch(one.name):
        to.parent.mkdir(exist_ok=True)
    to.write_bytes(_held(archive, one, path))


def _read(archive: zipfile.ZipFile, name: str, most: int, path: Path) -> bytes:
    """A file's content, and no more than it may hold: what sizes say is not trusted."""
    found = bytearray()
    with archive.open(name) as file:
        while piece := _piece(file, name, path):
            found += piece
            if len(found) > most:
                raise BadInput(f"{name} in it holds more than it says.", where=str(path))
    return bytes(found)


def _piece(file: IO[bytes], name: str, path: Path) -> bytes:
    try:
        return file.read(_PIECE)
    except (zipfile.BadZipFile, EOFError, OSError, ValueError, RuntimeError) as error:
        raise BadInput(f"{name} in it cannot be read: {error}.", where=str(path)) from None
    except Exception as error:
        if type(error).__module__ not in ("zlib", "_lzma", "lzma"):
            raise
        raise BadInput(f"{name} in it cannot be read: {error}.", where=str(path)) from None
