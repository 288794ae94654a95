"""Starting and stopping: nothing lost, nothing left, clear words when it cannot be."""

import os
import signal
import socket
import subprocess
import time
import unittest
import urllib.error
import urllib.request
from pathlib import Path

from ivrell.core.cluster import free_port
from tests.support.running import Running


def processes_with(mark: str) -> list[str]:
    found = []
    for path in Path("/proc").glob("[0-9]*"):
        try:
            command = (path / "cmdline").read_bytes().replace(b"\0", b" ").decode()
            environment = (path / "environ").read_bytes().decode(errors="replace")
        except OSError:
            continue
        if (mark in command or mark in environment) and path.name != str(os.getpid()):
            found.append(command)
    return found


def status(address: str, opener=None) -> int:
    try:
        with (opener or urllib.request.build_opener()).open(address, timeout=5) as answer:
            return answer.status
    except urllib.error.HTTPError as error:
        return error.code


DEMOS = ["One lock's passages", "Tolls per lock"]


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

        with opener.open(f"{self.ivrell.address}/api/comparisons/", timeout=5) as answer:
            return [line["name"] for line in json.load(answer)]

    def test_stop_leaves_nothing_and_a_second_start_has_everything(self):
        opener = self.signed_in(self.ivrell.start())
        self.assertEqual(self.names(opener), DEMOS)
        self.assertEqual(status(f"{self.ivrell.address}/api/comparisons/"), 403)
        self.assertEqual(self.ivrell.interrupt(), 0)
        self.assertEqual(processes_with(str(self.ivrell.data)), [])
        self.assertFalse((self.ivrell.data / "running.json").exists())
        link = self.ivrell.start("--no-demo")
        self.assertEqual(self.names(self.signed_in(link)), DEMOS)
        self.assertEqual(status(f"{self.ivrell.address}/api/now/", opener), 200)
        again = self.ivrell.link()
        self.assertNotEqual(again, link)
        self.assertEqual(self.names(self.signed_in(again)), DEMOS)

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

    def test_a_killed_start_is_recovered_from(self):
        self.ivrell.start()
        self.ivrell._process.send_signal(signal.SIGKILL)
        self.ivrell._process.wait()
        deadline = time.monotonic() + 15
        while [p for p in processes_with(str(self.ivrell.data)) if "postgres" not in p]:
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.1)
        self.ivrell.port = free_port()
        self.assertEqual(self.names(self.signed_in(self.ivrell.start())), DEMOS)


if __name__ == "__main__":
    unittest.main()
