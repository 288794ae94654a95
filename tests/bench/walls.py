"""What the walls cost: python -m tests.bench.walls [TIMES].

Prints medians within one run, taken in turns: how much later a process starts in a run's sandbox
than bare; how much longer a small answer takes through the process that looks at it than in the
conductor itself; what a run's control groups and its user on a private server take; what starting
the private server in its sandbox adds.
"""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

import pyarrow as pa

from ivrell.core.base.folders import data_folder
from ivrell.core.base.temp_dirs import scratch
from ivrell.core.comparison.file import parse
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, Sandbox, give, why_not
from ivrell.core.measure.group import RunGroup
from ivrell.core.recipe.databases.store import DatabaseStore, Loaded
from ivrell.core.run.answers.process import received
from ivrell.core.run.answers.receiver import AnswerReceiver
from ivrell.core.servers.mariadb import server_version
from ivrell.core.servers.postgresql import Cluster
from ivrell.core.tasks.task import ARROW
from tests.support.comparisons import HEAD


def in_turns(times: int, *ways: Callable[[], None]) -> list[float]:
    """Median milliseconds of each way, all of them done once a turn."""
    took: list[list[float]] = [[] for _ in ways]
    for _ in range(times):
        for way, found in zip(ways, took, strict=True):
            began = time.perf_counter()
            way()
            found.append(1000 * (time.perf_counter() - began))
    return [median(found) for found in took]


def starts(times: int) -> None:
    """A process that does nothing, bare and in a sandbox."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        folder.chmod(0o755)
        give(folder)
        bare = [sys.executable, "-I", "-S", "-c", "pass"]
        shut = Sandbox(
            folder, compiled(Filter.RUN), ours=OURS, hidden=(str(data_folder()),)
        ).around(bare)
        environment = scrubbed_environment(folder)

        def run(command: list[str]) -> Callable[[], None]:
            return lambda: subprocess.run(command, env=environment, check=True) and None

        free, walled = in_turns(times, run(bare), run(shut))
    print(f"a process starts and ends: bare {free:.1f} ms, sandboxed {walled:.1f} ms, "
          f"{walled - free:.1f} more")  # fmt: skip


def answers(times: int) -> None:
    """A small answer looked at here, and by the process that does so."""
    table = pa.table(
        {"lock": [f"lock {n}" for n in range(60)], "toll": [n * 1.5 for n in range(60)]}
    )
    with scratch() as runs, AnswerReceiver(runs, 1 << 30, 60, sandboxed=why_not() is None) as desk:
        folder = runs / "1"
        folder.mkdir()
        give(runs)
        desk.wait_until_ready()

        def leave() -> None:
            path = str(folder / ARROW)
            (folder / ARROW).unlink(missing_ok=True)
            with pa.OSFile(path, "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
                writer.write_table(table)
            give(folder)

        def here() -> None:
            leave()
            received(folder, folder / "made", 1 << 30)

        def there() -> None:
            leave()
            desk.take(folder, 1 << 30, lambda: False)

        own, apart = in_turns(times, here, there)
    print(f"a small answer is taken: here {own:.1f} ms, by its process {apart:.1f} ms, "
          f"{apart - own:.1f} more")  # fmt: skip


def servers(times: int) -> None:
    """A server of the records' kind, which is bare, and a private one."""
    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o755)
        clusters = [Cluster(Path(name) / "bare"), Cluster(Path(name) / "walled", private=True)]
        for cluster in clusters:
            cluster.start()
            cluster.stop()

        def again(cluster: Cluster) -> Callable[[], None]:
            def way() -> None:
                cluster.start()
                cluster.stop()

            return way

        bare, walled = in_turns(times, *map(again, clusters))
    print(f"a server starts and stops: bare {bare:.0f} ms, in its sandbox {walled:.0f} ms")


def groups(times: int) -> None:
    """The control groups of a run, made and removed, without and with the one of memory."""

    def made(most_bytes: int | None) -> Callable[[], None]:
        def way() -> None:
            if group := RunGroup.make(f"ivrell-{os.getpid()}-9", 50, most_bytes):
                group.remove()

        return way

    without, with_memory = in_turns(times, made(None), made(1 << 30))
    print(f"control groups come and go: {without:.1f} ms, that of memory too {with_memory:.1f} ms")


def users(times: int) -> None:
    """A run's place on a private server: its user made, let in, and dropped."""
    with tempfile.TemporaryDirectory() as name, scratch() as folder:
        Path(name).chmod(0o755)
        store = DatabaseStore(Path(name) / "loaded")
        recipe = parse(HEAD).data.resolved({"rows": 300})
        try:
            for engine in ("postgres", *(("mariadb",) if server_version() else ())):
                loaded = store.ensure(recipe, engine)

                def way(engine: str = engine, loaded: Loaded = loaded) -> None:
                    place = store.for_run(loaded, 1, folder, False, "warm")
                    store.after_run(loaded, place, False)

                way()
                [took] = in_turns(times, way)
                print(f"a run's place on {engine}, its user made and dropped: {took:.1f} ms")
        finally:
            store.stop()


def main(times: int = 40) -> None:
    """Print all of it."""
    print(f"sandboxes here: {why_not() or 'they work'}")
    starts(times)
    answers(times)
    groups(times)
    users(times)
    servers(max(3, times // 4))


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
