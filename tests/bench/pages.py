"""How long the page waits for what it shows: python -m tests.bench.pages

A trial of twenty lanes at forty sizes with ten rounds, brought into the records from its folder,
and a hundred comparisons with three trials each. Each address is asked for by a session that is
signed in, medians of seven after a first; beside each, in turns, one that only tells what runs now.
"""

import os
import statistics
import time
import urllib.request
from contextlib import closing
from http.cookiejar import CookieJar
from pathlib import Path

import numpy as np

from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import FINDINGS_EDITION, TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.report.sweep.findings import sweeps
from ivrell.core.results.folder import (
    COMPARISON,
    DATA,
    FINDINGS,
    MACHINE,
    PLAN,
    SWEEP,
    ResultFolder,
)
from ivrell.core.trial.plan import Plan
from tests.core.test_findings import AGREES, run
from tests.support.comparisons import HEAD, approach, python_answer
from tests.support.running import Running

LANES, SIZES, ROUNDS, COMPARISONS, TRIALS, TIMES = 20, 40, 10, 100, 3, 7


def large_trial(folder: Path, lanes: int = LANES, sizes: int = SIZES, rounds: int = ROUNDS) -> None:
    """Write the folder of a trial that nobody ran."""
    text = HEAD + "".join(
        approach(f"lane_{n}", python_answer("pass"), name=f"Totals by way number {n}")
        for n in range(lanes)
    )
    comparison = parse(text)
    rng = np.random.default_rng(1)
    rows = np.unique(np.logspace(2, 6, sizes).round().astype(int)).tolist()
    runs = []
    for size in rows:
        for lane in range(lanes):
            for number in range(1, rounds + 1):
                took = (0.01 * lane + 1e-6 * size * (1 + lane / 20)) * rng.lognormal(0, 0.05)
                runs.append(run(len(runs) + 1, f"lane_{lane}", number, float(took),
                                point={"rows": size}))  # fmt: skip
    results = ResultFolder(folder)
    results.make()
    plan = Plan(rounds=rounds, knobs={"rows": rows})
    results.write(COMPARISON, text)
    results.keep(PLAN, plan)
    results.keep(MACHINE, Machine())
    results.keep(DATA, [])
    with results.adding_runs() as add:
        for one in runs:
            add(one)
    points: list[Point] = [{"rows": size} for size in rows]
    agreed = {lane.id: AGREES for lane in comparison.approach}
    told = [findings(comparison, RunSet.of(runs, Machine()), agreed, point) for point in points]
    results.keep(SWEEP, sweeps(comparison, RunSet.of(runs, Machine()), told, named=points))
    results.keep(FINDINGS, TrialFindings(edition=FINDINGS_EDITION, ended="done", points=told))


class _Asking:
    def __init__(self, ivrell: Running, link: str) -> None:
        self._at = ivrell.address
        cookies = urllib.request.HTTPCookieProcessor(CookieJar())
        self._opener = urllib.request.build_opener(cookies)
        self._opener.open(link, timeout=60).read()

    def took(self, path: str) -> tuple[float, int]:
        """Seconds until an answer is there, and its bytes."""
        began = time.perf_counter()
        with self._opener.open(f"{self._at}{path}", timeout=300) as answer:
            size = len(answer.read())
        return time.perf_counter() - began, size


def main() -> None:
    """Print medians."""
    with closing(Running()) as ivrell:
        for number in range(1, COMPARISONS * TRIALS + 1):
            folder = ivrell.data / "trials" / str(number)
            if number == 1:
                large_trial(folder)
            else:
                large_trial(folder, lanes=6, sizes=2, rounds=2)
                text = (folder / COMPARISON).read_text()
                name = f"Comparison number {number % COMPARISONS}"
                (folder / COMPARISON).write_text(
                    text.replace('name = "Gauge readings"', f'name = "{name}"')
                )
        began = time.monotonic()
        asking = _Asking(ivrell, ivrell.start("--no-demo", "--rebuild-records"))
        print(f"records made anew and started in {time.monotonic() - began:.1f} s")
        paths = {
            "findings at the first size": "/api/trials/1/findings/",
            "findings at the last size": "/api/trials/1/findings/?point=%7B%22rows%22:1000000%7D",
            "sweep": "/api/trials/1/sweep/",
            "trial": "/api/trials/1/",
            "its events": "/api/trials/1/events/",
            "list of comparisons": "/api/comparisons/",
        }
        took: dict[str, list[float]] = {name: [] for name in paths}
        sizes, beside = {}, []
        for turn in range(TIMES + 1):
            for name, path in paths.items():
                seconds, sizes[name] = asking.took(path)
                if turn:
                    took[name].append(seconds)
                    beside.append(asking.took("/api/now/")[0])
        usual = statistics.median(beside)
        for name, times in took.items():
            middle = statistics.median(times)
            print(
                f"{name}: {middle * 1000:.0f} ms, {middle / usual:.0f} times what runs now, "
                f"{sizes[name] / 1000:.0f} kB"
            )
        print(f"what runs now: {usual * 1000:.1f} ms; {os.cpu_count()} cores")


if __name__ == "__main__":
    main()
