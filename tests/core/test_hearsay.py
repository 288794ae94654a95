"""What a run tells is cleaned where it comes in."""

import json
import unittest

from ivrell.core.trial.hearsay import GARBLED, heard_from

HANDED = {"event": "handed", "rows": 1, "columns": 1, "bytes": 8, "threads": {}}


def nested(levels: int) -> dict:
    """A step within a step, so many times."""
    inner: dict = {"name": "scan", "steps": []}
    for _ in range(levels):
        inner = {"name": "filter", "steps": [inner]}
    return inner


def depth(step: dict) -> int:
    return 1 + max((depth(inner) for inner in step.get("steps", [])), default=0)


class Heard(unittest.TestCase):
    def test_a_plan_of_many_steps_within_steps_is_kept_whole(self):
        told = HANDED | {"plans": [{"plan": nested(60)}]}
        self.assertEqual(heard_from(json.dumps(told).encode()), told)

    def test_what_is_nested_without_end_is_cut_where_steps_end(self):
        told = HANDED | {"plans": [nested(300)]}
        self.assertLess(depth(heard_from(json.dumps(told).encode())["plans"][0]), 120)
        self.assertEqual(heard_from(b'{"a": ' + b"[" * 100_000 + b"}"), {})

    def test_marks_that_no_record_holds_are_replaced(self):
        heard = heard_from(
            b'{"event": "failed", "kind": "a\\u0000b\\ud800", "message": "", "line": 3, '
            b'"trace": "", "part": ""}'
        )
        self.assertEqual(heard["kind"], "a\ufffdb\ufffd")

    def test_a_number_without_end_is_no_figure(self):
        for number in ("NaN", "Infinity", "-1", '"1"', "true"):
            line = json.dumps(HANDED | {"rows": "here"}).replace('"here"', number)
            self.assertEqual(heard_from(line.encode())["event"], GARBLED, number)

    def test_fields_that_an_event_has_not_are_left_out(self):
        heard = heard_from(json.dumps(HANDED | {"peak_memory_bytes": 1}).encode())
        self.assertEqual(heard, HANDED)

    def test_lines_that_are_no_event_are_none(self):
        for line in (b"", b"oh", b"[1]", b'"x"', b"\xff\xfe", b'{"event": []}'):
            self.assertEqual(heard_from(line), {}, line)


if __name__ == "__main__":
    unittest.main()
