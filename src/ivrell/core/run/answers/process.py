"""The process that looks at what runs hand over: ``python -m ivrell.core.run.answers.process``.

What a run left is a stranger's. This process opens it, follows its offsets and works its values
out before the conductor touches it: whatever that does to it, it does to this process alone, which
has a sandbox and limits of its own. Reads a line of JSON for each answer and writes one back.
"""

import json
import os
import resource
import stat
import sys
from pathlib import Path
from typing import Any

import pyarrow as pa

from ivrell.core.agreement.canonical import canonical, fingerprint
from ivrell.core.engines.plain import PLAIN, read_plain
from ivrell.core.tasks.task import ARROW

MOST_COLUMNS = 10_000
"""Of an answer: each is held against another lane's by itself."""


def received(folder: Path, made: Path, most_bytes: int) -> dict[str, Any]:
    """Look at the answer in a run's folder.

    Args:
        folder: where the run left it, as Arrow or as plain values.
        made: where it is to be written as Arrow when it came as plain values.
        most_bytes: the most that it may take.

    Returns whether it was ``made`` there, ``fingerprint`` and ``rows``. Only a regular file that is
    no link counts; its offsets are looked at before anything follows them. Raises ValueError
    where it is none of that, OSError where there is nothing, ArrowException where it cannot be
    read.
    """
    path, plain = folder / ARROW, folder / PLAIN
    if not os.path.lexists(path):
        _check(plain, most_bytes)
        table = read_plain(plain)
        _check_columns(table)
        with pa.OSFile(str(made), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
            writer.write_table(table)
        written = True
    else:
        written = False
        _check(path, most_bytes)
        with pa.memory_map(str(path)) as source:
            table = pa.ipc.open_file(source).read_all()
        _check_columns(table)
        table.validate(full=True)
    found = fingerprint(canonical(table))
    return {"made": written, "fingerprint": found, "rows": table.num_rows}


def _check_columns(table: pa.Table) -> None:
    if table.num_columns > MOST_COLUMNS:
        raise ValueError(
            f"the answer has {table.num_columns:,} columns, of {MOST_COLUMNS:,} at the most"
        )


def _check(path: Path, most_bytes: int) -> None:
    state = os.lstat(path)
    if not stat.S_ISREG(state.st_mode) or state.st_nlink != 1:
        raise ValueError("what was handed over is no plain file")
    if state.st_size > most_bytes:
        raise ValueError(f"the answer takes more than {most_bytes:,} bytes")


def main(memory_bytes: int) -> None:
    """Answer until standard input closes; ``memory_bytes`` is the most that it may hold."""
    resource.setrlimit(resource.RLIMIT_DATA, (memory_bytes, memory_bytes))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    out = sys.stdout
    # What libraries print would stand among the answers.
    sys.stdout = sys.stderr
    # The first look loads what every later one needs.
    fingerprint(canonical(pa.table({"ready": pa.array(["yes", None])})))
    print(json.dumps({"ready": True}), file=out, flush=True)
    for line in sys.stdin:
        asked = json.loads(line)
        try:
            told = received(Path(asked["folder"]), Path(asked["made"]), asked["most_bytes"])
        except MemoryError:
            told = {"wrong": f"it takes more than {memory_bytes:,} bytes of memory to read"}
        except (pa.ArrowException, ValueError, TypeError, OSError, RecursionError) as error:
            told = {"wrong": str(error)}
        print(json.dumps(told), file=out, flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]))
