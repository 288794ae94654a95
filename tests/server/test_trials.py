"""Trials through the queue's own task: records, findings, stops, events, trouble."""

import asyncio
import csv
import html
import io
import json
import os
import sys
import tempfile
import time
import zipfile
from unittest.mock import Mock, patch

import psycopg
from django.conf import settings
from django.db import connection
from django.test import RequestFactory, TransactionTestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from ivrell.core.base.locks import in_use
from ivrell.core.comparison.edit import change_approach
from ivrell.core.records.events import LaneOut, RunProgress, TrialEnded, TrialStarted
from ivrell.core.trial.conduct import Trial as CoreTrial
from ivrell.server.accounts.models import owner
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.runner import do
from ivrell.server.trials import live
from ivrell.server.trials.models import Event, Trial, Try
from tests.support.comparisons import UNDISTURBED
from tests.support.server import TWO_LANES, ServerCase, change_job, trial_of, work


async def _connections():
    """Connections to the test's database now."""
    db = connection.settings_dict
    async with await psycopg.AsyncConnection.connect(
        host=db["HOST"], port=db["PORT"], dbname=db["NAME"], user=db["USER"],
        password=db["PASSWORD"],
    ) as look:  # fmt: skip
        row = await look.execute(
            "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()"
        )
        return (await row.fetchone())[0]


