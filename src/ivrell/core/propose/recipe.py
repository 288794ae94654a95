"""Proposing a recipe from sample files, and telling how near it comes."""

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import tomlkit
from scipy import stats

from ivrell.core.base.errors import BadInput
from ivrell.core.propose.beside import Beside, beside
from ivrell.core.propose.fits import (
    counts_of,
    decimals_of,
    drawn,
    figures,
    fit_number,
    fit_skew,
    outward,
)
from ivrell.core.propose.text import text_settings
from ivrell.core.recipe.csv_look import seen_style
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.kinds.base import FURTHEST
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.reading import SAMPLE_NAME, read_sample
from ivrell.core.recipe.skew import weights

_MOST_CATEGORIES = 300
_FEW_AGAINST_ROWS = 20
_REFERENCE_SHARE = 0.9
_GENERATED = 50_000
_NARROW = 200
_SHUFFLED = "a shuffled sequence"
_SPREADS = {"drawn": "by its quantiles"}
FAR = 0.1
"""The distance from a sample beyond which a shape is not proposed where there is a nearer one."""

_FEW_KEYS = 20
_LEAST_COVER = 0.3
_TIED = 0.5
_MOST_TIES = 5
_MOST_COLUMNS_TIED = 50
_DAY_US = 86_400 * 1_000_000
_WEEK = 7
_MOST_DAYS = 400
_PARTS = 100
_LEAST_MOMENTS = 2_000
"""Fewer lie unevenly over weekdays and hours by chance alone."""


@dataclass
class Proposal:
    """A proposed recipe.

    Attributes:
        data: what stands below ``[data]`` in a comparison file.
        notes: for each table and column, in words, what was fitted.
        distances: for each table and column, how far the generated values are from the
            sample's: the largest gap of cumulative shares for numbers and moments, half the
            summed differences of shares for values that repeat, of lengths for other text;
            0 is the same, 1 is nothing in common.
        beside: for each table and column, the profiles of both; see the module beside.
        read_as: for each table whose csv is not written in the usual way, how it is.
        lost: for each table, in words, what of the sample the recipe does not make.
    """

    data: dict[str, Any]
    notes: dict[str, dict[str, str]] = field(default_factory=dict)
    distances: dict[str, dict[str, float]] = field(default_factory=dict)
    beside: dict[str, dict[str, Beside]] = field(default_factory=dict)
    read_as: dict[str, str] = field(default_factory=dict)
    lost: dict[str, str] = field(default_factory=dict)

    def with_rows_knob(self, knob: str) -> int:
        """Let a knob set the rows of the largest table; returns the rows it has."""
        table = max(self.data["tables"].values(), key=lambda table: int(table["rows"]))
        rows = int(table["rows"])
        table["rows"] = f"{{{knob}}}"
        return rows

    def toml(self) -> str:
        """The recipe as text, each column with its fit behind it."""
        document = tomlkit.document()
        data = tomlkit.table()
        data["seed"] = self.data["seed"]
        tables = tomlkit.table(is_super_table=True)
        for name, table in self.data["tables"].items():
            shown = tomlkit.table()
            if read_as := self.read_as.get(name):
                shown.add(tomlkit.comment(f"{name} read as: {read_as}"))
            if lost := self.lost.get(name):
                shown.add(tomlkit.comment(f"not made: {lost}"))
            for key, value in table.items():
                if key != "columns":
                    shown[key] = value
            shown["columns"] = self._columns(name, table["columns"])
            tables[name] = shown
        data["tables"] = tables
        document["data"] = data
        return tomlkit.dumps(document)

    def _columns(self, table: str, columns: list[dict[str, Any]]) -> Any:
        listed = tomlkit.array()
        for column in columns:
            shown = tomlkit.inline_table()
            shown.update(column)
            name = column["name"]
            note = self.notes[table][name]
            distance = self.distances.get(table, {}).get(name)
            if distance is not None:
                note += f", {distance:.3f} from the sample"
            if distance is not None and distance > FAR:
                note += ": its own distribution is lost"
            listed.add_line(shown, comment=note, indent="  ")
        listed.add_line(indent="")
        return listed


