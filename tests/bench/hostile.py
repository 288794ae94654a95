"""Hostile files: python -m tests.bench.hostile [MUTANTS RECIPES [SEED [FOLDER]]].

Changes the demo's files at random, and writes recipes whose settings stand at their extremes;
each goes through the loader, the import and a look at every table. Each must end in success or
in an error with a place or a hint, never in a trace, each call within two seconds of CPU time,
which other programs do not change. Prints how many ended how (10,000 and 2,000 unless given), the
slowest, and every kind of case that did not hold, of which one each is kept in the folder; ends
with 1 where there is one.
"""

import random
import signal
import sys
import time
import traceback
from collections import Counter
from collections.abc import Callable, Iterator
from multiprocessing import get_context
from pathlib import Path
from typing import Any

DEMO = Path(__file__).resolve().parents[2] / "demo"
MOST_S = 2.0
_GIVEN_UP_S = 60
_VALUES = (
    "inf", "-inf", "nan", "0", "-1", "1e308", "-1e308", "5e-324", "9223372036854775807",
    "-9223372036854775808", "9223372036854775808", "1" + "0" * 400, "1e400", "true", "[]", "{}",
    '""', '"\\u0000"', '"=1"', '"no formula"', '"{rows}"', '"{"', '"%s"', "1979-05-27",
    "1979-05-27T07:32:00Z", "[[[[[[]]]]]]", '["a", "a"]', "[nan, inf]", '"' + "x" * 70_000 + '"',
    '"../../etc/passwd"', '"/dev/zero"', '"/proc/self/mem"', '"file"', '"((((("',
    '"=' + "(" * 3_000 + '"', '"' + "-" * 20_000 + '1"', '"1' + "+1" * 20_000 + '"', "0.999999999",
    "1e-300", "2147483648", "10000000000", "9999999999", "0x7fffffff", "{a = {b = {c = 1}}}",
    "[" * 900 + "]" * 900, '"\\ud7ff"', '"first"', '"absent"', "1_000_000",
)  # fmt: skip
_SETTINGS = (
    "null_share", "repeat", "needle", "unique", "skew", "count", "decimals", "low", "high",
    "absent_share", "duplicate_share", "malformed_share", "order", "rows", "seed", "file", "csv",
    "elapsed", "memory", "relative", "absolute", "parts", "split_by", "latency_ms", "most_rows",
)  # fmt: skip


def mutants(rng: random.Random) -> Iterator[str]:
    """Demo files with one to four changes each, without end."""
    texts = [path.read_text() for path in sorted(DEMO.glob("*.toml"))]
    while True:
        lines = rng.choice(texts).split("\n")
        for _ in range(rng.randint(1, 4)):
            _change(rng, lines)
        yield "\n".join(lines)


def _change(rng: random.Random, lines: list[str]) -> None:
    at = rng.randrange(len(lines))
    line = lines[at]
    way = rng.randrange(11)
    if way == 0:
        del lines[at]
        lines.append("")
    elif way == 1:
        lines.insert(at, line)
    elif way == 2:
        lines.insert(at, lines[rng.randrange(len(lines))])
    elif way in (3, 4, 5) and "=" in line:
        lines[at] = f"{line.split('=')[0]}= {rng.choice(_VALUES)}"
    elif way == 6 and line:
        place = rng.randrange(len(line))
        lines[at] = (
            line[:place]
            + chr(rng.choice((0, 1, 34, 39, 91, 93, 955, 65533, 128512)))
            + (line[place + 1 :])
        )
    elif way == 7:
        lines.insert(at, f"{rng.choice(_SETTINGS)} = {rng.choice(_VALUES)}")
    elif way == 8 and "{" in line:
        setting = f"{rng.choice(_SETTINGS)} = {rng.choice(_VALUES)}, "
        lines[at] = line.replace("{", "{" + setting, 1)
    elif way == 9:
        inside = [part for part in line.replace(",", " ").split() if part[:1].isdigit()]
        if inside:
            lines[at] = line.replace(rng.choice(inside), rng.choice(_VALUES), 1)
    else:
        lines[at] = line[: rng.randrange(len(line) + 1)]


