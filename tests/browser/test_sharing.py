"""What is passed on: the report as it is read without a network, a bundle as it comes back."""

import base64
import tempfile
import time
import unittest
from pathlib import Path

from tests.support.browser import Browser
from tests.support.comparisons import COUNTING, HEAD, UNDISTURBED, approach
from tests.support.running import Running

QUERY = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
TEXT = HEAD + approach("loop", COUNTING) + approach("query", QUERY, "duckdb", parent="loop")


class Sharing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ivrell = Running()
        cls.addClassCleanup(cls.ivrell.close)
        link = cls.ivrell.start("--no-demo")
        cls.browser = b = Browser()
        cls.addClassCleanup(cls.browser.close)
        b.open(link)
        _, made = b.send("POST", "/api/comparisons/import/", {"text": TEXT})
        cls.id = made["id"]
        b.launch(cls.id, {"rounds": 3, "warm_ups": 0, "knobs": {"rows": [100, 300]},
                          "disturbed": UNDISTURBED})  # fmt: skip
        b.until(lambda: b.fetch(f"/api/trials/?comparison={cls.id}")[0]["state"] == "done")
        cls.trial = b.fetch(f"/api/trials/?comparison={cls.id}")[0]["id"]
        folder = tempfile.TemporaryDirectory(prefix="ivrell-shared-")
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)

    def fetched(self, address, name):
        """A file as the page would give it to the user."""
        script = (
            "const [path, done] = arguments; fetch(path).then(a => a.arrayBuffer()).then(x => {"
            "let s = ''; for (const c of new Uint8Array(x)) s += String.fromCharCode(c);"
            "done(btoa(s)) })"
        )
        held = self.browser.driver.execute_async_script(script, address)
        path = self.folder / name
        path.write_bytes(base64.b64decode(held))
        return path

    def test_the_report_is_read_with_no_network_light_dark_and_printed(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/comparisons/{self.id}/findings")
        b.click('button[aria-label="Report"]')
        b.until(lambda: "Measured at" in b.by_id("report").text)
        self.assertIn("the same", b.by_id("report").text)
        page = self.fetched(f"/api/trials/{self.trial}/report/?pair=loop,query", "report.html")
        printed = self.fetched(f"/api/trials/{self.trial}/report/?form=pdf", "report.pdf")
        self.assertEqual(b"%PDF", printed.read_bytes()[:4])
        driver = b.driver
        driver.execute_cdp_cmd("Network.enable", {})
        driver.execute_cdp_cmd("Network.emulateNetworkConditions", {
            "offline": True, "latency": 0, "downloadThroughput": 0, "uploadThroughput": 0,
        })  # fmt: skip
        try:
            driver.get(page.as_uri())
            grounds = {}
            for mode, media, scheme in (
                ("light", "screen", "light"), ("dark", "screen", "dark"),
                ("print", "print", "dark"),
            ):  # fmt: skip
                driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {
                    "media": media,
                    "features": [{"name": "prefers-color-scheme", "value": scheme}],
                })  # fmt: skip
                with self.subTest(mode):
                    told = driver.execute_script(
                        "const s = getComputedStyle(document.body);"
                        "return [s.backgroundColor, s.color, document.body.scrollWidth,"
                        "window.innerWidth, document.querySelectorAll('svg circle').length,"
                        "document.body.innerText]"
                    )
                    ground, ink, wide, window, dots, words = told
                    grounds[mode] = ground
                    self.assertNotEqual(ground, ink)
                    self.assertLessEqual(wide, window)
                    self.assertGreaterEqual(dots, 12)
                    self.assertIn("What the figures are", words)
            self.assertEqual(3, len(set(grounds.values())), grounds)
            self.assertEqual("rgb(255, 255, 255)", grounds["print"])
            self.assertEqual([], b.complaints())
        finally:
            driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "", "features": []})
            driver.execute_cdp_cmd("Network.emulateNetworkConditions", {
                "offline": False, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1,
            })  # fmt: skip

    def test_a_bundle_comes_back_as_another_s_and_runs_once_its_code_was_read(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/comparisons/{self.id}/findings")
        bundle = self.fetched(f"/api/trials/{self.trial}/bundle/", "gauges.zip")
        b.open(self.ivrell.address)
        picker = b.driver.find_element("css selector", '[data-testid="import-file"]')
        picker.send_keys(str(bundle))
        b.until(lambda: "another’s: run on" in b.by_id("origin").text)
        own = int(b.driver.current_url.split("/comparisons/")[1].split("/")[0])
        self.assertNotEqual(self.id, own)
        self.assertIn("somebody’s trial", b.by_id("unread").text)
        status, told = b.send("POST", f"/api/comparisons/{own}/launch/", {"rounds": 1})
        self.assertEqual(400, status)
        self.assertIn("has not been read yet", told["what"])
        b.click('[data-testid="unread"] button')
        b.until(lambda: b.all(".ant-popconfirm .ant-btn-primary"))
        time.sleep(0.3)
        b.click(".ant-popconfirm .ant-btn-primary")
        b.until(lambda: not b.all('[data-testid="unread"]'))
        self.assertFalse(b.fetch(f"/api/comparisons/{own}/")["unread"])
        self.assertEqual(201, b.launch(own, {"rounds": 1, "warm_ups": 0}))


if __name__ == "__main__":
    unittest.main()
