"""The whole job in a real browser: from the sign-in link to the findings."""

import sys
import unittest

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.support.browser import Browser
from tests.support.running import Running

FASTER_LOOP = """def answer(data, knobs, stage):
    groups = {}
    with stage("read and fold"):
        with open(data.passages) as file:
            next(file)
            for line in file:
                passage, lock, passed_at, draught, toll = line.split(",")
                key = (lock, int(passed_at[5:7]))
                deep = float(draught)
                group = groups.setdefault(key, [0, 0.0, 0.0, deep])
                group[0] += 1
                group[1] += float(toll)
                group[2] += deep
                group[3] = max(group[3], deep)
    return [
        {"lock": lock, "month": month, "passages": n, "toll": toll,
         "mean_draught": total / n, "deepest": deepest}
        for (lock, month), (n, toll, total, deepest) in groups.items()
    ]
"""


def shown_seconds(text: str) -> float:
    number, unit = text.split()
    scale = {"µs": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0}[unit]
    return float(number.replace(",", "")) * scale


LATE_SAVE = """
const asked = window.fetch;
window.late = 0;
window.saved = 0;
window.fetch = async (...given) => {
  if (given[0].method !== "PUT" || !given[0].url.includes("/recipe/")) return asked(...given);
  const late = window.late && window.late--;
  if (late) await new Promise((done) => setTimeout(done, 3000));
  const answer = await asked(...given);
  window.saved++;
  return answer;
};
"""
"""So many of the next changes of a recipe as are ``late`` reach the server after three seconds."""


