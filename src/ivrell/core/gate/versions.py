"""The old version of a comparison, and both versions of its lanes in one comparison."""

import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.bundles.unpack import look
from ivrell.core.comparison.alike import as_run, others_than_lanes
from ivrell.core.comparison.edit import add_approach, fields_of, set_fields
from ivrell.core.comparison.file import parse, read_text
from ivrell.core.results.folder import ORIGIN, ResultFolder

_GIT_S = 60.0
_THEN = "_then"


@dataclass(frozen=True)
class Old:
    """The old version: its text, what it is called, whether its code is somebody else's, and the
    folder that its figures are kept in."""

    text: str
    name: str
    stranger: bool = False
    folder: Path | None = None


def old_version(against: str) -> Old:
    """The old version that is meant by a result folder, a bundle, a comparison file, or FILE@REF of
    a repository. Raises BadInput."""
    path = Path(against)
    if path.is_dir():
        kept = ResultFolder(path)
        if not kept.is_one:
            raise BadInput(f"{path} is no result folder.", where="against")
        return Old(kept.comparison_text, path.name, stranger=kept.has(ORIGIN), folder=path)
    if path.suffix == ".zip":
        return Old(look(path).text, path.name, stranger=True)
    if path.exists():
        return Old(read_text(path), path.name)
    file, at, ref = against.rpartition("@")
    if at and file and ref:
        return Old(_of_repository(Path(file), ref), f"{Path(file).name} at {ref}")
    raise BadInput(
        f"There is nothing at {against}.", where="against",
        hint="Name a result folder, a bundle, a comparison file, or FILE@REF.",
    )  # fmt: skip


def _of_repository(file: Path, ref: str) -> str:
    if ref.startswith("-"):
        raise BadInput(f'"{ref}" is no name of a version.', where="against")
    command = ["git", "-C", str(file.parent), "show", f"{ref}:./{file.name}"]
    try:
        done = subprocess.run(
            command, capture_output=True, text=True, timeout=_GIT_S, stdin=subprocess.DEVNULL
        )
    except FileNotFoundError:
        raise BadInput("git is not installed.", where="against") from None
    except subprocess.TimeoutExpired:
        raise BadInput("git does not answer.", where="against") from None
    except UnicodeDecodeError:
        raise BadInput(f"{file.name} at {ref} is no text.", where="against") from None
    if done.returncode:
        told = (done.stderr.strip().splitlines() or ["git failed"])[-1].removeprefix("fatal: ")
        raise BadInput(
            f"{file.name} at {ref} cannot be read: {told}.", where="against",
            hint="Is it in a repository, and was enough of its history fetched?",
        )  # fmt: skip
    return done.stdout


@dataclass(frozen=True)
class Pairing:
    """Both versions in one comparison.

    Attributes:
        text: the new version with the old lanes beside the new ones.
        lanes: ids of the old lanes in it, by those of the new ones.
        unchanged: ids of lanes that are the same in both.
        added, removed: ids of lanes that only one version has.
        differences: what is another besides lanes, in words.
    """

    text: str
    lanes: dict[str, str]
    unchanged: list[str]
    added: list[str]
    removed: list[str]
    differences: list[str]


def paired(new: str, old: str, lanes: Sequence[str] = (), *, both_run: bool = True) -> Pairing:
    """The lanes of two versions of a comparison beside each other; those that are the same are left
    out, unless they are named. Answers of the new ones are held against an old one's.

    Args:
        new, old: texts of comparison files.
        lanes: ids of those that are gated; all that were changed unless given.
        both_run: whether the old lanes are put into the text; each stands for itself otherwise.

    Raises BadInput where a version cannot be read, or a lane is not in it.
    """
    now = parse(new)
    try:
        then = parse(old)
    except BadInput as error:
        raise BadInput(f"The old version cannot be read: {error.what}", where=error.where) from None
    before = {approach.id: approach for approach in then.approach}
    for lane in lanes:
        now.approach_called(lane)
    wanted = [
        approach for approach in now.approach
        if (not lanes and not approach.retired) or approach.id in lanes
    ]  # fmt: skip
    both = [approach for approach in wanted if approach.id in before]
    changed = [
        approach for approach in both
        if lanes or as_run(approach) != as_run(before[approach.id])
    ]  # fmt: skip
    text, found = new, {}
    taken = {approach.id for approach in now.approach}
    for approach in changed if both_run else ():
        id_ = f"{approach.id}{_THEN}"
        while id_ in taken:
            id_ += "_"
        taken.add(id_)
        old_lane = before[approach.id]
        fields = {
            **fields_of(old_lane), "id": id_, "name": f"{old_lane.label} (then)", "parent": None,
            "retired": None,
        }  # fmt: skip
        text = add_approach(text, fields, after=approach.id)
        found[approach.id] = id_
    if found:
        text = set_fields(text, None, {"baseline": next(iter(found.values()))})
    ids = {approach.id for approach in now.approach}
    return Pairing(
        text=text,
        lanes=found if both_run else {approach.id: approach.id for approach in changed},
        unchanged=[approach.id for approach in both if approach not in changed],
        added=[approach.id for approach in wanted if approach.id not in before],
        removed=[approach.id for approach in then.approach if approach.id not in ids],
        differences=others_than_lanes(then, now),
    )