def propose(
    samples: Mapping[str, Path], *, seed: int = 1, allow_values: Collection[str] = ()
) -> Proposal:
    """A recipe whose tables are shaped like the samples, by table name.

    Args:
        allow_values: categories, as "table.column", whose values may be taken over.

    No other value of a sample stands in the recipe: bounds are rounded outward, names are
    made up. Raises BadInput when a sample cannot be read.
    """
    read = {name: read_sample(path) for name, path in samples.items()}
    styles = {name: seen_style(path) for name, path in samples.items() if path.suffix == ".csv"}
    for allowed in allow_values:
        table, _, column = allowed.partition(".")
        if table not in read or column not in read[table][0].column_names:
            raise BadInput(f'There is no column "{allowed}" in the samples.')
    proposal = Proposal({"seed": seed, "tables": {}})
    proposal.read_as = {name: style.words for name, style in styles.items() if style.words}
    keys = _keys(read)
    for name, (table, rows) in read.items():
        proposal.notes[name] = {}
        columns = []
        for column in table.column_names:
            values = table.column(column).combine_chunks()
            place = f"{name}.{column}"
            settings, note = _settings(values, place, keys, place in allow_values)
            before = (table.schema.field(column).metadata or {}).get(SAMPLE_NAME)
            if before is not None:
                note += f', called "{before.decode()}" in the sample'
            proposal.notes[name][column] = note
            columns.append({"name": column, **settings, **_nulls(values)})
        described: dict[str, Any] = {"rows": rows}
        if _SHUFFLED in proposal.notes[name].values():
            described["order"] = "shuffled"
        elif order := _order(table, columns):
            described["order"] = order
        if share := _duplicates(table):
            described["duplicate_share"] = share
        described["columns"] = columns
        proposal.data["tables"][name] = described
        lost = [f"columns that rise or fall together ({ties})"] if (ties := _ties(table)) else []
        if hours := _hours_lost(table):
            lost.append(f"the time of day of {', '.join(hours)}")
        if lost:
            proposal.lost[name] = "; ".join(lost)
    _measure(proposal, read)
    return proposal


def table_name(path: Path) -> str:
    """The name of the table that a sample file stands for."""
    plain = re.sub(r"\W", "_", path.stem, flags=re.ASCII)[:60]
    return plain if plain and not plain[0].isdigit() else f"t_{plain}"


def _nulls(values: pa.Array) -> dict[str, float]:
    share = values.null_count / len(values)
    return {"null_share": min(round(share, 4), 0.9999)} if share else {}


def _keys(read: Mapping[str, tuple[pa.Table, int]]) -> dict[str, pa.Array]:
    """Columns that identify the rows of their table, by "table.column"."""
    found = {}
    for name, (table, rows) in read.items():
        for column in table.column_names:
            values = table.column(column).combine_chunks()
            whole = rows == len(values) > 1 and not values.null_count
            if whole and not pa.types.is_floating(values.type) and _all_differ(values):
                found[f"{name}.{column}"] = values
    return found


def _all_differ(values: pa.Array) -> bool:
    return len(values.unique()) == len(values)


