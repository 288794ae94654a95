"""Curves stay small and keep their peaks; the private cluster starts, stops, and is private."""

import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import psycopg

from ivrell.core.base.errors import BadInput
from ivrell.core.machine import snapshot
from ivrell.core.measure.curve import MOST_POINTS, Curve
from ivrell.core.servers.postgresql import Cluster


class Curves(unittest.TestCase):
    def test_short_ones_are_kept_whole(self):
        curve = Curve()
        for n in range(100):
            curve.add(n * 0.025, n * 0.02, n)
        self.assertEqual(len(curve.finished()), 100)

    def test_long_ones_are_thinned_and_no_peak_is_lost(self):
        curve = Curve()
        for n in range(50_001):
            curve.add(n * 0.025, n * 0.02, 900 if n == 31_234 else n % 7)
        points = curve.finished()
        self.assertLessEqual(len(points), MOST_POINTS)
        self.assertGreater(len(points), MOST_POINTS // 4)
        self.assertEqual(max(memory for _, _, memory in points), 900)
        times = [t for t, _, _ in points]
        self.assertEqual(times, sorted(times))
        self.assertAlmostEqual(times[-1], 50_000 * 0.025)
        cpu = [c for _, c, _ in points]
        self.assertEqual(cpu, sorted(cpu))


class Clusters(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp(prefix="ivrell-cluster-"))
        # PostgreSQL runs as another user when this runs as root, and has to get through here.
        cls.folder.chmod(0o755)
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.cluster = Cluster(cls.folder / "records")
        cls.cluster.start({"fsync": "off"})
        cls.addClassCleanup(cls.cluster.stop)

    def connect(self, **changed):
        where = {
            "host": "127.0.0.1", "port": self.cluster.port, "dbname": "postgres",
            "user": self.cluster.user, "password": self.cluster.password,
        }  # fmt: skip
        return psycopg.connect(**{**where, **changed})

    def test_takes_the_password_and_no_other(self):
        with self.connect() as connection:
            shown = connection.execute("SHOW listen_addresses").fetchone()
        self.assertEqual(shown, ("127.0.0.1",))
        for wrong in ("", "guess"):
            with self.assertRaises(psycopg.OperationalError):
                self.connect(password=wrong)

    def test_only_its_owner_can_read_the_password(self):
        path = self.cluster.folder.with_name("records.password")
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)

    def test_one_that_runs_is_attached_to_and_not_ended_by_who_leaves(self):
        other = Cluster(self.cluster.folder)
        other.start()
        self.assertEqual(other.port, self.cluster.port)
        other.stop()
        with self.connect() as connection:
            self.assertEqual(connection.execute("SELECT 1").fetchone(), (1,))

    def test_the_last_of_two_processes_ends_it_whoever_started_it(self):
        folder = self.folder / "shared"
        first, second = (Cluster(folder, private=True) for _ in range(2))
        first.start({"fsync": "off"})
        second.start()
        self.assertEqual(second.socket_folder, first.socket_folder)
        self.assertFalse(first.socket_folder.stat().st_mode & 0o066, "others cannot look or write")
        with self.assertRaisesRegex(BadInput, "Another Ivrell process uses"):
            second.restart(lambda: None)
        first.stop()
        with psycopg.connect(second.maintenance) as connection:
            self.assertEqual(connection.execute("SELECT 1").fetchone(), (1,))
        pid, socket_folder = second.pid, second.socket_folder
        second.restart(lambda: None, {"fsync": "off"})
        self.assertNotEqual(second.pid, pid)
        pid = second.pid
        second.stop()
        self.assertFalse(Path(f"/proc/{pid}").exists())
        self.assertFalse(socket_folder.exists())

    def test_one_that_outlived_its_process_is_ended_by_the_next(self):
        folder = self.folder / "orphan"
        code = (
            "import os, signal, sys\nfrom pathlib import Path\n"
            "from ivrell.core.servers.postgresql import Cluster\n"
            f"cluster = Cluster(Path({str(folder)!r}), private=True)\ncluster.start()\n"
            "print(cluster.pid, flush=True)\nos.kill(os.getpid(), signal.SIGKILL)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        pid = int(done.stdout)
        cluster = Cluster(folder, private=True)
        cluster.start()
        self.assertEqual(cluster.pid, pid)
        cluster.stop()
        self.assertFalse(Path(f"/proc/{pid}").exists())

    def test_what_is_written_outlives_a_stop(self):
        cluster = Cluster(self.folder / "second")
        cluster.start()
        where = f"host=127.0.0.1 dbname=postgres user=ivrell password={cluster.password}"
        with psycopg.connect(f"{where} port={cluster.port}") as connection:
            connection.execute("CREATE TABLE barges AS SELECT 7 AS hulls")
        cluster.stop()
        again = Cluster(self.folder / "second")
        again.start()
        self.addCleanup(again.stop)
        with psycopg.connect(f"{where} port={again.port}") as connection:
            self.assertEqual(connection.execute("SELECT hulls FROM barges").fetchone(), (7,))

    def test_trouble_is_told_with_the_end_of_the_log(self):
        cluster = Cluster(self.folder / "third")
        with self.assertRaisesRegex(BadInput, "did not start.*no_such_setting"):
            cluster.start({"no_such_setting": "1"})


class Machine(unittest.TestCase):
    def test_snapshot(self):
        found = snapshot(Path("/tmp"))
        self.assertGreater(found.memory_bytes, found.free_memory_bytes)
        self.assertEqual(len(found.load), 3)
        self.assertTrue(found.processor)
        self.assertTrue(found.engines["python"].installed)
        self.assertIn("subreaper", found.methods.cpu)


if __name__ == "__main__":
    unittest.main()
