"""What a gate found as words, as Markdown, as JUnit XML, and as lines that name file and line."""

from collections.abc import Iterator
from xml.etree import ElementTree

from ivrell.core.base.quantities import in_unit, three_figures
from ivrell.core.records.gate import FAILING, GatedLane, GateFindings, Held
from ivrell.core.report.words import knobs_told

HEADINGS = ("", "lane", "measure", "then", "now", "times as much", "rounds")

_MARKS = {"no slower": "passes", "cannot tell": "cannot tell"}


def _at(one: GatedLane) -> str:
    return "".join(f" at {told}" for told in [", ".join(knobs_told(one.point))] if told)


def _times(one: GatedLane) -> str:
    if one.times is None:
        return "–"
    if one.low is None or one.high is None:
        return three_figures(one.times)
    return f"{three_figures(one.times)} ({three_figures(one.low)} to {three_figures(one.high)})"


def lane_told(one: GatedLane) -> str:
    """A lane in a sentence."""
    what = "" if one.measure == "elapsed" else f" by {one.label}"
    verdict = {
        "no slower": "is no slower" if one.measure == "elapsed" else "takes no more",
        "slower": "is slower" if one.measure == "elapsed" else "takes more",
        "wrong": "is wrong", "failed": "has failed", "cannot tell": "is not told",
    }[one.verdict]  # fmt: skip
    figures = ""
    if one.times is not None and one.then is not None and one.now is not None:
        figures = (
            f": {in_unit(one.unit, one.then)} then, {in_unit(one.unit, one.now)} now, "
            f"{_times(one)} times as much in {one.rounds} rounds"
        )
    reason = f"; {one.reason}" if one.reason else ""
    return f"{one.name}{_at(one)} {verdict}{what}{figures}{reason}."


def rows(found: GateFindings) -> list[list[str]]:
    """A row a lane, point and measure, under ``HEADINGS``."""
    return [
        [
            _MARKS.get(one.verdict, one.verdict), f"{one.name}{_at(one)}", one.label,
            "–" if one.then is None else in_unit(one.unit, one.then),
            "–" if one.now is None else in_unit(one.unit, one.now),
            _times(one), str(one.rounds),
        ]
        for one in found.lanes
    ]  # fmt: skip


def words(found: GateFindings) -> Iterator[str]:
    """What a gate found, in sentences."""
    share = f"{three_figures(100 * found.margin)} %"
    if not found.lanes:
        yield f"No lane is another than in {found.against}: nothing was run."
    else:
        say = {
            "passes": f"passes: no lane is slower than {found.against} by more than {share}",
            "fails": f"fails against {found.against}, with {share} let pass",
            "cannot tell": f"cannot tell whether it is slower than {found.against} by {share}",
        }[found.verdict]
        yield f"The gate {say}, after {found.rounds} rounds."
    yield from (lane_told(one) for one in found.lanes)
    yield from (f"{one.text}: {one.verdict}. {one.reason}" for one in found.held)
    for what, lanes in (
        ("The same in both, not run", [x for x in found.unchanged if x not in found.anchors]),
        ("New, held against nothing", found.added),
        ("Not there any more", found.removed),
    ):  # fmt: skip
        if lanes:
            yield f"{what}: {', '.join(lanes)}."
    if found.anchors:
        yield (
            f"The old version was not run: its kept figures are held against by way of "
            f"{', '.join(found.anchors)}, which did not change."
        )
    if found.differences:
        told = " and ".join(found.differences)
        yield f"Another than in {found.against} is also {told}: both versions ran with the new one."
    if found.stopped:
        yield "It was stopped before its end."


def markdown(found: GateFindings) -> str:
    """A summary for a pull request."""
    first, *rest = words(found)
    lines = [f"**{_plain(first)}**", ""]
    if found.lanes:
        lines += [f"| {' | '.join(HEADINGS)} |", f"|{'---|' * len(HEADINGS)}"]
        lines += [f"| {' | '.join(map(_plain, row))} |" for row in rows(found)]
        lines.append("")
    told = {lane_told(one) for one in found.lanes if one.verdict == "no slower"}
    lines += [f"- {_plain(line)}" for line in rest if line not in told]
    return "\n".join(lines).rstrip() + "\n"


_MARKED = str.maketrans({mark: f"\\{mark}" for mark in "\\`*_[]<>|#"})


def _plain(text: str) -> str:
    return " ".join(text.translate(_MARKED).split())


def junit(found: GateFindings, file: str) -> str:
    """The same as JUnit XML: a test case a lane, point and measure, and one a claim or target; what
    cannot be told is skipped."""
    cases: list[GatedLane | Held] = [*found.lanes, *found.held]
    bad = [one for one in cases if one.verdict in FAILING or one.verdict == "fails"]
    open_ = [one for one in cases if one.verdict == "cannot tell"]
    suite = ElementTree.Element(
        "testsuite", name=f"ivrell gate {file}", tests=str(len(cases)), failures=str(len(bad)),
        errors="0", skipped=str(len(open_)),
    )  # fmt: skip
    for one in cases:
        case = ElementTree.SubElement(suite, "testcase", file=file)
        if isinstance(one, GatedLane):
            said = lane_told(one)
            told = {"name": f"{one.label}{_at(one)}", "classname": one.lane, "line": str(one.line)}
        else:
            said, told = one.reason, {"name": one.text, "classname": "held"}
        for key, value in told.items():
            case.set(key, _legal(value))
        if one in bad:
            ElementTree.SubElement(case, "failure", message=_legal(said), type=one.verdict)
        elif one in open_:
            ElementTree.SubElement(case, "skipped", message=_legal(said))
        else:
            ElementTree.SubElement(case, "system-out").text = _legal(said)
    ElementTree.indent(suite)
    body = ElementTree.tostring(suite, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{body}\n'


def _legal(text: str) -> str:
    """Text without what XML cannot hold."""
    return "".join(mark for mark in text if mark in "\t\n\r" or mark >= " ")


def annotations(found: GateFindings, file: str) -> Iterator[str]:
    """``FILE:LINE: error|warning: words``, as compilers write them, of what does not pass."""
    for one in found.lanes:
        if one.verdict != "no slower":
            level = "error" if one.verdict in FAILING else "warning"
            yield f"{file}:{one.line}: {level}: {lane_told(one)}"
    for held in found.held:
        if held.verdict != "holds":
            level = "error" if held.verdict == "fails" else "warning"
            yield f"{file}:1: {level}: {held.text}: {held.reason}"
