"""Two further machines: workers with data folders and names of their own, one killed half-way."""

import os
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.support.axe import violations
from tests.support.browser import Browser
from tests.support.comparisons import HEAD, approach
from tests.support.processes import processes_with
from tests.support.running import Running
from tests.support.waiting import wait_until

SLEEPING = """
    import time

    def answer(data, knobs, stage):
        time.sleep({seconds})
        return [{{"gauge": "Ash", "n": 1}}]
"""
TEXT = (
    HEAD
    + approach("slow", SLEEPING.format(seconds=0.06), name="Slow")
    + approach("quick", SLEEPING.format(seconds=0.02), name="Quick")
)
PLAN = {"rounds": 3, "warm_ups": 0}


class Machines(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start("--no-demo")
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)
        cls.workers = {}
        cls.addClassCleanup(cls.end_all)
        yard = tempfile.TemporaryDirectory(prefix="ivrell-yard-")
        cls.addClassCleanup(yard.cleanup)
        cls.yard = Path(yard.name)
        cls.yard.chmod(0o755)

    @classmethod
    def end_all(cls):
        for name in list(cls.workers):
            cls.kill(name)

    @classmethod
    def join(cls, name, token):
        """Start the worker of a machine, as its engineer would there."""
        data = cls.yard / name
        data.mkdir(mode=0o711, exist_ok=True)
        command = [sys.executable, "-m", "ivrell.cli", "worker", "--join", cls.ivrell.address]
        with (cls.yard / f"{name}.log").open("a") as said:
            cls.workers[name] = subprocess.Popen(
                command, stdout=said, stderr=said, start_new_session=True,
                env={**os.environ, "IVRELL_DATA": str(data), "IVRELL_TOKEN": token},
            )  # fmt: skip

    @classmethod
    def kill(cls, name):
        """As a power cut does: the worker and all that it started."""
        worker = cls.workers.pop(name)
        for process in processes_with(str(cls.yard / name), environment=True):
            try:
                os.kill(process, signal.SIGKILL)
            except ProcessLookupError:
                continue
        worker.kill()
        worker.wait()

    def said(self):
        logs = "".join(path.read_text()[-2000:] for path in self.yard.glob("*.log"))
        return logs + self.ivrell.logs()

    def add(self, name, labels=""):
        """Add a machine on the page; its token."""
        self.browser.open(f"{self.ivrell.address}/machine")
        for label, text in (("Name", name), ("Labels", labels)):
            self.browser.find(f'[aria-label="{label} of the machine"]').send_keys(text)
        self.browser.press("add-machine")
        return self.browser.by_id("token").text

    def trial(self, number):
        return self.browser.fetch(f"/api/trials/{number}/")

    def until_ended(self, number):
        def ended():
            trial = self.trial(number)
            return trial if trial["state"] in ("done", "stopped", "failed") else None

        return wait_until(ended, self.said)

    def launch(self, comparison, on, **plan):
        path = f"/api/comparisons/{comparison}/launch/?on={on}"
        status, made = self.browser.send("POST", path, {**PLAN, **plan})
        self.assertEqual(201, status, made)
        return made["id"]

    def test_the_same_trial_on_all_and_one_machine_killed_half_way(self):
        tokens = {"weir": self.add("weir", "yard"), "quay": self.add("quay")}
        self.assertEqual([], violations(self.browser))
        for name, token in tokens.items():
            self.join(name, token)
        for name in tokens:
            self.browser.until(
                lambda at=name: "cores of" in self.browser.by_id(f"machine-{at}").text
            )  # fmt: skip
        _, made = self.browser.send("POST", "/api/comparisons/import/", {"text": TEXT})
        comparison = made["id"]

        # On all of them, side by side.
        first = self.launch(comparison, "all", disturbed={"share": 1, "wait_s": 0})
        listed = self.browser.fetch(f"/api/trials/?comparison={comparison}")
        self.assertEqual({"", "weir", "quay"}, {one["on"] for one in listed})
        for one in listed:
            trial = self.until_ended(one["id"])
            self.assertEqual("done", trial["state"], trial["message"])
            self.assertEqual(6, trial["done_runs"])
        self.browser.open(
            f"{self.ivrell.address}/comparisons/{comparison}/findings?trial={first}&show=machines"
        )
        told = self.browser.by_id("on-machines").text
        self.assertIn("The order of lanes held on all 3 machines.", told)
        self.assertIn("quay", told)
        self.assertEqual([], violations(self.browser))
        away = next(one["id"] for one in listed if one["on"] == "weir")
        found = self.browser.fetch(f"/api/trials/{away}/findings/")
        self.assertEqual(["quick", "slow"], found["ranking"])
        self.assertTrue(all(lane["agreement"]["agrees"] for lane in found["lanes"]))

        # Killed half-way: it goes on where it was once the machine is back.
        number = self.launch(comparison, "yard", rounds=20, disturbed={"share": 1, "wait_s": 0})
        wait_until(lambda: self.trial(number)["done_runs"] >= 5, self.said)
        self.kill("weir")
        before = self.trial(number)
        self.assertEqual("running", before["state"])
        self.join("weir", tokens["weir"])
        trial = self.until_ended(number)
        self.assertEqual(("done", 40), (trial["state"], trial["done_runs"]), trial["message"])
        kept = self.yard / "weir" / "joined"
        self.assertTrue(list(kept.glob(f"{number}-*/runs.jsonl")))

        # Stop is heard there.
        number = self.launch(comparison, "weir", rounds=500)
        wait_until(lambda: self.trial(number)["done_runs"] >= 1, self.said)
        self.browser.send("POST", f"/api/trials/{number}/stop/", {})
        self.assertEqual("stopped", self.until_ended(number)["state"])
        self.assertEqual([], self.browser.complaints())
