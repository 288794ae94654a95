"""Runs the checks and tests of the parts named, and closes with one line that counts them.

python -m tests.run [core] [server] [browser] [spark]; without a part, everything.
python -m tests.run quick: types, lint, contracts, and core tests that take a few seconds each.

What measures nothing runs side by side, a job a core and one more; tests of figures and of timing
come after it, one by one, so that nothing disturbs them. Each job is a process of its own, whose
output is shown when it ends. Of a few tests that failed each is run once more at the end, with
nothing beside it: machines are noisy. What passes only then is named.
"""

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, cast

ROOT = Path(__file__).resolve().parents[1]
PYTHON = sys.executable
_RESULT = "## result "
_NAMED = re.compile(r"\((tests\.(\w+)\.[\w.]+)\)")
_AGAIN = 6
"""So many failed tests are run once more; where more fail, it was no noise."""

MEASURING = (
    "test_disturbance", "test_engine_figures", "test_fairness", "test_interrupted",
    "test_limits", "test_measure", "test_remote",
)  # fmt: skip
"""Modules of core tests that say how long something took, or kill it at a moment."""

HEAVY = (
    "test_demo", "test_writing", "test_sheets", "test_cli", "test_sql_engines", "test_recipe",
    "test_own_servers", "test_driven_servers", "test_forms", "test_programs", "test_attacks",
    "test_replay", "test_run_users", "test_trial", "test_walls",
)  # fmt: skip
"""Modules of core tests that take long enough to be a job of their own."""


LONG = (
    "test_agreement_evidence", "test_agreement_in_trials", "test_bundles", "test_calls",
    "test_challenge",
    "test_checkup",
    "test_cost", "test_csv_style",
    "test_curve_and_cluster", "test_databases", "test_engines",
    "test_faults", "test_former_folders", "test_gate", "test_hot", "test_kept_files",
    "test_library",
    "test_logs", "test_nested", "test_notebook", "test_own_csv", "test_packaging",
    "test_private_server", "test_python_ways",
    "test_report", "test_runtimes", "test_search", "test_service_walls", "test_sessions",
    "test_small_tables", "test_step_up", "test_tutorial", "test_waits",
)  # fmt: skip
"""Modules of core tests that are too long for every day: real engines, servers and trials."""


@dataclass(frozen=True)
class Job:
    """A check (a command that succeeds or says what is wrong) or some test modules."""

    name: str
    command: tuple[str, ...]
    where: Path = ROOT
    tests: bool = False


@dataclass(frozen=True)
class Outcome:
    """What a job did: how many passed, names of those that failed, what it printed, seconds."""

    job: Job
    passed: int
    failed: list[str]
    printed: str
    seconds: float
    tests: dict[str, float] = field(default_factory=dict)
    """Seconds by test."""


def _check(name: str, *command: str, where: Path = ROOT) -> Job:
    return Job(name, command, where)


def _tests(name: str, part: str, *modules: str) -> Job:
    return Job(name, (PYTHON, "-m", "tests.run", "--job", part, *modules), tests=True)


def do(job: Job) -> Outcome:
    """Run a job to its end."""
    began = time.monotonic()
    done = subprocess.run(
        job.command, cwd=job.where, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL, errors="replace",
    )  # fmt: skip
    seconds = time.monotonic() - began
    if not job.tests:
        failed = [job.name] if done.returncode else []
        return Outcome(job, 1 - len(failed), failed, done.stdout if failed else "", seconds)
    told = [line for line in done.stdout.splitlines() if line.startswith(_RESULT)]
    if not told:
        failed = [f"{job.name}: ended with status {done.returncode} before its tests had"]
        return Outcome(job, 0, failed, done.stdout, seconds)
    found = json.loads(told[-1].removeprefix(_RESULT))
    # Without the line that the result is read from, which is long.
    lines = (line for line in done.stdout.splitlines() if not line.startswith(_RESULT))
    printed = "\n".join(lines) if found["failed"] else ""
    return Outcome(job, found["passed"], found["failed"], printed, seconds, found["seconds"])


def _modules(part: str) -> list[str]:
    return sorted(path.stem for path in (ROOT / "tests" / part).glob("test_*.py"))