_NUMBERS = (
    "0", "1", "-1", "2", "1e308", "-1e308", "1.7976931348623157e308", "5e-324", "inf", "nan",
    "9223372036854775807", "-9223372036854775808", "9223372036854775808", "1e19", "0.1", "1e15",
    "-9223372036854775807", "4611686018427387904", "100", "0.5", "1000000", "3", "10", "12",
)  # fmt: skip
_SHARES = ("0", "0.5", "0.999999", "1e-12", "0.0000001", "0.9999999999999999", "1", "-0.1", "nan")
_TEXTS = ('""', '"x"', '"\\u0000"', '"' + "y" * 5000 + '"', '"\u017f"', '"2020-01-01"', '"%d"')
_MOMENTS = (
    "0001-01-01T00:00:00", "9999-12-31T23:59:59", "1970-01-01T00:00:00", "1600-01-01T00:00:00",
    "2024-02-29T00:00:00Z", "1677-09-21T00:12:43", "2262-04-12T00:00:00", "0001-01-01", '"2020"',
)  # fmt: skip
_USUAL = {
    "sequence": {}, "integer": {"low": "0", "high": "10"}, "boolean": {},
    "number": {"low": "0.0", "high": "1.0"}, "constant": {"value": "1"},
    "category": {"count": "5"}, "code": {}, "derived": {"formula": '"id + 1"'},
    "reference": {"to": '"gates.id"'}, "text": {"pattern": '"[A-Z][0-9]{3}"'},
    "timestamp": {"from": "2024-01-01T00:00:00", "until": "2025-01-01T00:00:00"},
    "date": {"from": "2024-01-01", "until": "2025-01-01"},
    "packed": {"slots": '["a", "b", "c"]'}, "words": {},
}  # fmt: skip
_EXTREMES = {
    "needle": ("{ value = 1, at = 0.5 }", '{ value = "x", at = "first" }',
               "{ value = 3, at = 1e-9 }",
               "{ value = 9223372036854775808, at = \"last\" }", '{ value = "", at = "{n}" }',
               "{ value = inf, at = \"middle\" }", "{ value = 2.5, at = 0.999999 }",
               '{ value = true, at = "absent" }'),
    "to": ('"gates.id"', '"gates.lock"', '"t.c0"', '"t.id"', '"gates.wide"', '"gates.few"',),
    "from": _MOMENTS,
    "until": _MOMENTS,
    "formula": ('"id + 1"', '"id * id / 0"', '"9"', '"c0 - id"', '"-id"', '"id +"', '"1e400 * id"',
                '"id * 9223372036854775807 * id"', '"id / id"', '"9223372036854775808 + id"',
                '"' + "-" * 5000 + 'id"', '"id' + " + id" * 5000 + '"', '"id / 0 - id / 0"'),
    "values": ('[""]', '["a", "a"]', '["\\u0000"]', "[]", '["' + "z" * 3000 + '"]'),
    "slots": ('[""]', '["a", "a"]', "[]", '["' + "z" * 3000 + '"]', '["=", ";"]'),
    "spread": ('"normal"', '"lognormal"', '"exponential"'),
    "pattern": ('"x"', '"["', '"[A-"', '"[\\u0000-\uffff]{200}"', '"[0-9]{999}"', '"[Z-A]"',
                '"' + "[0-9]" * 40 + '"', '"[A-Z]{0}"', '"[\\ud7fe-\\ue001]"'),
}  # fmt: skip


def recipes(rng: random.Random) -> Iterator[str]:
    """Comparison files whose recipes have one to three settings at their extremes, without end."""
    from ivrell.core.recipe.kinds import KINDS

    kinds = list(KINDS)
    while True:
        columns = [dict(_USUAL.get(kind, {}), kind=f'"{kind}"') for kind in rng.choices(kinds, k=2)]
        table = {"rows": rng.choice(("0", "1", "2", "1000", "131073", "10000000000"))}
        knob = rng.choice(_NUMBERS) if rng.random() < 0.1 else "5"
        for _ in range(rng.randint(1, 3)):
            where = rng.random()
            if where < 0.15:
                table[rng.choice(("duplicate_share", "malformed_share"))] = rng.choice(_SHARES)
            elif where < 0.3:
                table["order"] = rng.choice(('"shuffled"', '"by c0"', '"by c1"', '"by id"'))
            elif where < 0.35:
                table["rows"] = rng.choice((*_NUMBERS, '"{n}"'))
            else:
                _put_extreme(rng, KINDS, rng.choice(columns))
        yield _file(columns, table, knob)


def _put_extreme(rng: random.Random, kinds: dict, column: dict[str, str]) -> None:
    fields = kinds[column["kind"].strip('"')].model_fields
    setting, field = rng.choice([one for one in fields.items() if one[0] not in ("name", "kind")])
    key, annotation = field.alias or setting, str(field.annotation)
    if key in _EXTREMES:
        column[key] = rng.choice(_EXTREMES[key])
    elif key.endswith("_share"):
        column[key] = rng.choice(_SHARES)
    elif "bool" in annotation and "int" not in annotation:
        column[key] = rng.choice(("true", "false"))
    elif "str" in annotation and "int" not in annotation and "float" not in annotation:
        column[key] = rng.choice(_TEXTS)
    else:
        column[key] = rng.choice(_NUMBERS + (_TEXTS if "str" in annotation else ()))
    if key == "spread":
        for gone in ("low", "high"):
            column.pop(gone, None)
        wanted = {"normal": ("mean", "sd"), "lognormal": ("median", "sigma")}
        for other in wanted.get(column[key].strip('"'), ("mean",)):
            column[other] = rng.choice(_NUMBERS)


