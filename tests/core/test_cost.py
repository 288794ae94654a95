"""Costs worked out by hand, prices that are kept, payback, crossings along a knob."""

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.edit import change_approach, remove_approach, set_table
from ivrell.core.comparison.file import parse
from ivrell.core.prices import PriceTables
from ivrell.core.records.cost import Assumed, MachinePrice, Prices, StoragePrice
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.sweep import Growth, Prediction, SweepFindings
from ivrell.core.report.cost import costs, stored_bytes
from tests.core.test_findings import SLOW
from tests.core.test_pairs import MIDDLE, STEPS, found_of, runs_of
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

PRICES = Prices(
    currency="EUR",
    machines={
        "small": MachinePrice(per_hour=0.36, memory_bytes=10**9),
        "large": MachinePrice(per_hour=1.5, memory_bytes=10**11),
        "by the second": MachinePrice(per_cpu_hour=3.6),
    },
    storages={"disk": StoragePrice(per_gb_month=0.1)},
)
TEXT = STEPS.replace('baseline = "rows"', "")
RUNS_A_MONTH = 40 * 365.25 / 12


def table(rows, size, form="csv", **more):
    return MadeTable(table="readings", form=form, rows=rows, size_bytes=size, seconds=0,
                     fingerprint="f", **more)  # fmt: skip


def trial(**sweeps):
    found = found_of(TEXT, runs_of({"rows": SLOW, "once": MIDDLE}))
    return TrialFindings(ended="done", points=[found], **sweeps)


class ByHand(unittest.TestCase):
    def found(self, assumed, made=(), prices=PRICES, whole=None):
        return costs(parse(TEXT), whole or trial(), made, Assumed(**assumed), prices)

    def test_a_month_of_machine_time_and_storage(self):
        made = [table(300, 2 * 10**9)]
        found = self.found({"per_day": 40, "machine": "small", "storage": "disk"}, made)
        # Once in two seconds: 1217.5 runs a month are 2435 s of a machine at 0.36 an hour.
        lane = next(lane for lane in found.lanes if lane.lane == "once")
        took = next(one for one in trial().points[0].lanes if one.id == "once").elapsed
        self.assertAlmostEqual(RUNS_A_MONTH * took.median / 3600 * 0.36, lane.running.value)
        self.assertAlmostEqual(RUNS_A_MONTH * took.low / 3600 * 0.36, lane.running.low)
        self.assertAlmostEqual(0.2, lane.storage)
        self.assertAlmostEqual(lane.running.value + 0.2, lane.total.value)
        self.assertAlmostEqual(lane.running.high + 0.2, lane.total.high)
        self.assertEqual(["once", "rows"], [one.lane for one in found.lanes])
        self.assertIn("One commit costs", found.words[0])
        self.assertIn("EUR a month, Row by row", found.words[0])

    def test_where_cpu_time_is_billed(self):
        found = self.found({"per_day": 40, "machine": "by the second"})
        lane = next(lane for lane in found.lanes if lane.lane == "once")
        took = next(one for one in trial().points[0].lanes if one.id == "once").cpu_total
        self.assertAlmostEqual(RUNS_A_MONTH * took.median / 3600 * 3.6, lane.running.value)
        self.assertIsNone(lane.storage)

    def test_extra_work_pays_back_or_never(self):
        assumed = {"per_day": 40, "machine": "small", "work": {"once": 2.0}, "per_work_hour": 50.0}
        found = self.found(assumed)
        by_id = {lane.lane: lane for lane in found.lanes}
        saved = by_id["rows"].total.value - by_id["once"].total.value
        back = by_id["once"].pays_back_days
        self.assertAlmostEqual(100 / (saved / (365.25 / 12)), back.value)
        self.assertLess(back.low, back.value)
        self.assertGreater(back.high, back.value)
        slower = TEXT.replace("[targets]", 'baseline = "once"\n[targets]', 1)
        never = costs(
            parse(slower), trial(), (), Assumed(**{**assumed, "work": {"rows": 1.0}}), PRICES
        )
        self.assertIn("Row by row saves nothing that could pay back", " ".join(never.words))

    def test_unknown_prices_and_sizes_are_told(self):
        with self.assertRaisesRegex(BadInput, "No machine has the name huge"):
            self.found({"per_day": 1, "machine": "huge"})
        with self.assertRaisesRegex(BadInput, "No storage has the name tape"):
            self.found({"per_day": 1, "machine": "small", "storage": "tape"})
        found = self.found({"per_day": 1, "machine": "small", "storage": "disk"}, [])
        self.assertIn("Storage is not in the costs of", " ".join(found.words))

    def test_the_copy_that_is_most_like_what_a_lane_asks_for(self):
        read = parse(TEXT)
        made = [table(300, 5), table(300, 9, indexes=["readings(gauge)"]), table(30, 1)]
        self.assertEqual(5, stored_bytes(read, read.approach_called("once"), {"rows": 300}, made))
        self.assertIsNone(stored_bytes(read, read.approach_called("once"), {"rows": 7}, made))


