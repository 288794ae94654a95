"""Jobs: done, stopped, paused, put elsewhere in the queue, and taken up after a worker's death."""

import errno
from unittest import mock

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from ivrell.core.trial.plan import Plan
from ivrell.server.comparisons.models import Comparison
from ivrell.server.data.models import Making
from ivrell.server.data.shapes import MakeRequest
from ivrell.server.jobs.cut_off import take_up
from ivrell.server.jobs.models import Job
from ivrell.server.trials import handlers
from ivrell.server.trials.models import Trial, Try
from tests.support.comparisons import UNDISTURBED
from tests.support.server import TWO_LANES, ServerCase, change_job, work


def statuses(job):
    """How a job stands in the queue's own table."""
    found = ProcrastinateJob.objects.filter(args={"job_id": job.pk}).order_by("pk")
    return [one.status for one in found]


def left(job):
    """Leave a job as a worker that is killed does: being done, by nobody."""
    with connection.cursor() as cursor:
        # One at a time holds the machine's lock.
        cursor.execute("UPDATE procrastinate_jobs SET lock = NULL")
        cursor.execute(
            "UPDATE procrastinate_jobs SET status = 'doing' WHERE args->>'job_id' = %s",
            [str(job.pk)],
        )
    Job.objects.filter(pk=job.pk).update(state="running")


class TakenUp(TransactionTestCase):
    def setUp(self):
        # The queue's tables are none of Django's, which empties its own alone.
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM procrastinate_jobs")
        self.comparison = Comparison.objects.from_text(TWO_LANES)
        self.cut_off = Trial.objects.launch(self.comparison, Plan(rounds=1))
        self.waiting = Trial.objects.launch(self.comparison, Plan(rounds=1))
        left(self.cut_off.job)

    def attempt(self):
        job = Job.objects.ask("try")
        return Try.objects.create(
            job=job, comparison=self.comparison, lane="loop", text="", rows=10
        )

    def test_a_trial_that_was_cut_off_is_queued_again_and_its_lock_is_free(self):
        take_up()
        self.assertEqual(statuses(self.cut_off.job), ["todo"])
        self.assertEqual(statuses(self.waiting.job), ["todo"])
        self.assertFalse(ProcrastinateJob.objects.filter(status="doing").exists())

    def test_each_kind_of_job_is_taken_up_and_what_the_queue_lost_too(self):
        asked = {"trial": self.waiting.pk, "reference": "loop"}
        for job in (
            self.attempt().job,
            Job.objects.ask("judging", asked),
            Job.objects.ask("noise"),
        ):
            left(job)
        lost = self.attempt().job
        ProcrastinateJob.objects.filter(pk=lost.queued)._raw_delete("default")
        take_up()
        for job in Job.objects.all():
            self.assertEqual(statuses(job), ["todo"], job)

    def test_what_an_earlier_version_queued_is_put_in_anew(self):
        with connection.cursor() as cursor:
            cursor.execute(
                "UPDATE procrastinate_jobs SET task_name = 'conduct_trial', "
                "args = '{\"trial_id\": 1}'"
            )
        take_up()
        names = set(ProcrastinateJob.objects.values_list("task_name", flat=True))
        self.assertEqual(names, {"do_job"})
        self.assertEqual(statuses(self.cut_off.job), ["todo"])

    def test_what_brings_the_worker_down_again_and_again_is_given_up(self):
        attempt = self.attempt()
        left(attempt.job)
        take_up()
        self.assertEqual(statuses(attempt.job), ["todo"])
        for subject in (self.cut_off, attempt):
            left(subject.job)
        take_up()
        for subject in (self.cut_off, attempt):
            subject.refresh_from_db()
            self.assertEqual((subject.state, statuses(subject.job)), ("failed", ["failed"]))
            self.assertIn("2 times", subject.trouble.what)

    def test_a_stop_in_order_counts_for_nothing(self):
        for _ in range(4):
            take_up(died=False)
            self.assertEqual(statuses(self.cut_off.job), ["todo"])
            left(self.cut_off.job)
        take_up(died=True)
        self.assertEqual(statuses(self.cut_off.job), ["todo"])

    def test_with_nothing_cut_off_nothing_changes(self):
        take_up()
        before = list(ProcrastinateJob.objects.values_list("pk", "status"))
        Job.objects.filter(pk=self.waiting.job_id).update(state="done")
        take_up()
        self.assertEqual(list(ProcrastinateJob.objects.values_list("pk", "status")), before)


