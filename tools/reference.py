"""Pages of reference that are made of the code: python -m tools.reference writes them."""

import argparse
import ast
import json
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import yaml

from ivrell.cli import given, main
from ivrell.cli.outputs import OUTPUTS
from ivrell.core.base.help import slug
from ivrell.core.report.measures import MEASURES
from ivrell.core.stats import cautions
from ivrell.core.stats.cautions import CAUTIONS

ROOT = Path(__file__).resolve().parents[1]
PLACE = ROOT / "docs" / "reference"
_REACH = {
    "winner": "could change the winner",
    "margin": "could change by how much a lane leads",
    "aside": "is good to know",
}


def commands() -> str:
    """Every command with its options."""
    parser = main.parser(with_plan=True)
    (found,) = (a for a in parser._actions if isinstance(a, argparse._SubParsersAction))
    parts = [
        "# Command line\n\nWhat a command is for and how commands go together is told in "
        "[Comparison file](../file.md).\n\n## Exit status\n",
        _table(("status", "when"), [(str(n), when) for n, when in given.STATUSES.items()]),
    ]
    helps = {action.dest: action.help or "" for action in found._choices_actions}
    for name, command in found.choices.items():
        usage = " ".join(command.format_usage().removeprefix("usage: ").split())
        parts += [f"\n## {name}\n", f"{_sentence(helps.get(name, ''))}\n", f"```\n{usage}\n```\n"]
        rows = [
            (f"`{', '.join(a.option_strings) or a.dest}`", _escaped(a.help or ""))
            for a in command._actions
            if not isinstance(a, argparse._HelpAction) and a.help is not argparse.SUPPRESS
        ]
        parts.append(_table(("option", "what it says"), rows))
        if name in OUTPUTS:
            parts.append(
                f"\nWhat `--json` prints: `{name}` of [output.schema.json](../output.schema.json)."
            )
        if command.epilog:
            parts.append(f"\n{_escaped(command.epilog)}")
    return "\n".join(parts) + "\n"


def measures() -> str:
    """Every measure."""
    rows = [
        (f'<a id="{m.key}"></a>{m.label}', f"`{m.key}`", m.unit, m.better, _escaped(m.how))
        for m in MEASURES
    ]
    return (
        "# Measures\n\nWhat lanes are compared by. What an engine counts of a run (rows read, "
        "log flushes, stages of Spark) comes as measures of its own: [Engines](../engines.md). "
        "How figures are taken, and what they do not tell: "
        "[What is measured, and how](../measuring.md).\n\n"
        + _table(("measure", "name in files", "unit", "better", "how it is got"), rows)
        + "\n"
    )


def told_cautions() -> Iterator[tuple[str, str, str, str]]:
    """Each caution's word, how far it reaches, its reason with blanks, what helps."""
    reaches = {look.__name__: reach for look, reach in CAUTIONS}
    for path in sorted(Path(cautions.__file__).parent.glob("*.py")):
        for function in ast.walk(ast.parse(path.read_text())):
            if not isinstance(function, ast.FunctionDef) or function.name not in reaches:
                continue
            for call in ast.walk(function):
                if (
                    isinstance(call, ast.Call)
                    and isinstance(call.func, ast.Name)
                    and call.func.id == "caution"
                ):
                    word, reason, hint = (_blanked(part) for part in call.args[:3])
                    yield word, reaches[function.name], reason, hint


def _blanked(part: ast.expr) -> str:
    """The words of a text in code, with a blank for what is put in."""
    if isinstance(part, ast.Constant):
        return str(part.value)
    if isinstance(part, ast.JoinedStr):
        return "".join(map(_blanked, part.values))
    if isinstance(part, ast.FormattedValue):
        inside = ast.unparse(part.value)
        return "*A lane*" if re.fullmatch(r"\w+(\[0\])?\.name", inside) else "…"
    if isinstance(part, ast.BinOp):
        return _blanked(part.left) + _blanked(part.right)
    if isinstance(part, ast.IfExp):
        return f"{_blanked(part.body)} (or: {_blanked(part.orelse)})"
    return "…"


def caution_page() -> str:
    """Every caution."""
    parts = [
        "# Cautions\n\nWhat weakens a result is said unasked, that first which could change the "
        "winner. What a caution says of your trial stands there; here is what each means. … stands "
        "for what differs.\n"
    ]
    for word, reach, reason, hint in sorted(set(told_cautions())):
        told = [f"\n## {word} {{ #{slug(word)} }}\n", f"At the most it {_REACH[reach]}.\n"]
        if reason.strip("…. "):
            told.append(f"> {reason}\n")
        if hint.strip("… "):
            told.append(f"**What helps**: {hint}")
        parts += told
    return "\n".join(parts) + "\n"


def api() -> str:
    """Every address of the API."""
    document = yaml.safe_load((ROOT / "docs/api/openapi.yaml").read_text())
    parts = [
        "# API\n\nEverything that the page does goes through these addresses, which "
        "[openapi.yaml](../api/openapi.yaml) describes with every field "
        "(also at `/api/schema/` of a running application). What a token may do: "
        "[security](../security.md).\n"
    ]
    rows = [
        (f"`{method.upper()} {path}`", _escaped(" ".join(told.get("description", "").split())))
        for path, methods in document["paths"].items()
        for method, told in methods.items()
        if isinstance(told, dict) and "responses" in told
    ]
    return "\n".join([*parts, _table(("address", "what it does"), rows)]) + "\n"


def _table(heads: tuple[str, ...], rows: list[tuple[str, ...]]) -> str:
    if not rows:
        return ""
    lines = [heads, tuple("---" for _ in heads), *rows]
    return "\n".join(f"| {' | '.join(cells)} |" for cells in lines)


def _escaped(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;").replace("%%", "%")


def _sentence(text: str) -> str:
    text = _escaped(text)
    return f"{text[:1].upper()}{text[1:]}{'' if text.endswith('.') else '.'}"


PAGES: dict[str, Callable[[], str]] = {
    "commands.md": commands,
    "measures.md": measures,
    "cautions.md": caution_page,
    "api.md": api,
}

if __name__ == "__main__":
    for name, made in PAGES.items():
        (PLACE / name).write_text(made(), encoding="utf-8")
    print(json.dumps({"written": [str(PLACE / name) for name in PAGES]}))
