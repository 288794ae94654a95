"""What strangers and careless people send: an error with its reason, never a trace."""

import asyncio
import io
import json
import os
import time
from unittest import mock

import pyarrow as pa
import pyarrow.parquet
from django.conf import settings
from django.contrib.auth import get_user_model

from ivrell.core.records.points import LONGEST_TEXT
from ivrell.server.bodies import MOST_BYTES, MOST_SAMPLE_BYTES, Bodies, _is_owner
from ivrell.server.comparisons.models import Comparison
from ivrell.server.previews import PREVIEWS, PreviewPool
from ivrell.server.trials import live
from tests.support.comparisons import HEAD
from tests.support.server import TWO_LANES, ServerCase, trial_of
from tests.support.waiting import PATIENCE_S


class Requests(ServerCase):
    """Each is refused with a sentence and changes nothing."""

    def refused(self, method, path, body, where=""):
        before = self.comparison.text
        content = body if isinstance(body, str) else json.dumps(body)
        answer = getattr(self.client, method)(
            f"/api/{path}", data=content, content_type="application/json"
        )
        self.assertIn(answer.status_code, (400, 404), (path, answer.content[:300]))
        told = answer.json()
        self.assertTrue(told["what"], told)
        self.assertIn(where, told["where"])
        self.comparison.refresh_from_db()
        self.assertEqual(self.comparison.text, before)
        return told

    def test_nesting(self):
        deep = "[" * 5000 + "]" * 5000
        self.refused("post", "comparisons/import/", deep)
        self.refused("post", "comparisons/import/", '{"text": ' + deep + "}")
        self.refused("patch", self.at(), '{"knobs": {"rows": ' + deep + "}}")
        self.refused("post", "comparisons/import/", {"text": "a = " + deep})
        self.refused("post", "comparisons/import/", {"text": TWO_LANES + "x." * 5000 + "y = 1\n"})

    def test_numbers_without_end_or_beyond_what_is_kept(self):
        for value in ("inf", "nan", "-inf", "1e400", "9" * 400, "9223372036854775808"):
            text = TWO_LANES.replace("rows = [300]", f"rows = [{value}]")
            self.assertNotEqual(text, TWO_LANES)
            self.refused("post", "comparisons/import/", {"text": text}, "knobs")
            text = TWO_LANES.replace("[knobs]", f"[targets]\nelapsed = {value}\n[knobs]")
            if value != "9223372036854775808":
                self.refused("post", "comparisons/import/", {"text": text}, "targets")
        for body in ('{"targets": {"elapsed": Infinity}}', '{"targets": {"elapsed": NaN}}',
                     '{"knobs": {"rows": [NaN]}}', '{"targets": {"memory": 1e999}}',
                     '{"targets": {"memory": "%s kB"}}' % ("9" * 400),
                     '{"answer": {"relative": 1e-9, "absolute": Infinity}}'):  # fmt: skip
            self.refused("patch", self.at(), body)
        self.refused("post", self.at("data/look/"), '{"knobs": {"rows": 1e999}}')

    def test_ids_that_no_record_can_have(self):
        for number in (
            "2147483648",
            "9223372036854775808",
            "9" * 400,
            "-1",
            "0",
            "x",
            "1.5",
            "%00",
        ):
            for path in (
                f"comparisons/{number}/", f"trials/{number}/", f"trials/{number}/findings/",
                f"comparisons/{number}/data/making/", f"trials/{number}/runs/",
                f"comparisons/{number}/file/",
            ):  # fmt: skip
                answer = self.client.get(f"/api/{path}")
                self.assertIn(answer.status_code, (400, 404), path)
        for query in ("comparison=2147483648", "comparison=x", "comparison=" + "9" * 400, ""):
            answer = self.client.get(f"/api/trials/?{query}")
            self.assertIn(answer.status_code, (200, 400, 404), query)

    def test_half_a_character_is_refused_wherever_it_stands(self):
        trial = trial_of(self.comparison)
        for path, body in (
            (f"trials/{trial.pk}/judge/", '{"lane": "\\ud800"}'),
            (f"trials/{trial.pk}/expect/", '{"lane": "\\udfff", "point": {}}'),
            (f"trials/{trial.pk}/judge/", '{"lane": "a", "\\ud800": 1}'),
        ):
            told = self.refused("post", path, body)
            self.assertIn("can be read", told["what"])

    def test_null_and_wrong_shapes_in_changes(self):
        table = {"table": "readings", "column": 0}
        for edits in (
            None, [None], [{**table, "fields": None}], [{**table, "fields": {"a": [None]}}],
            [{**table, "fields": {"a": {"b": None}}}],
            [{"table": None, "fields": {"seed": [[None]]}}],
            [{"table": "new", "add": True, "fields": {"columns": {"a": [None, {"b": None}]}}}],
            [{"table": "readings", "column": 10**30, "fields": {}}], "x", [[]],
        ):  # fmt: skip
            self.refused("post", self.at("data/look/"), {"edits": edits})
        for body in ({"name": None}, {"knobs": {"rows": [None]}},
                     {"knobs": None}, {"answer": {"key": [None]}}, {"targets": {"elapsed": {}}},
                     {"knobs": {"rows": [[1]]}}, {"answer": {"statistics": {"mean": [None]}}},
                     {"name": "\u0000"}, {"question": "\ud800"}):  # fmt: skip
            self.refused("patch", self.at(), body)
        for body in ({"code": None}, {"columns": [None]}, {"settings_text": "a = [\u0000"},
                     {"settings_text": "[" * 900}, {"id": "no id"}, {"input": "no such"},
                     {"code": "\u0000"}, {"parent": "loop"}):  # fmt: skip
            self.refused("patch", self.at("lanes/loop/"), body)
        for body in (None, [], "x", 5, {"text": None}, {"text": {"a": 1}}, {}):
            self.refused("post", "comparisons/import/", body)
            self.refused("put", self.at("recipe/"), body)
        for plan in ({"rounds": 10**30}, {"limits": None}, {"limits": {"seconds": "inf"}},
                     {"knobs": {"rows": [None]}}, {"lanes": [None]}, {"threads": [10**30]},
                     {"knobs": {"rows": list(range(1001))}, "lanes": ["loop"]}):  # fmt: skip
            self.refused("post", self.at("launch/"), plan)

    def test_formulas_and_settings_of_lanes(self):
        sheet = HEAD + (
            '[[approach]]\nid = "s"\nengine = "sheet"\ncolumns = [{ name = "n", formula = %s }]\n'
        )
        for formula in ('"COUNT(A1)"', '""', '"=' + "(" * 5000 + '"', '"=' + "1+" * 9000 + '1"',
                        '"=A99999999999999999999"', '"=\\u0001"', '"=SUM(' + "(" * 300 + '1"',
                        '"=' + "-" * 15000 + '1"'):  # fmt: skip
            text = sheet % formula
            answer = self.client.post(
                "/api/comparisons/import/", {"text": text}, content_type="application/json"
            )
            # What can be kept must be readable again, with its mistake named at the lane.
            self.assertIn(answer.status_code, (201, 400), answer.content[:300])
            if answer.status_code == 201:
                found = self.call("get", f"comparisons/{answer.json()['id']}/")
                self.assertTrue(found["lanes"][0]["problem"]["what"], formula[:40])
        self.call("get", "comparisons/")

    def test_files_that_are_none(self):
        folder = settings.OWN_FILES[0]
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "folder.csv").mkdir(exist_ok=True)
        loop = folder / "round.csv"
        loop.unlink(missing_ok=True)
        loop.symlink_to("round.csv")
        fifo = folder / "pipe.csv"
        fifo.unlink(missing_ok=True)
        os.mkfifo(fifo)
        (folder / "control.csv").write_bytes(b"a,b\n1,\x00\n")
        (folder / "wide.csv").write_bytes("a,b\n1,2\n".encode("utf-16"))
        (folder / "empty.parquet").write_bytes(b"")
        (folder / "cut.parquet").write_bytes(b"PAR1\x00\x00PAR1")
        (folder / "twice.csv").write_text("a,a\n1,2\n")
        for name in (
            "folder.csv", "round.csv", "pipe.csv", "control.csv", "wide.csv", "nothing.csv",
            "empty.parquet", "cut.parquet", "twice.csv", "a\\u0000.csv", ".", "",
            "x" * 5000 + ".csv", "../../../dev/zero", "/dev/zero", "/proc/self/mem",
        ):  # fmt: skip
            recipe = f'[data]\n[data.tables.readings]\nfile = "{name}"\n'
            began = time.monotonic()
            self.refused("post", self.at("data/look/"), {"data_text": recipe}, "")
            self.assertLess(time.monotonic() - began, 8, name)

    def test_samples(self):
        def parquet(columns):
            sink = io.BytesIO()
            pyarrow.parquet.write_table(pa.table(columns), sink)
            return sink.getvalue()

        samples = {
            "latin.csv": "name\ngr\xfcn\n".encode("latin-1"),
            "wide.csv": "a,b\n1,2\n".encode("utf-16"),
            "empty.csv": b"",
            "head.csv": b"a,b\n",
            "ragged.csv": b"a,b\n1\n1,2,3\n",
            "twice.csv": b"a,a\n1,2\n",
            "nul.csv": b"a,b\n\x00,\x00\n",
            "cut.parquet": b"PAR1\x00\x00\x00\x00PAR1",
            "nested.parquet": parquet({"a": [{"b": 1}], "c": [[1, 2]]}),
            "huge.csv": b"a\n" + b"9" * 400 + b"\n1e999\n",
            "ends.csv": b"a,b\n9223372036854775807,1e308\n-9223372036854775808,-1e308\n",
            "name.txt": b"a\n1\n",
            "inf.parquet": parquet({"a": [float("inf"), float("nan"), 1.0]}),
            "moments.parquet": parquet({"a": pa.array([-(2**62), 2**62], pa.timestamp("us"))}),
            "null.parquet": parquet({"a": pa.nulls(3)}),
            "bytes.parquet": parquet({"a": [b"\xff\x00", b"1"]}),
        }
        for name, content in samples.items():
            file = io.BytesIO(content)
            file.name = name
            answer = self.client.post("/api/comparisons/propose/", {"files": [file]})
            self.assertIn(answer.status_code, (201, 400), (name, answer.content[:400]))
            if answer.status_code == 201:
                self.call("get", f"comparisons/{answer.json()['id']}/")
                self.call("post", f"comparisons/{answer.json()['id']}/data/look/", {})
            else:
                self.assertTrue(answer.json()["what"], name)

    def test_a_record_that_cannot_be_read_takes_neither_list_nor_page_down(self):
        broken = TWO_LANES.replace("seed = 5", "sead = 5")
        Comparison.objects.filter(pk=self.comparison.pk).update(text=broken)
        [line] = self.call("get", "comparisons/")
        self.assertIn("sead", line["problem"])
        self.assertEqual(line["name"], "Gauge readings")
        self.assertIn("sead", self.call("get", self.at(), status=400)["what"])
        kept = self.client.get(f"/api/{self.at('file/')}")
        self.assertEqual(kept.content.decode(), broken)
        self.call("put", self.at("text/"), {"text": TWO_LANES})
        self.assertEqual(self.call("get", "comparisons/")[0]["problem"], "")


