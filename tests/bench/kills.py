"""Kills at random moments: python -m tests.bench.kills [KILLS [SEED [VICTIM...]]] (50 unless
given).

Starts a whole Ivrell, launches one short trial after the other, and kills one of its processes
in each at a random moment: conductor, runner, a run's own process, what looks at answers, web
server, the records' server, the private servers; the conductor also between the start of a private
server and the note of it, and while it searches. Every trial must end by itself with every run
once, one of them at the most not done; at the end nothing may be left. Prints what each kind of
kill did; ends with 1 where something did not hold.
"""

import json
import os
import random
import signal
import sys
import tempfile
import time
import urllib.request
from collections import Counter
from pathlib import Path
from typing import Any

from ivrell.core.base.json_lines import whole_lines
from ivrell.core.base.locks import is_held
from ivrell.core.measure import proc
from ivrell.core.servers.mariadb import server_version
from tests.support.comparisons import COUNTING, HEAD, approach, python_answer
from tests.support.processes import processes_with
from tests.support.running import Running

QUERY = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
TEXT = (
    HEAD
    + approach("loop", COUNTING)
    + approach("slow", python_answer("time.sleep(0.3)"))
    + approach("query", QUERY, "postgres")
)
if server_version():
    TEXT += approach("maria", QUERY, "mariadb")
ROUNDS = 3
PLAN = {"rounds": ROUNDS, "warm_ups": 0, "disturbed": {"repeat": 0, "wait_s": 0}}
SEARCH = PLAN | {
    "rounds": 2, "knobs": {"rows": [200, 2000, 20_000]}, "search": {"within": 0.2, "minutes": 0.5},
}  # fmt: skip
_LANES = TEXT.count("[[approach]]")
_ENDS_S = 150.0
_GONE_S = 15.0


VICTIMS = (
    "conductor", "runner", "run", "web", "records", "private", "answers", "starting", "searching",
    *(("mariadb",) if server_version() else ()),
)  # fmt: skip


class Ivrell:
    """One that runs, its API, and its processes."""

    def __init__(self) -> None:
        self.running = Running()
        link = self.running.start("--no-demo")
        jar = urllib.request.HTTPCookieProcessor()
        self._opener = urllib.request.build_opener(jar)
        self._opener.open(link, timeout=10).read()
        self._cookies = {cookie.name: cookie.value for cookie in jar.cookiejar}

    def call(self, path: str, body: Any = None) -> Any:
        """Ask the API, again and again while it is away."""
        token = next(v for name, v in self._cookies.items() if name.startswith("ivrell_csrf"))
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            f"{self.running.address}/api/{path}", data,
            {"Content-Type": "application/json", "X-CSRFToken": token,
             "Referer": self.running.address},
        )  # fmt: skip
        deadline = time.monotonic() + _ENDS_S
        while True:
            try:
                with self._opener.open(request, timeout=10) as answer:
                    return json.load(answer)
            except urllib.error.HTTPError as error:
                if error.code != 503 or time.monotonic() > deadline:
                    raise
            except OSError:
                if time.monotonic() > deadline:
                    raise
            time.sleep(0.2)

    def _ours(self, mark: str) -> int | None:
        data = str(self.running.data)
        known = set(processes_with(data, environment=True))
        return next((pid for pid in processes_with(mark) if pid in known), None)

    def conductor(self) -> int | None:
        return self._ours("ivrell.server.manage\0work")

    def web(self) -> int | None:
        return self._ours("ivrell.server.asgi")

    def _below(self, mark: str) -> int | None:
        conductor = self.conductor()
        if conductor is None:
            return None
        told = ((pid, proc.read(f"/proc/{pid}/cmdline")) for pid in proc.descendants(conductor))
        found = [pid for pid, line in told if mark in line]
        return found[-1] if found else None

    def runner(self) -> int | None:
        return self._below("run/runner/main.py")

    def run(self) -> int | None:
        return self._below("run/worker/main.py")

    def _server(self, name: str) -> int | None:
        try:
            return int(json.loads((self.running.data / name).read_text())["pid"])
        except (OSError, ValueError, KeyError):
            return None

    def records(self) -> int | None:
        return self._server("records.running")

    def private(self) -> int | None:
        return self._server("loaded/cluster.running")

    def mariadb(self) -> int | None:
        return self._server("loaded/mariadb.running")

    def answers(self) -> int | None:
        return self._below("ivrell.core.run.answers.process")

    def starting(self) -> int | None:
        """The conductor, while a private server has begun and is not noted yet."""
        loaded = self.running.data / "loaded"
        begun = any(
            is_held(loaded / f"{name}.held") and not (loaded / f"{name}.running").exists()
            for name in ("cluster", "mariadb")
        )
        return self.conductor() if begun else None

    def searching(self) -> int | None:
        return self.conductor()


