"""Changing a comparison file in place: comments, order and code blocks stay as they were."""

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, fields
from typing import Any

import tomlkit
import tomlkit.exceptions
from tomlkit.items import AoT, Item, Table

from ivrell.core.base.errors import BadInput
from ivrell.core.base.toml_values import holdable
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import FORMAT, Comparison
from ivrell.core.engines.base import Approach

_MULTILINE = {"text", "code", "setup", "teardown", "question", "script"}


def edited(text: str, change: Callable[[tomlkit.TOMLDocument], None]) -> str:
    """The text after a change. Raises BadInput when the result is no good comparison."""
    try:
        document = tomlkit.parse(text)
    except tomlkit.exceptions.TOMLKitError as error:
        raise BadInput(
            f"The file cannot be changed piece by piece: {str(error).rstrip('.')}.",
            hint="Write that part of the file in a plainer way.",
        ) from None
    change(document)
    after = tomlkit.dumps(document)
    parse(after)
    return after


def written(
    head: Mapping[str, Any], data: Mapping[str, Any], approaches: Iterable[Mapping[str, Any]]
) -> str:
    """The text of a new comparison file. Raises BadInput when it is no good comparison.

    Args:
        head: keys of its top, without format, data and approach.
        data: the recipe.
        approaches: the fields of each.
    """
    document = tomlkit.document()
    _assign(document, {"format": FORMAT, **head, "data": _plain(dict(data))})
    lanes = tomlkit.aot()
    for one in approaches:
        table = tomlkit.table()
        _assign(table, one)
        lanes.append(table)
    document["approach"] = lanes
    text = tomlkit.dumps(document)
    parse(text)
    return text


def set_fields(text: str, section: str | None, fields: Mapping[str, Any]) -> str:
    """Set fields at the top (``section`` None) or in a table; None removes a field."""

    def change(document: tomlkit.TOMLDocument) -> None:
        place: Any = document
        if section is not None:
            if section not in document:
                _insert_table(document, section)
            place = document[section]
        _assign(place, fields)

    return edited(text, change)


def set_table(text: str, name: str, fields: Mapping[str, Any]) -> str:
    """Put fields in place of all that a table has."""

    def change(document: tomlkit.TOMLDocument) -> None:
        if name not in document:
            _insert_table(document, name)
        place: Any = document[name]
        _assign(place, {key: None for key in place if key not in fields} | dict(fields))

    return edited(text, change)


def replace_data(text: str, data_text: str) -> str:
    """Put another recipe, written as its own TOML text, in place of ``[data]``."""
    try:
        recipe = tomlkit.parse(data_text)
    except (tomlkit.exceptions.TOMLKitError, RecursionError) as error:
        line = getattr(error, "line", None)
        raise BadInput(
            f"The recipe is not TOML: {str(error).rstrip('.')}.",
            where=f"line {line}" if line else "data",
        ) from None
    if list(recipe) != ["data"]:
        raise BadInput(
            "The recipe text must hold [data] and its tables, and nothing else.",
            hint="Other settings have their place on the other steps.",
        )

    def change(document: tomlkit.TOMLDocument) -> None:
        document["data"] = recipe["data"]

    return edited(text, change)


def data_text(text: str) -> str:
    """The part of a comparison file that is its recipe."""
    document = tomlkit.document()
    document["data"] = tomlkit.parse(text)["data"]
    return tomlkit.dumps(document).strip() + "\n"


def add_approach(text: str, fields: Mapping[str, Any], *, after: str | None = None) -> str:
    """Add an approach at the end, or behind another one."""

    def change(document: tomlkit.TOMLDocument) -> None:
        table = tomlkit.table()
        _assign(table, fields)
        lanes = _lanes(document)
        position = len(lanes)
        if after is not None:
            position = _position(lanes, after) + 1
        tables = list(lanes)
        tables.insert(position, table)
        _put_lanes(document, tables)

    return edited(text, change)