class Troubles(ServerCase):
    def test_what_the_system_refuses_is_told_by_making_data_too(self):
        making = Making.objects.launch(self.comparison, MakeRequest(forms=["csv"]))
        refused = OSError(errno.EROFS, "Read-only file system", "/somewhere/made")
        with mock.patch("ivrell.server.data.handlers._make", side_effect=refused):
            work(making)
        self.assertEqual(making.state, "failed")
        self.assertIn("The system refused: Read-only file system", making.trouble.what)
        self.assertEqual(making.trouble.where, "/somewhere/made")

    def test_a_full_disk_is_told_with_what_makes_room(self):
        trial = Trial.objects.launch(self.comparison, Plan(rounds=1))
        full = OSError(errno.ENOSPC, "No space left on device", "/somewhere/runs.jsonl")
        with mock.patch("ivrell.core.trial.conduct.Trial.conduct", side_effect=full):
            work(trial)
        self.assertEqual(trial.state, "failed")
        self.assertIn("disk is full", trial.trouble.what)
        self.assertIn("runs.jsonl", trial.trouble.where)
        self.assertIn("machine page", trial.trouble.hint)

    def test_an_error_of_ours_is_told_and_goes_on_to_the_queue(self):
        trial = Trial.objects.launch(self.comparison, Plan(rounds=1))
        with (
            mock.patch("ivrell.core.trial.conduct.Trial.conduct", side_effect=ZeroDivisionError),
            self.assertRaises(ZeroDivisionError),
        ):
            work(trial)
        trial.refresh_from_db()
        self.assertIn("an error inside Ivrell; its runs so far are kept", trial.trouble.what)


class Paused(ServerCase):
    """A trial that is paused between two runs leaves the machine to others and goes on later."""

    def setUp(self):
        super().setUp()
        plan = Plan(rounds=2, warm_ups=0, disturbed=UNDISTURBED)
        self.trial = Trial.objects.launch(self.comparison, plan)

    def pause_after(self, runs):
        keep = handlers.Conductor.keep_run

        def kept(conductor, run):
            keep(conductor, run)
            if conductor.trial.runs.count() == runs:
                self.call("post", f"trials/{self.trial.pk}/pause/")
                conductor._hold._asked_at = 0.0

        with mock.patch.object(handlers.Conductor, "keep_run", kept):
            work(self.trial)

    def test_it_waits_and_goes_on_where_it_was(self):
        self.pause_after(2)
        self.assertEqual((self.trial.state, self.trial.runs.count()), ("paused", 2))
        self.assertEqual(self.trial.events.last().kind, "paused")
        work(self.trial)
        self.assertEqual(self.trial.state, "paused", "nobody told it to go on")
        told = self.call("post", f"trials/{self.trial.pk}/continue/")
        self.assertEqual((told["state"], statuses(self.trial.job)), ("waiting", ["todo"]))
        work(self.trial)
        self.assertEqual((self.trial.state, self.trial.runs.count()), ("done", 4))
        sessions = self.trial.runs.order_by("number").values_list("record__session", flat=True)
        self.assertEqual(list(sessions), [1, 1, 2, 2])

    def test_one_that_is_stopped_then_tells_what_it_found(self):
        self.pause_after(3)
        self.call("post", f"trials/{self.trial.pk}/stop/")
        work(self.trial)
        self.assertEqual((self.trial.state, self.trial.runs.count()), ("stopped", 3))
        self.assertTrue(self.trial.results.has_ended)
        self.assertIn("loop", self.trial.agreement_at({}) | {"loop": None})

    def test_one_that_waits_lets_others_pass(self):
        told = self.call("post", f"trials/{self.trial.pk}/pause/")
        self.assertEqual((told["state"], statuses(self.trial.job)), ("paused", []))
        told = self.call("post", f"trials/{self.trial.pk}/stop/")
        self.assertEqual(told["state"], "stopped", "there is nothing to put in order")

    def test_who_thinks_better_of_it_while_the_run_ends_is_heard(self):
        job = self.trial.job
        for asked in ({"pause_asked": True, "stop_asked": True}, {"pause_asked": False}):
            with self.subTest(asked=asked):
                change_job(self.trial, state="running", stop_asked=False)
                change_job(self.trial, **asked)
                job.make_room()
                self.assertEqual((job.state, statuses(job)), ("waiting", ["todo"]))

    def test_what_is_stopped_or_paused_as_it_begins_does_not_begin(self):
        stale = Job.objects.get(pk=self.trial.job_id)
        self.call("post", f"trials/{self.trial.pk}/pause/")
        self.assertFalse(stale.begin())
        self.assertEqual(Job.objects.get(pk=stale.pk).state, "paused")
        self.call("post", f"trials/{self.trial.pk}/stop/")
        self.assertFalse(stale.begin())
        self.assertEqual(Job.objects.get(pk=stale.pk).state, "stopped")

    def test_a_pause_is_taken_back(self):
        change_job(self.trial, state="running", pause_asked=True)
        told = self.call("post", f"trials/{self.trial.pk}/continue/")
        self.assertEqual((told["state"], told["pause_asked"]), ("running", False))


