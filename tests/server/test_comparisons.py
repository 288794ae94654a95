"""The API of comparisons: what is taken, what is refused, what comes back."""

from django.contrib.auth import get_user_model

from ivrell.core.comparison.file import parse
from ivrell.core.engines.registry import ENGINES
from ivrell.server.comparisons.models import Comparison
from tests.support.comparisons import DEMO
from tests.support.server import TWO_LANES, ServerCase


class Records(ServerCase):
    def test_list_and_read(self):
        line = self.call("get", "comparisons/")[0]
        self.assertEqual((line["name"], line["trials"]), ("Gauge readings", 0))
        found = self.call("get", self.at())
        self.assertEqual([lane["id"] for lane in found["lanes"]], ["loop", "query"])
        self.assertEqual(found["lanes"][1]["code_lines"], 1)
        self.assertIn("[data.tables.readings]", found["data_text"])

    def test_the_last_changed_comes_first(self):
        other = Comparison.objects.from_text(TWO_LANES.replace("Gauge readings", "Tide tables"))
        names = [line["name"] for line in self.call("get", "comparisons/")]
        self.assertEqual(names, ["Tide tables", "Gauge readings"])
        self.call("patch", self.at(), {"question": "How many?"})
        names = [line["name"] for line in self.call("get", "comparisons/")]
        self.assertEqual(names, ["Gauge readings", other.name])

    def test_import_and_export_keep_the_text_to_the_letter(self):
        text = DEMO.read_text()
        made = self.call("post", "comparisons/import/", {"text": text}, 201)
        answer = self.client.get(f"/api/comparisons/{made['id']}/file/")
        self.assertEqual(answer.content.decode(), text)
        self.assertIn("tolls-per-lock.toml", answer["Content-Disposition"])

    def test_import_of_bad_input_says_what_where_and_cure_and_keeps_nothing(self):
        before = Comparison.objects.count()
        bad = TWO_LANES.replace("seed = 5", "sead = 5")
        told = self.call("post", "comparisons/import/", {"text": bad}, 400)
        self.assertIn("sead", told["what"])
        self.assertIn("line 12", told["where"])
        self.assertIn("spelling", told["hint"])
        self.assertEqual(Comparison.objects.count(), before)

    def test_new_delete_and_bring_back(self):
        made = self.call("post", "comparisons/", None, 201)
        self.assertEqual(len(self.call("get", "comparisons/")), 2)
        self.call("delete", f"comparisons/{made['id']}/", status=204)
        self.assertEqual(len(self.call("get", "comparisons/")), 1)
        self.call("post", f"comparisons/{made['id']}/restore/")
        self.assertEqual(len(self.call("get", "comparisons/")), 2)

    def test_there_is_no_such_thing(self):
        self.assertIn("no such", self.call("get", "comparisons/999/", status=404)["what"])