class Trials(ServerCase):
    def launch(self, **plan):
        made = self.call("post", self.at("launch/"), {"rounds": 2, "warm_ups": 1,
                          "disturbed": UNDISTURBED, **plan}, 201)  # fmt: skip
        return Trial.objects.get(pk=made["id"])

    def conducted(self, **plan):
        trial = self.launch(**plan)
        work(trial)
        trial.refresh_from_db()
        return trial

    def test_launch_waits_in_the_queue(self):
        trial = self.launch()
        self.assertEqual((trial.state, trial.planned_runs), ("waiting", 6))
        job = ProcrastinateJob.objects.get(args={"job_id": trial.job_id})
        self.assertTrue(job.lock.startswith("machine:"))
        again = self.launch()
        self.assertEqual(self.call("get", f"trials/{again.pk}/")["ahead"], 1)

    def test_whole_trial(self):
        trial = self.conducted()
        self.assertEqual(trial.state, "done")
        self.assertEqual(trial.runs.count(), 6)
        self.assertIn("runs; rows = 300", trial.conclusion)
        found = self.call("get", f"trials/{trial.pk}/findings/")
        lanes = {lane["id"]: lane for lane in found["lanes"]}
        self.assertEqual(lanes["loop"]["elapsed"]["count"], 2)
        self.assertTrue(lanes["query"]["agreement"]["agrees"])
        records = [run.record for run in trial.runs.filter(approach="loop")]
        times = sorted(r["elapsed_s"] for r in records if not r["warm_up"])
        self.assertAlmostEqual(lanes["loop"]["elapsed"]["median"], sum(times) / 2)
        kept = (trial.folder / "findings.json").read_text()
        self.assertEqual(json.loads(kept)["points"][0]["conclusion"], trial.conclusion)
        run = self.call("get", f"trials/{trial.pk}/runs/1/")
        self.assertEqual(run["run"], 1)
        self.assertEqual(run["code"], trial.read.approach_called(run["approach"]).text())
        line = self.call("get", "comparisons/")[0]
        self.assertEqual(line["last_trial"]["conclusion"], trial.conclusion)

    def test_what_is_no_number_is_told_and_not_an_error_of_ours(self):
        for given in ("abc", "", "-1", "9" * 30, "1.5"):
            told = self.call("get", f"trials/?comparison={given}", status=400)
            self.assertEqual(told["where"], "comparison")
        self.call("get", f"trials/{10**15}/", status=404)

    def test_an_error_in_what_is_answered_is_ours_and_logged(self):
        trial = self.conducted(rounds=1, warm_ups=0)
        record = trial.runs.get(number=1).record
        trial.runs.filter(number=1).update(record={**record, "run": "not a number"})
        with self.assertLogs("ivrell.api", "ERROR") as logged:
            told = self.call("get", f"trials/{trial.pk}/runs/1/", status=500)
        self.assertIn("inside Ivrell", told["what"])
        self.assertIn("validation error", logged.output[0])

    def test_measures_come_with_findings_and_as_csv(self):
        trial = self.conducted(knobs={"rows": [10, 20]})
        found = self.call("get", f"trials/{trial.pk}/findings/")
        keys = {row["key"] for row in found["measures"]}
        self.assertLessEqual({"elapsed", "cpu_total", "code_lines"}, keys)
        answer = self.client.get(f"/api/trials/{trial.pk}/measures/", {"point": '{"rows": 20}'})
        self.assertIn("text/csv", answer["Content-Type"])
        lines = list(csv.DictReader(io.StringIO(answer.content.decode())))
        self.assertEqual({line["lane"] for line in lines}, {"loop", "query"})
        self.assertEqual(len(lines), sum(len(row["lanes"]) for row in found["measures"]))
        refused = self.client.get(f"/api/trials/{trial.pk}/measures/", {"point": '{"rows": 7}'})
        self.assertEqual(refused.status_code, 400)

    def test_the_sandbox_cannot_be_left_out_here(self):
        told = self.call("post", self.at("launch/"), {"sandbox": "off"}, 400)
        self.assertIn("--no-sandbox", told["hint"])

    def test_streams_held_open_hold_no_connection(self):
        trial = self.launch()
        request = RequestFactory().get("/")
        request.user = owner()
        request.session = {}

        async def opened():
            streams = []
            for _ in range(500):
                answer = await live.events(request, trial.pk)
                stream = answer.streaming_content
                # The first event waits for nothing: the trial has none, so each stream waits.
                streams.append(asyncio.ensure_future(anext(aiter(stream))))
            await asyncio.sleep(3)
            held = await _connections()
            for task in streams:
                task.cancel()
            await asyncio.gather(*streams, return_exceptions=True)
            return held

        self.assertLess(asyncio.run(opened()), 20)

    def test_two_who_drop_lanes_at_once_drop_both(self):
        trial = self.launch()
        stale = Trial.objects.get(pk=trial.pk)
        self.call("post", f"trials/{trial.pk}/lanes/loop/drop/")
        self.call("post", f"trials/{trial.pk}/lanes/query/drop/")
        # What the worker does with a record that it read before takes nothing back.
        stale.job.finish("stopped")
        trial.refresh_from_db()
        self.assertEqual(trial.dropped, ["loop", "query"])

    def test_report_can_be_downloaded(self):
        trial = self.launch()
        self.call("get", f"trials/{trial.pk}/report/", status=404)
        trial = self.conducted(rounds=1)
        at = f"/api/trials/{trial.pk}/report/"
        answer = self.client.get(at)
        self.assertIn(f"trial-{trial.pk}.html", answer["Content-Disposition"])
        self.assertIn(b"Gauge readings", answer.content)
        self.assertNotIn(b'id="pair-1"', answer.content)
        # Notes that are written and claims that are pinned after it was run stand in it.
        claim = {"text": "Far quicker", "lower": "query", "higher": "loop", "at_least": 1e6}
        self.call("put", self.at("remarks/"), {"notes": [{"text": "See *this*."}],
                                               "claims": [claim]})  # fmt: skip
        told = self.client.get(f"{at}?pair=loop,query").content.decode()
        for words in ("Far quicker", "<em>this</em>", 'id="pair-1"', "at least 1,000,000 times"):
            self.assertIn(words, told)
        packed = zipfile.ZipFile(io.BytesIO(self.client.get(f"{at}?form=markdown").content))
        self.assertEqual(["report.md", "report-runs-1.svg"], packed.namelist())
        self.assertIn("Far quicker", packed.read("report.md").decode())
        summary = self.call("get", f"trials/{trial.pk}/summary/")["text"]
        self.assertIn("1 claim", summary.replace("the claim made, 1", "1 claim"))
        self.assertIn(summary, html.unescape(told))
        for wrong in ("form=doc", "pair=loop", "pair=loop,gone"):
            self.assertEqual(400, self.client.get(f"{at}?{wrong}").status_code, wrong)

    def test_points(self):
        trial = self.conducted(knobs={"rows": [10, 20]})
        found = self.call("get", f'trials/{trial.pk}/findings/?point={{"rows":20}}')
        self.assertEqual(found["point"], {"rows": 20})
        told = self.call("get", f'trials/{trial.pk}/findings/?point={{"rows":7}}', status=400)
        self.assertIn("no such point", told["what"])

    def test_the_text_that_ran_is_kept(self):
        trial = self.conducted(rounds=1)
        self.comparison.put_text(
            change_approach(self.comparison.text, "query", {"code": "SELECT 1"})
        )
        self.comparison.save()
        shown = self.call("get", f"trials/{trial.pk}/")
        self.assertIn("FROM readings", shown["lanes"]["query"])

    def test_bad_plans(self):
        for plan, told in (
            ({"rounds": 0}, "rounds"),
            ({"lanes": ["nobody"]}, "nobody"),
            ({"knobs": {"loads": [1]}}, "loads"),
            ({"knobs": {"rows": [-1]}}, "knobs.rows"),
            ({"limits": {"seconds": -1}}, "limits.seconds"),
            ({"speed": 3}, "speed"),
        ):
            with self.subTest(plan=plan):
                answer = self.call("post", self.at("launch/"), plan, 400)
                self.assertIn(told, f"{answer['where']} {answer['what']}")
        self.assertEqual((Trial.objects.count(), Job.objects.count()), (0, 0))

    def test_stop_before_it_starts(self):
        trial = self.launch()
        self.assertEqual(self.call("post", f"trials/{trial.pk}/stop/")["state"], "stopped")
        work(trial)
        trial.refresh_from_db()
        self.assertEqual((trial.state, trial.runs.count()), ("stopped", 0))

    def test_stop_while_it_runs_keeps_what_is_done(self):
        trial = self.launch(rounds=50)
        original = CoreTrial._run
        test = self

        def then_stop(core, *arguments):
            run = original(core, *arguments)
            if run.run == 3:
                test.call("post", f"trials/{trial.pk}/stop/")
            return run

        CoreTrial._run = then_stop
        self.addCleanup(setattr, CoreTrial, "_run", original)
        work(trial)
        trial.refresh_from_db()
        self.assertEqual(trial.state, "stopped")
        self.assertGreaterEqual(trial.runs.count(), 3)
        self.assertLess(trial.runs.count(), 10)
        self.assertTrue(trial.conclusion)

    def test_a_dropped_lane_runs_no_more(self):
        trial = self.launch()
        self.call("post", f"trials/{trial.pk}/lanes/loop/drop/")
        work(trial)
        self.assertEqual(set(trial.runs.values_list("approach", flat=True)), {"query"})

    def test_a_trial_that_was_cut_off_goes_on(self):
        trial = self.conducted(rounds=2, warm_ups=0)
        lines = (trial.folder / "runs.jsonl").read_text().splitlines(keepends=True)
        (trial.folder / "runs.jsonl").write_text("".join(lines[:2]))
        trial.runs.filter(number__gt=1).delete()
        change_job(trial, state="running")
        work(trial)
        trial.refresh_from_db()
        self.assertEqual(trial.state, "done")
        self.assertEqual(list(trial.runs.values_list("number", flat=True)), [1, 2, 3, 4])

    def test_trouble_with_the_data_is_told(self):
        trial = self.launch()
        text = trial.text.replace('"category", values = ["Ash", "Elm", "Oak"]',
                                  '"text", pattern = "[A-C]", unique = true')  # fmt: skip
        Trial.objects.filter(pk=trial.pk).update(text=text)
        work(trial)
        trial.refresh_from_db()
        self.assertEqual(trial.state, "failed")
        self.assertIn("3 different texts", trial.trouble.what)

    def test_events_tell_the_race_and_leave_no_litter(self):
        trial = self.conducted()
        kinds = list(trial.events.values_list("kind", flat=True))
        self.assertEqual(kinds[0], "started")
        self.assertEqual(kinds[-1], "ended")
        self.assertEqual(kinds.count("run started"), 6)
        self.assertEqual(kinds.count("run ended"), 6)
        self.assertNotIn("progress", kinds)

    def test_conditions_of_a_plan_are_taken_and_refused(self):
        plan = {
            "rounds": 1, "warm_ups": 0, "cache": ["warm", "cold"], "threads": [1, None],
            "until": {"narrower_than": 0.2, "at_least": 2, "at_most": 3, "minutes": 5},
            "limits": {"seconds": 9, "memory_bytes": 10**9, "cpu_seconds": 5, "processes": 20},
        }  # fmt: skip
        made = self.call("post", self.at("launch/"), plan, 201)
        self.assertEqual(made["planned_runs"], 2 * 3 * 4)
        self.assertEqual(len(made["points"]), 4)
        self.assertEqual(made["points"][0]["cache"], "warm")
        told = self.call("post", self.at("launch/"), {"background": ["a storm"]}, 400)
        self.assertIn("background load", told["what"])

    def test_a_try_runs_the_lane_once_on_a_small_size(self):
        self.assertIsNone(self.call("get", self.at("lanes/loop/try/"))["newest"])
        made = self.call("post", self.at("lanes/loop/try/"), {"rows": 100}, 201)["newest"]
        self.assertEqual(made["state"], "waiting")
        work(Try.objects.get(pk=made["id"]))
        found = self.call("get", self.at("lanes/loop/try/"))["newest"]
        self.assertEqual((found["state"], found["run_state"]), ("done", "done"))
        self.assertEqual(found["point"], {"rows": 100})
        self.assertEqual([c["name"] for c in found["columns"]], ["gauge", "n"])
        self.assertEqual(sum(int(row[1]) for row in found["rows"]), 100)
        self.assertEqual([stage["name"] for stage in found["stages"]], ["read"])

    def test_a_try_is_done_between_two_runs_where_it_is_wanted_now(self):
        self.call("patch", self.at("lanes/loop/try/"), {}, 400)
        trial = self.launch(rounds=2, warm_ups=0)
        change_job(trial, state="running")
        made = self.call("post", self.at("lanes/loop/try/"), {"rows": 100}, 201)["newest"]
        self.assertEqual((made["behind"], made["now"]), (trial.pk, False))
        self.call("post", self.at("lanes/query/try/"), {"rows": 100}, 201)
        told = self.call("patch", self.at("lanes/loop/try/"), {})["newest"]
        self.assertTrue(told["now"])
        work(trial)
        found = self.call("get", self.at("lanes/loop/try/"))["newest"]
        self.assertEqual((found["state"], found["run_state"]), ("done", "done"))
        self.assertEqual((found["behind"], found["now"]), (None, False))
        # The other waits for its turn, and neither is a run of the trial.
        self.assertEqual(Try.objects.get(lane="query").state, "waiting")
        trial.refresh_from_db()
        self.assertEqual((trial.state, trial.runs.count()), ("done", 4))
        before = Try.objects.get(pk=made["id"]).found
        work(Try.objects.get(pk=made["id"]))
        self.assertEqual(Try.objects.get(pk=made["id"]).found, before, "it is not done twice")

    def test_an_error_of_ours_in_a_try_is_not_the_trial_s_and_stop_leaves_it_waiting(self):
        trial = self.launch(rounds=1, warm_ups=0)
        made = self.call("post", self.at("lanes/loop/try/"), {}, 201)["newest"]
        Job.objects.filter(kind="try").update(now=True)
        with patch("ivrell.server.trials.handlers._tried", side_effect=ZeroDivisionError):
            work(trial)
        trial.refresh_from_db()
        self.assertEqual((trial.state, Try.objects.get().state), ("done", "failed"))
        change_job(Try.objects.get(pk=made["id"]), state="waiting", now=True)
        again = self.launch(rounds=1, warm_ups=0)

        def stopped(attempt, folder, store, control):
            change_job(again, stop_asked=True)
            while not control.stop_all():
                time.sleep(0.05)
            return Mock()

        with patch("ivrell.server.trials.handlers._tried", side_effect=stopped):
            work(again)
        again.refresh_from_db()
        self.assertEqual((again.state, Try.objects.get().state), ("stopped", "waiting"))

    def test_a_try_is_stopped(self):
        self.call("delete", self.at("lanes/loop/try/?kind=explained"), status=400)
        made = self.call("post", self.at("lanes/loop/try/"), {}, 201)["newest"]
        attempt = Try.objects.get(pk=made["id"])
        change_job(attempt, state="running", started_at=attempt.job.created_at)
        told = self.call("delete", self.at("lanes/loop/try/"))["newest"]
        self.assertEqual((told["state"], told["stop_asked"]), ("running", True))
        work(attempt)
        self.assertEqual((attempt.state, attempt.found), ("stopped", None))

    def test_a_try_that_fails_names_the_line(self):
        code = "def answer(data, knobs, stage):\n    return 1 / 0\n"
        self.call("patch", self.at("lanes/loop/"), {"code": code})
        made = self.call("post", self.at("lanes/loop/try/"), {}, 201)["newest"]
        work(Try.objects.get(pk=made["id"]))
        found = self.call("get", self.at("lanes/loop/try/"))["newest"]
        self.assertEqual((found["run_state"], found["error"]["line"]), ("failed", 2))

    def test_kept_answers_are_judged_against_another_lane(self):
        code = "SELECT gauge, count(*) + 1 AS n FROM readings GROUP BY gauge"
        self.call("patch", self.at("lanes/query/"), {"code": code})
        trial = self.launch(rounds=1, warm_ups=0)
        self.call("post", f"trials/{trial.pk}/judge/", {"lane": "query"}, 400)
        work(trial)
        found = self.call("get", f"trials/{trial.pk}/findings/")["lanes"]
        self.assertEqual([lane["agreement"]["agrees"] for lane in found], [True, False])
        self.call("post", f"trials/{trial.pk}/judge/", {"lane": "query"}, 202)
        do(Job.objects.get(kind="judging").pk)
        lanes = self.call("get", f"trials/{trial.pk}/findings/")["lanes"]
        self.assertEqual([lane["agreement"]["agrees"] for lane in lanes], [False, True])
        self.assertEqual(lanes[0]["agreement"]["reference"], "query")
        before = trial.conclusion
        trial.refresh_from_db()
        self.assertEqual(
            trial.conclusion, self.call("get", f"trials/{trial.pk}/findings/")["conclusion"]
        )
        self.assertNotEqual(trial.conclusion, before)
        self.assertTrue(trial.conclusion.startswith("query "))
        self.call("post", f"trials/{trial.pk}/judge/", {"lane": "nobody"}, 400)

    def test_an_answer_is_kept_as_the_expected_one_and_held_to(self):
        trial = self.conducted(rounds=1, warm_ups=0)
        asked = {"lane": "query", "point": trial.points[0]}
        changed = self.call("post", f"trials/{trial.pk}/expect/", asked)
        self.assertEqual(
            changed["answer"]["expected"], f"expected-{self.comparison.pk}-{{rows}}.parquet"
        )
        code = "SELECT gauge, count(*) + 1 AS n FROM readings GROUP BY gauge"
        self.call("patch", self.at("lanes/query/"), {"code": code})
        again = self.conducted(rounds=1, warm_ups=0)
        lanes = self.call("get", f"trials/{again.pk}/findings/")["lanes"]
        self.assertEqual({lane["agreement"]["reference"] for lane in lanes},
                         {"the expected answer"})  # fmt: skip
        self.assertEqual([lane["agreement"]["agrees"] for lane in lanes], [True, False])

    def test_a_lane_is_explained_and_the_plan_kept_beside_the_try(self):
        asked = {"rows": 100, "kind": "explained"}
        made = self.call("post", self.at("lanes/query/try/"), asked, 201)["explained"]
        work(Try.objects.get(pk=made["id"]))
        found = self.call("get", self.at("lanes/query/try/"))
        self.assertIsNone(found["newest"])
        (statement,) = found["explained"]["plans"]
        self.assertEqual(statement["line"], 1)
        self.assertEqual(statement["plan"]["rows"], 3)

    def test_hot_lines_are_those_of_the_code_that_ran(self):
        asked = {"rows": 300, "kind": "hot"}
        made = self.call("post", self.at("lanes/loop/try/"), asked, 201)["hot"]
        work(Try.objects.get(pk=made["id"]))
        told = self.call("get", self.at("lanes/loop/try/"))["hot"]
        self.assertEqual(("sampled", ""), (told["found"]["way"], told["found"]["trouble"]))
        self.assertTrue(told["of_now"])
        self.assertIsNotNone(told["found"]["elapsed_s"])
        planned = self.call("post", self.at("lanes/query/try/"), asked, 201)["hot"]
        work(Try.objects.get(pk=planned["id"]))
        self.call("patch", self.at("lanes/query/"), {"code": "SELECT 1 AS gauge, 2 AS n"})
        told = self.call("get", self.at("lanes/query/try/"))["hot"]
        self.assertEqual(("plan", False), (told["found"]["way"], told["of_now"]))

    def test_what_to_look_at_next_is_a_plan_that_can_be_launched(self):
        trial = self.conducted(rounds=1, warm_ups=0)
        steps = self.call("get", f"trials/{trial.pk}/next/")["steps"]
        sizes = next(step for step in steps if step["kind"] == "sizes")
        self.call("post", self.at("launch/"), sizes["plan"], 201)
        self.call("get", f'trials/{trial.pk}/next/?point={{"rows": 1}}', status=400)

    def test_what_an_earlier_version_kept_of_a_try_need_not_be_readable(self):
        asked = {"rows": 100, "kind": "explained"}
        made = self.call("post", self.at("lanes/query/try/"), asked, 201)["explained"]
        Try.objects.filter(pk=made["id"]).update(found={"plans": [{"plan": 7}]})
        change_job(Try.objects.get(pk=made["id"]), state="done")
        found = self.call("get", self.at("lanes/query/try/"))["explained"]
        self.assertEqual(found["plans"], [])
        self.assertIn("cannot be read", found["message"]["what"])

    def test_an_interruption_is_checked(self):
        asked = {"rows": 300, "kind": "interrupted", "share": 0.25}
        made = self.call("post", self.at("lanes/query/try/"), asked, 201)["interrupted"]
        work(Try.objects.get(pk=made["id"]))
        found = self.call("get", self.at("lanes/query/try/"))["interrupted"]
        self.assertEqual((found["state"], found["whole"]), ("done", {"": 3}))
        self.assertIn(found["verdict"], ("can be started again", "was not killed"))
        told = self.call("post", self.at("lanes/query/try/"), asked | {"share": 1.5}, 400)
        self.assertIn("share", json.dumps(told))

    def test_interpreters_are_registered_and_refused(self):
        with (
            tempfile.TemporaryDirectory() as folder,
            patch.dict(os.environ, {"IVRELL_DATA": folder}),
        ):
            self.assertEqual(self.call("get", "runtimes/")["runtimes"], [])
            told = self.call("post", "runtimes/", {"name": "x", "interpreter": "/bin/sh"}, 400)
            self.assertIn("does not answer", told["what"])
            good = {"name": "mine", "interpreter": sys.executable}
            (found,) = self.call("post", "runtimes/", good)["runtimes"]
            self.assertEqual((found["name"], found["problem"]), ("mine", ""))
            self.assertEqual(self.call("delete", "runtimes/?name=mine")["runtimes"], [])

    def test_places_of_spark_are_registered_and_refused(self):
        with (
            tempfile.TemporaryDirectory() as folder,
            patch.dict(os.environ, {"IVRELL_DATA": folder}),
            patch("ivrell.core.spark.clusters.java_version", return_value="17"),
        ):
            self.assertEqual(self.call("get", "clusters/")["clusters"], [])
            told = self.call("post", "clusters/", {"name": "x", "address": "sc://"}, 400)
            self.assertIn("names no host", told["what"])
            good = {"name": "pair", "address": "standalone:2", "storage": folder}
            (found,) = self.call("post", "clusters/", good)["clusters"]
            self.assertEqual((found["storage"], found["problem"]), (folder, ""))
            self.assertIn("2 workers", found["words"])
            self.assertEqual(self.call("delete", "clusters/?name=pair")["clusters"], [])

    def test_servers_are_registered_and_told_without_a_password(self):
        told = settings.DATABASES["default"]
        address = (
            f"host={told['HOST']} port={told['PORT']} user={told['USER']} "
            f"password={told['PASSWORD']}"
        )
        with (
            tempfile.TemporaryDirectory() as folder,
            patch.dict(os.environ, {"IVRELL_DATA": folder}),
        ):
            bad = {"name": "x", "address": "host=127.0.0.1 port=1"}
            self.assertIn("cannot be used", self.call("post", "servers/", bad, 400)["what"])
            good = {"name": "depot", "address": address}
            (found,) = self.call("post", "servers/", good)["servers"]
            self.assertEqual((found["name"], found["problem"]), ("depot", ""))
            self.assertNotIn(told["PASSWORD"], found["address"])
            self.assertEqual(self.call("delete", "servers/?name=depot")["servers"], [])

    def test_noise_waits_its_turn(self):
        self.call("post", "machine/noise/", {}, 202)
        self.assertEqual(Job.objects.get(kind="noise").state, "waiting")
        self.assertTrue(self.call("get", "now/")["noise"])
        self.assertIn("noise", self.call("get", "machine/"))

    def test_made_data_is_listed_and_cleared_but_not_under_a_trial(self):
        self.conducted(rounds=1, warm_ups=0)
        found = self.call("get", "made/")
        self.assertEqual(found["kept"][0]["tables"], ["readings.csv"])
        # Whatever uses it, in whatever process: a trial, a try, a making, the command line.
        with in_use(settings.IVRELL_DATA / "made"):
            told = self.call("delete", "made/", status=400)
        self.assertIn("needs this data", told["what"])
        with in_use(settings.IVRELL_DATA / "loaded"):
            self.assertIn("trial, a try", self.call("delete", "made/", status=400)["what"])
        self.assertEqual(self.call("delete", "made/")["kept"], [])

    def test_now(self):
        now = self.call("get", "now/")
        self.assertEqual((now["trial"], now["waiting"], now["worker"]), (None, 0, False))
        trial = self.launch()
        self.assertEqual(self.call("get", "now/")["waiting"], 1)
        change_job(trial, state="running")
        self.assertEqual(self.call("get", "now/")["comparison_name"], "Gauge readings")