def _settings(
    values: pa.Array, place: str, keys: Mapping[str, pa.Array], allowed: bool
) -> tuple[dict[str, Any], str]:
    known = values.drop_null()
    if not len(known):
        return {"kind": "constant", "value": ""}, "nothing but nulls"
    if reference := _reference(known, place, keys):
        return reference
    different = len(known.unique())
    unique = different == len(known) == len(values) and different > 1
    kind = values.type
    if pa.types.is_boolean(kind):
        share = round(pc.mean(known).as_py(), 4)
        return {"kind": "boolean", "true_share": share}, "share of true"
    if pa.types.is_temporal(kind):
        return _moments(known, place)
    if pa.types.is_integer(kind):
        return _integers(known, unique)
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return _reals(known.cast(pa.float64()))
    try:
        text = known.cast(pa.string())
    except pa.ArrowException:
        raise BadInput(
            f"The values of type {kind} cannot be made by a recipe.",
            where=place,
            hint="Leave the column out of the sample, or save its values as text.",
        ) from None
    few = different <= _MOST_CATEGORIES and different * _FEW_AGAINST_ROWS <= len(known)
    if few:
        return _category(text, allowed)
    return text_settings(text, unique), "shape of the text"


def _reference(
    known: pa.Array, place: str, keys: Mapping[str, pa.Array]
) -> tuple[dict[str, Any], str] | None:
    for target, present in keys.items():
        if target.split(".")[0] == place.split(".")[0] or present.type != known.type:
            continue
        inside = pc.is_in(known, value_set=present)
        share = pc.mean(inside).as_py()
        if share < _REFERENCE_SHARE:
            continue
        if pa.types.is_integer(known.type) and not _refers(known, place, target, present):
            continue
        skew = fit_skew(counts_of(known.filter(inside)))
        settings: dict[str, Any] = {"kind": "reference", "to": target}
        if skew:
            settings["skew"] = skew
        if share < 1:
            settings["absent_share"] = round(1 - share, 4)
        return settings, f"{100 * share:.3g} % found there"
    return None


def _refers(known: pa.Array, place: str, target: str, present: pa.Array) -> bool:
    """Whether whole numbers that all are keys of a table seem to mean it, and are not few numbers
    that lie among its keys by chance: they are called alike, or are many of them."""
    column = place.split(".")[1].lower()
    table, key = target.lower().split(".")
    if column == key or column.startswith(table.rstrip("s")):
        return True
    different = len(known.unique())
    return different >= _FEW_KEYS and different >= _LEAST_COVER * len(present)


def _ties(table: pa.Table) -> str:
    """Pairs of numeric columns that rise or fall together in the sample, in words, or ""."""
    numeric = [
        field.name
        for field in table.schema
        if pa.types.is_integer(field.type) or pa.types.is_floating(field.type)
    ][:_MOST_COLUMNS_TIED]
    frame = table.select(numeric).slice(0, _GENERATED).to_pandas()
    ranks = frame.rank().corr().to_numpy() if len(numeric) > 1 else np.zeros((0, 0))
    tied = [
        f"{numeric[a]} and {numeric[b]}"
        for a in range(len(ranks))
        for b in range(a + 1, len(ranks))
        if abs(ranks[a, b]) > _TIED
    ]
    more = f" and {len(tied) - _MOST_TIES} more" if len(tied) > _MOST_TIES else ""
    return "; ".join(tied[:_MOST_TIES]) + more


def _moments(known: pa.Array, place: str) -> tuple[dict[str, Any], str]:
    try:
        ends = pc.min_max(known).as_py()
    except (OverflowError, ValueError):
        raise BadInput(
            "The moments lie outside the years 1 to 9999.",
            where=place,
            hint="Leave the column out of the sample, or save its values as numbers.",
        ) from None
    day = str(ends["min"])[:10]
    after = np.datetime64(str(ends["max"])[:10]) + 1
    kind = "date" if pa.types.is_date(known.type) else "timestamp"
    settings: dict[str, Any] = {"kind": kind, "from": day, "until": str(after)}
    days = int((after - np.datetime64(day)).astype(int))
    numbers = _as_numbers(known) / _DAY_US - np.datetime64(day).astype(int)
    parts = days if days <= _MOST_DAYS else _PARTS
    shares = np.histogram(numbers, parts, (0, days))[0] / len(numbers)
    if parts < 2 or not (_gap(shares) > FAR or _weekly(numbers, days)):
        return settings, "even between whole days"
    settings["weights"] = [figures(share) for share in shares]
    return settings, "by days" if parts == days else f"by {parts} parts of the time"