def change_approach(text: str, approach_id: str, fields: Mapping[str, Any]) -> str:
    """Set fields of an approach; a new id is followed by baseline and parents."""

    def change(document: tomlkit.TOMLDocument) -> None:
        lanes = _lanes(document)
        _assign(lanes[_position(lanes, approach_id)], fields)
        renamed = fields.get("id", approach_id)
        if renamed != approach_id:
            if document.get("baseline") == approach_id:
                document["baseline"] = renamed
            for lane in lanes:
                if lane.get("parent") == approach_id:
                    lane["parent"] = renamed
            for remark in (remark for some in _remarks(document) for remark in some):
                for key in _LANE_KEYS:
                    if remark.get(key) == approach_id:
                        remark[key] = renamed
                for key in _LANES_KEYS:
                    if key in remark:
                        remark[key] = [renamed if v == approach_id else v for v in remark[key]]
            for plan in document.get("plan", []):
                if approach_id in plan.get("approaches", []):
                    plan["approaches"] = [
                        renamed if v == approach_id else v for v in plan["approaches"]
                    ]
            work = _work(document)
            if approach_id in work:
                work[renamed] = work.pop(approach_id)

    return edited(text, change)


def set_remarks(
    text: str, notes: Iterable[Mapping[str, Any]], claims: Iterable[Mapping[str, Any]]
) -> str:
    """Put other notes and claims in place of those that are there."""

    def change(document: tomlkit.TOMLDocument) -> None:
        _put_tables(document, "note", notes)
        _put_tables(document, "claim", claims)

    return edited(text, change)


def with_remarks_of(text: str, now: Comparison) -> str:
    """A file with the notes and claims of a later version of it, those of lanes that it has."""
    ran = parse(text)
    lanes = {approach.id for approach in ran.approach}
    notes = [
        one for one in now.note if lanes.issuperset(filter(None, [one.lane, *(one.pair or ())]))
    ]
    claims = [one for one in now.claim if lanes.issuperset(one.lanes)]
    if (notes, claims) == (ran.note, ran.claim):
        return text
    return set_remarks(
        text,
        [one.model_dump(exclude_defaults=True) for one in notes],
        [one.model_dump(exclude_defaults=True) for one in claims],
    )


def _put_tables(
    document: tomlkit.TOMLDocument, name: str, values: Iterable[Mapping[str, Any]]
) -> None:
    """An array of tables at the end of the file; none where there are no values."""
    if name in document:
        del document[name]
    tables = tomlkit.aot()
    for value in values:
        table = tomlkit.table()
        _assign(table, {key: part for key, part in value.items() if part not in (None, "", {})})
        tables.append(table)
    if len(tables):
        document.append(name, tables)


def _remarks(document: tomlkit.TOMLDocument) -> tuple[list[Any], list[Any]]:
    """Notes and claims as they stand, each a table."""
    return list(document.get("note", [])), list(document.get("claim", []))


def remove_approach(text: str, approach_id: str) -> str:
    """Take an approach out, with the notes and claims about it; a baseline that was it goes back to
    the first one."""

    def change(document: tomlkit.TOMLDocument) -> None:
        lanes = _lanes(document)
        del lanes[_position(lanes, approach_id)]
        if document.get("baseline") == approach_id:
            del document["baseline"]
        if not len(lanes):
            del document["approach"]
        notes, claims = _remarks(document)
        left = [
            [one.unwrap() for one in some if approach_id not in _lanes_named(one)]
            for some in (notes, claims)
        ]
        if [len(some) for some in left] != [len(notes), len(claims)]:
            _put_tables(document, "note", left[0])
            _put_tables(document, "claim", left[1])
        for plan in document.get("plan", []):
            if approach_id in plan.get("approaches", []):
                others = [lane for lane in plan["approaches"] if lane != approach_id]
                # A plan of none would be a plan of nothing.
                _assign(plan, {"approaches": others or None})
        _work(document).pop(approach_id, None)

    return edited(text, change)


def _work(document: tomlkit.TOMLDocument) -> Any:
    """The extra hours by lane that costs rest on."""
    return document.get("cost", {}).get("work", {})


_LANE_KEYS = ("lane", "lower", "higher")
_LANES_KEYS = ("pair", "order")
"""Keys of notes and claims that name a lane, and that name several."""


def _lanes_named(remark: Mapping[str, Any]) -> set[str]:
    named = {str(remark[key]) for key in _LANE_KEYS if key in remark}
    return named | {str(lane) for key in _LANES_KEYS for lane in remark.get(key, [])}