class Order(ServerCase):
    def test_those_of_a_higher_priority_go_first_and_the_queue_knows(self):
        first, second = (Trial.objects.launch(self.comparison, Plan(rounds=1)) for _ in "12")
        self.assertEqual((first.ahead, second.ahead), (0, 1))
        second.job.place(3, None)
        self.assertEqual((first.ahead, second.ahead), (1, 0))
        queued = ProcrastinateJob.objects.get(args={"job_id": second.job_id})
        self.assertEqual((queued.priority, queued.status), (3, "todo"))

    def test_one_that_is_stopped_leaves_the_queue(self):
        trial = Trial.objects.launch(self.comparison, Plan(rounds=1))
        self.call("post", f"trials/{trial.pk}/stop/")
        self.assertEqual(statuses(trial.job), [])
        work(trial)
        self.assertEqual((trial.state, trial.runs.count()), ("stopped", 0))


class QueueApi(ServerCase):
    def test_it_tells_of_all_that_is_under_way_and_what_ended(self):
        first, second = (Trial.objects.launch(self.comparison, Plan(rounds=1)) for _ in "12")
        Making.objects.launch(self.comparison, MakeRequest(forms=["csv"]))
        self.call("post", self.at("lanes/loop/try/"), {}, 201)
        self.call("post", "machine/noise/", {}, 202)
        change_job(first, state="running")
        told = self.call("get", "queue/")["under_way"]
        self.assertEqual([job["kind"] for job in told],
                         ["trial", "trial", "making", "try", "noise"])  # fmt: skip
        self.assertEqual((told[0]["state"], told[0]["comparison_name"]),
                         ("running", "Gauge readings"))  # fmt: skip
        self.call("post", f"queue/{second.job_id}/stop/")
        ended = self.call("get", "queue/")["ended"]
        self.assertEqual([(job["trial"], job["state"]) for job in ended], [(second.pk, "stopped")])

    def test_jobs_that_wait_are_put_into_another_order_and_off(self):
        jobs = [Trial.objects.launch(self.comparison, Plan(rounds=1)).job_id for _ in "123"]
        told = self.call("put", "queue/", {"jobs": [jobs[2], jobs[0]]})["under_way"]
        self.assertEqual([job["id"] for job in told], [jobs[2], jobs[0], jobs[1]])
        self.assertIn("does not wait", self.call("put", "queue/", {"jobs": [9999]}, 400)["what"])
        later = "2031-01-01T22:00:00Z"
        self.call("post", f"queue/{jobs[2]}/due/", {"not_before": later})
        queued = ProcrastinateJob.objects.get(args={"job_id": jobs[2]})
        self.assertEqual(queued.scheduled_at.year, 2031)
        told = self.call("post", f"queue/{jobs[0]}/pause/")["under_way"]
        self.assertEqual(told[-1]["state"], "paused")
        self.call("post", f"queue/{jobs[0]}/continue/")
        self.assertEqual(statuses(Job.objects.get(pk=jobs[0])), ["todo"])
        noise = Job.objects.ask("noise")
        self.assertIn("Only trials", self.call("post", f"queue/{noise.pk}/pause/", {}, 400)["what"])


