"""Letting somebody in, their password, what they then see; a token that a program uses."""

import json
import unittest
import urllib.request

from tests.support.browser import Browser
from tests.support.running import Running


class People(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start("--no-demo")
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.open(link)

    def fill(self, label, text):
        self.browser.type_over(self.browser.find(f'[aria-label="{label}"]'), text)

    def test_somebody_is_let_in_sets_a_password_and_comes_again_by_it(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/people")
        self.fill("Name of whom is let in", "Ashe")
        b.press("add-person")
        link = b.until(lambda: b.by_id("person-link").find_element("tag name", "pre").text)
        b.by_id("person-Ashe")
        b.until(lambda: "Ashe as editor" in b.by_id("audit").text)
        self.fill("Name of the token", "nightly")
        b.press("make-token")
        token = b.by_id("new-token").text
        asked = urllib.request.Request(
            f"{self.ivrell.address}/api/now/", headers={"Authorization": f"Bearer {token}"}
        )
        with urllib.request.urlopen(asked) as answer:
            self.assertEqual(json.load(answer)["user"], "owner")

        b.driver.delete_all_cookies()
        b.open(link)
        b.open(f"{self.ivrell.address}/people")
        b.until(lambda: "Ashe, editor" in b.find("main").text)
        self.assertFalse(b.all('[data-testid="audit"]') or b.all('[data-testid="add-person"]'))
        self.fill("New password", "short")
        b.press("set-password")
        self.assertIn("too short", b.by_id("password-problem").text)
        self.fill("New password", "barge-at-the-weir")
        b.press("set-password")
        b.until(lambda: "holds from now on" in b.find("main").text)

        b.driver.delete_all_cookies()
        b.open(self.ivrell.address)
        self.fill("Name", "Ashe")
        self.fill("Password", "wrong-one")
        b.press("sign-in")
        self.assertIn("do not go together", b.by_id("sign-in-problem").text)
        self.fill("Password", "barge-at-the-weir")
        b.press("sign-in")
        b.until(lambda: "There is no comparison yet" in b.find("main").text)


if __name__ == "__main__":
    unittest.main()