class WholeJob(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start()
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)

    def tearDown(self):
        self.assertEqual(self.browser.complaints(), [])

    def open_demo(self, step="question"):
        demo = self.demo("tolls-per-lock")
        self.browser.open(f"{self.ivrell.address}/comparisons/{demo}/{step}")
        self.browser.by_id("rail-loop")
        return demo

    def race_is(self, word):
        self.browser.until(
            lambda: self.browser.by_id("live-state").text.startswith(word),
            f"the trial never was {word}",
        )

    def test_from_question_to_findings(self):
        b = self.browser
        b.open(self.ivrell.link())
        b.until(
            lambda: next(
                (a for a in b.all(".comparisons h2 a") if a.text == "Tolls per lock"), None
            )
        ).click()
        task = b.find('textarea[aria-label="The task in words"]')
        self.assertIn("For every lock and month", task.get_attribute("value"))
        comparison = int(b.driver.current_url.split("/")[4])

        b.step("Data")
        b.type_over(b.by_id("rows-rows"), "20000")
        b.until(lambda: b.by_id("rows-of-passages").text == "20,000 rows")
        stored = b.fetch(f"/api/comparisons/{comparison}/")
        self.assertEqual(stored["knobs"]["rows"][0], 20000)

        b.step("Approaches")
        b.press("rail-loop")
        b.replace_code("code", FASTER_LOOP)
        b.until(lambda: b.by_id("save-state").text == "saved")
        stored = b.until(
            lambda: next(
                (
                    found
                    for found in [b.fetch(f"/api/comparisons/{comparison}/")]
                    if "setdefault" in found["lanes"][0]["code"]
                ),
                None,
            )
        )
        self.assertEqual(stored["lanes"][0]["code"], FASTER_LOOP)
        self.assertIn("# sums of floats differ", stored["text"])

        b.step("Trial")
        b.type_over(b.find('input[aria-label="Rounds"]'), "3")
        b.press("launch")
        b.find(".cell.running")
        self.race_is("done")
        b.until(lambda: len(b.all(".live-grid .cell.done")) == 5 * 4)
        trial = b.fetch(f"/api/trials/?comparison={comparison}")[0]["id"]
        # The plan as it was run last stands there again, in a browser that never saw it too.
        b.driver.execute_script("localStorage.clear()")
        b.open(b.driver.current_url)
        b.until(lambda: b.find('input[aria-label="Rounds"]').get_attribute("value") == "3")

        b.step("Findings")
        found = b.fetch(f"/api/trials/{trial}/findings/")
        told = [found[part] for part in ("conclusion", "tradeoff", "target")]
        self.assertEqual(b.by_id("conclusion").text, " ".join(filter(None, told)))
        rows = b.until(lambda: b.all(".board-row.lane"))
        self.assertEqual(
            [row.get_attribute("data-testid").removeprefix("board-") for row in rows],
            found["ranking"],
        )
        for lane in found["lanes"]:
            row = b.by_id(f"board-{lane['id']}")
            shown = row.find_element(By.CSS_SELECTOR, '[data-testid="median"]').text
            median = lane["elapsed"]["median"]
            self.assertAlmostEqual(shown_seconds(shown) / median, 1, delta=0.01)
            self.assertEqual(len(row.find_elements(By.CSS_SELECTOR, '[data-testid="dot"]')), 3)
            ratio = row.find_elements(By.CSS_SELECTOR, '[data-testid="ratio"]')
            if ratio:
                value = float(ratio[0].text.replace(",", "").rstrip("×"))
                times = lane["ratio"]["value"]
                self.assertAlmostEqual(value / max(times, 1 / times), 1, delta=0.01)
                self.assertIn("faster" if times > 1 else "slower", row.text)
            elif not lane["baseline"]:
                self.assertIn("not told apart", row.text)
            self.assertTrue(lane["agreement"]["agrees"], lane["agreement"]["reasons"])
        words = [caution["word"] for caution in found["cautions"]]
        self.assertIn("few rounds", words)

        b.press("board-loop")
        b.until(lambda: "Runs in order" in b.find(".lane-drawer").text)
        b.until(lambda: "read and fold" in b.find(".lane-drawer").text)

    def test_findings_are_those_of_the_end_where_no_live_view_was_open(self):
        b = self.browser
        comparison = self.open_demo("findings")
        b.launch(comparison, {"rounds": 6, "warm_ups": 0, "approaches": ["query", "columnar"],
                              "knobs": {"rows": [10_000]}})  # fmt: skip
        trial = b.fetch(f"/api/trials/?comparison={comparison}")[0]["id"]
        b.open(f"{self.ivrell.address}/comparisons/{comparison}/findings?trial={trial}")
        head = '[class~="findings-head"]'
        b.until(lambda: "trial" in b.find(head).text)
        shown = b.find(head).text

        def over():
            told = b.find(head).text
            return f"trial {trial}" in told and "running" not in told and "waiting" not in told

        b.until(over)
        self.assertTrue("running" in shown or "waiting" in shown, shown)
        self.assertEqual(2, len(b.until(lambda: b.all(".board-row.lane"))))

    def test_stop_ends_a_trial_and_keeps_what_was_measured(self):
        comparison = self.open_demo("trial")
        b = self.browser
        b.type_over(b.find('input[aria-label="Rounds"]'), "50")
        b.press("launch")

        def newest():
            return b.fetch(f"/api/trials/?comparison={comparison}")[0]

        b.until(lambda: newest()["state"] == "running" and newest()["done_runs"] >= 2)
        b.press("stop-all")
        self.race_is("stopped")
        self.assertEqual(newest()["state"], "stopped")
        self.assertGreaterEqual(newest()["done_runs"], 2)
        b.type_over(b.find('input[aria-label="Rounds"]'), "3")

    def test_pausing_a_trial_going_on_and_adding_rounds(self):
        comparison = self.open_demo("trial")
        b = self.browser
        b.launch(comparison, {"rounds": 4, "warm_ups": 0, "lanes": ["query", "columnar"],
                              "knobs": {"rows": [10_000]}})  # fmt: skip

        def newest():
            return b.fetch(f"/api/trials/?comparison={comparison}")[0]

        trial = newest()["id"]
        b.open(f"{self.ivrell.address}/comparisons/{comparison}/trial?trial={trial}")
        b.press("pause")
        b.until(lambda: newest()["state"] == "paused")
        b.open(f"{self.ivrell.address}/queue")
        line = b.find('.queue li[data-state="paused"]')
        self.assertIn(f"trial {trial}", line.text)
        next(e for e in line.find_elements("css selector", "button") if "Go on" in e.text).click()
        b.until(lambda: newest()["state"] == "done")
        self.assertEqual(newest()["done_runs"], 8)
        b.open(f"{self.ivrell.address}/comparisons/{comparison}/findings?trial={trial}")
        b.press("more-open")
        b.type_over(b.find('input[aria-label="More rounds"]'), "2")
        b.press("more-here")
        self.race_is("done")
        b.until(lambda: newest()["state"] == "done" and newest()["done_runs"] == 12)
        found = b.fetch(f"/api/trials/{trial}/findings/")
        self.assertEqual({lane["elapsed"]["count"] for lane in found["lanes"]}, {6})
        self.assertEqual(b.complaints(), [])

    def test_trouble_in_an_approach_points_at_its_line(self):
        comparison = self.open_demo("approaches?lane=query")
        b = self.browser
        before = b.fetch(f"/api/comparisons/{comparison}/")["lanes"][3]["code"]
        b.replace_code("code", "SELECT lock\nFRM passages x y\n")
        self.assertIn("line 2", b.by_id("lane-problem").text)
        b.find(".cm-wrong")
        b.replace_code("code", before)
        b.until(lambda: not b.all('[data-testid="lane-problem"]'))

    def test_a_recipe_from_nothing_by_its_fields(self):
        b = self.browser
        b.open(self.ivrell.address)
        b.until(
            lambda: next((e for e in b.all("button") if e.text == "New comparison"), None)
        ).click()
        b.step("Data")
        # It starts with one table, which has no name yet.
        self.assertIn("name it", b.by_id("table-table1").text)
        b.type_over(b.by_id("name-table1"), "no name")
        b.until(lambda: "wrong" in b.by_id("name-table1").get_attribute("class"))
        b.type_over(b.by_id("name-table1"), "passages")
        b.by_id("table-passages")
        b.press("add-column-passages")
        field = b.by_id("set-passages-column2-high")
        field.click()
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys("-5")
        # What cannot hold is told at the field, and stays there to be mended.
        line = b.by_id("column-passages-column2")
        b.until(lambda: "must not be above" in line.text)
        self.assertIn("wrong", field.get_attribute("class"))
        before = b.by_id("column-passages-column2").find_element(By.CSS_SELECTOR, ".ends").text
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys("7")
        b.until(lambda: line.find_element(By.CSS_SELECTOR, ".ends").text == "1 to 7")
        self.assertNotEqual(before, "1 to 7")
        field.send_keys(Keys.ENTER)
        b.until(lambda: b.by_id("recipe-state").text == "saved")
        comparison = int(b.driver.current_url.split("/")[4])
        stored = b.until(
            lambda: next(
                (
                    text
                    for text in [b.fetch(f"/api/comparisons/{comparison}/")["data_text"]]
                    if "high = 7" in text
                ),
                None,
            )
        )
        self.assertIn('name = "column2", kind = "integer", low = 1, high = 7', stored)

        next(e for e in b.all(".ant-segmented-item") if e.text == "Rows").click()
        region = b.by_id("rows-region")
        b.until(lambda: region.find_elements(By.CSS_SELECTOR, "tbody tr"))
        region.click()
        region.send_keys(Keys.END)
        b.until(lambda: region.text.rstrip().split("\n")[-1].startswith("100,000 100000"))
        region.send_keys(Keys.HOME)
        b.until(lambda: region.find_element(By.CSS_SELECTOR, "tbody tr").text.startswith("1 1 "))

        next(e for e in b.all(".ant-segmented-item") if e.text == "Make").click()
        b.press("make")
        b.until(lambda: b.by_id("making-state").text == "done")
        made = b.find(".make-view table").text
        self.assertIn("passages parquet 100,000", made)
        # Another table comes, and goes with a way back.
        b.press("add-table")
        b.press("remove-table2")
        b.until(lambda: not b.all('[data-testid="table-table2"]'))
        b.undo()
        b.press("remove-table2")
        b.until(lambda: not b.all('[data-testid="table-table2"]'))
        b.undo()
        b.by_id("table-table2")
        # What is slow to be saved does not come back over what was changed after it.
        next(e for e in b.all(".ant-segmented-item") if e.text == "Recipe").click()
        b.until(lambda: b.by_id("recipe-state").text == "saved")
        b.driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": LATE_SAVE})
        b.open(b.driver.current_url)
        field = b.by_id("set-passages-column2-high")
        b.driver.execute_script("window.late = 1")
        for high in ("8", "9"):
            b.type_over(field, high)
            b.until(lambda high=high: f"to {high}" in b.by_id("column-passages-column2").text)
        b.until(lambda: b.driver.execute_script("return window.saved > 1"))
        b.until(lambda: b.by_id("recipe-state").text == "saved")
        stored = b.fetch(f"/api/comparisons/{comparison}/")["data_text"]
        self.assertIn("high = 9", stored)
        self.assertEqual(field.get_attribute("value"), "9")

    def test_large_data_is_stopped_and_gone_on_with(self):
        b = self.browser
        self.open_demo("data")
        b.type_over(b.by_id("rows-rows"), "30000000")
        b.until(lambda: b.by_id("rows-of-passages").text == "30,000,000 rows")
        next(e for e in b.all(".ant-segmented-item") if e.text == "Make").click()
        b.until(
            lambda: next((e for e in b.all(".make-view label") if e.text == "csv"), None)
        ).click()
        b.press("make")
        b.until(lambda: "million a second" in b.by_id("how-far").text)
        self.assertIn(" left", b.by_id("how-far").text)
        b.press("stop-making")
        b.until(lambda: b.by_id("making-state").text.startswith("stopped"))
        self.assertEqual(b.by_id("make").text, "Go on")
        b.type_over(b.by_id("rows-rows"), "20000")
        b.until(lambda: b.by_id("rows-of-passages").text == "20,000 rows")

    def test_trouble_in_the_recipe_is_told_and_nothing_is_lost(self):
        comparison = self.open_demo("data")
        b = self.browser
        before = b.fetch(f"/api/comparisons/{comparison}/")["data_text"]
        b.by_id("table-passages")
        b.replace_code("recipe", before.replace("locks.lock", "docks.lock"))
        self.assertIn("docks", b.by_id("recipe-problem").text)
        self.assertEqual(b.fetch(f"/api/comparisons/{comparison}/")["data_text"], before)
        b.replace_code("recipe", before.replace("rows = 60", "rows = 61"))
        rows = '[aria-label="locks, rows"]'
        b.until(lambda: b.find(rows).get_attribute("value") == "61")
        b.until(lambda: b.by_id("recipe-state").text == "saved")
        self.assertIn("rows = 61", b.fetch(f"/api/comparisons/{comparison}/")["data_text"])

    def test_names_are_text_and_never_markup(self):
        self.open_demo()
        b = self.browser
        field = b.find('input[aria-label="Name"]')
        b.type_over(field, "<img src=x onerror=alert(1)> & <b>tolls</b>")
        b.until(lambda: "<b>tolls</b>" in b.find(".topbar .of").text)
        self.assertEqual(b.all(".topbar .of *"), [])
        b.type_over(b.find('input[aria-label="Name"]'), "Tolls per lock")
        b.until(lambda: b.find(".topbar .of").text == "Tolls per lock")

    def test_lanes_are_added_branched_and_removed_with_undo(self):
        comparison = self.open_demo("approaches?lane=query")
        b = self.browser

        def ids():
            lanes = b.fetch(f"/api/comparisons/{comparison}/")["lanes"]
            return [lane["id"] for lane in lanes]

        before = ids()
        b.until(lambda: next((e for e in b.all("button") if e.text == "Branch"), None)).click()
        b.until(lambda: len(ids()) == len(before) + 1)
        made = b.until(lambda: set(ids()) - set(before)).pop()
        b.by_id(f"rail-{made}")
        b.until(lambda: "Branched from" in b.find(".beside").text)
        b.choose_more("Remove")
        b.until(lambda: ids() == before)
        b.undo()
        b.until(lambda: made in ids())
        b.press(f"rail-{made}")
        b.choose_more("Duplicate")
        copy = b.until(lambda: set(ids()) - {*before, made}).pop()
        b.by_id(f"rail-{copy}")
        b.choose_more("Remove")
        b.until(lambda: copy not in ids())
        b.press(f"rail-{made}")
        b.choose_more("Move up")
        b.until(lambda: ids().index(made) == before.index("query"))
        b.choose_more("Remove")
        b.until(lambda: ids() == before)

    def test_a_retired_lane_leaves_the_rail_and_comes_back(self):
        self.open_demo("approaches?lane=polars")
        b = self.browser
        b.choose_more("Retire")
        b.until(lambda: "retired" in b.by_id("rail-polars").text)
        b.press("rail-query")
        b.until(lambda: not b.all('[data-testid="rail-polars"]'))
        b.click(".rail .retired")
        b.press("rail-polars")
        b.choose_more("Bring back")
        b.until(lambda: "retired" not in b.by_id("rail-polars").text)

    def test_a_plan_is_explained_and_names_are_completed(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/comparisons/{self.demo('eight-totals')}/approaches")
        b.press("rail-columns")
        b.side("Explained")
        b.press("explain")
        self.assertIn("Table scan", b.by_id("plan-tree").text)
        area = b.by_id("code").find_element(By.CSS_SELECTOR, ".cm-content")
        area.click()
        area.send_keys(Keys.CONTROL, Keys.END)
        area.send_keys("ORDER BY passa")
        b.until(lambda: "passages" in b.find(".cm-tooltip-autocomplete").text)
        b.until(lambda: "of passages" in b.find(".cm-tooltip-autocomplete").text)

    def test_hot_lines_stand_beside_the_code_and_in_a_drawing(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/comparisons/{self.demo('tolls-per-lock')}/approaches")
        b.press("rail-loop")
        b.side("Hot lines")
        b.press("hot")
        self.assertRegex(b.by_id("hot-words").text, r"\d+ % of .* is in lines? \d+")
        b.until(lambda: any("%" in mark.text for mark in b.all(".cm-took .took")))
        whole = len(b.all('[data-testid="flame"] g'))
        b.type_over(b.find(".flame input"), "answer")
        b.until(lambda: b.all('[data-testid="flame"] g.sought'))
        self.assertRegex(b.by_id("flame-sought").text, r"\d+\.\d %")
        b.side("Try")
        b.until(lambda: not b.all(".cm-took .took"))
        self.assertGreater(whole, 1)

    def demo(self, name):
        found = self.browser.fetch("/api/comparisons/")
        return next(line["id"] for line in found if line["demo"] == name)

    def test_a_sheet_is_edited_where_it_stands(self):
        b = self.browser
        at = f"{self.ivrell.address}/comparisons/{self.demo('barge-details')}"
        b.open(f"{at}/approaches?lane=fetch")
        b.by_id("sheet-editor")

        def write(formula):
            b.press("formula-hull")
            field = b.find('textarea[aria-label="Formula of hull"]')
            field.send_keys(Keys.CONTROL, "a")
            field.send_keys(formula, Keys.ENTER)

        write("=INDEX({barges.hull};MATCH({row.barge},{barges.number};0))")
        b.until(lambda: b.all(".sheet-column.wrong .wrong-character"))
        self.assertIn("semicolon", b.by_id("lane-problem").text)
        write("=INDEX({barges.hull};MATCH({row.barge};{barges.number};0))")
        b.until(lambda: not b.all(".sheet-column.wrong"))
        b.side("Try")
        b.press("try")
        b.until(lambda: b.all(".answer tbody tr"))
        b.until(lambda: "guessed from the last try" in b.by_id("sheet-editor").text)
        values = [e.text for e in b.all(".sheet-column:nth-child(2) .cut")]
        self.assertTrue(values and set(values) <= {"steel", "oak", "composite"}, values)

    def test_a_kill_half_way_is_told_in_words(self):
        b = self.browser
        at = f"{self.ivrell.address}/comparisons/{self.demo('post-tolls')}"
        b.open(f"{at}/approaches?lane=each")
        b.side("Interrupted")
        b.press("interrupt")
        told = b.by_id("interruption")
        self.assertRegex(told.text, r"Cannot simply be started again: \d+ rows too many")

    def test_an_interpreter_is_registered_and_forgotten(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/machine")
        name = b.find('input[aria-label="Name of the interpreter"]')
        name.send_keys("mine")
        path = b.find('input[aria-label="Path of the interpreter"]')
        path.send_keys("/nowhere/python", Keys.ENTER)
        b.until(lambda: "no such file" in b.by_id("interpreter-problem").text)
        b.type_over(path, sys.executable)
        line = b.by_id("interpreter-mine")
        self.assertIn("CPython", line.text)
        line.find_element(By.CSS_SELECTOR, "button").click()
        b.until(lambda: not b.all('[data-testid="interpreter-mine"]'))

    def test_dark_theme_and_back(self):
        self.open_demo()
        b = self.browser
        ground = "return getComputedStyle(document.body).backgroundColor"
        light = b.driver.execute_script(ground)
        b.click('button[aria-label="Dark theme"]')
        b.until(lambda: b.driver.execute_script(ground) != light)
        b.click('button[aria-label="Light theme"]')
        b.until(lambda: b.driver.execute_script(ground) == light)


if __name__ == "__main__":
    unittest.main()
