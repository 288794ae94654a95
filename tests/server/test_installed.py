"""The application from the installed package, outside the checkout."""

import os
import shutil
import sys
import tempfile
import unittest
import urllib.request
from pathlib import Path
from unittest import mock

from tests.support.installed import installed
from tests.support.running import Running


class Served(Running):
    def command(self, *arguments):
        where = ["--data-dir", str(self.data), "--port", str(self.port)]
        return [sys.executable, "-m", "ivrell.cli", "serve", *where, *arguments]


class Installed(unittest.TestCase):
    def test_it_is_served_with_its_page_and_its_demos(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        folder.chmod(0o755)
        there = mock.patch.dict(os.environ, {"PYTHONPATH": str(installed(folder))})
        there.start()
        self.addCleanup(there.stop)
        ivrell = Served()
        self.addCleanup(ivrell.close)
        link = ivrell.start()
        opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        with opener.open(link) as page:
            self.assertIn('id="root"', page.read().decode())
        with opener.open(f"{ivrell.address}/api/comparisons/") as told:
            self.assertIn("Tolls per lock", told.read().decode())


if __name__ == "__main__":
    unittest.main()