class Along(unittest.TestCase):
    def test_the_cheapest_changes_hands_and_what_comes_beyond(self):
        near, far = (
            found_of(TEXT, runs_of(times)).model_copy(update={"point": {"rows": rows}})
            for rows, times in (
                (100, {"rows": MIDDLE, "once": SLOW}), (1000, {"rows": SLOW, "once": MIDDLE}),
            )
        )  # fmt: skip
        ahead = [Prediction(size=2000, value=5.0, low=4.0, high=6.0)]
        growth = Growth(lane="once", measure="elapsed", laws=[], bend=None, words="", ahead=ahead)
        sweep = SweepFindings(knob="rows", growths=[growth])
        whole = TrialFindings(ended="done", points=[near, far], sweeps=[sweep])
        made = [table(100, 10**9), table(1000, 10**10)]
        assumed = Assumed(per_day=40, machine="small", storage="disk")
        [along] = costs(parse(TEXT), whole, made, assumed, PRICES).along
        [crossing] = along.crossings
        self.assertEqual(("rows", "once"), (crossing.before, crossing.after))
        self.assertEqual((100, 1000), (crossing.low, crossing.high))
        self.assertTrue(100 < crossing.at < 1000)
        beyond = along.sizes[-1]
        self.assertTrue(beyond.predicted)
        # Storage goes straight on: 10 times 10^9 bytes for 900 rows more, so 20 at 2,000 rows.
        self.assertAlmostEqual(
            RUNS_A_MONTH * 5 / 3600 * 0.36 + 2.0, beyond.lanes["once"].value, places=6
        )


