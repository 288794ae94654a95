"""Challenges asked of the application: done when their turn comes, kept, stopped."""

from ivrell.challenging import CHALLENGE
from ivrell.server.trials.models import Challenge
from tests.support.server import ServerCase, work


class Challenges(ServerCase):
    def test_one_is_done_when_its_turn_comes_and_kept(self):
        self.assertIsNone(self.call("get", self.at("challenge/"))["newest"])
        asked = {"minutes": 0.5, "knobs": {"rows": 400}}
        begun = self.call("post", self.at("challenge/"), asked, status=201)["newest"]
        self.assertEqual((begun["state"], begun["of_now"], begun["found"]), ("waiting", True, None))
        (waits,) = self.call("get", "queue/")["under_way"]
        self.assertEqual(waits["words"], "challenge")
        record = Challenge.objects.get()
        work(record)
        newest = self.call("get", self.at("challenge/"))["newest"]
        self.assertEqual(newest["state"], "done", newest["message"])
        found = newest["found"]
        self.assertEqual(found["point"]["rows"], 400)
        self.assertIn(found["leader"], ("loop", "query"))
        self.assertGreater(len(found["outcomes"]), 5)
        self.assertTrue(found["words"])
        self.assertEqual(newest["runs"], found["runs"])
        self.assertTrue((record.folder / CHALLENGE).exists())
        self.comparison.put_text(self.comparison.text + "\n# changed\n")
        self.comparison.save()
        self.assertFalse(self.call("get", self.at("challenge/"))["newest"]["of_now"])

    def test_it_is_stopped_and_refused_for_a_knob_that_is_none(self):
        self.call("post", self.at("challenge/"), {"minutes": 1}, status=201)
        newest = self.call("delete", self.at("challenge/"))["newest"]
        self.assertEqual(newest["state"], "stopped")
        told = self.call("post", self.at("challenge/"), {"knobs": {"size": 3}}, status=400)
        self.assertEqual(told["where"], "knobs.size")
