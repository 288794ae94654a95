"""Sweeps on the page: a search along one knob, a map over two, small drawings, exports, keys."""

import json
import time
import unittest
from urllib.parse import unquote

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

from tests.support.axe import violations
from tests.support.browser import Browser
from tests.support.comparisons import HEAD, approach, python_answer
from tests.support.running import Running
from tests.support.waiting import wait_until

# Nothing but waiting, so that who leads where is known: steep passes flat at 300 rows, at any
# width; far never leads.
TEXT = (
    HEAD.replace("rows = [300]", "rows = [20, 2_000]\nwidth = [1, 2]").replace(
        "[data]", '[[plan]]\nname = "where the lead changes"\nrounds = 3\nwarm_ups = 0\n'
        'approaches = ["steep", "flat"]\nknobs = { rows = [20, 2_000] }\n'
        "search = { within = 0.12, minutes = 2 }\n\n[data]", 1)
    + approach("steep", python_answer("time.sleep(0.0002 * knobs.rows)"), name="Rises steeply")
    + approach("flat", python_answer("time.sleep(0.06)"), name="Always the same")
    + approach("far", python_answer("time.sleep(0.1 * knobs.width + 0.0003 * knobs.rows)"))
)  # fmt: skip


class Sweeps(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start("--no-demo")
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)
        _, made = cls.browser.send("POST", "/api/comparisons/import/", {"text": TEXT})
        cls.id = made["id"]
        plan = {"rounds": 2, "warm_ups": 0, "knobs": {"rows": [20, 400, 2000], "width": [1, 2]}}
        cls.grid = cls.launched(plan)

    @classmethod
    def launched(cls, plan):
        """The id of a trial that was launched by a plan and has ended."""
        assert cls.browser.launch(cls.id, plan) == 201
        return cls.ended()

    @classmethod
    def ended(cls):
        def newest():
            trial = cls.browser.fetch(f"/api/trials/?comparison={cls.id}")[0]
            return trial["id"] if trial["state"] == "done" else None

        return wait_until(newest, cls.ivrell.logs)

    def setUp(self):
        self.browser.driver.execute_script("localStorage.clear()")

    def tearDown(self):
        self.assertEqual(self.browser.complaints(), [])

    def at(self, rest):
        self.browser.open(f"{self.ivrell.address}/comparisons/{self.id}/sweep?{rest}")

    def choose(self, label, words):
        """Choose by its words in a list of the sentence."""
        b = self.browser
        b.find(f'input[aria-label="{label}"]').send_keys(Keys.ENTER)
        b.until(lambda: [e for e in b.all(".ant-select-item-option") if e.text == words])[0].click()

    def test_a_search_by_a_plan_kept_with_the_comparison(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/comparisons/{self.id}/trial")
        b.click(".kept-plans button")
        b.until(lambda: "new ones where the lead changes" in b.find(".sentence").text)
        self.assertIn("known within", b.find(".sentence").text)
        before = len(b.fetch(f"/api/trials/?comparison={self.id}"))
        b.press("launch")
        b.until(lambda: len(b.fetch(f"/api/trials/?comparison={self.id}")) > before)
        trial = self.ended()
        self.at(f"trial={trial}")
        words = b.by_id("sweep-words").text
        self.assertIn("Rises steeply is the quickest", words)
        self.assertRegex(words, r"below (2[7-9]0|3[0-3]0)")
        self.assertRegex(b.by_id("spent").text, r"The search added \d+ sizes? \(")
        crossing = b.by_id("crossing").text.strip()
        self.assertRegex(crossing, r"2[7-9]0|3[0-3]0")
        self.assertTrue(b.all('[data-testid="runs"]'))
        self.assertTrue(b.all('[data-testid="ahead"]'))
        self.assertIn("extrapolated", b.by_id("growths").text)
        # The lanes that did not run were ticked off by the plan.
        self.assertFalse(b.all('[data-testid="sweep-far"]'))
        self.assertEqual(violations(b), [])

        # A lane: its law, its runs about it; the axes; all in the address.
        b.click('[data-testid="growths"] button')
        b.until(lambda: b.all('[data-testid="residuals"] path'))
        self.assertTrue(b.all('[data-testid="law"] path'))
        self.choose("Axis of the measure", "linear")
        b.until(lambda: "axes=log%2Clinear" in b.driver.current_url)
        b.find(".sweep-axes input[type=checkbox]").click()
        b.until(lambda: not b.all('[data-testid="ahead"]'))
        b.driver.refresh()
        b.find('[data-testid="residuals"]')
        self.assertFalse(b.all('[data-testid="ahead"]'))

        # By keys: Tab reaches a lane, arrows its sizes, Enter the findings there.
        lane = b.find('[data-testid="sweep-flat"]')
        b.driver.execute_script("arguments[0].focus()", lane)
        self.assertIn("rows 20:", lane.get_attribute("aria-label"))
        lane.send_keys(Keys.ARROW_RIGHT)
        b.until(lambda: "rows 20:" not in lane.get_attribute("aria-label"))
        lane.send_keys(Keys.ENTER)
        b.until(lambda: "/findings" in b.driver.current_url)
        self.assertNotIn('"rows":20}', unquote(b.driver.current_url))

    def saved(self, words):
        """What a button of a drawing gives to be saved: its name, its type, its size, its text."""
        b = self.browser
        b.driver.execute_script(
            "window.given = [];"
            "const made = URL.createObjectURL;"
            "URL.createObjectURL = (file) => { window.file = file; return made(file); };"
            "HTMLAnchorElement.prototype.click = function () {"
            "  const file = window.file;"
            "  file.text().then(t => window.given.push([this.download, file.type, file.size, t]));"
            "};"
        )
        next(e for e in b.all("figcaption button, .conclusion button") if e.text == words).click()
        return WebDriverWait(b.driver, 10).until(
            lambda driver: (driver.execute_script("return window.given") or [None])[0]
        )

    def test_pictures_figures_and_rules_as_files(self):
        b = self.browser
        self.at(f'trial={self.grid}&at=[["width",1]]')
        b.by_id("sweep-plot")
        name, kind, size, _ = self.saved("PNG")
        self.assertEqual(
            (name, kind), ("elapsed-time-of-each-lane-over-rows-width-1.png", "image/png")
        )
        self.assertGreater(size, 5_000)
        self.assertIn("<svg", self.saved("SVG")[3])
        rows = self.saved("CSV")[3].splitlines()
        self.assertEqual(rows[0], "lane,rows,elapsed time,at least,at most,runs")
        self.assertEqual(len(rows), 1 + 3 * 3)
        rule = json.loads(self.saved("as JSON")[3])
        self.assertEqual((rule["knob"], rule["at"]), ("rows", {"width": 1}))
        self.assertEqual([one["lane"] for one in rule["rule"]], ["steep", "flat"])
        text = self.saved("Rule as text")[3]
        self.assertRegex(
            text, r"rows below [\d,]+: Rises steeply\nrows from [\d,]+: Always the same"
        )

    def test_two_knobs_are_small_drawings_or_a_map(self):
        b = self.browser
        self.at(f"trial={self.grid}")
        b.until(lambda: len(b.all('[data-testid="sweep-plot"]')) == 2)
        self.assertEqual([e.text for e in b.all(".panel-title")], ["width 1", "width 2"])
        self.choose("Knob across", "by width, as a map")
        b.until(lambda: len(b.all(".map-cell")) == 6)
        self.assertIn("across=width", b.driver.current_url)
        cells = b.all(".map-cell")
        won = {e.get_attribute("data-cell"): e.get_attribute("data-lane") for e in cells}
        rows = ["steep", "flat", "flat"]
        self.assertEqual(won, {f"{x} {y}": rows[x] for x in range(3) for y in range(2)})
        first = b.find('[data-cell="0 0"]')
        self.assertEqual(first.get_attribute("data-sure"), "true")
        told = r"rows 20, width 1: Rises steeply, .*× less than Always the same"
        self.assertRegex(first.get_attribute("aria-label"), told)
        self.choose("First lane of the ratio", "Rises steeply")
        b.until(lambda: b.all('[data-testid="iso-lines"] [data-ratio="1"]'))
        for theme in ("light", "dark"):
            b.driver.execute_script("localStorage.setItem('ivrell-theme', arguments[0])", theme)
            self.addCleanup(b.driver.execute_script, "localStorage.removeItem('ivrell-theme')")
            b.driver.refresh()
            b.find(".map-cell")
            time.sleep(0.4)
            self.assertEqual(violations(b), [])
        first = b.find('[data-cell="0 0"]')
        b.driver.execute_script("arguments[0].focus()", first)
        first.send_keys(Keys.ARROW_RIGHT)
        second = b.find('[data-cell="1 0"]')
        b.until(lambda: b.driver.switch_to.active_element == second)
        second.send_keys(Keys.ENTER)
        b.until(lambda: '"rows":400' in unquote(b.driver.current_url))


if __name__ == "__main__":
    unittest.main()
