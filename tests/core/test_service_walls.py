"""A remote service and its lane share a network that leads nowhere else."""

import json
import textwrap
import unittest

from ivrell.core.contain import sandbox
from tests.core.test_remote import lane
from tests.support.comparisons import HEAD, TrialCase


@unittest.skipIf(sandbox.why_not(), f"no sandbox here: {sandbox.why_not()}")
class Walls(TrialCase):
    CODE = textwrap.dedent(
        """
        import json, os, socket, sys
        def answer(data, knobs, stage, service):
            reached = service.call([{"n": 4}])
            tried = {}
            for place in (("127.0.0.1", PORT), ("192.0.2.1", 80), ("127.0.0.1", 22)):
                try:
                    socket.create_connection(place, 1).close()
                    tried[str(place)] = "reached"
                except OSError as error:
                    tried[str(place)] = type(error).__name__
            told = dict(reached=reached, tried=tried,
                        links=[name for _, name in socket.if_nameindex()])
            print(json.dumps(told))
            return [dict(gauge="a", n=1)]
        """
    )

    def test_the_lane_reaches_its_service_and_nothing_else(self):
        import socket

        with socket.create_server(("127.0.0.1", 0)) as ours:
            code = self.CODE.replace("PORT", str(ours.getsockname()[1]))
            trial = self.trial(HEAD + lane("asks", code))
            trial.conduct()
        run = trial.runs[0]
        self.assertEqual((run.state, run.sandboxed), ("done", True), run.error)
        told = json.loads(run.output.splitlines()[-1])
        self.assertEqual(told["reached"], [8])
        self.assertEqual(told["links"], ["lo"])
        self.assertNotIn("reached", told["tried"].values())

    def test_a_rule_that_holds_too_much_memory_fails_its_call_alone(self):
        code = (
            "def answer(data, knobs, stage, service):\n"
            "    try:\n        service.call([{'n': 1}])\n"
            "    except Exception as error:\n        print(type(error).__name__, error)\n"
            "    return [dict(gauge='a', n=1)]\n"
        )
        rule = "def rule(row):\n    return len(bytearray(b'x') * (900 << 20))\n"
        trial = self.trial(HEAD + lane("asks", code, rule=rule), limits={"memory_bytes": 400 << 20})
        trial.conduct()
        run = trial.runs[0]
        self.assertEqual(run.state, "done", run.error)
        self.assertIn("MemoryError", run.output)

    def test_a_service_that_ends_is_told_as_that(self):
        code = "def answer(data, knobs, stage, service):\n    service.call([{'n': 1}])\n"
        rule = "import os, signal\ndef rule(row):\n    os.kill(os.getpid(), signal.SIGKILL)\n"
        trial = self.trial(HEAD + lane("asks", code, rule=rule))
        trial.conduct()
        [run] = trial.runs
        self.assertEqual((run.state, run.error.kind), ("failed", "its service ended"))
        self.assertIn("signal SIGKILL", run.error.message)
