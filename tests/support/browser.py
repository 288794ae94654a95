"""Headless Chromium, driven as a person would use it."""

import json
import tempfile
from collections.abc import Callable
from typing import Any

from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import WebDriverWait

from tests.support.comparisons import UNDISTURBED
from tests.support.waiting import PATIENCE_S

_FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run "
    "--disable-background-networking --disable-component-update --disable-sync "
    "--no-proxy-server --window-size=1280,800 --force-device-scale-factor=1"
)


class Browser:
    """A window of 1280 by 800 with the few gestures that tests need."""

    def __init__(self) -> None:
        self._profile = tempfile.TemporaryDirectory(prefix="ivrell-chromium-")
        options = webdriver.ChromeOptions()
        options.binary_location = "/usr/bin/chromium"
        for flag in [*_FLAGS.split(), f"--user-data-dir={self._profile.name}"]:
            options.add_argument(flag)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self.driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
        self.driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False},
        )

    def open(self, address: str) -> None:
        self.driver.get(address)

    def all(self, selector: str) -> list[WebElement]:
        return self.driver.find_elements(By.CSS_SELECTOR, selector)

    def find(self, selector: str) -> WebElement:
        """The first element that fits, waited for until it shows."""
        return self.until(
            lambda: next((e for e in self.all(selector) if e.is_displayed()), None),
            f"nothing fits {selector}",
        )

    def by_id(self, test_id: str) -> WebElement:
        return self.find(f'[data-testid="{test_id}"]')

    def press(self, test_id: str) -> None:
        """Click what has this id; looked for again when the page drew it anew meanwhile."""
        self.click(f'[data-testid="{test_id}"]')

    def click(self, selector: str) -> None:
        """Click the first element that fits."""

        def clicked() -> bool:
            found = next((e for e in self.all(selector) if e.is_displayed()), None)
            if found:
                found.click()
            return found is not None

        self.until(clicked, f"nothing fits {selector}")

    def step(self, word: str) -> None:
        """Go to a step by the line of words."""
        self.until(
            lambda: next(
                (e for e in self.all(".steps a") if e.text.split("\n")[0].startswith(word)), None
            ),
            f"no step {word}",
        ).click()

    def side(self, word: str) -> None:
        """Choose what stands beside the editor, or another of several views."""

        def chosen() -> bool:
            choices = (e for e in self.all(".ant-segmented-item") if e.text == word)
            if choice := next(choices, None):
                choice.click()
            return choice is not None

        self.until(chosen, f"nothing called {word}")

    def choose_more(self, words: str) -> None:
        """Choose from the menu of what else can be done with a lane."""
        self.click('button[aria-label="More for this lane"]')
        self.until(
            lambda: next(
                (
                    entry
                    for entry in self.all(".ant-dropdown-menu-item")
                    if entry.is_displayed() and entry.text.startswith(words)
                ),
                None,
            ),
            f"nothing called {words}",
        ).click()

    def undo(self) -> None:
        """Take the way back that a message offers."""
        self.until(
            lambda: next((e for e in self.all(".ant-message button") if e.text == "Undo"), None),
            "no Undo",
        ).click()

    def until(self, condition: Callable[[], Any], message: str = "") -> Any:
        """Wait until a condition gives something true, and return that."""

        def tried(_: object) -> Any:
            from selenium.common.exceptions import StaleElementReferenceException

            try:
                return condition()
            except StaleElementReferenceException:
                return None

        return WebDriverWait(self.driver, PATIENCE_S, 0.15).until(tried, message)

    def type_over(self, element: WebElement, text: str) -> None:
        """Put other text into a field and press Enter."""
        element.click()
        element.send_keys(Keys.CONTROL, "a")
        element.send_keys(text, Keys.ENTER)

    def replace_code(self, test_id: str, text: str) -> None:
        """Put other text into an editor by typing, as the clipboard would."""
        area = self.by_id(test_id).find_element(By.CSS_SELECTOR, ".cm-content")
        area.click()
        area.send_keys(Keys.CONTROL, "a")
        area.send_keys(Keys.DELETE)
        self.driver.execute_cdp_cmd("Input.insertText", {"text": text})

    def fetch(self, path: str) -> Any:
        """What the API says to this signed-in browser."""
        return self.driver.execute_async_script(
            "const [path, done] = arguments;fetch(path).then(answer => answer.json()).then(done)",
            path,
        )

    def send(self, method: str, path: str, body: dict[str, Any]) -> tuple[int, Any]:
        """Send what the page need not offer; the status and what the API answers."""
        script = (
            "const [method, path, body, done] = arguments;"
            "const csrf = /ivrell_csrf_\\d*=([^;]+)/.exec(document.cookie)[1];"
            "const headers = { 'Content-Type': 'application/json', 'X-CSRFToken': csrf };"
            "fetch(path, { method, headers, body })"
            ".then(async (answer) => done([answer.status, await answer.json()]))"
        )
        status, told = self.driver.execute_async_script(script, method, path, json.dumps(body))
        return int(status), told

    def launch(self, comparison: int, plan: dict[str, Any]) -> int:
        """Launch a trial with a plan that the page need not offer; the status of the answer.
        Other tests run beside it, so no run waits for a quiet moment unless the plan says so."""
        asked = {"disturbed": UNDISTURBED, **plan}
        return self.send("POST", f"/api/comparisons/{comparison}/launch/", asked)[0]

    def complaints(self) -> list[str]:
        """Errors in the console since the last call, but for input that the server refused:
        the browser logs every such answer, and the page tells them to the user."""
        return [
            entry["message"]
            for entry in self.driver.get_log("browser")
            if entry["level"] == "SEVERE" and "status of 400" not in entry["message"]
        ]

    def close(self) -> None:
        self.driver.quit()
        self._profile.cleanup()
