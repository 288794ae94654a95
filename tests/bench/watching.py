"""What watching costs what is measured: python -m tests.bench.watching.

A trial of a computation of some 0.4 s in a whole Ivrell, by turns with nobody watching and with
three browsers on its live view; the ratio of the medians, and of the CPU time.
"""

import statistics

from tests.support.browser import Browser
from tests.support.comparisons import HEAD, approach
from tests.support.running import Running
from tests.support.waiting import wait_until

WATCHERS, TURNS, ROUNDS = 3, 4, 12
COMPUTING = """
    def answer(data, knobs, stage):
        total = 0
        for number in range(6_000_000):
            total += number % 7
        return [{"gauge": "Ash", "n": total}]
"""


def trial(browser: Browser, comparison: int) -> tuple[list[float], list[float]]:
    """Elapsed and CPU seconds of the runs of a trial."""
    plan = {"rounds": ROUNDS, "warm_ups": 1, "disturbed": {"share": 1, "wait_s": 0}}
    assert browser.launch(comparison, plan) == 201

    def ended() -> dict | None:
        # Looked at seldom: who asks is a watcher too.
        newest = browser.fetch(f"/api/trials/?comparison={comparison}")[0]
        return newest if newest["state"] == "done" else None

    number = wait_until(ended, every_s=3.0)["id"]
    lane = browser.fetch(f"/api/trials/{number}/findings/")["lanes"][0]
    runs = [run for run in lane["runs"] if run["counted"]]
    return ([run["elapsed_s"] for run in runs],
            [run["cpu_user_s"] + run["cpu_system_s"] for run in runs])  # fmt: skip


def main() -> None:
    ivrell, browsers = Running(), []
    try:
        link = ivrell.start("--no-demo")
        asking = Browser()
        browsers.append(asking)
        asking.open(link)
        text = HEAD + approach("computing", COMPUTING)
        comparison = asking.send("POST", "/api/comparisons/import/", {"text": text})[1]["id"]
        asking.open(f"{ivrell.address}/comparisons/{comparison}/question")
        for _ in range(WATCHERS):
            browser = Browser()
            browsers.append(browser)
            browser.open(ivrell.link())
        took: dict[bool, list[list[float]]] = {False: [[], []], True: [[], []]}
        for turn in range(2 * TURNS):
            watched = turn % 2 == 1
            for browser in browsers[1:]:
                step = "trial" if watched else "question"
                browser.open(f"{ivrell.address}/comparisons/{comparison}/{step}")
            elapsed, cpu = trial(asking, comparison)
            took[watched][0] += elapsed
            took[watched][1] += cpu
        for name, place in (("elapsed", 0), ("CPU", 1)):
            alone, beside = (statistics.median(took[w][place]) for w in (False, True))
            print(f"{name}: {alone * 1000:.1f} ms alone, {beside * 1000:.1f} ms with {WATCHERS} "
                  f"pages watching: {beside / alone:.3f}")  # fmt: skip
    finally:
        for browser in browsers:
            browser.close()
        ivrell.close()


if __name__ == "__main__":
    main()
