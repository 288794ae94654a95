"""What becomes of tests that failed beside others."""

import contextlib
import io
import unittest
from unittest import mock

from tests import run

ONE = "test_a (tests.core.test_x.X.test_a)"
SAME = "test_a (tests.core.test_x.X.test_a) (size=3)"
OTHER = "test_b (tests.server.test_y.Y.test_b)"


class OnceMore(unittest.TestCase):
    def what(self, failed, fail_again=()):
        """What is left of names of failed tests where some fail alone as well; and what ran."""
        ran = []

        def do(job):
            ran.append(job.command[-2:])
            bad = [name for name in fail_again if job.name in name]
            return run.Outcome(job, 1 - len(bad), bad, "", 0.1)

        with mock.patch.object(run, "do", do), contextlib.redirect_stdout(io.StringIO()):
            return *run._once_more(failed), ran

    def test_each_runs_alone_once_and_fails_where_it_fails_again(self):
        failed, noisy, ran = self.what([ONE, SAME, OTHER], fail_again=[OTHER])
        self.assertEqual((failed, noisy), ([OTHER], [ONE, SAME]))
        self.assertEqual(ran, [("core", "test_x.X.test_a"), ("server", "test_y.Y.test_b")])

    def test_many_failures_and_checks_are_no_noise(self):
        many = [f"test_a (tests.core.test_x.X{at}.test_a)" for at in range(run._AGAIN + 1)]
        self.assertEqual(self.what(many), (many, [], []))
        self.assertEqual(self.what([ONE, "mypy"]), ([ONE, "mypy"], [], []))


if __name__ == "__main__":
    unittest.main()
