"""A client that a common generator makes from the published schema does the whole job."""

import importlib
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import httpx

from tests.support.comparisons import HEAD, approach, python_answer
from tests.support.running import Running
from tests.support.waiting import wait_until

ROOT = Path(__file__).resolve().parents[2]
SCHEMA = ROOT / "docs" / "api" / "openapi.yaml"
PACKAGE = "made_client"


class Generated(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="ivrell-client-")
        self.addCleanup(folder.cleanup)
        binaries = Path(sys.executable).parent
        made = subprocess.run(
            [binaries / "openapi-python-client", "generate", "--path", SCHEMA, "--meta", "none",
             "--output-path", f"{folder.name}/{PACKAGE}"],
            capture_output=True, text=True, check=False,
            # The generator has its files put in order by a program that it looks for there.
            env={**os.environ, "PATH": f"{binaries}{os.pathsep}{os.environ['PATH']}"},
        )  # fmt: skip
        self.assertEqual(made.returncode, 0, made.stdout + made.stderr)
        self.assertNotIn("will not be generated", made.stdout)
        self.assertNotIn("Unable to", made.stdout)
        sys.path.insert(0, folder.name)
        self.addCleanup(sys.path.remove, folder.name)
        self.ivrell = Running()
        self.addCleanup(self.ivrell.close)

    def part(self, name):
        return importlib.import_module(f"{PACKAGE}.{name}")

    def client(self, link):
        signed_in = httpx.Client(follow_redirects=True)
        self.addCleanup(signed_in.close)
        signed_in.get(link).raise_for_status()
        cookies = dict(signed_in.cookies)
        token = next(value for name, value in cookies.items() if "csrf" in name)
        client = self.part("client").Client(
            base_url=self.ivrell.address, cookies=cookies, headers={"X-CSRFToken": token},
            raise_on_unexpected_status=True,
        )  # fmt: skip
        return client

    def test_it_makes_a_comparison_runs_it_and_reads_findings(self):
        client = self.client(self.ivrell.start("--no-demo"))
        models = self.part("models")
        text = HEAD + approach("quick", python_answer("pass"), name="Quick")
        text += approach("slow", python_answer("time.sleep(0.02)"), name="Slow")
        made = self.part("api.comparisons.comparisons_import_create").sync(
            client=client, body=models.TextRequest(text=text)
        )
        self.assertEqual([lane.name for lane in made.lanes], ["Quick", "Slow"])
        plan = models.PlanRequest(rounds=2, warm_ups=0)
        trial = self.part("api.comparisons.launch").sync(made.id, client=client, body=plan)
        look = self.part("api.trials.trials_retrieve").sync
        wait_until(lambda: look(trial.id, client=client).state == "done", self.ivrell.logs)
        found = self.part("api.trials.trials_findings_retrieve").sync(trial.id, client=client)
        self.assertEqual(found.ranking, ["quick", "slow"])
        self.assertGreater(found.lanes[1].elapsed.median, 0.02)
        self.assertEqual(found.lanes[0].agreement.verdict, "same")


if __name__ == "__main__":
    unittest.main()
