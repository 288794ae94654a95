"""Waits have an end and hear Stop; a look through our own code finds those that would not."""

import ast
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core.base.errors import Stopped
from ivrell.core.base.waits import done_aside, end, first_line, never
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.servers.mariadb import server_version
from tests.support.comparisons import HEAD, TrialCase, approach

SOURCES = Path(__file__).resolve().parents[2] / "src" / "ivrell"
WITHIN_A_RUN = (
    # What runs in a run's own process, or below it, is ended from outside with the run.
    "core/engines", "core/tasks", "core/run/worker/main.py", "core/service/client.py",
    "core/service/stand_in.py", "core/spark/keeper.py", "core/spark/session.py",
    "core/agreement/in_cluster.py",
)  # fmt: skip
WITH_A_REASON = {
    "cli/sharing.py: readline": "a person answers at a terminal, or ends it by Ctrl-C",
    "core/environments.py: wait": "for a group that was killed",
    "core/environments.py: read": "of a pipe that gives what there is",
    "core/recipe/flush.py: join": "a thread of ours that hands over what was written",
    "core/recipe/encode.py: result": "a process of the pool: its end is heard as an error",
    "core/recipe/databases/postgres.py: result": "a thread of ours that draws a block",
    "core/recipe/profile.py: result": "asked once it is done",
    "core/run/runner/spawn.py: join": "a control group is joined, nobody is waited for",
    "server/trials/live.py: wait": "within asyncio's wait_for, which has a timeout",
    "server/previews.py: result": "the pool has a timeout for what it does",
    "server/previews.py: join": "the pool was stopped, which kills its processes",
}
UNBOUNDED = ("wait", "join", "result", "communicate", "readline", "acquire")
"""Calls that wait for ever where they are given no argument."""

STARTERS, PIPES = ("subprocess", "urllib.request"), ("stdout", "stderr", "stdin")
STARTING = ("run", "check_output", "check_call", "call", "urlopen")


