"""``python -m ivrell.server.backup save|load FILE``: everything that Ivrell keeps, in one file.

A copy holds the records (as PostgreSQL dumps them) and the data folder without what is made again
by itself: made and loaded data, environments, logs. It is taken while Ivrell runs or stands still.
"""

import argparse
import datetime
import hashlib
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath

from pydantic import BaseModel, ValidationError

import ivrell
from ivrell.core.base.errors import BadInput, room_on_disk
from ivrell.core.base.folders import data_folder
from ivrell.core.base.locks import FileLock
from ivrell.core.servers.postgresql import binaries
from ivrell.server.up import ATTACH_S, Up, say

FORMAT = "ivrell-backup/1"
_ABOUT, _RECORDS, _DATA = "backup.json", "records.dump", "data"
_MADE_AGAIN = frozenset(
    (
        "made", "loaded", "log", "calls", "joined", "environments", "spark",
        "spark-made", "running.json", "start.lock",
    )
)  # fmt: skip
"""Of the data folder what is no part of a copy."""

_LOCKS = (".in-use", ".lock")
_SERVER = "records"
"""What the records' server has there begins so: where it runs, its password, its files."""

_DATABASE = "ivrell"
_LIMIT_S = 6 * 3600.0


class About(BaseModel):
    """What a copy says of itself: the digest is of the records."""

    format: str
    ivrell: str
    made_at: datetime.datetime
    records_digest: str