class Kept(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.kept = PriceTables(self.folder)

    def test_prices_are_told_and_forgotten(self):
        self.assertEqual(Prices(), self.kept.all())
        self.kept.put_machine("small", MachinePrice(per_hour=0.1))
        self.kept.put_storage("disk", StoragePrice(per_gb_month=0.05))
        self.kept.say_currency("EUR")
        found = PriceTables(self.folder).all()
        self.assertEqual((0.1, 0.05, "EUR"), (found.machines["small"].per_hour,
                         found.storages["disk"].per_gb_month, found.currency))  # fmt: skip
        self.kept.remove("small")
        self.assertEqual({}, self.kept.all().machines)
        for wrong in (
            lambda: self.kept.remove("small"),
            lambda: self.kept.put_machine(" ", MachinePrice(per_hour=1)),
            lambda: self.kept.say_currency("x" * 40),
        ):
            self.assertRaises(BadInput, wrong)
        self.assertRaisesRegex(ValueError, "a machine needs a price", MachinePrice)
        self.kept.put(PRICES)
        self.assertEqual(PRICES, self.kept.all())
        (self.folder / "prices.json").write_text("{")
        self.assertRaises(BadInput, self.kept.all)

    def test_the_file_may_say_what_is_assumed(self):
        text = TEXT + '\n[cost]\nper_day = 40\nmachine = "small"\nwork = { once = 6 }\n'
        self.assertEqual(6, parse(text).cost.work["once"])
        self.assertEqual(json.loads(parse(text).cost.model_dump_json())["machine"], "small")
        for wrong in ("per_day = 0\nmachine = \"small\"", "per_day = 1",
                      "per_day = 1\nmachine = \"s\"\nwork = { gone = 1 }"):  # fmt: skip
            self.assertRaises(BadInput, parse, f"{TEXT}\n[cost]\n{wrong}\n")

    def test_what_is_assumed_follows_the_lanes_and_is_said_anew(self):
        text = f"{TEXT}\n[cost]\nper_day = 40\nmachine = 'small'\nwork = {{ once = 6, rows = 2 }}\n"
        renamed = parse(change_approach(text, "once", {"id": "single"}))
        self.assertEqual({"single": 6, "rows": 2}, renamed.cost.work)
        self.assertEqual({"once": 6}, parse(remove_approach(text, "rows")).cost.work)
        again = parse(set_table(text, "cost", {"per_day": 2.0, "machine": "large"}))
        self.assertEqual(Assumed(per_day=2, machine="large"), again.cost)
        self.assertEqual(again.cost, parse(set_table(TEXT, "cost", {"per_day": 2.0,
                         "machine": "large"})).cost)  # fmt: skip


class OnTheTerminal(TrialCase):
    def ivrell(self, *arguments):
        return subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *map(str, arguments)], capture_output=True,
            text=True, cwd=self.folder, timeout=300, stdin=subprocess.DEVNULL,
            env={**os.environ, "IVRELL_DATA": str(self.folder / "data")},
        )  # fmt: skip

    def test_by_prices_that_are_told_and_what_the_file_says(self):
        more = '\n[cost]\nper_day = 40\nmachine = "small"\n'
        text = HEAD + approach("a", COUNTING) + approach("b", COUNTING) + more
        self.trial(text, rounds=2, knobs={"rows": [20, 40]}).conduct()
        unknown = self.ivrell("cost", "trial")
        self.assertEqual(2, unknown.returncode)
        self.assertIn("ivrell prices --machine NAME", unknown.stderr)
        told = self.ivrell(
            "prices", "--machine", "small", "--per-hour", "0.12", "--memory", "8GB",
            "--storage", "disk", "--per-gb-month", "0.1", "--currency", "EUR",
        )  # fmt: skip
        self.assertEqual(0, told.returncode, told.stderr)
        self.assertIn("small: 0.12 EUR an hour, 8.00 GB of memory", told.stdout)
        shown = self.ivrell("cost", "trial", "--storage", "disk", "--work", "b=2",
                            "--per-work-hour", "50")  # fmt: skip
        self.assertEqual(0, shown.returncode, shown.stderr)
        self.assertIn("40 times a day on small", shown.stdout)
        found = json.loads(self.ivrell("cost", "trial", "--json", "--at", "rows=40").stdout)
        self.assertEqual({"rows": 40}, found["point"])
        self.assertEqual("small", found["lanes"][0]["holds"])
        self.assertEqual([20, 40], [size["size"] for size in found["along"][0]["sizes"]])
        # It stands in the report, with its picture and what it rests on; or why it does not.
        written = self.ivrell("report", "trial", "--html", "r.html", "--markdown", "r.md")
        self.assertEqual(0, written.returncode, written.stderr)
        for form in ("r.html", "r.md"):
            report = (self.folder / form).read_text()
            self.assertIn("40 times a day on small", report)
            self.assertIn("0.12 EUR an hour", report)
        self.assertIn("cost a month over rows", (self.folder / "r.html").read_text())
        self.assertIn("svg", (self.folder / "r-cost-1.svg").read_text())
        self.ivrell("prices", "--remove", "small")
        self.ivrell("report", "trial", "--html", "r.html")
        self.assertIn(
            "Not told: No machine has the name small", (self.folder / "r.html").read_text()
        )
        self.ivrell("prices", "--machine", "small", "--per-hour", "0.12")
        for wrong in (["--work", "b"], ["--work", "gone=1"], ["--per-day", "-1"],
                      ["--per-day", "0"]):  # fmt: skip
            self.assertEqual(2, self.ivrell("cost", "trial", *wrong).returncode, wrong)
