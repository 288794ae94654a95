"""The API of data: looking at a recipe while it is written, and making its tables."""

import tempfile
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.contrib.auth import get_user_model

from ivrell.server.data.handlers import _Watched
from ivrell.server.data.models import Making
from tests.support.server import ServerCase, change_job, work


class Looking(ServerCase):
    def look(self, status=200, **body):
        return self.call("post", self.at("data/look/"), body, status)

    def test_stored_recipe(self):
        found = self.look()
        table = found["tables"][0]
        self.assertEqual((table["table"], table["rows"]), ("readings", 300))
        self.assertEqual(table["rows_given"], "{rows}")
        self.assertEqual(sum(table["columns"][0]["profile"]["histogram"]["counts"]), 300)
        self.assertEqual(table["columns"][1]["profile"]["distinct"], 3)
        self.assertEqual(table["columns"][1]["given"], {"values": ["Ash", "Elm", "Oak"]})

    def test_recipe_being_written_is_not_kept(self):
        text = self.call("get", self.at())["data_text"].replace("Oak", "Yew")
        found = self.look(data_text=text)
        top = {entry["value"] for entry in found["tables"][0]["columns"][1]["profile"]["top"]}
        self.assertEqual(top, {"Ash", "Elm", "Yew"})
        self.assertIn("Oak", self.call("get", self.at())["text"])

    def test_a_change_of_one_field_comes_back_as_text(self):
        text = self.call("get", self.at())["data_text"].replace("seed = 5", "seed = 5 # ours")
        edit = {"table": "readings", "column": 1, "fields": {"skew": 1.5, "null_share": 0.5}}
        found = self.look(data_text=text, edits=[edit])
        self.assertIn("seed = 5 # ours", found["data_text"])
        self.assertIn("skew = 1.5, null_share = 0.5", found["data_text"])
        self.assertGreater(found["tables"][0]["columns"][1]["profile"]["nulls"], 100)

    def test_trouble_names_the_column(self):
        text = self.call("get", self.at())["data_text"].replace("category", "catgory")
        self.assertIn("columns[1]", self.look(400, data_text=text)["where"])
        edit = {"table": "readings", "column": 7, "fields": {}}
        self.assertIn("no column 8", self.look(400, edits=[edit])["what"])

    def test_viewers_look_but_do_not_make(self):
        viewer = get_user_model().objects.create_user("viewer")
        self.client.force_login(viewer)
        self.look()
        self.call("post", self.at("data/making/"), {"forms": ["csv"]}, 403)

    def test_viewers_send_no_recipe_that_could_name_a_file_of_the_machine(self):
        kept = self.call("get", self.at())["data_text"]
        viewer = get_user_model().objects.create_user("viewer")
        self.client.force_login(viewer)
        self.look(data_text=kept)
        other = kept + '\n[data.tables.secrets]\nfile = "/etc/passwd.csv"\n'
        self.look(403, data_text=other)
        self.look(403, edits=[{"table": "readings", "column": 0, "fields": {}}])
        body = {"table": "readings", "first": 0, "count": 5, "data_text": other}
        self.call("post", self.at("data/rows/"), body, 403)
        self.call("post", self.at("data/costs/"), {"data_text": other}, 403)

    def test_files_are_read_from_allowed_folders_alone(self):
        kept = self.call("get", self.at())["data_text"]
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "locks.csv"
            path.write_text("lock,depth\nAsh,3\n")
            asked = kept + f'\n[data.tables.locks]\nfile = "{path}"\n'
            told = self.look(400, data_text=asked)
            self.assertEqual(told["where"], "data.tables.locks.file")
            with self.settings(OWN_FILES=[*settings.OWN_FILES, Path(name)]):
                self.assertEqual(len(self.look(data_text=asked)["tables"]), 2)
            (settings.OWN_FILES[0] / "out").mkdir(parents=True, exist_ok=True)
            link = settings.OWN_FILES[0] / "out" / "locks.csv"
            link.symlink_to(path)
            self.addCleanup(link.unlink)
            self.look(400, data_text=kept + '\n[data.tables.locks]\nfile = "out/locks.csv"\n')
        zeros = kept + '\n[data.tables.locks]\nfile = "/dev/zero"\n'
        with self.settings(OWN_FILES=[*settings.OWN_FILES, Path("/dev")]):
            self.assertIn("no plain file", self.look(400, data_text=zeros)["what"])

    def test_rows_from_anywhere(self):
        body = {"table": "readings", "first": 297, "count": 50}
        found = self.call("post", self.at("data/rows/"), body)
        self.assertEqual([row[0] for row in found["rows"]], ["298", "299", "300"])
        told = self.call("post", self.at("data/rows/"), {**body, "table": "tolls"}, 400)
        self.assertIn("tolls", told["what"])

    def test_kinds_tell_their_settings(self):
        kinds = {kind["kind"]: kind["settings"] for kind in self.call("get", "kinds/")["kinds"]}
        number = {setting["name"]: setting for setting in kinds["number"]}
        self.assertEqual(number["spread"]["type"], "choice")
        self.assertIn("lognormal", number["spread"]["choices"])
        self.assertEqual(number["mean"]["type"], "number")
        types = {name: {s["name"]: s["type"] for s in found} for name, found in kinds.items()}
        self.assertEqual(types["category"]["values"], "list")
        self.assertEqual(types["timestamp"]["from"], "moment")
        self.assertEqual(types["text"]["unique"], "boolean")
        self.assertEqual(types["integer"]["low"], "integer")
        self.assertTrue(next(s for s in kinds["reference"] if s["name"] == "to")["wanted"])


