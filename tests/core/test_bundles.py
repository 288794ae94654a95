"""Bundles: packed, looked at, refused where they are hostile, run again with a second opinion."""

import hashlib
import io
import json
import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import jsonschema

import ivrell
from ivrell import sharing
from ivrell.core.base.errors import BadInput
from ivrell.core.bundles import unpack as unpacking
from ivrell.core.bundles.again import check_same_data, opinion_of, second_opinion
from ivrell.core.bundles.pack import pack
from ivrell.core.comparison.file import parse
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import JudgedClaim
from ivrell.core.records.sweep import Crossing, Lead, SweepFindings
from ivrell.core.results.folder import ResultFolder
from tests.support.comparisons import COUNTING, DEMO, HEAD, TrialCase, approach
from tools import file_schema

SLOW = "import time\n" + "\n".join(
    line[4:] if line.startswith("    ") else line for line in COUNTING.splitlines()
).replace("counts = {}", "time.sleep(0.2); counts = {}")  # fmt: skip
NOBODY = 65534
SYSTEM_PYTHON = "/usr/bin/python3"
CLAIMS = """
[[claim]]
text = "The loop is far quicker"
lower = "loop"
higher = "slow"
at_least = 2
"""


def _is_same_python() -> bool:
    if not Path(SYSTEM_PYTHON).exists():
        return False
    told = subprocess.run([SYSTEM_PYTHON, "--version"], capture_output=True, text=True, timeout=60)
    return told.stdout.startswith(f"Python {sys.version_info.major}.{sys.version_info.minor}.")


class Bundled(TrialCase):
    text = HEAD + approach("loop", COUNTING) + approach("slow", SLOW) + CLAIMS

    def setUp(self):
        super().setUp()
        self.trial(self.text, rounds=4, warm_ups=0, knobs={"rows": [30, 60]}).conduct()
        self.there = ivrell.Trial.open(self.folder / "trial")
        self.bundle = self.there.bundle(self.folder / "gauges.zip")


class Packed(Bundled):
    def test_it_comes_back_as_it_was_and_tells_no_paths(self):
        with zipfile.ZipFile(self.bundle) as archive:
            held = {name: archive.read(name) for name in archive.namelist()}
        manifest = json.loads(held["manifest.json"])
        self.assertEqual("ivrell-bundle/1", manifest["format"])
        for one in manifest["files"]:
            content = held[one["name"]]
            self.assertEqual(hashlib.sha256(content).hexdigest(), one["sha256"])
        self.assertFalse([name for name in held if name.startswith("answers/")])
        for name in ("plan.json", "sessions.json", "data.json"):
            self.assertNotIn(str(self.folder), held[name].decode(), name)
            self.assertNotIn(str(Path.cwd()), held[name].decode(), name)
        self.assertTrue(held["packages.txt"])
        back = ivrell.unpack(self.bundle, self.folder / "back")
        self.assertEqual(self.there.findings, back.findings)
        self.assertEqual(self.there.whole.claims, back.whole.claims)
        self.assertEqual(self.there.records, back.records)
        self.assertTrue((back.folder / "origin.json").exists())
        self.assertTrue((back.folder / "curves.parquet").exists())
        self.assertIn("Gauge", back.report(self.folder / "back.html").read_text())
        self.assertRaises(BadInput, ivrell.unpack, self.bundle, self.folder / "back")

    def test_claims_and_notes_of_now_go_with_it(self):
        note = '\n[[note]]\ntext = "Looked at twice"\n'
        gone = '\n[[claim]]\ntext = "Of a lane that did not run"\nlower = "new"\nhigher = "slow"\n'
        claim = '\n[[claim]]\ntext = "Pinned since"\nlower = "loop"\nhigher = "slow"\n'
        now = self.text.replace(CLAIMS, note + claim + gone) + approach("new", COUNTING)
        pack(ResultFolder(self.there.folder), self.folder / "now.zip", now=parse(now))
        back = sharing.unpack(self.folder / "now.zip", self.folder / "back")
        self.assertEqual(["Pinned since"], [one.text for one in back.whole.claims])
        self.assertEqual("holds", back.whole.claims[0].state)
        self.assertEqual(["Looked at twice"], [one.text for one in back.comparison.contents.note])

    def test_answers_on_request_and_they_are_not_taken_over(self):
        whole = self.there.bundle(self.folder / "whole.zip", answers=True)
        with zipfile.ZipFile(whole) as archive:
            self.assertTrue([n for n in archive.namelist() if n.startswith("answers/loop-")])
        back = ivrell.unpack(whole, self.folder / "back")
        self.assertFalse(any((back.folder / "answers").glob("*")))