def _gap(shares: np.ndarray) -> float:
    """The largest gap between cumulative shares and even ones."""
    even = np.arange(1, len(shares) + 1) / len(shares)
    return float(np.abs(np.cumsum(shares) - even).max())


def _weekly(days: np.ndarray, until: int) -> bool:
    """Whether moments, in days from the first, lie unevenly over the days of the week."""
    whole = until // _WEEK * _WEEK
    weekdays = np.bincount((days[days < whole] % _WEEK).astype(int), minlength=_WEEK)
    return bool(weekdays.sum() > _LEAST_MOMENTS and _from_even(weekdays) > FAR)


def _hours_lost(table: pa.Table) -> list[str]:
    """Columns of moments whose time of day is far from even, as made ones are."""
    lost = []
    for column in table.schema:
        if pa.types.is_timestamp(column.type):
            known = table.column(column.name).combine_chunks().drop_null()
            hours = np.bincount(pc.hour(known.cast(pa.timestamp("us"))).to_numpy(), minlength=24)
            if hours.sum() > _LEAST_MOMENTS and _from_even(hours) > FAR:
                lost.append(column.name)
    return lost


def _from_even(counts: np.ndarray) -> float:
    """Half the summed differences of shares from even ones."""
    return float(np.abs(counts / counts.sum() - 1 / len(counts)).sum() / 2)


def _integers(known: pa.Array, unique: bool) -> tuple[dict[str, Any], str]:
    values = known.to_numpy(zero_copy_only=False).astype(np.int64)
    steps = np.unique(np.diff(values)) if len(values) > 1 else np.array([0])
    if len(steps) == 1 and steps[0]:
        return {"kind": "sequence", "start": int(values[0]), "step": int(steps[0])}, "a sequence"
    low, high = int(values.min()), int(values.max())
    if unique and high - low + 1 == len(values):
        return {"kind": "sequence", "start": low}, _SHUFFLED
    even = _unevenness(values, low, high)
    fit = fit_number(values.astype(float))
    if unique or even <= max(fit.distance, 0.05) or fit.settings["spread"] == "uniform":
        wide = [int(v) for v in outward(low, high)] if high - low > 100 else [low, high]
        settings = {"kind": "integer", "low": min(low, wide[0]), "high": max(high, wide[1])}
        return {**settings, **({"unique": True} if unique else {})}, "even"
    if fit.distance > FAR:
        fit = min(fit, drawn(values.astype(float)), key=lambda fit: fit.distance)
    note = _SPREADS.get(fit.settings["spread"], fit.settings["spread"])
    return {"kind": "number", **fit.settings, "decimals": 0}, note


def _unevenness(values: np.ndarray, low: int, high: int) -> float:
    """How far whole numbers are from being even between their bounds, 0 to 1."""
    if high - low <= _NARROW:
        shares = np.bincount(values - low, minlength=high - low + 1) / len(values)
        return float(np.abs(shares - 1 / len(shares)).sum() / 2)
    return float(stats.kstest(values, stats.randint(low, high + 1).cdf).statistic)


def _reals(known: pa.Array) -> tuple[dict[str, Any], str]:
    values = known.to_numpy(zero_copy_only=False)
    values = values[np.abs(values) <= FURTHEST]
    if not len(values):
        return {"kind": "constant", "value": 0.0}, "no number that has an end"
    fit = fit_number(values)
    if fit.distance > FAR:
        fit = min(fit, drawn(values), key=lambda fit: fit.distance)
    places = decimals_of(values)
    settings = {"kind": "number", **fit.settings}
    note = _SPREADS.get(fit.settings["spread"], fit.settings["spread"])
    return settings if places is None else {**settings, "decimals": places}, note


