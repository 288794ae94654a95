"""Files and bodies by chance: each ends in success or in an error that says what and where."""

import itertools
import json
import os
import random
from unittest import mock

from django.test import SimpleTestCase

from tests.bench import hostile
from tests.support.bodies import OddBodies
from tests.support.server import ServerCase, trial_of

SEED = int(os.environ.get("IVRELL_TEST_SEED", "1"))
BODIES, FILES, RECIPES = 200, 300, 40


class Bodies(ServerCase):
    def test_each_body_is_taken_or_refused_with_a_sentence(self):
        trial = trial_of(self.comparison)
        ids = {"comparison": self.comparison.pk, "id": self.comparison.pk, "lane": "loop"}
        bodies = OddBodies(random.Random(SEED), ids)
        statuses = set()
        with mock.patch("procrastinate.jobs.JobDeferrer.defer", return_value=1):
            for method, path, body in itertools.islice(bodies, BODIES):
                path = path.replace(f"trials/{self.comparison.pk}/", f"trials/{trial.pk}/")
                self.client.raise_request_exception = False
                answer = getattr(self.client, method)(
                    path, data=body, content_type="application/json"
                )
                with self.subTest(door=f"{method} {path}", body=body[:300]):
                    self.assertLess(answer.status_code, 500)
                    if answer.status_code >= 400:
                        self.assertTrue(json.loads(answer.content)["what"])
                statuses.add(answer.status_code)
        self.assertLessEqual({400, 404}, statuses)
        self.assertTrue(statuses & {200, 201, 202, 204}, "none was taken")


class Files(SimpleTestCase):
    def test_each_file_is_taken_or_refused_with_a_place(self):
        mutants = hostile.mutants(random.Random(SEED))
        recipes = hostile.recipes(random.Random(SEED))
        texts = [*itertools.islice(mutants, FILES), *itertools.islice(recipes, RECIPES)]
        ends = set()
        for text in texts:
            ended, _, said = hostile.tried(text)
            ends.add(ended)
            with self.subTest(said=said[-600:]):
                self.assertIn(ended, ("success", "error"), text[:3000])
        self.assertLessEqual({"success", "error"}, ends)