def save(folder: Path, to: Path) -> None:
    """Write a copy of a data folder and its records to a file, which is whole or not there.

    Raises BadInput where there is nothing to copy or the file is there already.
    """
    if not (folder / "records").is_dir():
        raise BadInput("There is no Ivrell in this folder.", where=str(folder),
                       hint="Name its data folder with --data-dir.")  # fmt: skip
    if to.exists():
        raise BadInput("This file is there already.", where=str(to), hint="Name another one.")
    half = to.with_name(f"{to.name}.half")
    with room_on_disk(to), tempfile.TemporaryDirectory(prefix="ivrell-backup-") as own:
        try:
            dumped = Path(own) / _RECORDS
            with _records(folder) as env:
                _run([str(binaries() / "pg_dump"), "-Fc", "-f", str(dumped), _DATABASE], env)
            about = About(
                format=FORMAT, ivrell=ivrell.__version__,
                made_at=datetime.datetime.now(datetime.UTC), records_digest=_digest(dumped),
            )  # fmt: skip
            told = Path(own) / _ABOUT
            told.write_text(about.model_dump_json(indent=2))
            # Of whoever may read it: it has answers, code and the secret of sessions.
            with (
                os.fdopen(
                    os.open(half, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb"
                ) as file,
                tarfile.open(fileobj=file, mode="w:gz", compresslevel=3) as made,
            ):
                made.add(told, _ABOUT)
                made.add(dumped, _RECORDS)
                for path in sorted(folder.iterdir()):
                    if _is_kept(path.name):
                        made.add(path, f"{_DATA}/{path.name}", filter=_without_owner)
            half.replace(to)
        finally:
            half.unlink(missing_ok=True)


def load(file: Path, folder: Path) -> About:
    """Make a data folder with its records of a copy.

    Raises BadInput where the folder holds something already, or the file is no copy, or one of a
    newer Ivrell.
    """
    if folder.exists() and any(folder.iterdir()):
        raise BadInput("This folder holds something already.", where=str(folder),
                       hint="Name a new one with --data-dir.")  # fmt: skip
    with tempfile.TemporaryDirectory(prefix="ivrell-backup-") as own, room_on_disk(folder):
        Path(own).chmod(0o700)
        about = _unpacked(file, Path(own))
        up = Up(folder, None, demo=False)
        up.prepare_folder()
        alone = FileLock(folder / "start.lock")
        if not alone.take():
            raise BadInput("An Ivrell is being started there.", where=str(folder))
        try:
            _filled(up, Path(own))
        except BaseException:
            # Half of a copy is none.
            shutil.rmtree(folder, ignore_errors=True)
            raise
        finally:
            alone.release()
    return about


def _filled(up: Up, own: Path) -> None:
    """Put what was unpacked into a new data folder."""
    for path in (own / _DATA).iterdir():
        if _is_kept(path.name):
            _moved(path, up.folder / path.name)
    up.cluster.start({})
    try:
        up.create_database()
        restore = [str(binaries() / "pg_restore"), "--no-owner", "--exit-on-error"]
        _run([*restore, "-d", _DATABASE, str(own / _RECORDS)], {**os.environ, **_libpq(up)})
    finally:
        up.cluster.stop()


def _is_kept(name: str) -> bool:
    return not (name in _MADE_AGAIN or name.startswith(_SERVER) or name.endswith(_LOCKS))


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _moved(path: Path, to: Path) -> None:
    """Put something where a folder was made beforehand, across disks too."""
    if path.is_dir():
        shutil.copytree(path, to, symlinks=True, dirs_exist_ok=True)
    else:
        shutil.copy2(path, to)


def _unpacked(file: Path, own: Path) -> About:
    try:
        with tarfile.open(file, "r:gz") as packed:
            for member in packed:
                first = PurePosixPath(member.name).parts[:1]
                if first not in ((_ABOUT,), (_RECORDS,), (_DATA,)):
                    raise BadInput(f"{member.name} is in no copy of Ivrell's.", where=str(file))
                packed.extract(member, own, filter="data")
        about = About.model_validate_json((own / _ABOUT).read_text())
        digest = _digest(own / _RECORDS)
    except (tarfile.TarError, OSError, EOFError, ValidationError, ValueError) as error:
        raise BadInput(
            f"This is no copy that ivrell backup made: {str(error).splitlines()[0]}.",
            where=str(file), hint="Name the file that it wrote.",
        ) from None  # fmt: skip
    if about.format != FORMAT:
        raise BadInput(f"This copy is of the format {about.format}; here {FORMAT} is read.",
                       where=str(file), hint="Load it with the Ivrell that made it.")  # fmt: skip
    if digest != about.records_digest:
        raise BadInput("The records in this copy are not those that were put there.",
                       where=str(file), hint="Take another copy.")  # fmt: skip
    (own / _DATA).mkdir(exist_ok=True)
    return about


@contextmanager
def _records(folder: Path) -> Iterator[dict[str, str]]:
    """The environment of programs that ask the records: of those that run, else started for it."""
    up = Up(folder, None, demo=False)
    if up.running():
        up.cluster.attach(ATTACH_S)
        yield {**os.environ, **_libpq(up)}
        return
    alone = FileLock(folder / "start.lock")
    if not alone.take():
        raise BadInput("An Ivrell is being started or stopped there.", where=str(folder),
                       hint="Wait a moment.")  # fmt: skip
    try:
        up.cluster.start({})
        try:
            yield {**os.environ, **_libpq(up)}
        finally:
            up.cluster.stop()
    finally:
        alone.release()


def _libpq(up: Up) -> dict[str, str]:
    cluster = up.cluster
    return {
        "PGHOST": "127.0.0.1", "PGPORT": str(cluster.port), "PGUSER": cluster.user,
        "PGPASSWORD": cluster.password,
    }  # fmt: skip


def _run(command: list[str], env: dict[str, str]) -> None:
    done = subprocess.run(
        command, env=env, capture_output=True, text=True, timeout=_LIMIT_S, stdin=subprocess.DEVNULL
    )
    if done.returncode:
        name = Path(command[0]).name
        raise BadInput(f"{name} failed: {done.stderr.strip()[-500:]}")


def _without_owner(member: tarfile.TarInfo) -> tarfile.TarInfo | None:
    """Plain files and folders, no links, which could lead elsewhere: whoever loads it owns it."""
    if not (member.isfile() or member.isdir()):
        return None
    member.uid = member.gid = 0
    member.uname = member.gname = ""
    return member


def main(arguments: list[str]) -> int:
    """Save or load a copy; prints what was done as a line."""
    parser = argparse.ArgumentParser(prog="ivrell")
    parser.add_argument("what", choices=("save", "load"))
    parser.add_argument("file", type=Path)
    parser.add_argument("--data-dir", type=Path)
    args = parser.parse_args(arguments)
    folder = (args.data_dir or data_folder()).resolve()
    try:
        if args.what == "save":
            save(folder, args.file.absolute())
            say(f"Everything that {folder} keeps is in {args.file}. Who has it has all of it.")
        else:
            about = load(args.file, folder)
            say(
                f"{folder} is as it was on {about.made_at:%d %b %Y, %H:%M} UTC; start it with "
                f"--data-dir {folder}."
            )
    except BadInput as error:
        print(f"ivrell: {error}", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