def core_jobs() -> tuple[list[Job], list[Job]]:
    """Jobs of the part core: side by side, and alone."""
    modules = _modules("core")
    alone = [name for name in modules if name in MEASURING]
    heavy = [name for name in HEAVY if name in modules]
    others = [name for name in modules if name not in (*alone, *heavy)]
    beside = [_tests(f"core {name}", "core", name) for name in heavy]
    beside += [*python_checks(), *_halves("core others", others)]
    return beside, [_tests(f"core {name}", "core", name) for name in alone]


def quick_jobs() -> tuple[list[Job], list[Job]]:
    """What is worth running before every commit: no server, no browser, few real trials."""
    aside = {*MEASURING, *HEAVY, *LONG}
    modules = [name for name in _modules("core") if name not in aside]
    return [*python_checks(), *page_checks(), *_halves("core quick", modules)], []


def _halves(name: str, modules: list[str]) -> list[Job]:
    return [_tests(f"{name} {half + 1}", "core", *modules[half::2]) for half in (0, 1)]


def python_checks() -> list[Job]:
    """Types, contracts between packages, lint."""
    return [
        _check("mypy", PYTHON, "-m", "mypy"),
        _check("import contracts", str(Path(PYTHON).with_name("lint-imports")), "--no-cache"),
        _check("ruff check", PYTHON, "-m", "ruff", "check", "src", "tests", "tools"),
        _check("ruff format", PYTHON, "-m", "ruff", "format", "--check", "src", "tests", "tools"),
    ]


def page_checks() -> list[Job]:
    """The same of the page."""
    web = ROOT / "web"
    return [
        _check("eslint and prettier", "npm", "run", "--silent", "lint", where=web),
        _check("tsc", "npm", "run", "--silent", "types", where=web),
    ]


def server_jobs() -> tuple[list[Job], list[Job]]:
    """Jobs of the part server: its tests share a throwaway cluster of records."""
    # One of each kind.
    kills = _check("6 kills", PYTHON, "-m", "tests.bench.kills", "6")
    return [_tests("server", "server", *_modules("server")), kills], []


def browser_jobs() -> tuple[list[Job], list[Job]]:
    """Jobs of the part browser."""
    beside = [_tests(f"browser {name}", "browser", name) for name in _modules("browser")]
    beside += [
        *page_checks(),
        _check("typed client", PYTHON, "-m", "tests.support.client_is_current"),
        _check("first load of the page", PYTHON, "-m", "tests.support.first_load"),
    ]
    return beside, []


def spark_jobs() -> tuple[list[Job], list[Job]]:
    """Jobs of the optional part."""
    return [_tests(f"spark {name}", "spark", name) for name in _modules("spark")], []


PARTS = {
    "spark": spark_jobs, "server": server_jobs, "browser": browser_jobs, "core": core_jobs,
}  # fmt: skip
"""In this order the longest jobs come first."""

QUICK = "quick"


def main(names: list[str]) -> int:
    unknown = [name for name in names if name not in PARTS and name != QUICK]
    if unknown:
        print(f"There is no part {unknown[0]}; parts: {', '.join(sorted((*PARTS, QUICK)))}.")
        return 2
    beside: list[Job] = []
    alone: list[Job] = []
    chosen = [PARTS[name] for name in PARTS if name in (names or PARTS)]
    for jobs in [quick_jobs] if names == [QUICK] else chosen:
        first, second = jobs()
        beside, alone = beside + first, alone + second
    outcomes: list[Outcome] = []
    began = time.monotonic()
    # One more than there are cores: each waits now and then for a server, a browser, a clock.
    with ThreadPoolExecutor(len(os.sched_getaffinity(0)) + 1) as workers:
        outcomes += map(_told, workers.map(do, beside))
    outcomes += [_told(do(job)) for job in alone]
    print(f"\nSlowest of all, {time.monotonic() - began:.0f} s:")
    for name, seconds in _slowest(outcomes):
        print(f"  {seconds:4.0f} s  {name}")
    failed = [name for outcome in outcomes for name in outcome.failed]
    failed, noisy = _once_more(failed)
    if noisy:
        print("\nFailed, and passed once more alone:")
        for name in noisy:
            print(f"  {name}")
    if failed:
        print("\nFailed:")
        for name in failed:
            print(f"  {name}")
    passed = sum(outcome.passed for outcome in outcomes) + len(noisy)
    print(f"\n{passed} passed, {len(failed)} failed")
    return 1 if failed else 0


