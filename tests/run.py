"""Runs the checks and tests of the parts named, and closes with one line that counts them.

python -m tests.run [core] [server] [browser]; without a part, everything.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
PYTHON = sys.executable


class Tally:
    """What passed and what failed so far."""

    def __init__(self) -> None:
        self.passed = 0
        self.failed: list[str] = []

    def check(self, name: str, *command: str, where: Path = ROOT) -> None:
        """One check: a command that succeeds or says what is wrong."""
        began = time.monotonic()
        done = subprocess.run(command, cwd=where, capture_output=True, text=True)
        print(f"{name}: {'ok' if not done.returncode else 'FAILED'}", end="")
        print(f" ({time.monotonic() - began:.0f} s)", flush=True)
        if done.returncode:
            print(done.stdout[-6000:], done.stderr[-6000:])
            self.failed.append(name)
        else:
            self.passed += 1

    def add(self, result: unittest.TestResult) -> None:
        """What a suite did; an expected failure counts as passed, a skipped test as nothing."""
        wrong = result.failures + result.errors
        self.failed += [str(test) for test, _ in wrong]
        self.passed += result.testsRun - len(wrong) - len(result.skipped)


def suite(folder: str) -> unittest.TestSuite:
    return unittest.defaultTestLoader.discover(
        str(ROOT / "tests" / folder), top_level_dir=str(ROOT)
    )


def run_suite(name: str) -> unittest.TestResult:
    print(f"\n{name} tests", flush=True)
    return unittest.TextTestRunner(verbosity=1, stream=sys.stdout).run(suite(name))


def core(tally: Tally) -> None:
    tally.check("ruff check", PYTHON, "-m", "ruff", "check", "src", "tests", "tools")
    tally.check("ruff format", PYTHON, "-m", "ruff", "format", "--check", "src", "tests", "tools")
    tally.check("mypy", PYTHON, "-m", "mypy")
    tally.add(run_suite("core"))


def server(tally: Tally) -> None:
    with_records(tally, _server)


def _server(tally: Tally, folder: Path) -> None:
    os.environ["DJANGO_SETTINGS_MODULE"] = "ivrell.server.settings"
    os.environ["IVRELL_DATA"] = str(folder / "data")
    import django

    django.setup()
    from django.test.runner import DiscoverRunner

    runner = DiscoverRunner(verbosity=0, interactive=False)
    runner.setup_test_environment()
    runner.setup_databases()
    # The database goes with its cluster: a stream of live events may still be listening.
    try:
        tally.add(run_suite("server"))
    finally:
        runner.teardown_test_environment()


def with_records(tally: Tally, work: Callable[[Tally, Path], None]) -> None:
    """Do some work beside a throwaway cluster of records."""
    from ivrell.core.cluster import Cluster

    folder = Path(tempfile.mkdtemp(prefix="ivrell-records-"))
    # PostgreSQL runs as another user when this runs as root, and has to get through here.
    folder.chmod(0o755)
    cluster = Cluster(folder / "records")
    try:
        cluster.start({"fsync": "off", "shared_buffers": "64MB"})
        os.environ.update(cluster.environment("postgres"))
        work(tally, folder)
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


def browser(tally: Tally) -> None:
    web = ROOT / "web"
    tally.check("eslint and prettier", "npm", "run", "--silent", "lint", where=web)
    tally.check("tsc", "npm", "run", "--silent", "types", where=web)
    tally.check("typed client", PYTHON, "-m", "tests.support.client_is_current")
    tally.check("first load of the page", PYTHON, "-m", "tests.support.first_load")
    tally.add(run_suite("browser"))


PARTS = {"core": core, "server": server, "browser": browser}


def main(names: list[str]) -> int:
    unknown = [name for name in names if name not in PARTS]
    if unknown:
        print(f"There is no part {unknown[0]}; parts: {', '.join(PARTS)}.")
        return 2
    tally = Tally()
    for name in names or PARTS:
        PARTS[name](tally)
    if tally.failed:
        print("\nFailed:")
        for name in tally.failed:
            print(f"  {name}")
    print(f"\n{tally.passed} passed, {len(tally.failed)} failed")
    return 1 if tally.failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
