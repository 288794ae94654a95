"""Environments: made of packages in a folder, and told in words where they cannot be."""

import os
import shutil
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.environments import check, environment_folder, make, remove
from ivrell.core.runtimes import Runtimes


def wheel(folder, name, version, code="", requires=""):
    """A package of one module, as a registry would give it."""
    info = f"{name}-{version}.dist-info"
    needs = f"Requires-Dist: {requires}\n" if requires else ""
    with zipfile.ZipFile(folder / f"{name}-{version}-py3-none-any.whl", "w") as file:
        file.writestr(f"{name}.py", code)
        file.writestr(
            f"{info}/METADATA", f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{needs}"
        )
        tags = "Wheel-Version: 1.0\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
        file.writestr(f"{info}/WHEEL", tags)
        file.writestr(f"{info}/RECORD", f"{name}.py,,\n{info}/METADATA,,\n{info}/WHEEL,,\n")


class Made(unittest.TestCase):
    def setUp(self):
        self.data = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.data)
        shelf = self.data / "shelf"
        shelf.mkdir()
        wheel(shelf, "sluice", "1.0", "LEVEL = 1")
        wheel(shelf, "sluice", "2.0", "LEVEL = 2")
        wheel(shelf, "cracked", "1.0", "raise ImportError('no water')")
        wheel(shelf, "lockgate", "1.0", requires="sluice<2")
        own = {"PIP_NO_INDEX": "1", "PIP_FIND_LINKS": str(shelf), "PIP_CONFIG_FILE": os.devnull}
        patch = mock.patch.dict(os.environ, own)
        patch.start()
        self.addCleanup(patch.stop)

    def make(self, name, *packages, **how):
        return make(name, packages, data=self.data, **how)

    def refused(self, words, *packages, **how):
        with self.assertRaises(BadInput) as raised:
            self.make("wrong", *packages, **how)
        self.assertIn(words, str(raised.exception))
        self.assertFalse(environment_folder("wrong", self.data).exists())
        self.assertEqual([], [one.name for one in Runtimes(self.data).all()])

    def test_two_versions_of_a_package_side_by_side_and_one_taken_away(self):
        said = []
        old = self.make("old", "sluice==1.0", listen=said.append)
        new = self.make("new", "sluice")
        self.assertEqual(("1.0", "2.0"), (old.packages["sluice"], new.packages["sluice"]))
        self.assertIn("sluice 1.0", said[-1])
        self.assertEqual({"old", "new"}, {one.name for one in Runtimes(self.data).all()})
        with self.assertRaises(BadInput):
            self.make("old", "sluice")
        remove("old", self.data)
        self.assertEqual(["new"], [one.name for one in Runtimes(self.data).all()])
        self.assertFalse(environment_folder("old", self.data).exists())

    def test_what_cannot_be_had_is_said_and_leaves_nothing(self):
        self.refused("There is no sluice==7", "sluice==7")
        self.refused("cannot be had together", "lockgate", "sluice==2.0")
        words = "cracked was installed and cannot be imported: ImportError: no water"
        self.refused(words, "cracked")
        self.refused("cannot be started", python="/nowhere/python")

    def test_without_a_network(self):
        gone = {"PIP_NO_INDEX": "0", "PIP_INDEX_URL": "http://127.0.0.1:9/", "PIP_RETRIES": "1"}
        with mock.patch.dict(os.environ, gone):
            self.refused("cannot be reached", "nothing-of-this-name")

    def test_stop_ends_it_and_takes_it_away(self):
        with self.assertRaises(Stopped):
            self.make("wrong", "sluice", stopped=lambda: True)
        self.assertFalse(environment_folder("wrong", self.data).exists())


class Asked(unittest.TestCase):
    def test_packages_and_names(self):
        check("pandas-2.3", ["pandas==2.3.3", "polars", "pyarrow>=14,<22", "dask[array] ~= 2025.1"])
        for wrong in ("--index-url=x", "-r x", "../pandas", "pandas @ file:///x", "", "a b", "x=1"):
            with self.subTest(wrong), self.assertRaises(BadInput):
                check("fine", [wrong])
        for wrong in ("", "../up", "-r", "x" * 41):
            with self.subTest(wrong), self.assertRaises(BadInput):
                check(wrong, [])
