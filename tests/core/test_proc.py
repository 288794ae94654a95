"""Reading processes from /proc: what is read is what the system says elsewhere."""

import os
import resource
import subprocess
import sys
import time
import unittest

from ivrell.core.measure import proc
from ivrell.core.measure.proc import Cpu

MB = 1_000_000


class Here(unittest.TestCase):
    def test_cpu_agrees_with_the_system_s_own_account(self):
        end = time.process_time() + 0.2
        while time.process_time() < end:
            pass
        own = resource.getrusage(resource.RUSAGE_SELF)
        waited = resource.getrusage(resource.RUSAGE_CHILDREN)
        truth = own.ru_utime + own.ru_stime + waited.ru_utime + waited.ru_stime
        self.assertAlmostEqual(proc.cpu_of(os.getpid()).total, truth, delta=0.05)
        self.assertAlmostEqual(proc.cpu_clock(os.getpid()), time.process_time(), delta=0.01)

    def test_memory_and_its_peak(self):
        before = proc.status(os.getpid())
        self.assertTrue(proc.reset_peak(os.getpid()))
        held = bytearray(80 * MB)
        during = proc.status(os.getpid())
        del held
        after = proc.status(os.getpid())
        self.assertAlmostEqual(during.resident - before.resident, 80 * MB, delta=8 * MB)
        self.assertLess(after.resident, during.resident - 60 * MB)
        self.assertGreater(after.peak, after.resident + 60 * MB)

    def test_cores(self):
        cores = proc.core_times()
        self.assertEqual(len(cores), os.cpu_count())
        for busy, total in cores:
            self.assertLessEqual(busy, total)

    def test_differences_of_cpu_are_never_negative(self):
        self.assertEqual(Cpu(1.0, 0.5) - Cpu(2.0, 0.1), Cpu(0.0, 0.4))
        self.assertEqual((Cpu(1, 2) + Cpu(3, 4)).total, 10)


class Others(unittest.TestCase):
    def setUp(self):
        code = (
            "import subprocess, sys, threading, time\n"
            "inner = 'import time; print(1, flush=True); time.sleep(60)'\n"
            "def start():\n"
            "    subprocess.Popen([sys.executable, '-c', inner])\n"
            "thread = threading.Thread(target=start); thread.start(); thread.join()\n"
            "start(); print('ready', flush=True); time.sleep(60)"  # each says that it is there
        )
        self.process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
        self.addCleanup(self.process.stdout.close)
        self.addCleanup(self.process.wait)
        for _ in range(3):
            self.process.stdout.readline()
        self.tree = list(proc.descendants(self.process.pid))
        self.addCleanup(self.end)

    def end(self):
        for pid in [*self.tree, self.process.pid]:
            os.kill(pid, 9)

    def test_children_of_threads_are_found(self):
        self.assertEqual(len(self.tree), 2)
        self.assertIn(self.process.pid, proc.children(os.getpid()))

    def test_sleepers_use_no_cpu(self):
        before = [proc.cpu_of(pid).total for pid in self.tree]
        time.sleep(0.2)
        after = [proc.cpu_of(pid).total for pid in self.tree]
        for a, b in zip(before, after, strict=True):
            self.assertAlmostEqual(a, b, delta=0.02)


class Gone(unittest.TestCase):
    def test_a_process_that_is_gone_counts_as_nothing(self):
        process = subprocess.Popen(["true"])
        process.wait()
        pid = process.pid
        self.assertEqual(proc.cpu_of(pid), Cpu())
        self.assertIsNone(proc.status(pid))
        self.assertIsNone(proc.disk_io(pid))
        self.assertEqual(proc.children(pid), [])
        self.assertIsNone(proc.waits_for_core(pid))
        self.assertFalse(proc.reset_peak(pid))


if __name__ == "__main__":
    unittest.main()
