"""Records of trials made anew from their result folders."""

import shutil

from django.conf import settings
from django.core.management import call_command
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from ivrell.core.records.history import Remarks
from ivrell.server.comparisons.models import Comparison
from ivrell.server.trials.models import Run, Trial
from ivrell.server.trials.reindex import reindex
from tests.server import test_trials
from tests.support.server import TWO_LANES, ServerCase, change_job


class Reindex(ServerCase):
    launch = test_trials.Trials.launch
    conducted = test_trials.Trials.conducted

    def setUp(self):
        super().setUp()
        shutil.rmtree(settings.IVRELL_DATA / "trials", ignore_errors=True)

    def shown(self, trial):
        found = self.call("get", f"trials/{trial}/findings/")
        lanes = [(lane["id"], lane["elapsed"], lane["ratio"], lane["agreement"]["verdict"])
                 for lane in found["lanes"]]  # fmt: skip
        return found["conclusion"], lanes

    def test_records_of_one_machine_for_all_sessions(self):
        trial = self.conducted()
        [session] = trial.sessions
        machine, number = session["machine"], trial.pk
        with connection.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")
        executor = MigrationExecutor(connection)
        executor.migrate([("trials", "0004_reply")])
        try:
            before = executor.loader.project_state([("trials", "0004_reply")]).apps
            before.get_model("trials", "Trial").objects.filter(pk=number).update(machine=machine)
        finally:
            executor = MigrationExecutor(connection)
            executor.migrate(executor.loader.graph.leaf_nodes())
        trial = Trial.objects.get(pk=number)
        self.assertEqual(trial.machine_of.model_dump(mode="json"), machine)
        self.assertEqual(trial.sessions_of[0].plan, trial.plan_of)

    def test_what_was_lost_comes_back_as_it_was(self):
        trial = self.conducted()
        before = self.shown(trial.pk)
        records = list(trial.runs.order_by("number").values("number", "record", "curve"))
        state = (trial.state, trial.conclusion, trial.planned_runs, trial.sessions, trial.data)
        said = Remarks(name="Before the flood", note="All gates shut.", kept=True)
        trial.say(said)
        number = trial.pk
        trial.delete()
        call_command("reindex", verbosity=0)
        trial = Trial.objects.get(pk=number)
        self.assertEqual(said, trial.said)
        self.assertEqual(trial.comparison_id, self.comparison.pk)
        self.assertEqual(
            (trial.state, trial.conclusion, trial.planned_runs, trial.sessions, trial.data), state
        )
        again = list(trial.runs.order_by("number").values("number", "record", "curve"))
        self.assertEqual(again, records)
        self.assertEqual(self.shown(number), before)
        # What the page draws it from is told again: no "0 of 6 runs".
        told = [event.live for event in trial.events.order_by("pk")]
        self.assertEqual([event.kind for event in told], ["run ended"] * 6 + ["ended"])
        self.assertEqual({event.run for event in told[:-1]}, {run["number"] for run in records})
        # The next trial has a number of its own.
        self.assertGreater(self.launch().pk, number)

    def test_a_trial_of_a_comparison_that_is_gone_brings_it_along(self):
        number = self.conducted().pk
        Comparison.objects.all().delete()
        self.assertFalse(Trial.objects.exists())
        done = reindex()
        self.assertEqual((done.trials, done.runs, done.refused), (1, 6, {}))
        [comparison] = Comparison.objects.all()
        self.assertEqual(comparison.text, TWO_LANES)
        self.assertEqual(Trial.objects.get().pk, number)

    def test_a_record_that_is_there_is_brought_into_line(self):
        trial = self.conducted()
        Run.objects.filter(trial=trial).first().delete()
        Trial.objects.filter(pk=trial.pk).update(conclusion="", agreement={})
        reindex()
        trial.refresh_from_db()
        self.assertEqual(trial.runs.count(), 6)
        self.assertIn("loop", next(iter(trial.agreement.values())))
        self.assertTrue(trial.conclusion)

    def test_what_is_under_way_and_what_cannot_be_read_is_left_alone(self):
        trial = self.conducted()
        Trial.objects.filter(pk=trial.pk).update(conclusion="mine")
        change_job(trial, state="running")
        broken = trial.folder.with_name("987654")
        broken.mkdir()
        (broken / "comparison.toml").write_text(TWO_LANES.replace("seed", "sead"))
        (broken / "plan.json").write_text("{}")
        done = reindex()
        self.assertEqual(done.trials, 0)
        [(place, reason)] = done.refused.items()
        self.assertTrue(place.endswith("987654"))
        self.assertIn("sead", reason)
        trial.refresh_from_db()
        self.assertEqual(trial.conclusion, "mine")
        self.assertFalse(Trial.objects.filter(pk=987654).exists())
