"""Costs by the API: prices of this machine, what is assumed, what lanes cost."""

from ivrell.core.trial.plan import Plan
from ivrell.server.trials.models import Trial
from tests.support.comparisons import UNDISTURBED
from tests.support.server import ServerCase, work

PRICES = {
    "currency": "EUR",
    "machines": {"small": {"per_hour": 0.36, "memory_bytes": 8 * 10**9}},
    "storages": {"disk": {"per_gb_month": 0.1}},
}


class Costs(ServerCase):
    def setUp(self):
        super().setUp()
        self.addCleanup(self.client.put, "/api/prices/", {}, content_type="application/json")

    def test_by_prices_that_are_kept_and_what_the_comparison_says(self):
        trial = Trial.objects.launch(
            self.comparison, Plan(rounds=2, warm_ups=0, disturbed=UNDISTURBED)
        )
        cost, own = f"trials/{trial.pk}/cost/", f"comparisons/{self.comparison.pk}/"
        self.assertIn("has not ended", self.call("post", cost, {}, status=400)["what"])
        work(trial)
        self.assertIn("is not said", self.call("post", cost, {}, status=400)["what"])
        assumed = {"per_day": 40, "machine": "small", "storage": "disk", "work": {"query": 2},
                   "per_work_hour": 60}  # fmt: skip
        before = self.call("get", own)
        said = self.call("put", f"{own}cost/", assumed)
        self.assertEqual(assumed, said["cost"])
        # No figure is older for it.
        self.assertEqual(before["changed_at"], said["changed_at"])
        told = self.call("post", cost, {}, status=400)
        self.assertIn("No machine has the name small", told["what"])
        kept = self.call("put", "prices/", PRICES)
        self.assertEqual(0.36, kept["machines"]["small"]["per_hour"])
        found = self.call("post", cost, {})
        self.assertEqual({"loop", "query"}, {lane["lane"] for lane in found["lanes"]})
        self.assertIn("40 times a day on small", found["words"][0])
        other = self.call("post", cost, {"assumed": {"per_day": 80, "machine": "small"}})
        by_lane = {lane["lane"]: lane["running"]["value"] for lane in found["lanes"]}
        for lane in other["lanes"]:
            self.assertAlmostEqual(2 * by_lane[lane["lane"]], lane["running"]["value"])
        self.call("post", cost, {"point": {"rows": 12345}}, status=400)
        self.call("put", f"{own}cost/", {"per_day": 40, "machine": "small", "work": {"no": 1}}, 400)
        self.call("put", "prices/", {"machines": {"free": {}}}, status=400)
        report = self.client.get(f"/api/trials/{trial.pk}/report/").content.decode()
        self.assertIn("What it costs a month", report)
        self.client.logout()
        self.assertEqual(403, self.client.get("/api/prices/").status_code)