class Changes(ServerCase):
    def test_settings(self):
        body = {
            "question": "How many readings?",
            "answer": {"order": True},
            "targets": {"elapsed": "2 s"},
            "knobs": {"rows": [20000]},
        }
        found = self.call("patch", self.at(), body)
        self.assertEqual(found["question"], "How many readings?")
        self.assertEqual(found["answer"]["key"], ["gauge"])
        self.assertTrue(found["answer"]["order"])
        self.assertEqual(found["targets"]["elapsed"], 2)
        self.assertEqual(found["knobs"]["rows"], [20000])
        cleared = self.call("patch", self.at(), {"targets": {"elapsed": None}})
        self.assertIsNone(cleared["targets"]["elapsed"])

    def test_a_refused_change_changes_nothing(self):
        told = self.call("patch", self.at(), {"targets": {"elapsed": "soon"}}, 400)
        self.assertIn("targets.elapsed", told["where"])
        self.call("patch", self.at(), {"baseline": "nobody"}, 400)
        self.comparison.refresh_from_db()
        self.assertEqual(self.comparison.text, TWO_LANES)

    def test_recipe(self):
        text = self.call("get", self.at())["data_text"]
        changed = text.replace('"Oak"', '"Oak", "Yew"')
        found = self.call("put", self.at("recipe/"), {"text": changed})
        self.assertIn("Yew", found["text"])
        told = self.call("put", self.at("recipe/"), {"text": "[data"}, 400)
        self.assertIn("not TOML", told["what"])

    def test_lanes(self):
        found = self.call("post", self.at("lanes/"), {"branch_from": "query"}, 201)
        made = found["lanes"][2]
        self.assertEqual(made["parent"], "query")
        self.assertEqual(made["code"], found["lanes"][1]["code"])
        found = self.call("patch", self.at(f"lanes/{made['id']}/"), {"code": "SELECT (\n"})
        self.assertEqual(found["lanes"][2]["problem"]["line"], 1)
        found = self.call("put", self.at("lane-order/"), {"ids": [made["id"], "query", "loop"]})
        self.assertEqual([lane["id"] for lane in found["lanes"]], [made["id"], "query", "loop"])
        found = self.call("delete", self.at(f"lanes/{made['id']}/"))
        self.assertEqual(len(found["lanes"]), 2)
        self.call("patch", self.at("lanes/nobody/"), {"code": ""}, 400)

    def test_lanes_are_copied_and_retired(self):
        made = self.call("post", self.at("lanes/"), {"copy_of": "query"}, 201)
        ids = [lane["id"] for lane in made["lanes"]]
        copy = made["lanes"][ids.index("query") + 1]
        self.assertEqual((copy["parent"], copy["code"]), ("loop", made["lanes"][1]["code"]))
        gone = self.call("patch", self.at(f"lanes/{copy['id']}/"), {"retired": True})
        self.assertIn("retired = true", gone["text"])
        trial = self.call("post", self.at("launch/"), {"rounds": 1, "warm_ups": 0}, 201)
        self.assertEqual(trial["planned_runs"], 2)
        back = self.call("patch", self.at(f"lanes/{copy['id']}/"), {"retired": False})
        self.assertNotIn("retired", back["text"])

    def test_a_sheet_s_columns_are_changed_and_mistakes_point_at_their_character(self):
        made = self.call("post", self.at("lanes/"), {"engine": "sheet", "name": "On a sheet"}, 201)
        lane = made["lanes"][-1]
        self.assertEqual((lane["problem"], lane["sheet"]["formula_cells"]), (None, 1))
        columns = [
            {"name": "gauge", "formula": "={row.gauge}", "layout": "rows"},
            {"name": "double", "formula": "=SUM({row.reading},{row.reading})", "layout": "rows"},
        ]
        at = self.at(f"lanes/{lane['id']}/")
        changed = self.call("patch", at, {"columns": columns})["lanes"][-1]
        self.assertEqual(changed["sheet"]["wrong_name"], "double")
        wrong_at = changed["sheet"]["wrong_at"]
        self.assertEqual(columns[1]["formula"][wrong_at], ",")
        columns[1]["formula"] = columns[1]["formula"].replace(",", ";")
        good = self.call("patch", at, {"columns": columns})["lanes"][-1]
        self.assertEqual((good["problem"], good["sheet"]["formula_cells"]), (None, 600))
        self.assertIn("={row.gauge}", self.call("get", self.at())["text"])
        copy = self.call("post", self.at("lanes/"), {"branch_from": lane["id"]}, 201)
        branch = next(x for x in copy["lanes"] if x["parent"] == lane["id"])
        self.assertEqual(branch["sheet"]["columns"], good["sheet"]["columns"])

    def test_tables_and_columns_are_told_for_the_editor(self):
        found = self.call("get", self.at())
        self.assertEqual(found["columns"], {"readings": ["reading", "gauge"]})

    def test_a_lane_starts_in_a_way_of_its_engine(self):
        asked = {"engine": "python", "way": "a memory map"}
        found = self.call("post", self.at("lanes/"), asked, 201)
        lane = found["lanes"][-1]
        self.assertEqual(lane["name"], "A memory map")
        self.assertIn("import mmap", lane["code"])
        self.assertIsNone(lane["problem"])
        told = self.call("post", self.at("lanes/"), {**asked, "way": "by hand"}, 400)
        self.assertIn('no way "by hand"', str(told))
        ways = {one["name"]: one["ways"] for one in self.call("get", "engines/")["engines"]}
        self.assertIn("a memory map", ways["python"])
        self.assertEqual(ways["duckdb"], [])

    def test_a_new_lane_runs_as_it_is(self):
        for engine in ("python", "duckdb"):
            found = self.call("post", self.at("lanes/"), {"engine": engine}, 201)
            self.assertIsNone(found["lanes"][-1]["problem"])
        ids = [lane["id"] for lane in found["lanes"]]
        self.assertEqual(ids, ["loop", "query", "new_lane", "new_lane_2"])

    def test_lanes_keep_their_marks(self):
        marks = self.call("get", self.at())["marks"]
        self.assertEqual(marks, {"loop": 0, "query": 1})
        self.call("delete", self.at("lanes/loop/"))
        found = self.call("post", self.at("lanes/"), {"engine": "python"}, 201)
        self.assertEqual(found["marks"], {"loop": 0, "query": 1, "new_lane": 2})

    def test_settings_of_a_lane_as_text(self):
        text = 'input = "duckdb"'
        self.call("patch", self.at("lanes/query/"), {"input": "duckdb"})
        body = {"settings_text": 'indexes = ["readings(gauge)"]\nwrites = true\n'}
        found = self.call("patch", self.at("lanes/query/"), body)
        self.assertIn(text, found["text"])
        self.assertIn('indexes = ["readings(gauge)"]', found["text"])
        self.assertEqual(found["lanes"][1]["settings_text"], body["settings_text"])
        found = self.call("patch", self.at("lanes/query/"), {"settings_text": "writes = true"})
        self.assertNotIn("indexes", found["text"])
        told = self.call("patch", self.at("lanes/query/"), {"settings_text": "wrong = 1"}, 400)
        self.assertIn("wrong", told["what"])
        told = self.call("patch", self.at("lanes/query/"), {"settings_text": "= 1"}, 400)
        self.assertIn("line 1", told["where"])

    def test_every_engine_starts_with_a_lane_that_is_good(self):
        for engine in ENGINES:
            found = self.call("post", self.at("lanes/"), {"engine": engine}, 201)
            problem = found["lanes"][-1]["problem"]
            if engine == "sql":
                # Which server it is to run on nobody can guess.
                self.assertIn("names no server", problem["what"])
            else:
                self.assertIsNone(problem)
            self.assertEqual(found["lanes"][-1]["engine"], engine)
        branched = self.call("post", self.at("lanes/"), {"branch_from": "new_lane"}, 201)
        self.assertEqual(len(branched["lanes"]), 2 + len(ENGINES) + 1)

    def test_names_are_kept_as_text(self):
        name = "<b>bold</b> & \"quoted\" '''three'''"
        found = self.call("patch", self.at(), {"name": name})
        self.assertEqual(found["name"], name)
        self.assertEqual(parse(found["text"]).name, name)


class WhoMayDoWhat(ServerCase):
    def test_without_signing_in(self):
        self.client.logout()
        self.assertIn("not provided", self.call("get", "comparisons/", status=403)["what"])
        self.call("post", "comparisons/", None, 403)

    def test_viewers_look_but_do_not_touch(self):
        self.client.force_login(get_user_model().objects.create_user("viewer"))
        self.call("get", self.at())
        self.call("patch", self.at(), {"question": "x"}, 403)
        self.call("post", self.at("lanes/"), {"engine": "python"}, 403)
        self.assertIn("may look", self.call("post", self.at("launch/"), {}, 403)["what"])
