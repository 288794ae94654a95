"""A copy of everything, loaded elsewhere: accounts, comparisons, trials as they were."""

import io
import json
import os
import shutil
import stat
import subprocess
import sys
import tarfile
import tempfile
import unittest
import urllib.error
import urllib.request
from pathlib import Path
from unittest import mock

from ivrell.core.base.errors import BadInput
from ivrell.core.base.running import ask
from ivrell.server import backup
from tests.support.comparisons import DEMO
from tests.support.running import Running


class BackUp(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp(prefix="ivrell-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.folder.chmod(0o755)

    def command(self, *arguments):
        return subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *map(str, arguments)], capture_output=True,
            text=True, stdin=subprocess.DEVNULL, timeout=300, cwd=self.folder,
        )  # fmt: skip

    def test_what_was_saved_while_it_ran_is_there_in_another_folder(self):
        first = Running()
        self.addCleanup(first.close)
        first.start("--no-demo")
        number = ask("POST", "comparisons/", {"text": DEMO.read_text()}, data=first.data)["id"]
        ask("PUT", f"comparisons/{number}/labels/", {"labels": ["kept"]}, data=first.data)
        ask("POST", "people/", {"name": "Ashe", "role": "editor"}, data=first.data)
        ask("PUT", "prices/", {"machines": {}, "storages": {}}, data=first.data)
        result = first.data / "trials" / "7"
        result.mkdir()
        (result / "runs.jsonl").write_text("{}\n")
        (first.data / "made" / "big").write_bytes(b"x" * 10_000)
        copy = self.folder / "copy.tar.gz"
        done = self.command("backup", copy, "--data-dir", first.data)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(stat.S_IMODE(copy.stat().st_mode), 0o600)
        before = ask("GET", f"comparisons/{number}/", data=first.data)
        again = self.command("backup", copy, "--data-dir", first.data)
        self.assertEqual(again.returncode, 2)
        self.assertIn("there already", again.stderr)

        other = Running()
        self.addCleanup(other.close)
        done = self.command("restore", copy, "--data-dir", other.data)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("is as it was on", done.stdout)
        self.assertFalse((other.data / "made" / "big").exists())
        other.start("--no-demo")
        self.assertEqual(ask("GET", f"comparisons/{number}/", data=other.data), before)
        people = ask("GET", "people/", data=other.data)["people"]
        self.assertEqual([person["name"] for person in people], ["Ashe", "owner"])
        self.assertTrue((other.data / "trials" / "7" / "runs.jsonl").exists())
        # The first one was not touched, and what holds something is not loaded into.
        self.assertEqual(ask("GET", f"comparisons/{number}/", data=first.data), before)
        refused = self.command("restore", copy, "--data-dir", other.data)
        self.assertIn("holds something already", refused.stderr)

    def packed(self, members):
        path = self.folder / f"made-{len(list(self.folder.iterdir()))}.tar.gz"
        with tarfile.open(path, "w:gz") as made:
            for name, content in members.items():
                member = tarfile.TarInfo(name)
                member.size = len(content)
                made.addfile(member, io.BytesIO(content))
        return path

    def test_what_is_no_copy_is_refused_and_leaves_nothing(self):
        about = {
            "format": backup.FORMAT, "ivrell": "0", "made_at": "2026-01-01T00:00:00Z",
            "records_digest": "0",
        }  # fmt: skip
        text = self.folder / "text"
        text.write_text("no copy")
        later = about | {"format": "ivrell-backup/2"}
        for file, words in (
            (text, "no copy that ivrell backup made"),
            (self.folder / "none", "no copy that ivrell backup made"),
            (self.packed({"elsewhere/file": b""}), "in no copy"),
            (self.packed({"data/../../escaped": b""}), "no copy"),
            (self.packed({"backup.json": json.dumps(later).encode(), "records.dump": b""}), "/2"),
            (self.packed({"backup.json": json.dumps(about).encode(), "records.dump": b""}),
             "not those that were put there"),
        ):  # fmt: skip
            with self.assertRaises(BadInput) as raised:
                backup.load(file, self.folder / "into")
            self.assertIn(words, str(raised.exception))
            self.assertFalse((self.folder / "into").exists())
            self.assertFalse((self.folder.parent / "escaped").exists())

    def test_where_nothing_is(self):
        with self.assertRaises(BadInput):
            backup.save(self.folder, self.folder / "copy")


class Served(unittest.TestCase):
    def test_people_behind_a_proxy_get_a_link_of_its_name(self):
        ivrell = Running()
        self.addCleanup(ivrell.close)
        given = {"IVRELL_PROXY": "1", "IVRELL_HOSTS": "ivrell.example"}
        with mock.patch.dict(os.environ, given):
            link = ivrell.start("--no-demo")
        self.assertTrue(link.startswith("https://ivrell.example/enter/"), link)
        headers = {"Host": "inside:1", "X-Forwarded-Host": "ivrell.example",
                   "X-Forwarded-Proto": "https"}  # fmt: skip
        path = link.removeprefix("https://ivrell.example")

        class Stay(urllib.request.HTTPRedirectHandler):
            def redirect_request(self, *_):
                return None

        opener = urllib.request.build_opener(Stay)
        asked = urllib.request.Request(f"{ivrell.address}{path}", headers=headers)
        with self.assertRaises(urllib.error.HTTPError) as answer:
            opener.open(asked)
        self.assertEqual(answer.exception.status, 302)
        self.assertIn("Secure", answer.exception.headers["Set-Cookie"])


if __name__ == "__main__":
    unittest.main()
