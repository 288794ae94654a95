"""The private PostgreSQL: contained even where somebody had taken it over."""

import contextlib
import os
import pwd
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import psycopg

from ivrell.core.base.errors import BadInput
from ivrell.core.contain import sandbox
from ivrell.core.contain.sandbox import parent_of
from ivrell.core.recipe.databases.ended import end_unused
from ivrell.core.servers import mariadb
from ivrell.core.servers.mariadb import MariaServer
from ivrell.core.servers.postgresql import Cluster
from tests.support.processes import processes_with
from tests.support.waiting import wait_until

ROOT = Path(__file__).resolve().parents[2]


@unittest.skipIf(sandbox.why_not(), f"no sandbox here: {sandbox.why_not()}")
class PrivateServer(unittest.TestCase):
    """What somebody who had taken the private server over could see, reach and leave."""

    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp(prefix="ivrell-private-"))
        # The server runs as another user where this runs as root, and passes through here.
        cls.folder.chmod(0o755)
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        (cls.folder / "secret").write_text("nobody may read this")
        cls.cluster = Cluster(cls.folder / "cluster", private=True)
        with mock.patch.dict(os.environ, {"IVRELL_SECRET_KEY": "told to nobody"}):
            cls.cluster.start()
        cls.addClassCleanup(cls.cluster.stop)

    def asked(self, sql):
        with psycopg.connect(self.cluster.address("postgres"), autocommit=True) as server:
            cursor = server.execute(sql)
            return [row[0] for row in cursor.fetchall()] if cursor.description else []

    def program(self, line):
        """What a program that the server's superuser starts says."""
        self.asked("DROP TABLE IF EXISTS said; CREATE TABLE said (line text)")
        self.asked(f"COPY said FROM PROGRAM '{line} 2>&1 || true'")
        return self.asked("SELECT line FROM said")

    def test_files_and_environment_of_others_are_out_of_sight(self):
        self.assertEqual(
            self.asked(f"SELECT pg_ls_dir('{self.folder}')"), ["cluster", "cluster.socket"]
        )
        for place in (self.folder / "secret", ROOT / "README.md", "/root/.profile"):
            with self.assertRaises(psycopg.Error, msg=place):
                self.asked(f"SELECT pg_read_file('{place}')")
        self.assertNotIn("told to nobody", " ".join(self.program("env")))

    def test_no_network_no_processes_of_others_no_rights(self):
        [count] = self.program("ls /proc | grep -c ^[0-9]")
        self.assertLess(int(count), 15)
        [rights] = self.program("grep CapBnd /proc/self/status | cut -d: -f2 | tr -d [:space:]")
        self.assertEqual(int(rights, 16), 0)
        with self.assertRaises(psycopg.OperationalError):
            psycopg.connect(
                host="127.0.0.1", port=self.cluster.port, user="ivrell", dbname="postgres"
            )
        self.assertEqual(self.program("cat /proc/net/route | wc -l")[0].strip(), "1")

    def test_nobody_else_can_put_a_socket_in_its_place(self):
        state = self.cluster.socket_folder.stat()
        self.assertEqual(state.st_mode & 0o777, 0o711)
        self.assertEqual(state.st_uid, (self.folder / "cluster").stat().st_uid)

    def test_what_it_left_running_ends_with_it(self):
        mark = f"ivrell-mark-{os.getpid()}"
        self.program(f"sh -c ''sleep 60; : {mark}'' >/dev/null 2>/dev/null & true")
        self.program(f"setsid sh -c ''sleep 61; : {mark}'' >/dev/null 2>/dev/null & true")
        self.program("sh -c ''sleep 0.1; exit 3'' >/dev/null 2>/dev/null & true")
        self.assertTrue(processes_with(mark))
        self.cluster.stop()
        self.addCleanup(self.cluster.start)
        wait_until(lambda: not processes_with(mark))

    def test_its_process_is_the_system_s_own_number_for_it(self):
        self.assertEqual(Path(f"/proc/{self.cluster.pid}/comm").read_text().strip(), "postgres")
        again = Cluster(self.folder / "cluster", private=True)
        again.start()
        self.assertEqual(again.pid, self.cluster.pid)
        again.stop()
        self.assertTrue(self.cluster.alive)

    def test_one_that_is_killed_as_it_starts_is_started_again(self):
        server = Cluster(self.folder / "killed", private=True)
        real, killed = Cluster._answers, []

        def answers(cluster):
            if len(killed) < most:
                killed.append(1)
                for pid in processes_with(str(cluster.folder)):
                    # One ends by itself as soon as the first of them does.
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(pid, 9)
            return real(cluster)

        for most in (1, 9):
            killed.clear()
            with mock.patch.object(Cluster, "_answers", answers):
                if most == 1:
                    server.start()
                    server.stop()
                else:
                    with self.assertRaisesRegex(BadInput, "did not start"):
                        server.start()
        self.none_of(server.folder)

    def test_one_whose_starter_was_killed_before_it_could_note_it_is_ended(self):
        for kind in ("postgresql.Cluster", "mariadb.MariaServer"):
            module, name = kind.split(".")
            if name == "MariaServer" and not mariadb.server_version():
                continue
            root = self.folder / f"forgotten-{module}"
            folder = root / ("cluster" if name == "Cluster" else "mariadb")
            private = ", private=True" if name == "Cluster" else ""
            code = (
                "import os\nfrom pathlib import Path\n"
                f"from ivrell.core.servers.{module} import {name}\n"
                f"{name}._wait_until_it_answers = lambda server: os._exit(7)\n"
                f"{name}(Path({str(folder)!r}){private}).start()\n"
            )

            def killed_as_it_starts(code=code):
                done = subprocess.run([sys.executable, "-c", code], cwd=ROOT)
                self.assertEqual(done.returncode, 7)

            server = Cluster(folder, private=True) if name == "Cluster" else MariaServer(folder)
            with self.subTest(kind):
                killed_as_it_starts()
                server.start()
                found = [p for p in processes_with(str(folder)) if self.first(p, server.program)]
                self.assertEqual(found, [server.pid])
                server.stop()
                self.none_of(folder)
                killed_as_it_starts()
                end_unused(root)
                self.none_of(folder)

    def none_of(self, folder):
        """Nothing of a server is left, once the last of its sandbox has ended."""
        wait_until(lambda: not processes_with(str(folder)))

    @staticmethod
    def first(pid, program):
        """Whether a process is the first one of a server."""
        return Path(f"/proc/{pid}/comm").read_text().strip() == program and (
            Path(f"/proc/{parent_of(pid)}/comm").read_text().strip() != program
        )

    @unittest.skipUnless(os.geteuid() == 0, "an ordinary user has no other users to start it as")
    def test_started_by_root_the_records_have_a_user_of_their_own(self):
        records = Cluster(self.folder / "records")
        records.start()
        self.addCleanup(records.stop)
        owner = pwd.getpwuid((self.folder / "records").stat().st_uid).pw_name
        self.assertEqual(owner, "ivrell-records")
        self.assertEqual((self.folder / "records").stat().st_mode & 0o777, 0o700)
        status = Path(f"/proc/{records.pid}/status").read_text()
        self.assertIn(f"Uid:\t{pwd.getpwnam(owner).pw_uid}\t", status)
