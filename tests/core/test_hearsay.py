"""What a run tells is cleaned where it comes in."""

import json
import unittest

from ivrell.core.trial.hearsay import heard_from


def nested(levels: int) -> dict:
    """A step within a step, so many times."""
    inner: dict = {"name": "scan", "steps": []}
    for _ in range(levels):
        inner = {"name": "filter", "steps": [inner]}
    return inner


def depth(step: dict) -> int:
    return 1 + max((depth(inner) for inner in step["steps"]), default=0)


class Heard(unittest.TestCase):
    def test_a_plan_of_many_steps_within_steps_is_kept_whole(self):
        told = {"event": "ended", "plans": [{"plan": nested(60)}]}
        self.assertEqual(heard_from(json.dumps(told).encode()), told)

    def test_what_is_nested_without_end_is_cut_where_steps_end(self):
        heard = heard_from(json.dumps({"plan": nested(300)}).encode())
        self.assertLess(depth(heard["plan"]), 120)
        self.assertEqual(heard_from(b'{"a": ' + b"[" * 100_000 + b"}"), {})

    def test_marks_that_no_record_holds_are_replaced(self):
        heard = heard_from(b'{"stage": "a\\u0000b\\ud800"}')
        self.assertEqual(heard, {"stage": "a\ufffdb\ufffd"})

    def test_lines_that_are_no_event_are_none(self):
        for line in (b"", b"oh", b"[1]", b'"x"', b"\xff\xfe"):
            self.assertEqual(heard_from(line), {}, line)


if __name__ == "__main__":
    unittest.main()
