"""How long a sweep takes to be drawn anew: python -m tests.bench.sweep_page

Twenty lanes by forty sizes, ten runs each, in a real browser: the page gets a made answer of that
size in place of the server's, its measure and its axes are changed in turns, and the time from the
change to the next frame is taken. Beside it, in the same browser, a loop of sums: what this machine
does now.
"""

import json
import os
import statistics
import time
from contextlib import closing

import django
import numpy as np

from ivrell.core.comparison.file import parse
from ivrell.core.records.machine import Machine
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.report.sweep.findings import sweeps
from tests.core.test_findings import run
from tests.support.browser import Browser
from tests.support.comparisons import HEAD, approach, python_answer
from tests.support.running import Running

LANES, SIZES, ROUNDS, TIMES = 20, 40, 10, 6
CHANGES = ("?measure=cpu_total", "?axes=log,linear", "?lane=lane_3")
"""One from the other: another measure and axis, then the first again, then a lane chosen."""

INTERCEPT = """
const made = %s;
const asked = window.fetch;
window.fetch = (...given) => {
  const address = String(given[0]?.url ?? given[0]);
  if (!address.includes("/sweep/")) return asked(...given);
  const headers = { "Content-Type": "application/json" };
  return Promise.resolve(new Response(JSON.stringify(made), { headers }));
};
"""
CHANGE = """
const [search, done] = arguments;
const began = performance.now();
const seen = new MutationObserver(() => {
  seen.disconnect();
  requestAnimationFrame(() => setTimeout(() => done(performance.now() - began)));
});
const watched = { subtree: true, attributes: true, childList: true };
seen.observe(document.querySelector(".sweep"), watched);
history.pushState(null, "", search);
dispatchEvent(new PopStateEvent("popstate"));
"""
BESIDE = """
const began = performance.now();
let sum = 0;
for (let i = 0; i < 3e7; i++) sum += i % 7;
return performance.now() - began;
"""


def main() -> None:
    """Print medians."""
    text = HEAD + "".join(approach(f"lane_{n}", python_answer("pass")) for n in range(LANES))
    with closing(Running()) as ivrell:
        browser = Browser()
        try:
            browser.open(ivrell.start("--no-demo"))
            _, made = browser.send("POST", "/api/comparisons/import/", {"text": text})
            browser.launch(made["id"], {"rounds": 1, "warm_ups": 0, "knobs": {"rows": [10, 20]}})
            while browser.fetch(f"/api/trials/?comparison={made['id']}")[0]["state"] != "done":
                time.sleep(1)
            browser.driver.execute_cdp_cmd(
                "Page.addScriptToEvaluateOnNewDocument", {"source": INTERCEPT % _answer(text)}
            )
            page = f"{ivrell.address}/comparisons/{made['id']}/sweep"
            browser.open(page)
            browser.find('[data-testid="sweep-lane_19"]')
            browser.driver.set_script_timeout(30)
            took: dict[str, list[float]] = {search: [] for search in CHANGES}
            beside = []
            for turn in range(len(CHANGES) * TIMES):
                search = CHANGES[turn % len(CHANGES)]
                took[search].append(browser.driver.execute_async_script(CHANGE, search))
                beside.append(browser.driver.execute_script(BESIDE))
            drawn = len(browser.all(".sweep-lane .spot"))
            print(f"{LANES} lanes by {SIZES} sizes, {drawn} points drawn")
            for search, times in took.items():
                print(f"{search}: {statistics.median(times):.0f} ms, at most {max(times):.0f} ms")
            print(f"beside it, 30 million sums: {statistics.median(beside):.0f} ms")
        finally:
            browser.close()


def _answer(text: str) -> str:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ivrell.server.settings")
    django.setup()
    from ivrell.server.trials.shapes import Sweep

    comparison = parse(text)
    rng = np.random.default_rng(1)
    runs = []
    for size in np.unique(np.logspace(2, 6, SIZES).round().astype(int)).tolist():
        for lane in range(LANES):
            for number in range(1, ROUNDS + 1):
                took = (0.01 * lane + 1e-6 * size * (1 + lane / 20)) * rng.lognormal(0, 0.05)
                runs.append(run(len(runs) + 1, f"lane_{lane}", number, float(took),
                                point={"rows": size}))  # fmt: skip
    points = [
        findings(comparison, RunSet.of(runs, Machine()), {}, {"rows": size})
        for size in sorted({r.point["rows"] for r in runs})
    ]  # fmt: skip
    found = sweeps(comparison, RunSet.of(runs, Machine()), points)
    return json.dumps(Sweep.of(points, found).model_dump(mode="json"))


if __name__ == "__main__":
    main()