class MakingData(ServerCase):
    def make(self, **body):
        made = self.call("post", self.at("data/making/"), body, 201)["newest"]
        self.assertEqual(made["state"], "waiting")
        work(Making.objects.get(pk=made["id"]))
        return self.call("get", self.at("data/making/"))["newest"]

    def test_made_measured_and_profiled(self):
        at = {"knobs": {"rows": 290}}
        estimated = self.call("post", self.at("data/costs/"), at)["tables"][0]["forms"]
        self.assertFalse(any(cost["measured"] for cost in estimated if cost["form"] == "jsonl"))
        made = self.make(forms=["jsonl"], profile=True, knobs={"rows": 290})
        self.assertEqual((made["state"], made["message"]), ("done", None))
        self.assertEqual([(m["form"], m["rows"]) for m in made["made"]], [("jsonl", 290)])
        self.assertEqual(made["profiles"]["readings"][1]["distinct"], 3)
        costs = self.call("post", self.at("data/costs/"), at)["tables"][0]["forms"]
        real = next(cost for cost in costs if cost["form"] == "jsonl")
        self.assertTrue(real["measured"])
        self.assertEqual(real["bytes"], made["made"][0]["size_bytes"])

    def test_loaded_into_an_engine(self):
        made = self.make(forms=["sqlite"])
        self.assertEqual(made["state"], "done", made["message"])
        self.assertEqual(made["made"][0]["form"], "sqlite")

    def test_stopped_before_and_while_it_is_made(self):
        self.call("post", self.at("data/making/"), {"forms": ["csv"]}, 201)
        stopped = self.call("delete", self.at("data/making/"))["newest"]
        self.assertEqual(stopped["state"], "stopped")
        body = {"forms": ["fixed"], "knobs": {"rows": 500_000}}
        made = self.call("post", self.at("data/making/"), body, 201)["newest"]

        def progress(watched, *told):
            change_job(watched.making, stop_asked=True)

        with mock.patch.object(_Watched, "progress", progress):
            work(Making.objects.get(pk=made["id"]))
        newest = self.call("get", self.at("data/making/"))["newest"]
        self.assertEqual((newest["state"], newest["made"]), ("stopped", []))

    def test_trouble(self):
        told = self.call("post", self.at("data/making/"), {"forms": ["scroll"]}, 400)
        self.assertIn("Forms here", told["hint"])
        told = self.call("post", self.at("data/making/"), {"tables": ["tolls"]}, 400)
        self.assertIn("tolls", told["what"])
        failed = self.make(forms=["csv"], knobs={"rows": 9_000_000_000})
        self.assertEqual(failed["state"], "failed")
        self.assertIn("are free", failed["message"]["what"])

    def test_a_file_of_ones_own_is_read_from_the_files_folder(self):
        folder = Path(settings.IVRELL_DATA) / "files"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "gauges.csv").write_text("gauge,height\nAsh,1.5\nOak,2.5\n")
        text = self.call("get", self.at())["data_text"]
        text += '\n[data.tables.gauges]\nfile = "gauges.csv"\n'
        found = self.call("post", self.at("data/look/"), {"data_text": text})
        gauges = found["tables"][1]
        self.assertEqual((gauges["rows"], gauges["columns"][1]["kind"]), (2, "as it is"))