def _category(text: pa.Array, allowed: bool) -> tuple[dict[str, Any], str]:
    counts = counts_of(text)
    skew = fit_skew(counts)
    settings: dict[str, Any] = {"kind": "category"}
    if allowed:
        order = np.argsort(-counts, kind="stable")
        settings["values"] = text.unique().take(pa.array(order)).to_pylist()
    else:
        settings["count"] = len(counts)
    if _far_from_skew(counts, skew):
        settings["weights"] = [figures(one / len(text)) for one in np.sort(counts)[::-1]]
    elif skew:
        settings["skew"] = skew
    return settings, f"{len(counts)} different values"


def _far_from_skew(counts: np.ndarray, skew: float) -> bool:
    """Whether a power law over ranks leaves shares that the sample has far behind."""
    shares = np.sort(counts)[::-1] / counts.sum()
    law = weights(len(counts), skew)
    return bool(np.abs(shares - law / law.sum()).sum() / 2 > FAR)


def _order(table: pa.Table, columns: list[dict[str, Any]]) -> str | None:
    for column in columns:
        if column["kind"] in ("number", "integer", "timestamp", "date", "category", "reference"):
            values = table.column(column["name"]).combine_chunks()
            if values.null_count or len(values.unique()) < 2:
                continue
            behind = pc.less(values.slice(1), values.slice(0, len(values) - 1))
            if not pc.any(behind).as_py() and not column.get("absent_share"):
                return f"by {column['name']}"
    return None


def _duplicates(table: pa.Table) -> float:
    distinct = table.group_by(table.column_names).aggregate([]).num_rows
    share = round(1 - distinct / table.num_rows, 4)
    names = table.column_names
    looks_keyed = any(len(table.column(name).unique()) * 2 > table.num_rows for name in names)
    return share if looks_keyed else 0.0


def _measure(proposal: Proposal, read: Mapping[str, tuple[pa.Table, int]]) -> None:
    """Fill in the distances between the samples and what the recipe makes."""
    recipe = Recipe.model_validate(proposal.data).resolved({})
    generator = Generator(recipe)
    for name, (table, _) in read.items():
        made = generator.sample(name, _GENERATED)
        proposal.distances[name] = {
            column: distance(table.column(column).combine_chunks(), made.column(column))
            for column in table.column_names
        }
        proposal.beside[name] = {
            column: beside(table.column(column).combine_chunks(), made.column(column), column)
            for column in table.column_names
        }


def distance(sample: pa.Array, made: pa.Array) -> float:
    """How far two columns are apart, 0 to 1; see Proposal."""
    missing: float = abs(sample.null_count / len(sample) - made.null_count / len(made))
    ours, theirs = sample.drop_null(), made.drop_null()
    if not len(ours) or not len(theirs):
        return missing
    if pa.types.is_string(theirs.type):
        few = len(ours.unique()) * _FEW_AGAINST_ROWS <= len(ours)
        if few:
            a, b = (np.sort(counts_of(v.cast(pa.string())))[::-1] for v in (ours, theirs))
        else:
            lengths = [pc.utf8_length(v.cast(pa.string())).to_numpy() for v in (ours, theirs)]
            most = max(int(found.max()) for found in lengths) + 1
            a, b = (np.bincount(found, minlength=most) for found in lengths)
        size = max(len(a), len(b))
        shares = [np.pad(found, (0, size - len(found))) / found.sum() for found in (a, b)]
        return max(missing, float(np.abs(shares[0] - shares[1]).sum() / 2))
    numbers = [_as_numbers(v) for v in (ours, theirs)]
    return max(missing, float(stats.ks_2samp(*numbers).statistic))


def _as_numbers(values: pa.Array) -> np.ndarray:
    if pa.types.is_temporal(values.type):
        values = values.cast(pa.timestamp("us")).cast(pa.int64())
    elif pa.types.is_boolean(values.type):
        values = values.cast(pa.int64())
    numbers: np.ndarray = values.cast(pa.float64()).to_numpy(zero_copy_only=False)
    return numbers