def _once_more(failed: list[str]) -> tuple[list[str], list[str]]:
    """Of names of what failed: those that fail, or are no tests, and those that pass alone."""
    tests = {name: found for name in failed if (found := _NAMED.search(name))}
    if len(tests) < len(failed) or len(set(map(str, tests.values()))) > _AGAIN:
        return failed, []
    passed: dict[str, bool] = {}
    for found in tests.values():
        test, part = found.groups()
        if test not in passed:
            again = _tests(test, part, test.removeprefix(f"tests.{part}."))
            passed[test] = not _told(do(again)).failed
    noisy = [name for name, found in tests.items() if passed[found[1]]]
    return [name for name in failed if name not in noisy], noisy


def _slowest(outcomes: list[Outcome]) -> list[tuple[str, float]]:
    tests = [test for outcome in outcomes for test in outcome.tests.items()]
    return sorted(tests, key=lambda test: -test[1])[:60]


def _told(outcome: Outcome) -> Outcome:
    word = "FAILED" if outcome.failed else "ok"
    count = f"{outcome.passed} passed, " if outcome.job.tests else ""
    if outcome.printed:
        print(f"\n--- {outcome.job.name}\n{outcome.printed[-20_000:]}\n---")
    print(f"{outcome.job.name}: {word} ({count}{outcome.seconds:.0f} s)", flush=True)
    return outcome


def job(part: str, modules: list[str]) -> int:
    """Run some test modules of a part in this process; the last line tells the result."""
    run: Callable[[list[str]], _Timed] = _with_records if part == "server" else _suite
    result = run([f"tests.{part}.{module}" for module in modules])
    wrong = result.failures + result.errors
    failed = [str(test) for test, _ in wrong]
    passed = result.testsRun - len({test for test, _ in wrong}) - len(result.skipped)
    failed += [str(test) for test in getattr(result, "unexpectedSuccesses", [])]
    told = {"passed": max(0, passed), "failed": failed, "seconds": result.seconds}
    print(_RESULT + json.dumps(told), flush=True)
    return 1 if failed else 0


class _Timed(unittest.TextTestResult):
    """Knows how many seconds each test took, the first of a class with what sets the class up."""

    def __init__(self, *args: Any, **more: Any):
        super().__init__(*args, **more)
        self.seconds: dict[str, float] = {}
        self._since = time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        now = time.monotonic()
        # Not test.id(): some classes have an attribute of that name.
        kind = type(test)
        name = f"{kind.__module__}.{kind.__qualname__}.{test._testMethodName}"
        self.seconds[name.removeprefix("tests.")] = now - self._since
        self._since = now


def _suite(modules: list[str]) -> _Timed:
    suite = unittest.defaultTestLoader.loadTestsFromNames(modules)
    runner = unittest.TextTestRunner(verbosity=1, stream=sys.stdout, resultclass=_Timed)
    return cast(_Timed, runner.run(suite))


def _with_records(modules: list[str]) -> _Timed:
    """Tests of the server, beside a throwaway cluster of records."""
    from ivrell.core.servers.postgresql import Cluster

    folder = Path(tempfile.mkdtemp(prefix="ivrell-records-"))
    # PostgreSQL runs as another user when this runs as root, and has to get through here.
    folder.chmod(0o755)
    cluster = Cluster(folder / "records")
    try:
        cluster.start({"fsync": "off", "shared_buffers": "64MB"})
        os.environ.update(cluster.environment("postgres"))
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
            return _suite(modules)
        finally:
            runner.teardown_test_environment()
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    if sys.argv[1:2] == ["--job"]:
        sys.exit(job(sys.argv[2], sys.argv[3:]))
    sys.exit(main(sys.argv[1:]))