class Looking(ServerCase):
    """What is endless is ended, and the next look works."""

    def test_what_takes_too_long_is_ended_and_told(self):
        looks = PreviewPool(1.0)
        self.addCleanup(looks.end)
        recipe = self.call("get", self.at())["data_text"].replace('"{rows}"', "150_000_000")
        recipe += (
            "\n[data.tables.copies]\nrows = 5\n"
            'columns = [{ name = "c", kind = "reference", to = "readings.gauge" }]\n'
        )
        with mock.patch("ivrell.server.data.views.PREVIEWS", looks):
            began = time.monotonic()
            told = self.call("post", self.at("data/look/"), {"data_text": recipe}, 400)
            self.assertLess(time.monotonic() - began, 20)
            self.assertIn("longer than 1 seconds", told["what"])
            self.assertIn("fewer rows", told["hint"])
            looks.longest_s = 20
            self.call("post", self.at("data/look/"), {})

    def test_what_takes_too_much_memory_is_told_and_the_server_lives(self):
        value = "x" * LONGEST_TEXT
        recipe = (
            "[data]\n[data.tables.readings]\nrows = 131072\n"
            f'columns = [{{ name = "c", kind = "constant", value = "{value}", repeat = 60 }}]\n'
        )
        body = {"data_text": recipe, "table": "readings", "first": 0, "count": 1}
        # However long it takes until it holds so much.
        with mock.patch.object(PREVIEWS, "longest_s", PATIENCE_S):
            told = self.call("post", self.at("data/rows/"), body, 400)
            self.assertIn("2.15 GB", told["what"])
            self.call("post", self.at("data/look/"), {})

    def test_a_table_that_nobody_could_hold_is_refused_at_once(self):
        recipe = self.call("get", self.at())["data_text"].replace('"{rows}"', "10_000_000_000")
        recipe += (
            "\n[data.tables.copies]\nrows = 5\n"
            'columns = [{ name = "c", kind = "reference", to = "readings.gauge" }]\n'
        )
        told = self.call("post", self.at("data/look/"), {"data_text": recipe}, 400)
        self.assertIn("200,000,000", told["what"])
        self.assertIn("columns[0].to", told["where"])


