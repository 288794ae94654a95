"""Findings in full: chosen columns, scatter, steps, pair, notes, claims, keys."""

import time
import unittest
from urllib.parse import unquote

from selenium.webdriver.common.keys import Keys

from tests.support.axe import violations
from tests.support.browser import Browser
from tests.support.comparisons import HEAD, approach
from tests.support.running import Running
from tests.support.waiting import wait_until

SLOW = """
    def answer(data, knobs, stage):
        total = 0
        with stage("sum"):
            for number in range(1_200_000):
                total += number % 7
        return [{"gauge": "Ash", "n": 1}]
"""
QUICK = SLOW.replace("1_200_000", "50_000")
ODD = QUICK.replace('"n": 1', '"n": 2')
TEXT = (
    HEAD
    + approach("slow", SLOW, name="Long way round")
    + approach("quick", QUICK, name="Short cut", parent="slow")
    + approach("odd", ODD, name="Wrong turning", parent="quick")
)


class Views(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start()
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)
        _, made = cls.browser.send("POST", "/api/comparisons/import/", {"text": TEXT})
        cls.id = made["id"]
        cls.demo = {line["demo"]: line["id"] for line in cls.browser.fetch("/api/comparisons/")}
        plans = {
            cls.id: {"rounds": 3, "warm_ups": 0},
            cls.demo["post-tolls"]: {"rounds": 2, "warm_ups": 0, "knobs": {"rows": [1000]}},
            cls.demo["draught-rule"]: {
                "rounds": 3, "warm_ups": 0, "lanes": ["loop", "volatile", "inlined"],
            },
        }  # fmt: skip
        for comparison, plan in plans.items():
            assert cls.browser.launch(comparison, plan) == 201
        for comparison in plans:
            cls.ended(comparison)

    @classmethod
    def ended(cls, comparison):
        """Wait until the newest trial of a comparison has ended."""

        def newest():
            trial = cls.browser.fetch(f"/api/trials/?comparison={comparison}")[0]
            return trial if trial["state"] in ("done", "stopped", "failed") else None

        return wait_until(newest, cls.ivrell.logs)

    def tearDown(self):
        self.assertEqual(self.browser.complaints(), [])

    def at(self, comparison, rest=""):
        self.browser.open(f"{self.ivrell.address}/comparisons/{comparison}/findings{rest}")

    def named(self, selector, words):
        """The element with these words, once it is there."""
        found = self.browser.until(
            lambda: [e for e in self.browser.all(selector) if e.text == words]
        )
        return found[0]

    def heads(self):
        keys = [e.get_attribute("data-testid") for e in self.browser.all(".heads [data-testid]")]
        return [key.removeprefix("head-") for key in keys]

    def test_columns_are_chosen_ordered_widened_and_kept(self):
        b = self.browser
        self.at(self.id)
        usual = ["elapsed", "ratio", "cpu_total", "peak_memory", "stages", "code_lines", "answer"]
        b.until(lambda: self.heads() == usual)
        b.press("columns")
        b.click('button[aria-label="Without stages"]')
        b.click('button[aria-label="answer further left"]')
        field = b.find('input[aria-label="Add a column"]')
        field.send_keys("context", Keys.ENTER)
        wanted = ["elapsed", "ratio", "cpu_total", "peak_memory", "answer", "code_lines",
                  "context_switches"]  # fmt: skip
        b.until(lambda: self.heads() == wanted)
        b.click('[data-testid="column-peak_memory"] .ant-segmented-item:last-child')
        b.click(".ant-drawer-close")
        edge = b.find('[data-testid="head-context_switches"] .edge')
        before = b.by_id("head-context_switches").size["width"]
        edge.send_keys(Keys.ARROW_RIGHT * 3)
        b.until(lambda: b.by_id("head-context_switches").size["width"] >= before + 30)
        self.assertIn("peak_memory~~log", unquote(b.driver.current_url))
        self.assertRegex(unquote(b.driver.current_url), r"context_switches~1[34]\d")
        # Kept with the comparison: an address without columns shows them too.
        self.at(self.id)
        b.until(lambda: self.heads() == wanted)
        # A link to others wins, and one that names none that there is does no harm.
        self.at(self.id, "?cols=elapsed,code_lines~90,nothing")
        b.until(lambda: self.heads() == ["elapsed", "code_lines"])
        self.at(self.id)
        b.press("columns")
        self.named(".chooser button", "The usual columns").click()
        b.until(lambda: self.heads() == usual)
        self.at(self.id)
        b.until(lambda: self.heads() == usual)

    def test_post_tolls_reads_as_steps_with_log_writes_as_a_column(self):
        b, tolls = self.browser, self.demo["post-tolls"]
        counters = [
            row["key"] for row in b.fetch(
                f"/api/trials/{self.ended(tolls)['id']}/findings/")["measures"]
            if row["key"].startswith("counter.")
        ]  # fmt: skip
        self.assertIn("counter.commits", counters)
        log = "counter.log flushes"
        self.assertIn(log, counters)
        self.at(tolls, f"?show=steps&cols=elapsed,ratio,{log},counter.commits")
        rows = b.until(lambda: b.all(".stairs-table tbody tr"))
        told = [row.text for row in rows]
        self.assertEqual(len(told), 7)
        self.assertTrue(told[0].startswith("Row by row, a commit each"))
        self.assertIn("the first", told[0])
        self.assertIn("1,002", told[0])
        heads = b.find(".stairs-table thead").text
        self.assertIn("log flushes", heads)
        self.assertIn("commits", heads)
        # A step opens its pair with the one before.
        rows[1].find_element("css selector", "button").click()
        b.until(lambda: "show=pair" in b.driver.current_url)
        self.assertIn("base=each", b.driver.current_url)
        words = b.by_id("pair-words").text
        self.assertIn("commits went from 1,002 to", words.lower())
        self.assertTrue(b.all('[data-testid="pair-counter.commits"]'))

    def test_a_step_that_answers_otherwise_stands_out(self):
        self.at(self.id, "?show=steps")
        odd = self.browser.by_id("step-odd")
        self.assertIn("wrong answer", odd.text)
        self.assertIn("odd", odd.get_attribute("class"))
        self.assertNotIn("wrong", self.browser.by_id("step-quick").text)

    def test_pair_of_draught_rule(self):
        b = self.browser
        self.at(self.demo["draught-rule"], "?show=pair&base=loop&lane=inlined")
        words = b.by_id("pair-words").text
        self.assertIn("Server, a function of plain SQL", words)
        self.assertIn("same answer", b.by_id("pair-agreement").text)
        told = " ".join(row.text for row in b.all('[data-testid^="pair-"] td:nth-child(4)'))
        self.assertRegex(told, r"\d× (faster|slower|less|more)")
        signs = {cell.text for cell in b.all(".code-diff .sign")}
        self.assertEqual(signs - {""}, {"+", "−"})
        b.click('button[aria-label="The other way round"]')
        b.until(lambda: "base=inlined" in b.driver.current_url)
        b.until(lambda: "A function called for each row:" in b.by_id("pair-words").text)
        # Two ticked lanes are a pair by themselves.
        b.click('[data-testid="rail-inlined"] input')
        try:
            self.at(self.demo["draught-rule"])
            b.until(lambda: len(b.all(".board-row.lane")) == 2)
            self.named(".views button", "Pair").click()
            b.until(lambda: "function that may do anything" in b.by_id("pair-words").text)
        finally:
            b.click('[data-testid="rail-inlined"] input')

    def test_scatter_with_the_lanes_that_nobody_beats(self):
        b = self.browser
        self.at(self.id, "?show=scatter&x=code_lines&y=elapsed")
        ahead = b.until(lambda: b.all(".spot.ahead"))
        self.assertEqual([spot.get_attribute("data-testid") for spot in ahead], ["spot-quick"])
        # The lane with a wrong answer is drawn, and leads nothing.
        self.assertEqual(len(b.all(".spot")), 3)
        b.click('figure button[aria-expanded="false"]')
        cells = [cell.text for cell in b.all("figure tbody td")]
        self.assertIn("Wrong turning", cells)
        b.find('[data-testid="spot-quick"]').send_keys(Keys.ENTER)
        b.find(".lane-drawer")

    def test_notes_are_kept_in_the_file_as_markdown(self):
        b = self.browser
        self.at(self.id)
        b.click(".notes .add-note")
        b.find(".note-field textarea").send_keys(
            "The loop is *what costs*.\n<script>1</script> ![far](http://locks.example/i.png) "
            "[odd](javascript:alert(1)) [data](data:text/html,<script>1</script>)"
        )
        b.click(".note-field .ant-btn-primary")
        b.until(lambda: [e.text for e in b.all(".note em")] == ["what costs"])
        self.assertEqual(b.all(".note script, .note img"), [])
        self.assertEqual({e.get_attribute("href") for e in b.all(".note a")} & {
            "javascript:alert(1)", "data:text/html,<script>1</script>"}, set())  # fmt: skip
        self.at(self.id, "?lane=quick")
        b.click(".lane-drawer .notes .add-note")
        b.find(".lane-drawer .note-field textarea").send_keys("Fewer turns.")
        b.click(".lane-drawer .note-field .ant-btn-primary")
        b.until(lambda: [e.text for e in b.all(".lane-drawer .note p")] == ["Fewer turns."])
        text = b.fetch(f"/api/comparisons/{self.id}/")["text"]
        self.assertIn("[[note]]", text)
        self.assertIn('lane = "quick"', text)
        # What is said of figures makes none of them old.
        self.assertFalse([e for e in b.all(".steps .state") if e.text == "stale"])
        self.at(self.id)
        b.click('.note button[aria-label="Take the note away"]')
        b.until(lambda: not b.all(".findings > .notes .note"))

    def test_a_claim_holds_until_a_later_trial_contradicts_it(self):
        b = self.browser
        _, made = b.send("POST", "/api/comparisons/import/", {"text": TEXT.replace(
            'name = "Gauge readings"', 'name = "Claimed"')})  # fmt: skip
        own = made["id"]
        # Enough rounds to be sure while the tests beside it take the cores.
        b.launch(own, {"rounds": 6, "warm_ups": 0, "lanes": ["slow", "quick"]})
        self.ended(own)
        self.at(own, "?show=pair&base=slow&lane=quick")
        self.named(".pair button", "Pin as a claim").click()
        field = b.find(".pair .note-field textarea")
        self.assertIn("times faster than Long way round", field.get_attribute("value"))
        self.assertIn("at least", field.get_attribute("value"))
        b.click(".pair .note-field .ant-btn-primary")
        b.until(lambda: [e.text for e in b.all(".claim-state")] == ["holds"])
        self.assertIn("at_least", b.fetch(f"/api/comparisons/{own}/")["text"])
        # The two change places, and it is measured again.
        for lane, code in (("slow", QUICK), ("quick", SLOW)):
            b.send("PATCH", f"/api/comparisons/{own}/lanes/{lane}/", {"code": code.replace(
                "\n    ", "\n").strip()})  # fmt: skip
        b.launch(own, {"rounds": 6, "warm_ups": 0, "lanes": ["slow", "quick"]})
        newest = self.ended(own)
        self.at(own)
        b.until(lambda: [e.text for e in b.all(".claim-state")] == ["contradicted"])
        self.assertIn("times slower", b.by_id("claims").text)
        report = b.driver.execute_async_script(
            "const [path, done] = arguments;fetch(path).then(a => a.text()).then(done)",
            f"/api/trials/{newest['id']}/report/",
        )
        self.assertIn("contradicted", report)

    def test_the_keyboard_does_it_all(self):
        b = self.browser
        self.at(self.id)
        b.find(".board-row.lane")
        body = b.find("body")
        body.send_keys("?")
        # It slides in, and what is not there yet has no text yet.
        b.until(lambda: "this sheet" in b.by_id("keys").text)
        b.click(".ant-drawer-close")
        b.until(lambda: not [e for e in b.all('[data-testid="keys"]') if e.is_displayed()])
        body.send_keys("c")
        b.until(lambda: "show=scatter" in b.driver.current_url)
        body.send_keys("1")
        b.until(lambda: "/question" in b.driver.current_url)
        # Typing is no command.
        field = b.find('input[aria-label="Absolute tolerance"]')
        field.send_keys("2", Keys.ESCAPE)
        self.assertIn("/question", b.driver.current_url)

    def test_all_of_it_keeps_the_accessibility_guidelines(self):
        b = self.browser
        views = {
            "?show=scatter": ".spot",
            "?show=steps": ".stairs-table",
            "?show=pair&base=slow&lane=quick": '[data-testid="pair-words"]',
        }
        for theme in ("light", "dark"):
            b.driver.execute_script("localStorage.setItem('ivrell-theme', arguments[0])", theme)
            self.addCleanup(b.driver.execute_script, "localStorage.removeItem('ivrell-theme')")
            for view, shown in views.items():
                with self.subTest(theme=theme, view=view):
                    self.at(self.id, view)
                    b.find(shown)
                    time.sleep(0.4)
                    self.assertEqual(violations(b), [])
        self.at(self.id)
        b.press("columns")
        time.sleep(0.5)
        self.assertEqual(violations(b), [])


if __name__ == "__main__":
    unittest.main()
