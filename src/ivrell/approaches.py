"""Ways to solve a task, of a comparison that is built in code: texts, files, and functions, whose
source is taken exactly."""

from __future__ import annotations

import ast
import builtins
import dis
import inspect
import textwrap
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from types import CodeType
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ivrell.core.records.json import Json


@dataclass(frozen=True)
class Approach:
    """A way to solve the task, for a comparison that is built in code.

    Attributes:
        id: letters, digits and underscores.
        code: its text; a path stands for the text of a file, a function of Python for its
            source, which answers whatever it is called.
        engine: what carries it out, such as ``python``, ``duckdb``, ``sqlite``.
        fields: more of its keys, as a comparison file has them, such as ``{"input": "parquet"}``.
    """

    id: str
    code: str | Path | Callable[..., object]
    engine: str = "python"
    fields: Mapping[str, Json] = field(default_factory=dict)

    @property
    def text(self) -> str:
        """The code as text. Raises BadInput where it cannot be had, or a function does not stand
        by itself."""
        from ivrell.core.comparison.file import read_text

        if isinstance(self.code, str):
            return self.code
        return read_text(self.code) if isinstance(self.code, Path) else source_of(self.code)


def approach(
    function: Callable[..., object] | None = None, *, id: str = "", **fields: Json
) -> Approach | Callable[[Callable[..., object]], Approach]:
    """A decorator: a function becomes an approach of its name.

    >>> @ivrell.approach(input="parquet")
    ... def count(data, knobs, stage):
    ...     import pyarrow.parquet
    ...     return [{"n": pyarrow.parquet.read_metadata(data.readings).num_rows}]
    >>> count.id, count.fields
    ('count', {'input': 'parquet'})

    Args:
        id: of the approach; the function's name unless given.
        fields: more of its keys, as a comparison file has them.
    """

    def made(given: Callable[..., object]) -> Approach:
        found = Approach(id or given.__name__, given, fields=fields)
        # What does not stand by itself is told where it is written.
        found.text  # noqa: B018
        return found

    return made if function is None else made(function)


def source_of(function: Callable[..., object]) -> str:
    """The source of a function without its decorators, answering as ``answer``.

    Raises BadInput for what would not run by itself: a lambda, one whose source is not there, one
    that uses names of what stands around it.
    """
    from ivrell.core.base.errors import BadInput

    name = getattr(function, "__name__", "")
    if not inspect.isfunction(function) or not name.isidentifier():
        raise BadInput("Code is a function that was written with def, or its text.")
    try:
        lines = textwrap.dedent(inspect.getsource(function)).splitlines(keepends=True)
    except (OSError, TypeError):
        raise BadInput(
            f"The source of {name} is not there.", hint="Write it into a file, or give its text."
        ) from None
    written = ast.parse("".join(lines)).body[0]
    if not isinstance(written, ast.FunctionDef):
        raise BadInput(f"{name} is no plain function.", hint="Write it with def, and not async.")
    around = sorted(_from_around(function))
    if around:
        raise BadInput(
            f"{name} uses {', '.join(around)} from around it, which is not there where it runs.",
            hint="Import and define inside of it what it needs.",
        )
    source = "".join(lines[written.lineno - 1 :])
    return source if name == "answer" else f"{source.rstrip()}\n\n\nanswer = {name}\n"


def _from_around(function: Callable[..., object]) -> set[str]:
    """Names that a function takes from where it stands."""
    code: CodeType = function.__code__
    known = {*dir(builtins), code.co_name}
    return {name for name in _globals_of(code) if name not in known} | set(code.co_freevars)


def _globals_of(code: CodeType) -> Iterator[str]:
    for step in dis.get_instructions(code):
        if step.opname in ("LOAD_GLOBAL", "LOAD_NAME"):
            yield str(step.argval)
    for part in code.co_consts:
        if isinstance(part, CodeType):
            yield from _globals_of(part)
