"""Pairs, claims, notes, the board and what matters, by the API."""

import json
from unittest import mock

from django.db import connection
from django.test.utils import CaptureQueriesContext

from ivrell.core.results.folder import ResultFolder
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.runner import do
from ivrell.server.trials.models import Trial
from tests.support.comparisons import UNDISTURBED
from tests.support.server import ServerCase, trial_of, work

CLAIM = {"text": "The query wins", "lower": "query", "higher": "loop", "where": {"rows": "<= 500"}}


class FindingsInFull(ServerCase):
    def conducted(self, **plan):
        asked = {"rounds": 2, "warm_ups": 0, "disturbed": UNDISTURBED, **plan}
        made = self.call("post", self.at("launch/"), asked, 201)
        work(Trial.objects.get(pk=made["id"]))
        return Trial.objects.get(pk=made["id"])

    def test_a_pair_has_every_measure_the_code_and_the_answers(self):
        trial = self.conducted()
        pair = self.call("get", f"trials/{trial.pk}/pair/?base=loop&lane=query")
        self.assertEqual((pair["base"], pair["lane"]), ("loop", "query"))
        found = self.call("get", f"trials/{trial.pk}/findings/")
        told = {row["key"]: row for row in found["measures"]}
        for row in pair["measures"]:
            medians = told[row["key"]]["lanes"]
            self.assertEqual(row["lane"]["median"], medians["query"]["median"], row["key"])
        self.assertTrue(pair["agreement"]["agrees"])
        self.assertEqual({line["kind"] for line in pair["code"]}, {"added", "removed"})
        self.assertIn("read", [stage["name"] for stage in pair["stages"]])
        for base, lane in (("loop", "loop"), ("loop", "nobody"), ("", "")):
            self.call("get", f"trials/{trial.pk}/pair/?base={base}&lane={lane}", status=400)

    def test_claims_pinned_after_a_trial_are_held_against_it(self):
        trial = self.conducted()
        path = f"trials/{trial.pk}/findings/"
        self.assertEqual(self.call("get", path)["claims"], [])
        changed = self.call("get", self.at())["changed_at"]
        kept = self.call("put", self.at("remarks/"), {
            "notes": [{"text": "See *this*.", "lane": "loop"}],
            "claims": [CLAIM, {**CLAIM, "where": {"rows": "> 500"}}],
        })  # fmt: skip
        self.assertEqual(kept["changed_at"], changed)
        self.assertEqual(kept["notes"][0]["lane"], "loop")
        first, second = self.call("get", path)["claims"]
        self.assertIn(first["state"], ("holds", "contradicted", "cannot tell"))
        self.assertEqual(second["state"], "not of this point")
        text = Comparison.objects.get(pk=self.comparison.pk).text
        self.assertIn("[[claim]]", text)
        wrong = {"notes": [], "claims": [{**CLAIM, "lower": "gone"}]}
        told = self.call("put", self.at("remarks/"), wrong, status=400)
        self.assertIn('no approach "gone"', told["what"])
        # The next trial takes them along, into its report too.
        again = self.conducted()
        self.assertIn("The query wins", again.results.report.read_text())
        self.assertIn("<em>this</em>", again.results.report.read_text())

    def test_a_crossing_is_told_of_all_sizes_together(self):
        trial = self.conducted(knobs={"rows": [100, 200]})
        crossing = {"knob": "rows", "low": 110, "high": 190}
        claims = [{"text": "c", "lower": "query", "higher": "loop", "crossing": crossing}]
        self.call("put", self.at("remarks/"), {"notes": [], "claims": claims})
        for rows in (100, 200):
            path = f"trials/{trial.pk}/findings/?point={json.dumps({'rows': rows})}"
            [told] = self.call("get", path)["claims"]
            self.assertIn(told["state"], ("holds", "weakened", "contradicted", "cannot tell"))
            self.assertIn("passes between 110 and 190 of rows", told["asserts"])

    def test_what_is_said_of_an_ended_trial_is_kept_and_made_anew_when_it_is_judged_anew(self):
        trial = self.conducted()
        path = f"trials/{trial.pk}/findings/"
        before = self.call("get", path)
        self.assertEqual([line.what for line in trial.replies.order_by("what")], ["0", "sweep"])
        made = mock.patch("ivrell.server.trials.models.findings", side_effect=AssertionError)
        read = mock.patch.object(ResultFolder, "read", side_effect=AssertionError)
        with made, read:
            self.assertEqual(self.call("get", path), before)
            self.call("get", f"trials/{trial.pk}/sweep/")
        self.assertNotIn("pairs", before)
        pairs = self.call("get", f"trials/{trial.pk}/pairs/")["pairs"]
        self.assertEqual({(one["base"], one["lane"]) for one in pairs},
                         {("loop", "query"), ("query", "loop")})  # fmt: skip
        # One of an earlier version has another shape.
        trial.replies.update(edition="former", text="{}")
        self.assertEqual(self.call("get", path), before)
        do(Job.objects.ask("judging", {"trial": trial.pk, "reference": "query"}).pk)
        lanes = {lane["id"]: lane["agreement"] for lane in self.call("get", path)["lanes"]}
        self.assertEqual(lanes["loop"]["reference"], "query")

    def test_the_list_asks_the_records_no_more_often_for_more_comparisons(self):
        def asked():
            with CaptureQueriesContext(connection) as queries:
                self.call("get", "comparisons/")
            return len(queries)

        self.call("get", "comparisons/")
        few = asked()
        for _ in range(4):
            copy = Comparison.objects.from_text(self.comparison.text)
            trial_of(copy)
        self.assertEqual(asked(), few)

    def test_the_board_is_kept_and_changes_nothing_else(self):
        changed = self.call("get", self.at())["changed_at"]
        board = {
            "columns": [{"key": "elapsed"}, {"key": "counter.commits", "width": 90, "log": True}]
        }
        kept = self.call("put", self.at("board/"), board)
        self.assertEqual([c["key"] for c in kept["board"]], ["elapsed", "counter.commits"])
        self.assertEqual((kept["board"][1]["width"], kept["board"][0]["width"]), (90, None))
        self.assertEqual(self.call("get", self.at())["board"], kept["board"])
        self.assertEqual(kept["changed_at"], changed)
        for bad in ({"key": "x", "width": 5}, {"key": ""}, {"key": "x", "other": 1}):
            self.call("put", self.at("board/"), {"columns": [bad]}, status=400)

    def test_what_matters_is_part_of_the_question(self):
        self.assertEqual(self.call("get", self.at())["matters"], 0.05)
        self.assertEqual(self.call("patch", self.at(), {"matters": 0.2})["matters"], 0.2)
        self.call("patch", self.at(), {"matters": 1.5}, status=400)

    def test_findings_of_an_ended_trial_are_kept_and_those_of_another_edition_made_anew(self):
        trial = self.conducted()
        path = trial.folder / "findings.json"
        kept = json.loads(path.read_text())
        kept["points"][0]["conclusion"] = "RecordFile as it was."
        path.write_text(json.dumps(kept))
        trial.replies.all().delete()
        address = f"trials/{trial.pk}/findings/"
        self.assertEqual(self.call("get", address)["conclusion"], "RecordFile as it was.")
        kept["edition"] = 0
        path.write_text(json.dumps(kept))
        trial.replies.all().delete()
        self.assertEqual(self.call("get", address)["conclusion"], trial.conclusion)

    def test_a_sweep_tells_growth_and_who_leads(self):
        trial = self.conducted(knobs={"rows": [100, 300, 1000]}, rounds=1)
        swept = self.call("get", f"trials/{trial.pk}/sweep/")
        [found] = swept["found"]
        self.assertEqual(found["knob"], "rows")
        self.assertRegex(found["words"], "is the quickest|told to lead")
        told = {(growth["lane"], growth["measure"]) for growth in found["growths"]}
        self.assertLessEqual({("loop", "elapsed"), ("query", "cpu_total")}, told)
        self.assertEqual(
            # So few rows hold less memory than can be told, so that nobody holds the least.
            [lead["measure"] for lead in found["leads"]][:2],
            ["elapsed", "cpu_total"],
        )
        first = swept["points"][0]
        self.assertIn(first["margin"]["lane"], {"loop", "query"})
        self.assertNotEqual(first["margin"]["lane"], first["margin"]["behind"])
        self.assertEqual(len(first["lanes"][0]["dots"]), 1)
        self.assertTrue((trial.folder / "sweep.json").exists())
        one = self.conducted(rounds=1)
        self.assertEqual(self.call("get", f"trials/{one.pk}/sweep/")["found"], [])

    def test_a_search_needs_sizes_and_its_own_stand_among_the_points(self):
        address = self.at("launch/")
        refused = self.call("post", address, {"search": {}}, status=400)
        self.assertIn("smallest and its largest", refused["hint"])
        trial = self.conducted(knobs={"rows": [100, 1000]}, rounds=1, search={"minutes": 0.1})
        self.assertGreater(trial.planned_runs, 4)
        run = trial.runs.first()
        run.pk, run.number = None, 99
        run.record = {**run.record, "run": 99, "point": {"rows": 400}}
        run.save()
        sizes = [point["rows"] for point in trial.points]
        self.assertEqual(sizes, sorted(sizes))
        self.assertLessEqual({100, 400, 1000}, set(sizes))