def _file(columns: list[dict[str, str]], table: dict[str, str], knob: str) -> str:
    written = [
        "{ "
        + ", ".join(f"{key} = {value}" for key, value in {"name": f'"c{n}"', **one}.items())
        + " },"
        for n, one in enumerate(columns)
    ]
    return "\n".join([
        'format = "ivrell-comparison/1"', 'name = "Extremes"', "[knobs]", f"n = [{knob}]", "[data]",
        "[data.tables.gates]", "rows = 40",
        'columns = [{ name = "id", kind = "sequence" }, '
        '{ name = "lock", kind = "category", count = 5 }, '
        '{ name = "few", kind = "integer", low = 0, high = 60, unique = true }, '
        '{ name = "wide", kind = "integer", low = -9000000000000000000, '
        "high = 9000000000000000000 }]",
        "[data.tables.t]", *(f"{key} = {value}" for key, value in table.items()),
        'columns = [{ name = "id", kind = "sequence" },', *written, "]",
    ])  # fmt: skip


class _TooSlow(BaseException):
    pass


def tried(text: str) -> tuple[str, float, str]:
    """How a text ended ("success", "error", "no place", "trace", "too slow"), seconds of the
    longest of the calls that it took, what it said."""
    from ivrell.core.base.errors import BadInput
    from ivrell.core.comparison import looking
    from ivrell.server.comparisons.models import Comparison, subject

    def late(*_: object) -> None:
        raise _TooSlow

    signal.signal(signal.SIGALRM, late)
    signal.alarm(_GIVEN_UP_S)
    longest = 0.0

    def timed(what: Callable[..., Any], *given: object) -> Any:
        nonlocal longest
        began = time.process_time()
        try:
            return what(*given)
        finally:
            longest = max(longest, time.process_time() - began)

    try:
        timed(Comparison().put_text, text)
        seen = subject(text)
        for table in timed(looking.look, seen).tables:
            timed(looking.some_rows, seen, table.table, 0, 50)
        timed(looking.all_costs, seen, Path("/nowhere"))
        ended, said = "success", ""
    except BadInput as error:
        ended = "error" if error.where or error.hint else "no place"
        said = str(error)
    except _TooSlow:
        ended, said = "too slow", "given up"
    except BaseException:
        ended, said = "trace", traceback.format_exc()
    finally:
        signal.alarm(0)
    return ended, longest, said


def _set_up() -> None:
    import os

    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ivrell.server.settings")
    django.setup()
    tried(next(mutants(random.Random(0))))


def main(count: int = 10_000, recipe_count: int = 2_000, seed: int = 1, keep: str = "") -> int:
    """Try so many mutants and recipes; keep those that did not hold in a folder."""
    mutant, recipe = mutants(random.Random(seed)), recipes(random.Random(seed))
    cases = [("mutant", next(mutant)) for _ in range(count)]
    cases += [("recipe", next(recipe)) for _ in range(recipe_count)]
    ends: Counter[tuple[str, str]] = Counter()
    bad: dict[str, tuple[str, str, int]] = {}
    slowest = {"mutant": 0.0, "recipe": 0.0}
    with get_context("spawn").Pool(2, _set_up) as pool:
        texts = (text for _, text in cases)
        for (what, text), (ended, seconds, said) in zip(
            cases, pool.imap(tried, texts, chunksize=8), strict=True
        ):
            slowest[what] = max(slowest[what], seconds)
            if ended in ("success", "error") and seconds > MOST_S:
                ended, said = "too slow", f"{seconds:.1f} s {said}"
            ends[what, ended] += 1
            if ended not in ("success", "error"):
                mark = "\n".join(said.strip().splitlines()[-3:])[-300:]
                first = bad.get(mark)
                bad[mark] = (first[0], first[1], first[2] + 1) if first else (text, said, 1)
    for (what, ended), number in sorted(ends.items()):
        print(f"{what}: {number:,} {ended}")
    print("slowest: " + ", ".join(f"{what} {seconds:.2f} s" for what, seconds in slowest.items()))
    for number, (text, said, times) in enumerate(bad.values()):
        print(f"--- {number + 1} ({times} times)\n{said[-900:]}")
        if keep:
            (Path(keep) / f"hostile-{number + 1}.toml").write_text(text)
    return 1 if bad else 0


if __name__ == "__main__":
    numbers, folders = sys.argv[1:4], sys.argv[4:5]
    sys.exit(main(*map(int, numbers), *folders))
