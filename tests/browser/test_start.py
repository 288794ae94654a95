"""Starting and stopping: nothing lost, nothing left, clear words when it cannot be."""

import os
import signal
import socket
import subprocess
import unittest
import urllib.error
import urllib.request
from pathlib import Path

from ivrell.core.servers.postgresql import free_port
from tests.support.processes import processes_with
from tests.support.running import Running
from tests.support.waiting import wait_until


def status(address: str, opener=None) -> int:
    try:
        with (opener or urllib.request.build_opener()).open(address, timeout=60) as answer:
            return answer.status
    except urllib.error.HTTPError as error:
        return error.code


FIRST = ["Tolls per lock", "One lock's passages"]
FILES = list((Path(__file__).resolve().parents[2] / "demo").glob("*.toml"))


class Start(unittest.TestCase):
    def setUp(self):
        self.ivrell = Running()
        self.addCleanup(self.ivrell.close)

    def signed_in(self, link):
        opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        self.assertEqual(status(link, opener), 200)
        return opener

    def names(self, opener):
        import json

        with opener.open(f"{self.ivrell.address}/api/comparisons/", timeout=60) as answer:
            return [line["name"] for line in json.load(answer)]

    def assert_demo(self, opener):
        names = self.names(opener)
        self.assertEqual((names[:2], len(names)), (FIRST, len(FILES)))

    def test_stop_leaves_nothing_and_a_second_start_has_everything(self):
        opener = self.signed_in(self.ivrell.start())
        self.assert_demo(opener)
        self.assertEqual(status(f"{self.ivrell.address}/api/comparisons/"), 403)
        self.assertEqual(self.ivrell.interrupt(), 0)
        self.assertEqual(processes_with(str(self.ivrell.data), environment=True), [])
        self.assertFalse((self.ivrell.data / "running.json").exists())
        link = self.ivrell.start("--no-demo")
        self.assert_demo(self.signed_in(link))
        self.assertEqual(status(f"{self.ivrell.address}/api/now/", opener), 200)
        again = self.ivrell.link()
        self.assertNotEqual(again, link)
        self.assert_demo(self.signed_in(again))

    def test_no_demo_starts_empty(self):
        self.assertEqual(self.names(self.signed_in(self.ivrell.start("--no-demo"))), [])

    def test_a_busy_port_is_told(self):
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", self.ivrell.port))
            taken.listen()
            done = subprocess.run(self.ivrell.command(), capture_output=True, text=True)
        self.assertEqual(done.returncode, 1)
        self.assertIn(f"Port {self.ivrell.port} is taken", done.stdout)
        self.assertIn("--port", done.stdout)

    def test_of_two_starts_at_once_one_starts_and_the_other_leads_there(self):
        others = [
            subprocess.Popen(self.ivrell.command("--no-demo"), stdout=subprocess.PIPE, text=True)
            for _ in range(2)
        ]
        self.ivrell.start("--no-demo")
        all_of_them = [*others, self.ivrell._process]
        wait_until(lambda: sum(one.poll() is None for one in all_of_them) <= 1)
        runs = [one for one in all_of_them if one.poll() is None]
        self.assertEqual(len(runs), 1)
        runs[0].send_signal(signal.SIGINT)
        self.assertEqual(runs[0].wait(60), 0)
        for other in others:
            self.assertEqual(other.returncode, 0)
            other.stdout.close()
        self.assertEqual(processes_with(str(self.ivrell.data), environment=True), [])

    def part(self, name):
        """Process id of a part of the running Ivrell, once there is one."""
        marks = {"web": "ivrell.server.asgi", "worker": "ivrell.server.manage\0work",
                 "records": f"-D\0{self.ivrell.data}/records"}  # fmt: skip
        data = str(self.ivrell.data)
        found = processes_with(marks[name], environment=False)
        if name != "records":
            found = [pid for pid in found if pid in processes_with(data, environment=True)]
        return found[0] if found else None

    def again(self, name, before):
        wait_until(lambda: self.part(name) not in (None, before), self.ivrell.words)

    def answers(self, opener):
        def answered():
            try:
                return status(f"{self.ivrell.address}/api/now/", opener) == 200
            except OSError:
                return False

        wait_until(answered, self.ivrell.words)

    def told(self, words):
        wait_until(lambda: words in self.ivrell.words(), self.ivrell.words)

    def test_what_is_killed_is_started_again_and_told(self):
        opener = self.signed_in(self.ivrell.start("--no-demo"))
        for name, words in (
            ("web", "The web server ended unexpectedly (SIGKILL)"),
            ("worker", "The trial worker ended unexpectedly (SIGKILL)"),
            ("records", "The database of records ended unexpectedly"),
        ):
            before = self.part(name)
            os.kill(before, signal.SIGKILL)
            self.again(name, before)
            self.answers(opener)
            self.told(words)
        # It answers as soon as it runs, which is a moment before that is said.
        self.told("The database of records runs again")
        self.assertEqual(self.ivrell.interrupt(), 0)
        self.assertEqual(processes_with(str(self.ivrell.data), environment=True), [])

    def test_a_killed_start_is_recovered_from(self):
        self.ivrell.start()
        self.ivrell._process.send_signal(signal.SIGKILL)
        self.ivrell._process.wait()
        data = str(self.ivrell.data)
        wait_until(lambda: not processes_with(data, environment=True, but="bin/postgres"))
        self.ivrell.port = free_port()
        self.assert_demo(self.signed_in(self.ivrell.start()))


if __name__ == "__main__":
    unittest.main()
