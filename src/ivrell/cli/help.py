"""The help on a terminal: a page of it, or a part."""

import argparse
import re
from pathlib import Path

from rich.markdown import Markdown

from ivrell.cli.console import OUT
from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import package_folder
from ivrell.core.base.help import slug

_HEADING = re.compile(r"^(#+)\s+(.*?)\s*(?:\{\s*#([\w-]+)\s*\})?\s*$")
_START = "index"


def show_help(args: argparse.Namespace) -> int:
    """Print a place of the help, as errors name it."""
    page, _, part = args.place.partition("#")
    folder = _texts()
    path = folder / f"{page.strip('/') or _START}.md"
    if not path.resolve().is_relative_to(folder.resolve()) or not path.is_file():
        names = sorted(p.relative_to(folder).with_suffix("").as_posix() for p in _pages(folder))
        raise BadInput(f"The help has no page {page!r}.", hint=f"It has {', '.join(names)}.")
    text = path.read_text(encoding="utf-8")
    if part:
        text = _part(text, part)
        if not text:
            raise BadInput(f"The page {page} has no part {part!r}.", hint=f"ivrell help {page}")
    OUT.print(Markdown(text), soft_wrap=False)
    return 0


def _texts() -> Path:
    packed = package_folder() / "help" / "text"
    return packed if packed.is_dir() else package_folder().parents[1] / "docs"


def _pages(folder: Path) -> list[Path]:
    return list(folder.rglob("*.md"))


def _part(text: str, wanted: str) -> str:
    """What stands under a heading, or the paragraph that has a mark of that name."""
    lines = text.splitlines()
    fenced, found, level = False, [], 0
    for line in lines:
        fenced ^= line.startswith("```")
        heading = None if fenced else _HEADING.match(line)
        if heading and level and len(heading[1]) <= level:
            break
        if heading and not level and wanted in (heading[3], slug(heading[2])):
            level = len(heading[1])
        if level:
            found.append(_HEADING.sub(r"\1 \2", line) if heading else line)
    if found:
        return "\n".join(found)
    marked = [part for part in text.split("\n\n") if f'id="{wanted}"' in part]
    return marked[0] if marked else ""