class Hostile(Bundled):
    def packed(self, change, *, honest=True):
        """A bundle with something of it changed; an honest one lists what it holds."""
        with zipfile.ZipFile(self.bundle) as archive:
            held = {name: archive.read(name) for name in archive.namelist()}
        infos = []
        change(held, infos)
        if honest:
            manifest = json.loads(held["manifest.json"])
            manifest["files"] = [
                {"name": n, "bytes": len(c), "sha256": hashlib.sha256(c).hexdigest()}
                for n, c in held.items() if n != "manifest.json"
            ]  # fmt: skip
            held["manifest.json"] = json.dumps(manifest).encode()
        path = self.folder / "hostile.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in held.items():
                archive.writestr(name, content)
            for info, content in infos:
                archive.writestr(info, content)
        return path

    def refused(self, path, words):
        to = self.folder / "out" / "trial"
        to.parent.mkdir(exist_ok=True)
        with self.assertRaisesRegex(BadInput, words):
            ivrell.unpack(path, to)
        self.assertFalse(to.exists())
        self.assertEqual([], sorted((self.folder / "out").iterdir()))
        self.assertFalse((self.folder / "escaped").exists())

    def test_each_is_refused_and_leaves_nothing(self):
        def put(name, content):
            return lambda held, infos: held.update({name: content})

        def text(old, new, name="comparison.toml"):
            def change(held, infos):
                self.assertTrue(old in held[name], old)
                held[name] = held[name].replace(old, new, 1)

            return change

        def link(held, infos):
            info = zipfile.ZipInfo("packages.txt")
            info.external_attr = 0o120777 << 16
            del held["packages.txt"]
            infos.append((info, b"/etc/passwd"))

        for name, change, honest, words in (
            ("out of the folder", put("../escaped", b"x"), True, "no bundle has"),
            ("from the root", put("/tmp/escaped", b"x"), True, "no bundle has"),
            ("another file", put("run.sh", b"rm"), True, "no bundle has"),
            ("a link", link, False, "no plain file"),
            ("another content", text(b"Gauge", b"gauge"), False, "not what its manifest says"),
            ("not listed", put("remarks.json", b"{}"), False, "other files than its manifest"),
            ("a run of no lane", text(b'"approach": "loop"', b'"approach": "else"', "runs.jsonl"),
             True, "of no lane"),
            ("a time below nought", text(b'"elapsed_s": ', b'"elapsed_s": -', "runs.jsonl"),
             True, "less than no time"),
            ("a stage below nought", text(b'"end_s": ', b'"end_s": -', "runs.jsonl"),
             True, "less than no time"),
            ("runs that are none", put("runs.jsonl", b'{"run": "x"}\n'), True, "cannot be read"),
            ("a plan that is none", put("plan.json", b"[]"), True, "plan.json"),
            ("a curve of no run", put("curves/99.json", b"[]"), True, "of no run"),
            ("a comparison that is none", put("comparison.toml", b"x = ["), True, "comparison"),
            ("a later version", text(b"ivrell-bundle/1", b"ivrell-bundle/9", "manifest.json"),
             False, "later version"),
        ):  # fmt: skip
            with self.subTest(name):
                self.refused(self.packed(change, honest=honest), words)

    def test_bombs_and_broken_archives(self):
        bomb = self.packed(lambda held, _: held.update({"runs.jsonl": bytes(60 << 20)}))
        lying = io.BytesIO(bomb.read_bytes())
        with zipfile.ZipFile(lying) as archive:
            manifest = json.loads(archive.read("manifest.json"))
        small = [{**one, "bytes": min(one["bytes"], 1000)} for one in manifest["files"]]

        def lie(held, infos):
            held["runs.jsonl"] = bytes(60 << 20)
            held["manifest.json"] = json.dumps({**manifest, "files": small}).encode()

        self.refused(self.packed(lie, honest=False), "holds more than it says|not what its")
        large = [{**one, "bytes": 1 << 40} for one in manifest["files"]]

        def huge(held, infos):
            held["manifest.json"] = json.dumps({**manifest, "files": large}).encode()

        self.refused(self.packed(huge, honest=False), "more than")
        cut = self.folder / "cut.zip"
        cut.write_bytes(self.bundle.read_bytes()[:-200])
        self.refused(cut, "no archive")
        flipped = bytearray(self.bundle.read_bytes())
        flipped[60:90] = bytes(30)
        cut.write_bytes(flipped)
        self.refused(cut, "read|archive|says")
        twice = self.folder / "twice.zip"
        twice.write_bytes(self.bundle.read_bytes())
        with zipfile.ZipFile(twice, "a") as archive, self.assertWarns(UserWarning):
            archive.writestr("plan.json", b"{}")
        self.refused(twice, "two of a name")
        self.refused(self.folder / "none.zip", "no such file")


