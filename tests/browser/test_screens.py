"""Screens beside the main road: trouble, evidence, undo, samples, what survives a reload."""

import tempfile
import time
import unittest
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.support.axe import violations
from tests.support.browser import Browser
from tests.support.comparisons import COUNTING, HEAD, approach
from tests.support.running import Running

WRONG = COUNTING.replace("+ 1", "+ 2")
FLOATS = COUNTING.replace('"n": n', '"n": float(n)')
BROKEN = "def answer(data, knobs, stage):\n    return data.reedings\n"
TEXT = (
    HEAD
    + approach("good", COUNTING, name="Counted one by one")
    + approach("wrong", WRONG, name="Counted twice")
    + approach("floats", FLOATS, name="Counted in floats")
    + approach("broken", BROKEN, name="PreviewPool for reedings")
)


class Screens(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start("--no-demo")
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.comparison = None

    def tearDown(self):
        self.assertEqual(self.browser.complaints(), [])

    def test_main_views_keep_the_accessibility_guidelines_in_both_themes(self):
        b, address = self.browser, self.ivrell.address
        here = f"{address}/comparisons/{self.imported()}"
        views = {
            address: ".comparison-line, .list-head",
            f"{address}/machine": '[data-testid="noise"]',
            f"{here}/question": '[data-testid="rail-good"]',
            f"{here}/data": '[data-testid="rail-good"]',
            f"{here}/approaches?lane=good": '[data-testid="code"] .cm-content',
            f"{here}/approaches?lane=floats": '[data-testid="code"] .cm-content',
            f"{here}/agreement?lane=wrong": '[data-testid="rail-good"]',
            f"{here}/trial": '[data-testid="live"]',
            f"{here}/findings": '[data-testid="median"]',
            f"{here}/findings?lane=good": ".facts-grid",
            f"{here}/findings?lane=broken": ".lane-drawer .trouble",
        }
        for theme in ("light", "dark"):
            b.driver.execute_script("localStorage.setItem('ivrell-theme', arguments[0])", theme)
            self.addCleanup(b.driver.execute_script, "localStorage.removeItem('ivrell-theme')")
            for view, shown in views.items():
                with self.subTest(theme=theme, view=view.removeprefix(address)):
                    b.open(view)
                    b.find(shown)
                    for button in b.all(".measures button"):
                        button.click()
                    # Colours fade in, and half-way they are too pale.
                    time.sleep(0.4)
                    self.assertEqual(violations(b), [])

    def write(self, name, text):
        path = self.folder / name
        path.write_text(text)
        return str(path)

    def choose(self, test_id, path):
        """Choose a file in a file field, which is never shown itself."""
        field = self.browser.until(lambda: self.browser.all(f'[data-testid="{test_id}"]'))[0]
        field.send_keys(path)

    def imported(self):
        """The comparison of this test, imported once and run once."""
        b = self.browser
        if Screens.comparison is None:
            b.open(self.ivrell.address)
            self.choose("import-file", self.write("gauges.toml", TEXT))
            b.by_id("rail-good")
            Screens.comparison = int(b.driver.current_url.split("/")[4])
            b.step("Trial")
            b.type_over(b.find('input[aria-label="Rounds"]'), "2")
            b.press("launch")
            b.until(lambda: b.by_id("live-state").text.startswith("done"))
        return Screens.comparison

    def open(self, step):
        number = self.imported()
        self.browser.open(f"{self.ivrell.address}/comparisons/{number}/{step}")
        self.browser.by_id("rail-good")

    def test_1_an_empty_list_says_what_to_do(self):
        self.browser.open(self.ivrell.address)
        self.browser.until(lambda: "There is no comparison yet" in self.browser.find("main").text)

    def test_2_a_bad_file_is_told_with_its_line(self):
        self.browser.open(self.ivrell.address)
        bad = self.write("bad.toml", TEXT.replace("seed = 5", "sead = 5"))
        self.choose("import-file", bad)
        told = self.browser.by_id("import-problem").text
        self.assertIn("line 12", told)
        self.assertIn("sead", told)

    def test_sweep_of_one_point_says_what_to_do(self):
        self.open("sweep")
        told = self.browser.by_id("one-point").text
        self.assertIn("ran at one point", told)
        self.assertIn("several values of a knob", told)

    def test_sweep_shows_each_lane_over_the_sizes_and_leads_to_findings(self):
        b = self.browser
        b.open(self.ivrell.address)
        text = HEAD.replace("rows = [300]", "rows = [300, 30_000]")
        text = text.replace('name = "', 'name = "Sizes of ', 1)
        text += approach("good", COUNTING, name="One by one") + approach("wrong", WRONG)
        self.choose("import-file", self.write("sizes.toml", text))
        b.by_id("rail-good")
        here = b.driver.current_url.rsplit("/", 1)[0]
        # A range can be typed; sizes then may go from small to large.
        b.open(f"{here}/trial")
        field = b.find('input[aria-label="Values of rows"]')
        field.send_keys("300..30_000/1", Keys.ENTER, Keys.ESCAPE)
        b.find('input[aria-label="Order of sizes"]')
        self.assertIn("sizes mixed in every round", b.find(".sentence").text)
        plan = {"rounds": 2, "warm_ups": 0, "step_up": True, "knobs": {"rows": ["300..30_000/1"]}}
        self.assertEqual(b.launch(int(here.split("/")[-1]), plan), 201)
        b.open(f"{here}/trial")
        b.until(lambda: b.by_id("live-state").text.startswith("done"))
        b.step("Sweep")
        rows = b.until(lambda: b.all('[data-testid="sweep-values"] tbody tr'))
        sizes = ["300", "1,000", "10,000", "30,000"]
        self.assertEqual([row.text.split()[0] for row in rows], sizes)
        self.assertIn("One by one is the quickest", b.by_id("sweep-words").text)
        self.assertIn("One by one", b.by_id("growths").text)
        self.assertTrue(b.all('[data-testid="lead"] rect'))
        # The one with the right answer leads, the other has no line.
        self.assertIn("other answer", rows[0].text)
        self.assertTrue(rows[0].find_elements("css selector", "strong"))
        self.assertEqual(len(b.all('[data-testid="sweep-good"] .spot')), 4)
        self.assertEqual(len(b.all('[data-testid="sweep-wrong"] .spot')), 0)
        self.assertEqual(violations(b), [])
        rows[-1].find_element("css selector", "a").click()
        b.until(lambda: "rows = 30,000" in b.by_id("conclusion").text)

    def test_evidence_of_a_wrong_answer(self):
        self.open("agreement")
        b = self.browser
        matrix = b.find(".matrix").text
        self.assertIn("3 rows differ", matrix)
        self.assertIn("same values, other types", matrix)
        self.assertIn("no answer", matrix)
        evidence = b.find(".evidence")
        self.assertIn("Counted twice", evidence.text)
        self.assertEqual(len(evidence.find_elements(By.CSS_SELECTOR, ".differs")), 6)
        next(e for e in b.all(".matrix button") if "floats" in e.text).click()
        b.until(lambda: "integer became float" in b.find(".evidence").text)
        self.assertIn("lane=floats", b.driver.current_url)

    def test_camps_and_another_reference(self):
        self.open("agreement")
        b = self.browser
        groups = b.by_id("groups").text
        self.assertIn("2 lanes say A", groups)
        self.assertIn("One lane says B", groups)
        b.click(".group:nth-child(2) button")
        b.until(lambda: "each is 2 times the reference's" in b.find(".evidence").text)
        self.assertTrue(b.all('[data-testid="by-column"] svg rect'))
        b.press("both-codes")
        b.until(lambda: "+ 2" in b.find(".both-codes").text)
        self.against("Counted twice")
        b.until(lambda: "One lane says A" in b.by_id("groups").text)
        # The trial is shared: the others look at it against the usual reference.
        self.against("Counted one by one")
        b.until(lambda: "2 lanes say A" in b.by_id("groups").text)

    def against(self, lane):
        """Hold the answers against another lane's."""
        b = self.browser
        b.press("reference")
        b.until(
            lambda: next(
                (
                    option
                    for option in b.all(".ant-select-item-option")
                    if option.is_displayed() and option.text == lane
                ),
                None,
            )
        ).click()

    def test_findings_put_trouble_last_and_say_so(self):
        self.open("findings")
        b = self.browser
        rows = [
            row.get_attribute("data-testid") for row in b.until(lambda: b.all(".board-row.lane"))
        ]
        self.assertEqual(set(rows[-2:]), {"board-wrong", "board-broken"})
        self.assertIn("different", b.by_id("board-wrong").text)
        more = next(e for e in b.all(".cautions button") if "more" in e.text)
        more.click()
        words = b.by_id("cautions").text
        for word in ("different answer", "type drift", "failed", "few rounds"):
            self.assertIn(word, words)
        self.assertIn("failed", b.by_id("rail-broken").text)

    def test_all_measures_stand_side_by_side_the_leading_lane_of_each_in_bold(self):
        self.open("findings")
        b = self.browser
        b.click(".measures button")
        heads = [head.text for head in b.until(lambda: b.all(".measures thead th"))]
        self.assertEqual(len(heads), 4)  # the broken lane was never counted
        rows = {}
        for row in b.all(".measures tbody tr"):
            label, *cells = [cell.text for cell in row.find_elements(By.CSS_SELECTOR, "th, td")]
            bold = row.find_elements(By.CSS_SELECTOR, ".best")
            rows[label] = cells, [cell.text for cell in bold]
        for label in ("elapsed time", "CPU time", "CPU time per million rows", "lines of code"):
            self.assertIn(label, rows)
        board = b.by_id("board-good").text
        for label in ("elapsed time", "CPU time", "peak memory"):
            self.assertIn(rows[label][0][heads.index("Counted one by one") - 1], board)
        wrong = heads.index("Counted twice") - 1
        for cells, bold in rows.values():
            # A lane whose answer is wrong leads in nothing.
            self.assertLessEqual(len(bold), 1)
            if bold and cells.count(cells[wrong]) == 1:
                self.assertNotEqual(bold[0], cells[wrong])

    def test_a_failed_lane_opens_into_where_it_failed(self):
        self.open("findings?lane=broken")
        b = self.browser
        b.until(lambda: "there are: readings" in b.find(".lane-drawer").text)
        self.assertIn("line 2", b.find(".lane-drawer").text)
        b.find(".lane-drawer .cm-wrong")

    def test_failures_stand_below_the_race_with_a_way_to_the_code(self):
        self.open("trial")
        b = self.browser
        link = b.by_id("failed-broken").find_element(By.TAG_NAME, "a")
        self.assertIn("line 2", link.text)
        link.click()
        b.until(lambda: "approaches?lane=broken" in b.driver.current_url)
        b.until(lambda: "reedings" in b.by_id("code").text)

    def test_ticked_off_lanes_leave_the_board_and_the_next_trial(self):
        self.open("findings")
        b = self.browser
        b.until(lambda: len(b.all(".board-row.lane")) == 4)
        box = b.find('input[aria-label="Counted twice counts"]')
        box.click()
        b.until(lambda: len(b.all(".board-row.lane")) == 3)
        b.step("Trial")
        b.until(lambda: b.by_id("launch").text == "Run 3 lanes")
        b.click('input[aria-label="Counted twice counts"]')
        b.until(lambda: b.by_id("launch").text == "Run the trial")

    def test_what_was_written_survives_a_reload(self):
        self.open("question")
        b = self.browser
        target = 'input[aria-label="Target for elapsed time"]'
        b.type_over(b.find(target), "soon")
        b.until(lambda: "250 ms" in b.find(".question").text)
        b.type_over(b.find(target), "250 ms")
        b.until(
            lambda: b.fetch(f"/api/comparisons/{self.comparison}/")["targets"]["elapsed"] == 0.25
        )
        b.driver.refresh()
        b.until(lambda: b.find(target).get_attribute("value") == "250 ms")
        b.until(lambda: b.all(".target-word"))

    def test_an_editor_stays_while_its_lane_is_renamed(self):
        b = self.browser
        b.open(self.ivrell.address)
        text = TEXT.replace('name = "Gauge readings"', 'name = "Renamed meanwhile"')
        _, made = b.send("POST", "/api/comparisons/import/", {"text": text})
        b.open(f"{self.ivrell.address}/comparisons/{made['id']}/approaches?lane=good")
        area = b.find('[data-testid="code"] .cm-content')
        b.type_over(b.find('input[aria-label="Name of the lane"]'), "Better name")
        area.click()
        area.send_keys(Keys.CONTROL, Keys.END)
        area.send_keys("# before")
        b.until(lambda: area.get_attribute("aria-label") == "Code of Better name")
        # The same element, with the focus: what is typed goes on where it was.
        area.send_keys(" and after")
        b.until(lambda: "# before and after" in b.fetch(f"/api/comparisons/{made['id']}/")["text"])

    def test_comparisons_are_searched(self):
        b = self.browser
        b.open(self.ivrell.address)
        for number in range(9):
            text = TEXT.replace('name = "Gauge readings"', f'name = "Weir {number} of nine"')
            b.send("POST", "/api/comparisons/import/", {"text": text})
        b.driver.refresh()
        b.find('input[aria-label="Search the comparisons"]').send_keys("nine WEIR 7")
        b.until(lambda: [e.text for e in b.all(".comparisons h2")] == ["Weir 7 of nine"])
        b.find('input[aria-label="Search the comparisons"]').send_keys(" nothing")
        b.until(lambda: "No comparison holds these words." in b.find("main").text)

    def test_rows_as_they_will_be_made(self):
        self.open("data")
        b = self.browser
        b.by_id("table-readings")
        next(e for e in b.all(".data-side label") if e.text == "Rows").click()
        rows = b.until(lambda: b.all(".rows-scroll tbody tr"))
        self.assertEqual(rows[0].text.split()[:2], ["1", "1"])
        next(e for e in b.all(".rows-tools button") if e.text == "tail").click()
        last = ".rows-scroll tbody tr:last-child"
        b.until(lambda: b.find(last).text.split()[:2] == ["300", "300"])

    def test_deleting_is_undone(self):
        number = self.imported()
        b = self.browser
        b.open(self.ivrell.address)
        b.click('button[aria-label="Delete Gauge readings"]')
        b.until(lambda: not b.all('button[aria-label="Delete Gauge readings"]'))
        b.undo()
        b.find('button[aria-label="Delete Gauge readings"]')
        self.assertIn(number, [line["id"] for line in b.fetch("/api/comparisons/")])

    def test_a_recipe_shaped_like_a_sample(self):
        b = self.browser
        b.open(self.ivrell.address)
        lines = "".join(f"B{n:04},{n % 7},{n * 0.25}\n" for n in range(400))
        self.choose("sample-files", self.write("barges.csv", f"barge,crew,load\n{lines}"))
        b.press("shape")
        b.until(lambda: b.by_id("rows-of-barges").text == "400 rows")
        recipe = b.by_id("recipe").text
        self.assertIn("[A-Z][0-9]{4}", recipe)
        self.assertNotIn("B0001", recipe)
        next(e for e in b.all(".ant-segmented-item") if e.text == "Sample").click()
        lines = b.until(lambda: b.all(".sample-line"))
        names = [line.text.split("\n")[0] for line in lines[1:]]
        self.assertEqual(names, ["barge", "crew", "load"])
        self.assertEqual(len(lines[1].find_elements("css selector", "svg")), 2)

    def test_made_data_is_shown_and_cleared(self):
        self.imported()
        b = self.browser
        b.open(f"{self.ivrell.address}/machine")
        b.until(lambda: "readings.csv" in b.find("main").text)
        next(e for e in b.all("button") if e.text == "Clear").click()
        b.until(lambda: "Nothing kept" in b.find("main").text)

    def test_an_address_that_is_none_leads_back(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/nowhere/at/all")
        b.until(lambda: b.driver.current_url == f"{self.ivrell.address}/")


if __name__ == "__main__":
    unittest.main()
