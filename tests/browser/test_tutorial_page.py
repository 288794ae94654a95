"""The tutorial of the page, followed as it is written."""

import re
import unittest
from pathlib import Path

from selenium.webdriver.common.keys import Keys

from tests.support.browser import Browser
from tests.support.running import Running

TUTORIAL = Path(__file__).resolve().parents[2] / "docs" / "tutorial-page.md"
_PUT = re.compile(r"- Put `(.+)` into \*(.+)\*\.")
_DO = re.compile(r"- (Open|Go to|Choose|Press) \*(.+)\*\.")
_CLICKED = {
    "Open": ".comparisons h2 a", "Go to": ".steps a", "Press": "button",
    "Choose": ".rail-lane, .ant-segmented-item, [data-testid^='rail-']",
}  # fmt: skip


class TutorialOfThePage(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start()
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)

    def click(self, how, words):
        def clicked():
            for one in self.browser.all(_CLICKED[how]):
                if one.is_displayed() and one.text.split("\n")[0].strip() == words:
                    one.click()
                    return True
            return False

        self.browser.until(clicked, f"{how}: nothing says {words}")

    def test_each_step_can_be_done_and_shows_what_it_says(self):
        b = self.browser
        text = TUTORIAL.read_text()
        parts = re.split(r"^## ", text, flags=re.MULTILINE)[1:-1]
        done = 0
        for part in parts:
            for line in part.splitlines():
                if put := _PUT.fullmatch(line):
                    field = b.find(f'input[aria-label="{put[2]}"]')
                    b.type_over(field, put[1])
                    field.send_keys(Keys.TAB)
                elif do := _DO.fullmatch(line):
                    self.click(do[1], do[2])
                else:
                    continue
                done += 1
            told = " ".join(line for line in part.splitlines() if not line.startswith("- "))
            for words in re.findall(r"\*([^*]+)\*", told):
                # How a trial stands is a line of its own: other places say "done" of parts of it.
                place = '[data-testid="live-state"]' if words == "done" else "body"
                b.until(
                    lambda words=words, place=place: words in b.find(place).text, f"never: {words}"
                )
        self.assertEqual(14, done)
        lines = [line for line in text.splitlines() if line.startswith("- ")]
        self.assertEqual(done, len(lines), "a line that nobody follows")


if __name__ == "__main__":
    unittest.main()