def progress(seconds):
    return RunProgress(
        run=1, approach="loop", elapsed_s=seconds, cpu_s=0.0, memory_bytes=0, stage="", cores=[]
    )


class Live(TransactionTestCase):
    """Server-sent events: nothing missed, nothing twice, an end."""

    def setUp(self):
        comparison = Comparison.objects.from_text(TWO_LANES)
        self.trial = trial_of(comparison)

    def stream(self, last=0, during=None):
        async def collect():
            found = []
            stream = live._stream(self.trial.pk, last)
            async for piece in stream:
                found.append(piece.decode())
                if during and len(found) == 1:
                    await asyncio.to_thread(during)
            return found

        live.hub.__init__()
        return asyncio.run(collect())

    def test_from_the_start_and_from_where_it_was_cut(self):
        for n in range(3):
            self.trial.tell(progress(n))
        change_job(self.trial, state="done")
        whole = self.stream()
        self.assertEqual(len(whole), 4)
        self.assertIn('"elapsed_s":0.0', whole[0])
        self.assertTrue(whole[-1].startswith("event: over"))
        second = Event.objects.order_by("pk")[1].pk
        self.assertEqual(self.stream(last=second), whole[2:])

    def test_what_has_happened_is_told_at_once_too_in_words_of_now(self):
        old = {"number": 4, "approach": "loop", "point": {}, "round": 1, "position": 1,
               "memory_alone": False, "warm_up": False}  # fmt: skip
        Event.objects.create(trial=self.trial, kind="run started", fields=old)
        self.trial.tell(LaneOut(approach="loop", point={}))
        self.client.force_login(owner())
        told = self.client.get(f"/api/trials/{self.trial.pk}/events/").json()["events"]
        self.assertEqual([event["kind"] for event in told], ["run started", "lane out"])
        self.assertEqual((told[0]["run"], told[0]["memory_run"]), (4, False))
        change_job(self.trial, state="done")
        self.assertIn('"run":4', self.stream()[0])

    def test_what_happens_while_watching_arrives(self):
        from django.db import connections

        self.trial.tell(TrialStarted())

        def later():
            self.trial.tell(progress(7))
            change_job(self.trial, state="done")
            self.trial.tell(TrialEnded(state="done"))
            connections.close_all()

        found = self.stream(during=later)
        self.assertEqual(len(found), 4)
        self.assertIn('"elapsed_s":7.0', found[1])

    def test_what_happens_between_two_looks_at_the_end_arrives(self):
        asked, ended = Trial.objects.under_way, []

        def under_way():
            if not ended:
                ended.append(True)
                self.trial.tell(LaneOut(approach="loop", point={}))
                self.trial.job.finish("done")
            return asked()

        with patch.object(Trial.objects, "under_way", under_way):
            found = self.stream()
        self.assertIn('"kind":"lane out"', found[0])
        self.assertIn('"state":"done"', found[1])
        self.assertTrue(found[2].startswith("event: over"))

    def test_the_end_and_what_tells_of_it_are_seen_together(self):
        def cut(*_):
            raise OSError

        with patch.object(Trial, "tell", cut), self.assertRaises(OSError):
            self.trial.job.finish("done")
        self.assertTrue(Trial.objects.under_way().filter(pk=self.trial.pk).exists())

    def test_needs_signing_in(self):
        self.assertEqual(self.client.get(f"/live/trials/{self.trial.pk}").status_code, 401)
        self.client.force_login(owner())
        change_job(self.trial, state="done")
        answer = self.client.get(f"/live/trials/{self.trial.pk}")
        self.assertEqual(answer["Content-Type"], "text/event-stream")
