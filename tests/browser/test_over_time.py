"""Trials over time, as a person sees them: an environment made and used, its library upgraded,
since when a lane is slower, then and now, undo, the queue from a terminal."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from selenium.webdriver.common.keys import Keys

from tests.core.test_environments import wheel
from tests.support.axe import violations
from tests.support.browser import Browser
from tests.support.comparisons import HEAD, approach
from tests.support.running import Running
from tests.support.waiting import wait_until

USING = """
    import time

    def answer(data, knobs, stage):
        import sluice
        time.sleep(sluice.PAUSE)
        return [{"gauge": "Ash", "n": 1}]
"""
ALONE = """
    import time

    def answer(data, knobs, stage):
        time.sleep(0.05)
        return [{"gauge": "Ash", "n": 1}]
"""
TEXT = (
    HEAD
    + approach("alone", ALONE, name="By itself")
    + approach("other", ALONE, name="By itself too")
    + approach("using", USING, name="With the library", runtime="gates")
)
PLAN = {"rounds": 3, "warm_ups": 0}
BEFORE, AFTER = 4, 2


class OverTime(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        shelf = tempfile.TemporaryDirectory(prefix="ivrell-shelf-")
        cls.addClassCleanup(shelf.cleanup)
        wheel(Path(shelf.name), "sluice", "1.0", "PAUSE = 0.05")
        wheel(Path(shelf.name), "sluice", "2.0", "PAUSE = 0.25")
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        own = {"PIP_NO_INDEX": "1", "PIP_FIND_LINKS": shelf.name, "PIP_CONFIG_FILE": os.devnull}
        with mock.patch.dict(os.environ, own):
            link = cls.ivrell.start("--no-demo")
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)

    def tearDown(self):
        self.assertEqual([], self.browser.complaints())

    def at(self, path):
        self.browser.open(f"{self.ivrell.address}{path}")

    def words(self, test_id):
        return self.browser.by_id(test_id).text

    def make(self, packages):
        """Make the environment on the page of the machine, and wait for it."""
        self.at("/machine")
        for label, text in (("Name", "gates"), ("Packages", packages)):
            self.browser.find(f'[aria-label="{label} of the environment"]').send_keys(text)
        self.browser.press("make-environment")
        version = packages.split("==")[1]
        self.browser.until(lambda: f"sluice {version}" in self.words("environment-gates"))

    def run_trials(self, comparison, count):
        numbers = []
        for _ in range(count):
            self.assertEqual(201, self.browser.launch(comparison, PLAN))
            newest = f"/api/trials/?comparison={comparison}"
            trial = wait_until(
                lambda at=newest: next(
                    (t for t in self.browser.fetch(at)[:1] if t["state"] not in
                     ("waiting", "running")), None),
                self.ivrell.logs,
            )  # fmt: skip
            self.assertEqual("done", trial["state"])
            numbers.append(trial["id"])
        return numbers

    def ivrell_says(self, *arguments):
        done = subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *arguments, "--data-dir", str(self.ivrell.data)],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(0, done.returncode, done.stderr)
        return done.stdout

    def test_an_upgrade_is_found_told_and_looked_at(self):
        self.make("sluice==1.0")
        _, made = self.browser.send("POST", "/api/comparisons/import/", {"text": TEXT})
        comparison = made["id"]
        self.at(f"/comparisons/{comparison}/history")
        self.assertIn("Each trial that ends stands here", self.words("no-history"))
        before = self.run_trials(comparison, BEFORE)
        self.browser.send("DELETE", "/api/environments/?name=gates", {})
        self.make("sluice==2.0")
        after = self.run_trials(comparison, AFTER)

        # Since when, and what changed then.
        self.at(f"/comparisons/{comparison}/history")
        self.browser.until(lambda: "since trial" in self.words("history-words"))
        words = self.words("history-words")
        self.assertIn("With the library takes ", words)
        self.assertIn(f"since trial {after[0]}", words)
        self.assertIn("sluice in gates 1.0, then 2.0", words)
        self.browser.by_id("turn-using")
        self.assertEqual([], self.browser.all('[data-testid="turn-other"]'))
        self.assertEqual([], violations(self.browser))

        # A name, and one deleted and brought back.
        name = self.browser.find(f'[aria-label="Name of trial {before[0]}"]')
        name.send_keys("Before the gates", Keys.ENTER)
        self.browser.until(
            lambda: self.browser.fetch(f"/api/trials/{before[0]}/")["said"]["name"]
        )  # fmt: skip
        self.browser.click(f'[aria-label="Delete trial {before[1]}"]')
        self.browser.until(
            lambda: not self.browser.all(f'[data-testid="trial-{before[1]}"]')
        )  # fmt: skip
        self.browser.undo()
        self.browser.by_id(f"trial-{before[1]}")

        # Then and now: on the board, as a table, in the pair.
        there = f"/comparisons/{comparison}/findings?trial={after[-1]}&under={before[-1]}"
        self.at(there)
        told = self.words("overlay-words")
        self.assertIn("With the library is", told)
        self.assertIn("slower", told)
        self.assertIn("sluice in gates 1.0, then 2.0", told)
        self.assertTrue(self.browser.all('[data-testid="shadow-using"] circle'))
        self.at(f"{there}&show=change")
        self.browser.until(lambda: "slower" in self.words("then-and-now"))
        self.assertEqual([], violations(self.browser))
        self.at(f"{there}&show=pair&base=alone&lane=using")
        self.assertIn(f"In trial {before[-1]}:", self.words("pair-then"))

        # The queue from a terminal.
        self.assertIn("Under way: nothing", self.ivrell_says("queue"))
        self.browser.launch(comparison, {**PLAN, "rounds": 50})
        number = str(self.browser.fetch(f"/api/trials/?comparison={comparison}")[0]["id"])
        self.assertIn("paus", self.ivrell_says("pause", number))
        wait_until(lambda: "paused" in self.ivrell_says("queue"), self.ivrell.logs)
        self.assertIn("is waiting", self.ivrell_says("continue", number))
        self.browser.send("POST", f"/api/trials/{number}/stop/", {})

    def test_all_are_tried_first_and_an_error_leads_to_its_lane(self):
        broken = ALONE.replace("time.sleep(0.05)", "raise ValueError('no water')")
        text = HEAD + approach("fine", ALONE) + approach("broken", broken, name="Dry")
        _, made = self.browser.send("POST", "/api/comparisons/import/", {"text": text})
        self.at(f"/comparisons/{made['id']}/trial")
        self.browser.press("try-all")
        self.browser.until(lambda: "Dry did not come to its end" in self.words("tried-all"))
        self.assertIn("ValueError: no water", self.words("tried-all"))
        self.assertEqual([], violations(self.browser))
        self.browser.find('[data-testid="tried-all"] a').click()
        self.browser.until(lambda: "lane=broken" in self.browser.driver.current_url)