class Long(ServerCase):
    """Bodies are bounded before they are read."""

    def ask(self, path, *, length=None, pieces=0, cookie=""):
        """Status of a request whose body comes in pieces of a mebibyte, and pieces read."""
        sent, read = [], 0

        async def django(scope, receive, send):
            while True:
                message = await receive()
                if message["type"] == "http.disconnect" or not message.get("more_body"):
                    break
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": b""})

        async def receive():
            nonlocal read
            read += 1
            return {"type": "http.request", "body": b"x" * 2**20, "more_body": read < pieces}

        async def send(message):
            sent.append(message)

        headers = [(b"cookie", cookie.encode())]
        if length is not None:
            headers.append((b"content-length", str(length).encode()))
        scope = {"type": "http", "path": path, "method": "POST", "headers": headers}
        asyncio.run(Bodies(django)(scope, receive, send))
        return sent[0]["status"], read

    def test_a_length_told_too_large_is_not_read(self):
        self.assertEqual(self.ask("/api/comparisons/import/", length=MOST_BYTES + 1), (413, 0))
        self.assertEqual(self.ask("/api/comparisons/import/", length="9" * 50)[0], 413)
        self.assertEqual(self.ask("/enter/x", length=300 * 2**20), (413, 0))
        self.assertEqual(self.ask("/api/comparisons/import/", length="-5")[0], 413)

    def test_a_length_that_is_not_told_is_counted(self):
        status, read = self.ask("/api/comparisons/import/", pieces=300)
        self.assertEqual(status, 413)
        self.assertLessEqual(read, MOST_BYTES // 2**20 + 2)
        self.assertEqual(self.ask("/api/comparisons/import/", pieces=3)[0], 200)

    def test_samples_may_be_long_and_have_an_end_too(self):
        samples = "/api/comparisons/propose/"
        self.assertEqual(self.ask(samples, length=MOST_BYTES * 2)[0], 413)
        with mock.patch("ivrell.server.bodies._is_owner", _is_known):
            cookie = f"{settings.SESSION_COOKIE_NAME}=known"
            self.assertEqual(self.ask(samples, pieces=8, cookie=cookie), (200, 8))
            self.assertEqual(self.ask(samples, length=MOST_SAMPLE_BYTES + 1, cookie=cookie)[0], 413)
            other = f"{settings.SESSION_COOKIE_NAME}=other"
            self.assertEqual(self.ask(samples, length=MOST_BYTES * 2, cookie=other), (413, 0))
            self.assertEqual(self.ask("/api/comparisons/import/", pieces=8, cookie=cookie)[0], 413)

    def test_owners_are_known_by_their_sessions(self):
        with mock.patch("django.db.close_old_connections"):
            name = settings.SESSION_COOKIE_NAME
            self.assertTrue(_is_owner(self.client.cookies[name].value))
            self.assertFalse(_is_owner("made-up"))
            self.client.force_login(get_user_model().objects.create_user("viewer"))
            self.assertFalse(_is_owner(self.client.cookies[name].value))

    def test_the_schema_is_made_once(self):
        first = self.client.get("/api/schema/").content
        making = "drf_spectacular.generators.SchemaGenerator.parse"
        with mock.patch(making, side_effect=AssertionError("made anew")):
            self.assertEqual(self.client.get("/api/schema/").content, first)

    def test_odd_digits_are_no_place_in_a_stream(self):
        for digits in ("²", "٣", "1" * 400, "-1", "0x1", "1.5", ""):
            request = mock.Mock(headers={"Last-Event-ID": digits})
            self.assertEqual(live.last_seen(request), 0, digits)
        self.assertEqual(live.last_seen(mock.Mock(headers={"Last-Event-ID": "17"})), 17)
        self.assertEqual(live.last_seen(mock.Mock(headers={})), 0)

    def test_the_schema_needs_a_session(self):
        self.assertEqual(self.client.get("/api/schema/").status_code, 200)
        self.client.logout()
        self.assertIn(self.client.get("/api/schema/").status_code, (401, 403))


def _is_known(session_key):
    return session_key == "known"