class Added(ServerCase):
    """Something added to a trial that has ended goes through the queue like any trial."""

    def setUp(self):
        super().setUp()
        plan = Plan(rounds=1, warm_ups=0, disturbed=UNDISTURBED)
        self.trial = Trial.objects.launch(self.comparison, plan)
        work(self.trial)

    def add(self, status=200, **more):
        return self.call("post", f"trials/{self.trial.pk}/more/", more, status)

    def test_rounds(self):
        told = self.add(rounds=2)
        self.assertEqual((told["state"], told["planned_runs"]), ("waiting", 6))
        self.assertEqual(told["conclusion"], self.trial.conclusion, "it stands until more is known")
        self.add(400, rounds=2)
        work(self.trial)
        self.assertEqual((self.trial.state, self.trial.done_runs), ("done", 6))
        found = self.call("get", f"trials/{self.trial.pk}/findings/")
        self.assertEqual({lane["elapsed"]["count"] for lane in found["lanes"]}, {3})
        self.assertEqual(self.trial.events.filter(kind="ended").count(), 1)
        self.assertEqual(len(self.trial.sessions_of), 2)

    def test_only_what_changed(self):
        path = f"trials/{self.trial.pk}/changed/"
        self.assertIn("No lane", self.call("post", path, {}, 400)["what"])
        code = "SELECT gauge, count(*) AS n FROM readings GROUP BY 1"
        self.call("patch", self.at("lanes/query/"), {"code": code})
        made = self.call("post", path, {}, 201)
        self.assertEqual(made["planned_runs"], 1 + 2)
        trial = Trial.objects.get(pk=made["id"])
        work(trial)
        self.assertEqual((trial.state, trial.done_runs), ("done", 3))
        runs = [run.run_record for run in trial.runs.order_by("number")]
        self.assertEqual((runs[0].approach, runs[0].round), ("loop", 1))
        self.assertEqual({run.round for run in runs if run.approach == "query"}, {2})
        self.assertEqual(sorted({run.session for run in runs}), [1, 2])
        found = self.call("get", f"trials/{trial.pk}/findings/")
        self.assertTrue(all(lane["agreement"]["agrees"] for lane in found["lanes"]))
        self.assertEqual(self.trial.runs.count(), 2, "the other trial is as it was")

    def test_what_a_plan_will_take(self):
        path = self.at("estimate/")
        told = self.call("post", path, {"plan": {"rounds": 10}, "minutes": 1})
        self.assertEqual({lane["rests_on"] for lane in told["lanes"]}, {"measured"})
        self.assertLess(told["low"], told["seconds"])
        self.assertGreater(told["rounds_in_time"], 3)
        code = "SELECT gauge, count(*) AS n FROM readings GROUP BY 1"
        self.call("patch", self.at("lanes/query/"), {"code": code})
        told = self.call("post", path, {"plan": {"knobs": {"rows": [600]}}})
        rests = {lane["lane"]: lane["rests_on"] for lane in told["lanes"]}
        self.assertEqual(rests, {"loop": "another size", "query": "not known"})
        self.call("post", self.at("lanes/query/try/"), {"rows": 600}, 201)
        work(Try.objects.get())
        told = self.call("post", path, {"plan": {"knobs": {"rows": [600]}}})
        self.assertEqual(told["lanes"][1]["rests_on"], "another size", "it was tried at 300 rows")
        self.call("post", path, {"plan": {"lanes": ["nobody"]}}, 400)

    def test_what_waits_and_is_not_wanted_any_more_leaves_the_trial_as_it_was(self):
        self.add(rounds=2)
        told = self.call("post", f"trials/{self.trial.pk}/stop/")
        self.assertEqual((told["state"], told["planned_runs"]), ("done", 2))
        self.assertEqual(statuses(self.trial.job), [])

    def test_a_lane_that_was_written_since(self):
        made = self.call("post", self.at("lanes/"), {"engine": "sqlite"}, 201)
        lane = made["lanes"][-1]["id"]
        self.add(400, lanes=["nobody"])
        told = self.add(lanes=[lane])
        self.assertIn(lane, told["plan"]["approaches"])
        work(self.trial)
        ran = set(self.trial.runs.values_list("approach", flat=True))
        self.assertEqual(ran, {"loop", "query", lane})
        self.call("patch", self.at("lanes/query/"), {"code": "SELECT 1 AS n"})
        self.call("post", self.at("lanes/"), {"engine": "sqlite"}, 201)
        newest = self.call("get", self.at())["lanes"][-1]["id"]
        self.assertIn("lane query", self.add(400, lanes=[newest])["what"])


class EarlierRecords(TransactionTestCase):
    """Records of an earlier version, which held how they stand themselves, come to jobs."""

    def setUp(self):
        executor = MigrationExecutor(connection)
        self.addCleanup(self.to_now)
        before = [
            ("trials", "0006_try_now"), ("data", "0001_initial"), ("comparisons", "0002_board"),
        ]  # fmt: skip
        executor.migrate(before)
        apps = executor.loader.project_state(before).apps
        comparison = apps.get_model("comparisons", "Comparison").objects.create(text=TWO_LANES)
        told = {"what": "The disk is full.", "where": "", "hint": ""}
        apps.get_model("trials", "Trial").objects.create(
            comparison=comparison, text=TWO_LANES, plan={}, planned_runs=4,
            state="failed", message=told, finished_at="2026-11-01T00:00:00Z",
        )  # fmt: skip
        apps.get_model("trials", "Try").objects.create(
            comparison=comparison, lane="loop", text=TWO_LANES, rows=10, now=True
        )
        apps.get_model("data", "Making").objects.create(
            comparison=comparison, text=TWO_LANES, wanted={}, state="done", progress={"rows": 3}
        )

    def to_now(self):
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_they_stand_as_they_stood(self):
        self.to_now()
        trial, attempt, making = Trial.objects.get(), Try.objects.get(), Making.objects.get()
        self.assertEqual((trial.state, trial.trouble.what), ("failed", "The disk is full."))
        self.assertEqual(trial.job.finished_at.year, 2026)
        self.assertEqual((attempt.state, attempt.job.now), ("waiting", True))
        self.assertEqual((making.state, making.job.progress), ("done", {"rows": 3}))
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM procrastinate_jobs")
        take_up()
        self.assertEqual(statuses(attempt.job), ["todo"])