class Again(Bundled):
    def ivrell(self, *arguments, data="elsewhere"):
        return subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *map(str, arguments)], capture_output=True,
            text=True, cwd=self.folder, timeout=600, stdin=subprocess.DEVNULL,
            env={**os.environ, "IVRELL_DATA": str(self.folder / data)},
        )  # fmt: skip

    def test_with_another_data_folder_by_one_command(self):
        asked = self.ivrell("rerun", self.bundle)
        self.assertEqual(2, asked.returncode)
        # All of the code is shown before anything is run.
        self.assertIn("time.sleep(0.2)", asked.stderr)
        self.assertFalse((self.folder / "elsewhere" / "results").exists())
        done = self.ivrell("rerun", self.bundle, "--code-is-read", "--out", "again", "--json")
        self.assertIn(done.returncode, (0, 1), done.stderr)
        found = json.loads(done.stdout)
        self.assertEqual((2, 0), (found["points"], found["turned"]))
        self.assertIn("Order of lanes held at 2 points", found["words"][0])
        self.assertEqual(["The loop is far quicker"], [one["text"] for one in found["claims"]])
        compared = self.ivrell("compare", "again/there", "again/here", "--at", "rows=60")
        self.assertEqual(0, compared.returncode, compared.stderr)
        self.assertIn("rows = 60", compared.stdout)
        # As many rounds as fit; not one fits into next to no time.
        none = self.ivrell("rerun", self.bundle, "--code-is-read", "--minutes", "0.0001")
        self.assertEqual(2, none.returncode)
        self.assertIn("Not one round fits", none.stderr)

    @unittest.skipUnless(os.geteuid() == 0, "only root may be another user")
    @unittest.skipUnless(_is_same_python(), "no Python of this version that all users may run")
    def test_by_another_user_who_owns_another_folder(self):
        theirs = Path(tempfile.mkdtemp(prefix="ivrell-theirs-"))
        self.addCleanup(shutil.rmtree, theirs)
        shutil.copy(self.bundle, theirs)
        for path in (theirs, *theirs.iterdir()):
            os.chown(path, NOBODY, NOBODY)
        # The Python of these tests may lie in a home that is closed to others.
        subprocess.run([SYSTEM_PYTHON, "-m", "venv", "--without-pip", theirs / "venv"], check=True,
                       timeout=120)  # fmt: skip
        [packages] = (theirs / "venv" / "lib").glob("python*/site-packages")
        added = f"import site; site.addsitedir({sysconfig.get_path('purelib')!r})\n"
        (packages / "these.pth").write_text(added)
        done = subprocess.run(
            [theirs / "venv/bin/python", "-m", "ivrell.cli", "rerun", self.bundle.name,
             "--code-is-read", "--out", "again", "--json"],
            capture_output=True, text=True, cwd=theirs, timeout=600, stdin=subprocess.DEVNULL,
            user=NOBODY, group=NOBODY, extra_groups=[],
            env={**os.environ, "IVRELL_DATA": str(theirs / "data"), "HOME": str(theirs)},
        )  # fmt: skip
        self.assertIn(done.returncode, (0, 1), done.stderr)
        self.assertEqual(
            (2, 0), (json.loads(done.stdout)["points"], json.loads(done.stdout)["turned"])
        )
        self.assertEqual(NOBODY, (theirs / "again" / "here" / "runs.jsonl").stat().st_uid)

    def test_of_two_trials_that_were_run_anyhow(self):
        claim = '\n[[claim]]\ntext = "Half"\nlower = "loop"\nhigher = "slow"\n'
        now = parse(self.text.replace(CLAIMS, claim))
        self.trial(self.text, name="here", rounds=4, warm_ups=0, knobs={"rows": [30, 60]}).conduct()
        there, here = (ResultFolder(self.folder / name) for name in ("trial", "here"))
        found = opinion_of(there, here, now)
        self.assertEqual(["Half"], [claim.text for claim in found.claims])
        self.assertIn("The claim that held there holds here.", found.words)
        other = self.text.replace("time.sleep(0.2)", "time.sleep(0.1)")
        self.trial(other, name="other", rounds=2, warm_ups=0, knobs={"rows": [30]}).conduct()
        with self.assertRaisesRegex(BadInput, "did not run the same"):
            opinion_of(there, ResultFolder(self.folder / "other"))

    def test_its_words_are_right_where_a_lane_was_made_slower(self):
        text = self.text.replace("time.sleep(0.2)", "time.sleep(0.002)")
        loop = text.index('id = "loop"')
        text = text[:loop] + text[loop:].replace(
            "    counts = {}", "    import time; time.sleep(0.3)\n    counts = {}", 1)  # fmt: skip
        self.trial(text, name="here", rounds=4, warm_ups=0, knobs={"rows": [30, 60]}).conduct()
        here = ivrell.Trial.open(self.folder / "here").whole
        found = second_opinion(self.there.comparison.contents, self.there.whole, here)
        self.assertEqual((2, False), (found.turned, found.holds))
        self.assertIn("slow is faster than loop here, and slower there", found.words[0])
        told = " ".join(found.words)
        self.assertIn("The claim that held there fell: The loop is far quicker.", told)
        self.assertRegex(told, r"Against loop, slow is [\d.,]+ times faster here")

    def test_no_stranger_s_code_runs_where_there_is_no_sandbox(self):
        none = mock.patch("ivrell.core.contain.sandbox.why_not", return_value="no bubblewrap")
        with none, self.assertRaisesRegex(BadInput, "is not run without: no bubblewrap"):
            ivrell.rerun(self.bundle, folder=self.folder / "again")
        self.assertFalse((self.folder / "again").exists())

    def test_other_data_is_refused(self):
        def table(bytes_hash):
            return MadeTable(table="readings", form="csv", rows=5, seconds=0, fingerprint="f",
                             bytes_hash=bytes_hash)  # fmt: skip

        check_same_data([table("a")], [table("a")])
        with self.assertRaisesRegex(BadInput, "not what was made there"):
            check_same_data([table("a")], [table("b")])

    def test_crossings_that_moved_and_claims_that_weakened(self):
        def with_crossing(whole, at, low, high, state):
            crossing = Crossing(before="loop", after="slow", at=at, low=low, high=high)
            lead = Lead(measure="elapsed", crossings=[crossing], regimes=[], words="", rule=None)
            claim = JudgedClaim(text="c", measure="elapsed", conditions="", state=state, reason="r")
            return whole.model_copy(update={
                "sweeps": [SweepFindings(knob="rows", leads=[lead])], "claims": [claim],
            })  # fmt: skip

        whole, contents = self.there.whole, self.there.comparison.contents
        there = with_crossing(whole, 4700, 4500, 5000, "holds")
        moved = second_opinion(contents, there, with_crossing(whole, 6100, 5800, 6500, "weakened"))
        told = " ".join(moved.words)
        self.assertIn("moved from 4,700 to 6,100 of rows", told)
        self.assertIn("The claim that held there is weakened: c.", told)
        self.assertFalse(moved.holds)
        held = second_opinion(contents, there, with_crossing(whole, 4900, 4600, 5200, "holds"))
        self.assertIn("held: 4,700 there, 4,900 here", " ".join(held.words))
        self.assertTrue(held.holds)
        # That none is found is not that it surely moved.
        none = with_crossing(whole, 4900, 4600, 5200, "holds")
        none = none.model_copy(update={"sweeps": [SweepFindings(knob="rows")]})
        lost = second_opinion(contents, there, none)
        self.assertIn("is not found here", " ".join(lost.words))
        self.assertTrue(lost.holds)


class Looked(Bundled):
    def test_the_published_schema_is_that_of_the_manifests(self):
        path = DEMO.parents[1] / "docs" / "bundle.schema.json"
        self.assertEqual(path.read_text(), file_schema.bundle_text(), "run tools/schema.sh")
        with zipfile.ZipFile(self.bundle) as archive:
            manifest = json.loads(archive.read("manifest.json"))
        jsonschema.validate(manifest, json.loads(path.read_text()))
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate(
                {**manifest, "files": [{"name": "x"}]}, json.loads(path.read_text())
            )

    def test_a_bundle_is_looked_at_without_being_unpacked(self):
        found = sharing.look(self.bundle)
        self.assertEqual(self.text, found.text)
        self.assertEqual(len(self.there.records), found.manifest.runs)
        self.assertEqual(4, sharing.plan_of(found).rounds)
        self.assertEqual(unpacking.look(self.bundle).digest, found.digest)
