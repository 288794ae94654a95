"""Takes the pictures of docs/screenshots anew, from the demo: python -m tools.screenshots.

Starts an Ivrell of its own on a throwaway folder, runs a trial of the demo, and opens each
main view at 1280 by 800.
"""

import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))

from tests.support.browser import Browser  # noqa: E402
from tests.support.running import Running  # noqa: E402

TO = ROOT / "docs" / "screenshots"
SETTLE_S = 2.5
QUIET_S = 4.0
SWEEP = {
    "rounds": 4, "warm_ups": 1, "knobs": {"rows": ["1_000..3_000_000/2"]},
    "step_up": True, "limits": {"seconds": 2},
}  # fmt: skip
MAP = {
    "rounds": 4, "warm_ups": 0, "lanes": ["columns", "server", "pandas", "polars", "dictionary"],
    "knobs": {"passages": [500, 2_000, 8_000, 20_000], "barges": [200, 1_500, 6_000]},
}  # fmt: skip
MIDDLE_OF_A_LONG_RUN = """
const words = document.querySelector(".now-words")?.textContent ?? "";
return words.includes("Plain loop") && words.includes("cores busy");
"""


MORE = (
    ("sheet", "barge-details", "checked", "Try", "try", ".answer tbody tr"),
    ("approaches", "tolls-per-lock", "loop", "Hot lines", "hot", ".cm-took .took"),
    ("explained", "eight-totals", "joins", "Explained", "explain", ".plan-tree"),
    ("interrupted", "post-tolls", "each", "Interrupted", "interrupt", ".left-there"),
)
"""Of the step Approaches: picture, demo file, lane, what stands beside, button, what then shows."""


def shoot(browser: Browser, name: str) -> None:
    time.sleep(SETTLE_S)
    browser.driver.save_screenshot(str(TO / f"{name}.png"))


def ran(browser: Browser, at: str, comparison: int, plan: dict[str, object]) -> None:
    """Run a trial of a comparison by a plan, looking at it seldom."""
    browser.open(f"{at}/{comparison}/trial")
    browser.launch(comparison, plan)
    browser.open(f"{at}/{comparison}/trial")
    while not browser.by_id("live-state").text.startswith("done"):
        time.sleep(QUIET_S)


def over_time(browser: Browser, at: str, comparison: int) -> None:
    """Run several trials of a comparison, a lane being slowed down at one of them."""
    plan = {"rounds": 4, "warm_ups": 0, "knobs": {"rows": [30_000]}}
    head = "def answer(data, knobs, stage):"
    for number in range(9):
        if number == 6:
            lanes = browser.fetch(f"/api/comparisons/{comparison}/")["lanes"]
            code = next(lane["code"] for lane in lanes if lane["id"] == "loop")
            slower = code.replace(head, f"{head}\n    sorted(range(1_500_000, 0, -1))")
            browser.send("PATCH", f"/api/comparisons/{comparison}/lanes/loop/", {"code": slower})
        ran(browser, at, comparison, plan)


def main() -> None:
    ivrell, browser = Running(), None
    try:
        link = ivrell.start()
        browser = Browser()
        browser.open(link)
        at = f"{ivrell.address}/comparisons/1"
        browser.open(f"{at}/trial")
        browser.type_over(browser.find('input[aria-label="Rounds"]'), "10")
        browser.by_id("launch").click()
        # Looked at seldom: a browser that is asked all the time would slow the runs.
        while len(browser.all(".cell.done")) < 31:
            time.sleep(QUIET_S)
        while not browser.driver.execute_script(MIDDLE_OF_A_LONG_RUN):
            time.sleep(0.5)
        browser.driver.save_screenshot(str(TO / "trial.png"))
        while not browser.by_id("live-state").text.startswith("done"):
            time.sleep(QUIET_S)
        for name, path in (
            ("comparisons", ivrell.address),
            ("question", f"{at}/question"),
            ("data", f"{at}/data"),
            ("agreement", f"{at}/agreement?lane=pandas"),
            ("findings", f"{at}/findings"),
            ("lane", f"{at}/findings?lane=polars"),
            ("machine", f"{ivrell.address}/machine"),
        ):
            browser.open(path)
            shoot(browser, name)
        demo = {line["demo"]: line["id"] for line in browser.fetch("/api/comparisons/")}
        for name, file, lane, side, button, shown in MORE:
            browser.open(f"{ivrell.address}/comparisons/{demo[file]}/approaches?lane={lane}")
            browser.side(side)
            browser.by_id(button).click()
            browser.until(lambda shown=shown: browser.all(shown))
            shoot(browser, name)
        ran(browser, f"{ivrell.address}/comparisons", 1, SWEEP)
        browser.open(f"{at}/sweep")
        shoot(browser, "sweep")
        details = demo["barge-details"]
        ran(browser, f"{ivrell.address}/comparisons", details, MAP)
        browser.open(f"{ivrell.address}/comparisons/{details}/sweep?across=barges")
        shoot(browser, "map")
        tolls = demo["post-tolls"]
        ran(browser, f"{ivrell.address}/comparisons", tolls, {"rounds": 5, "warm_ups": 1})
        for name, view in (
            ("steps", "show=steps&cols=elapsed,counter.log%20flushes,counter.commits"),
            ("pair", "show=pair&base=each&lane=copied"),
        ):
            browser.open(f"{ivrell.address}/comparisons/{tolls}/findings?{view}")
            browser.find(".stairs-table, .pair-grid")
            browser.driver.execute_script(
                "document.querySelector('.views').scrollIntoView({block: 'start'})"
            )
            shoot(browser, name)
        over_time(browser, f"{ivrell.address}/comparisons", 1)
        browser.open(f"{at}/history")
        shoot(browser, "history")
        for comparison, plan in ((1, {"rounds": 40}), (tolls, {"rounds": 3}), (details, MAP)):
            browser.launch(comparison, plan)
        later = browser.fetch("/api/queue/")["under_way"][-1]["id"]
        due = {"not_before": "2031-05-01T22:00:00Z", "hours": {"first": 22, "until": 6}}
        browser.send("POST", f"/api/queue/{later}/due/", due)
        browser.open(f"{ivrell.address}/queue")
        browser.until(lambda: "Opening" not in browser.find("main, body").text)
        shoot(browser, "queue")
        for job in browser.fetch("/api/queue/")["under_way"]:
            browser.send("POST", f"/api/queue/{job['id']}/stop/", {})
        browser.driver.execute_script("localStorage.setItem('ivrell-theme', 'dark')")
        browser.open(f"{at}/findings?trial=1")
        shoot(browser, "findings-dark")
    finally:
        if browser:
            browser.close()
        ivrell.close()


if __name__ == "__main__":
    main()