def order_approaches(text: str, ids: list[str]) -> str:
    """Put the approaches in another order. Raises BadInput unless ids are all of them."""

    def change(document: tomlkit.TOMLDocument) -> None:
        lanes = list(_lanes(document))
        if sorted(ids) != sorted(str(lane["id"]) for lane in lanes):
            raise BadInput("The new order must name every approach once.")
        lanes.sort(key=lambda lane: ids.index(str(lane["id"])))
        _put_lanes(document, lanes)

    return edited(text, change)


def _lanes(document: tomlkit.TOMLDocument) -> AoT:
    if "approach" not in document:
        return tomlkit.aot()
    lanes = document["approach"]
    assert isinstance(lanes, AoT)
    return lanes


def _put_lanes(document: tomlkit.TOMLDocument, tables: list[Table]) -> None:
    lanes = tomlkit.aot()
    for table in tables:
        lanes.append(table)
    document["approach"] = lanes


def _position(lanes: AoT, approach_id: str) -> int:
    for position, lane in enumerate(lanes):
        if lane["id"] == approach_id:
            return position
    raise BadInput(f'There is no approach "{approach_id}".')


def _insert_table(document: tomlkit.TOMLDocument, section: str) -> None:
    """A new table before ``[data]``, so that the file keeps its usual order."""
    document[section] = tomlkit.table()


def _assign(place: Any, fields: Mapping[str, Any]) -> None:
    # A column of a sheet that has no kind says so by null, which is left out.
    holdable({key: _plain(value) for key, value in fields.items()})
    for key, value in fields.items():
        if value is None:
            if key in place:
                del place[key]
        elif place.get(key) != value:
            place[key] = _written(key, value)


def _written(key: str, value: Any) -> Item:
    """Text of several lines as a literal block where TOML allows it, else as it comes."""
    if isinstance(value, str) and ("\n" in value or (key in _MULTILINE and len(value) > 80)):
        plain = "'''" not in value and not re.search(r"[\x00-\x08\x0b-\x1f\x7f]", value)
        return tomlkit.string(value, literal=plain, multiline=True)
    if isinstance(value, list | tuple) and value and all(isinstance(v, dict) for v in value):
        return _lines_of_tables(value)
    item: Item = tomlkit.item(value)
    return item


def _lines_of_tables(values: Iterable[Mapping[str, Any]]) -> Item:
    """An array with an inline table a line."""
    found = tomlkit.array()
    found.multiline(True)
    for value in values:
        table = tomlkit.inline_table()
        table.update({key: part for key, part in value.items() if part is not None})
        found.append(table)
    return found


NOT_SETTINGS = {
    "id",
    "name",
    "engine",
    "input",
    "parent",
    "note",
    "code",
    "setup",
    "retired",
    "columns",
}
"""Fields of an approach that have a place of their own on the page."""


def fields_of(approach: Approach) -> dict[str, Any]:
    """The fields of an approach that are not as they usually are, as TOML can hold them."""
    plain = asdict(approach)
    usual = {f.name: f.default for f in fields(approach)}
    found = {}
    for name, value in plain.items():
        if name != "engine" and (value == usual.get(name) or value in (None, "", (), {}, [])):
            continue
        found[name] = _plain(value)
    return found


def _plain(value: Any) -> Any:
    """A value as TOML can hold it: lists, and tables without what is not there."""
    if isinstance(value, dict):
        return {key: _plain(part) for key, part in value.items() if part not in (None, "")}
    return [_plain(part) for part in value] if isinstance(value, list | tuple) else value


def settings_text(approach: Approach, *, with_setup: bool = False) -> str:
    """The settings of an approach beside its code, as TOML text; its set-up too where asked."""
    without = NOT_SETTINGS - ({"setup"} if with_setup else set())
    settings = {k: v for k, v in fields_of(approach).items() if k not in without}
    return tomlkit.dumps({key: _written(key, value) for key, value in settings.items()})


def settings_from(text: str) -> dict[str, Any]:
    """Read such a text. Raises BadInput when it is not TOML or sets what is not its own."""
    try:
        found = tomlkit.parse(text).unwrap()
    except (tomlkit.exceptions.TOMLKitError, RecursionError) as error:
        raise BadInput(
            f"The settings are not TOML: {str(error).rstrip('.')}.",
            where=f"line {getattr(error, 'line', 1)}",
            hint='Write a line a setting, such as indexes = ["passages(lock)"].',
        ) from None
    for name in found.keys() & NOT_SETTINGS:
        raise BadInput(f"{name} is not set here.", hint="It has a place of its own.")
    return found