def one(ivrell: Ivrell, comparison: int, rng: random.Random, name: str) -> str:
    """Launch a trial and kill a process in it; what was wrong, or ""."""
    searches = name == "searching"
    plan = SEARCH if searches else PLAN
    trial = ivrell.call(f"comparisons/{comparison}/launch/", plan)["id"]
    if name != "starting":
        time.sleep(rng.uniform(0.3, 5.0))
    find = getattr(ivrell, name)
    victim, deadline = find(), time.monotonic() + 10
    while victim is None and time.monotonic() < deadline:
        victim = find()
        time.sleep(0.002)
    if victim is not None:
        try:
            os.kill(victim, signal.SIGKILL)
        except ProcessLookupError:
            pass
    deadline = time.monotonic() + _ENDS_S
    while (shown := ivrell.call(f"trials/{trial}/"))["state"] in ("waiting", "running"):
        if time.monotonic() > deadline:
            return f"did not end: {shown['state']}\n{ivrell.running.logs()}"
        time.sleep(0.3)
    folder = ivrell.running.data / "trials" / str(trial)
    runs = [run for run in whole_lines(folder / "runs.jsonl") if not run.get("memory_run")]
    numbers = [run["run"] for run in runs]
    undone = [run for run in runs if run["state"] != "done"]
    if shown["state"] != "done":
        return f"ended {shown['state']}: {shown['message']}\n{ivrell.running.logs()}"
    if len(set(numbers)) != len(numbers):
        return f"doubled: {sorted(numbers)}"
    if victim is None:
        print(f"{name}: nobody was there to be killed", flush=True)
    if (not searches and len(numbers) != _LANES * ROUNDS) or len(undone) > 1:
        told = [run["error"] for run in undone]
        return f"{len(numbers)} runs, {len(undone)} not done: {told}"
    if searches:
        # Findings are of one size each.
        return ""
    found = ivrell.call(f"trials/{trial}/findings/")
    there = sorted(run["run"] for lane in found["lanes"] for run in lane["runs"])
    return "" if there == sorted(numbers) else f"records hold {there}"


def left(ivrell: Ivrell) -> list[str]:
    """What is left after a stop, once what ends by itself has ended."""
    data = str(ivrell.running.data)
    deadline = time.monotonic() + _GONE_S
    while True:
        pids = {*processes_with(data, environment=True), *processes_with(data)}
        if not pids or time.monotonic() > deadline:
            break
        time.sleep(0.2)
    found = [f"process {pid}: {proc.read(f'/proc/{pid}/cmdline')[:200]!r}" for pid in sorted(pids)]
    now = {path.name for path in Path(tempfile.gettempdir()).iterdir()}
    return found + sorted(now - {ivrell.running.folder.name})


def main(kills: int = 50, seed: int = 1, *only: str) -> int:
    """Kill so often; those victims alone, where some are named."""
    rng = random.Random(seed)
    ivrell = Ivrell()
    victims = only or VICTIMS
    good: Counter[str] = Counter()
    bad: list[str] = []
    try:
        made = ivrell.call("comparisons/import/", {"text": TEXT})["id"]
        for number in range(kills):
            name = victims[number % len(victims)]
            wrong = one(ivrell, made, rng, name)
            good[name] += not wrong
            if wrong:
                bad.append(f"{name}: {wrong}")
                print(bad[-1], flush=True)
        status = ivrell.running.interrupt()
        if status:
            bad.append(f"the stop ended with {status}")
        if remains := left(ivrell):
            bad.append(f"left behind: {', '.join(remains)}")
            print(bad[-1])
    finally:
        ivrell.running.close()
    for name in victims:
        print(f"{name}: {good[name]} held")
    print(f"{kills} kills, {len(bad)} did not hold")
    return 1 if bad else 0


if __name__ == "__main__":
    # A place of its own for what is temporary: what is left there is nobody else's.
    with tempfile.TemporaryDirectory(prefix="ivrell-kills-", ignore_cleanup_errors=True) as own:
        Path(own).chmod(0o755)
        os.environ["TMPDIR"] = tempfile.tempdir = own
        ended = main(*map(int, sys.argv[1:3]), *sys.argv[3:])
    sys.exit(ended)