def bare_waits(path):
    """Calls of a module that could wait for ever, by line."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            given = {word.arg for word in node.keywords}
            owner, name = ast.unparse(node.func.value), node.func.attr
            if any(
                (
                    name in UNBOUNDED and not node.args and "timeout" not in given,
                    name in STARTING and owner in STARTERS and "timeout" not in given,
                    name == "select" and owner == "select" and len(node.args) < 4,
                    name == "read" and not node.args and owner.endswith(PIPES),
                )
            ):
                yield node.lineno, name


NUMBERS = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT max(i) FROM n"
ENDLESS = {
    "sqlite": NUMBERS,
    "duckdb": "SELECT count(*) FROM range(10000000) a, range(10000000) b WHERE hash(a, b) = 7",
    "postgres": "SELECT pg_sleep(60)",
}
if server_version():
    ENDLESS["mariadb"] = "DO sleep(60)"


class OurOwn(unittest.TestCase):
    def test_no_wait_is_without_an_end(self):
        found = set()
        for path in SOURCES.rglob("*.py"):
            name = str(path.relative_to(SOURCES))
            if name.startswith(WITHIN_A_RUN):
                continue
            for line, call in bare_waits(path):
                with self.subTest(place=f"{name}:{line}"):
                    self.assertIn(f"{name}: {call}", WITH_A_REASON, "say for how long")
                    found.add(f"{name}: {call}")
        self.assertEqual(found, set(WITH_A_REASON), "a reason that nothing needs any more")

    def test_no_clock_that_can_be_set_measures_or_decides_anything(self):
        told_alone = {"bundles/pack.py", "trial/reporting.py", "machine.py", "trial/aa_test.py"}
        found = set()
        for path in (SOURCES / "core").rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Call) and ast.unparse(node.func).endswith(
                    ("time.time", "time.time_ns", ".now", ".utcnow", "localtime", "gmtime")
                ) and not ast.unparse(node.func).startswith(
                    ("HostConstraints", "cls")
                ):  # fmt: skip
                    found.add(str(path.relative_to(SOURCES / "core")))
        self.assertEqual(found, told_alone)


def child(code):
    return subprocess.Popen([sys.executable, "-u", "-c", code], stdout=subprocess.PIPE)


def names(home):
    """Databases of a private server."""
    if hasattr(home, "_asking"):
        with home._asking() as ask:
            return [row[0] for row in ask("SHOW DATABASES")]
    return home._server.databases()


class Waits(unittest.TestCase):
    def said(self, code, seconds=5.0, wanted_stop=never):
        process = child(code)
        self.addCleanup(process.stdout.close)
        self.addCleanup(end, process)
        return first_line(process.stdout, seconds, "it", wanted_stop)

    def test_a_line_comes_whole_or_not_at_all(self):
        self.assertEqual(
            self.said("import time; print('a', end=''); time.sleep(0.3); print('b'); print('c')"),
            b"ab",
        )
        self.assertEqual(self.said("print('no end', end='')"), b"no end")
        self.assertIsNone(self.said("print('x', end=''); import time; time.sleep(9)", 0.5))

    def test_whoever_waits_hears_stop(self):
        began = time.monotonic()
        with self.assertRaises(Stopped):
            self.said("import time; time.sleep(9)", 9, lambda: time.monotonic() > began + 0.3)
        self.assertLess(time.monotonic() - began, 3)

    def test_what_does_not_end_is_killed(self):
        process = child("import signal, time; signal.signal(15, signal.SIG_IGN); time.sleep(9)")
        process.stdout.close()
        end(process, 0.2)
        self.assertEqual(process.returncode, -9)

    def test_what_blocks_aside_is_interrupted(self):
        stop, waiting = threading.Event(), threading.Event()

        def act():
            waiting.set()
            if stop.wait(20):
                raise ValueError("the library's own error")

        with self.assertRaises(Stopped):
            done_aside(act, "it", waiting.is_set, stop.set)
        self.assertEqual(done_aside(lambda: 7, "it", never, stop.set), 7)
        with self.assertRaises(ZeroDivisionError):
            done_aside(lambda: 1 / 0, "it", never, stop.set)


class Real(TrialCase):
    def test_a_service_whose_rule_never_speaks_does_not_keep_the_conductor(self):
        for rule in ("while True:\n    pass", "import sys, time\nsys.stdout.write('x')\n"
                     "sys.stdout.flush()\ntime.sleep(60)"):  # fmt: skip
            text = HEAD + approach("a", "def answer(data, knobs, stage, service): pass", "remote")
            text += f'[approach.service]\nrule = """\n{rule}\n"""\n'
            with self.subTest(rule):
                trial = self.trial(text, name=f"t{len(rule)}")
                began = time.monotonic()
                trial.control.stop_all = lambda: time.monotonic() > began + 1.5  # noqa: B023
                self.assertEqual(trial.conduct().ended, "stopped")
                self.assertLess(time.monotonic() - began, 13)

    def test_a_copy_of_tables_that_is_being_made_hears_stop(self):
        store = DatabaseStore(self.folder / "copied")
        self.folder.chmod(0o755)
        self.addCleanup(store.stop)
        trial = self.trial(HEAD + approach("a", "SELECT 1 AS gauge, 2 AS n", "sqlite"))
        recipe = trial.comparison.data.resolved({"rows": 300})
        for engine in ("postgres", *(("mariadb",) if server_version() else ())):
            loaded = store.ensure(recipe, engine)
            home = store._home(engine)
            before = len(names(home))
            with self.subTest(engine):
                with self.assertRaises(Stopped):
                    store.for_run(loaded, 1, self.folder, True, "warm", lambda: True)
                place = store.for_run(loaded, 2, self.folder, True, "warm")
                store.after_run(loaded, place, True)
                self.assertLessEqual(len(names(home)), before + 1)

    def test_an_index_that_is_being_made_hears_stop(self):
        store = DatabaseStore(self.folder / "loaded")
        self.folder.chmod(0o755)
        trial = self.trial(HEAD + approach("a", "SELECT 1 AS gauge, 2 AS n", "sqlite"))
        recipe = trial.comparison.data.resolved({"rows": 300})
        self.addCleanup(store.stop)
        for engine, statement in ENDLESS.items():
            making = threading.Event()

            def endless(loader, *_, statement=statement, making=making):
                making.set()
                loader.execute(statement)

            with (
                self.subTest(engine),
                mock.patch.object(DATABASES[engine], "add_index", endless),
                self.assertRaises(Stopped),
            ):
                began = time.monotonic()
                store.ensure(recipe, engine, indexes=["readings(reading)"], stopped=making.is_set)
            self.assertLess(time.monotonic() - began, 20)
        self.assertEqual(store.kept(), [])


if __name__ == "__main__":
    unittest.main()
