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
        came = b.fetch(f"/api/trials/?comparison={own}")[0]["id"]
        self.assertEqual(201, b.launch(own, {"rounds": 3, "warm_ups": 0, "disturbed": UNDISTURBED,
                                             "knobs": {"rows": [100, 300]}}))  # fmt: skip
        b.until(lambda: b.fetch(f"/api/trials/?comparison={own}")[0]["state"] == "done")
        # What held of the other's is a click away, and all three stand side by side.
        b.open(f"{self.ivrell.address}/comparisons/{own}/findings")
        b.until(lambda: b.all(".findings-head"))
        [offered] = [one for one in b.all("button") if one.text == "what held of the other’s"]
        offered.click()
        told = b.until(lambda: b.by_id("second-opinion").text)
        self.assertRegex(told, "^(It holds|Not all of it holds)")
        self.assertIn("at 2 points", told)
        here = b.fetch(f"/api/trials/?comparison={own}")[0]["id"]
        b.open(f"{self.ivrell.address}/comparisons/{own}/history")
        for trial in (came, here):
            b.click(f'[aria-label="Trial {trial} side by side"]')
        b.until(lambda: b.all(f'[data-testid="compared-{here}"]'))
        self.assertIn(f"beside={came}", b.driver.current_url)
        b.open(f"{b.driver.current_url},{self.trial}")
        row = b.until(lambda: b.by_id(f"compared-{self.trial}").text)
        self.assertIn("cores", row)
        self.assertRegex(row, "faster|slower|not told apart|no difference")

    def test_what_lanes_cost_by_prices_that_are_told_where_they_are_asked_for(self):
        b = self.browser
        b.open(f"{self.ivrell.address}/comparisons/{self.id}/findings?show=cost")
        for label, typed in (("Name of the machine", "small"), ("Price of an hour", "0.12"),
                             ("Memory in GB", "8")):  # fmt: skip
            b.find(f'[aria-label="{label}"]').send_keys(typed)
        b.press("keep-machine")
        b.until(lambda: "8.00 GB of memory" in b.by_id("price-small").text)
        times = b.find('[aria-label="Times a day"]')
        b.type_over(times, "2000\n")
        b.until(lambda: b.fetch(f"/api/comparisons/{self.id}/")["cost"] is not None)
        told = b.until(lambda: b.by_id("cost-words").text)
        self.assertIn("2,000 times a day on small", told)
        self.assertEqual(2, len(b.all('[data-testid="cost-table"] tbody tr')))
        self.assertEqual(
            2, len(b.all('[data-testid="cost-lines"] g[data-testid^="cost-"] circle')) / 2
        )
        # What is no number is kept where it stands, and changes nothing.
        b.type_over(b.find('[aria-label="Times a day"]'), "often\n")
        b.until(lambda: b.all('[aria-label="Times a day"][aria-invalid="true"]'))
        self.assertEqual(2000, b.fetch(f"/api/comparisons/{self.id}/")["cost"]["per_day"])
        page = self.fetched(f"/api/trials/{self.trial}/report/", "costs.html").read_text()
        self.assertIn("2,000 times a day on small", page)
        self.assertEqual([], b.complaints())


if __name__ == "__main__":
    unittest.main()
