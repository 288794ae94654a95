"""What a run tells is cleaned where it comes in."""

import json
import unittest

from ivrell.core.records.wire import Export, RemoteUse
from ivrell.core.run.runner.protocol_validation import Garbled, heard_from

EXPORTED = {"event": "exported", "rows": 1, "columns": 1, "bytes": 8, "threads": {}}


def nested(levels: int) -> dict:
    """A step within a step, so many times."""
    inner: dict = {"name": "scan", "steps": []}
    for _ in range(levels):
        inner = {"name": "filter", "steps": [inner]}
    return inner


def depth(step: dict) -> int:
    return 1 + max((depth(inner) for inner in step.get("steps", [])), default=0)


def heard(event: dict):
    return heard_from(json.dumps(event).encode())


class Heard(unittest.TestCase):
    def test_a_plan_of_many_steps_within_steps_is_kept_whole(self):
        plans = [{"plan": nested(60)}]
        self.assertEqual(heard(EXPORTED | {"plans": plans}).plans, plans)

    def test_what_is_nested_without_end_is_cut_where_steps_end(self):
        self.assertLess(depth(heard(EXPORTED | {"plans": [nested(300)]}).plans[0]), 120)
        self.assertIsNone(heard_from(b'{"a": ' + b"[" * 100_000 + b"}"))

    def test_marks_that_no_record_holds_are_replaced(self):
        failure = heard_from(
            b'{"event": "failed", "kind": "a\\u0000b\\ud800", "message": "", "line": 3, '
            b'"trace": "", "part": ""}'
        )
        self.assertEqual(failure.kind, "a\ufffdb\ufffd")

    def test_a_number_without_end_is_no_figure(self):
        for number in ("NaN", "Infinity", "-1", '"1"', "true"):
            line = json.dumps(EXPORTED | {"rows": "here"}).replace('"here"', number)
            self.assertIsInstance(heard_from(line.encode()), Garbled, number)

    def test_fields_that_an_event_has_not_are_left_out(self):
        self.assertEqual(heard(EXPORTED | {"peak_memory_bytes": 1}), Export(1, 1, 8))

    def test_what_remote_processes_used_is_held_to_its_shape(self):
        counted = {"event": "counted", "counters": {}, "unknown": {}}
        use = {"cpu_user_s": 1.5, "cpu_system_s": 0.5, "peak_memory_bytes": 10}
        self.assertEqual(heard(counted | {"remote": use}).remote, RemoteUse(1.5, 0.5, 10))
        for wrong in ({}, use | {"cpu_user_s": -1}, use | {"more": 1}, [1]):
            self.assertIsInstance(heard(counted | {"remote": wrong}), Garbled, wrong)

    def test_more_than_anybody_could_look_at_is_none_of_ours(self):
        counted = {"event": "counted", "counters": {}, "unknown": {}}
        for counters in ({f"c{n}": n for n in range(2000)}, {"c" * 10_000: 1}):
            self.assertIsInstance(heard(counted | {"counters": counters}), Garbled)
            unknown = dict.fromkeys(counters, "so")
            self.assertIsInstance(heard(counted | {"unknown": unknown}), Garbled)
        failed = {"event": "failed", "kind": "a", "line": 3, "trace": "", "part": ""}
        self.assertLess(len(heard(failed | {"message": "x" * 10**7}).message), 200_000)

    def test_lines_that_are_no_event_are_none(self):
        for line in (b"", b"oh", b"[1]", b'"x"', b"\xff\xfe", b'{"event": []}'):
            self.assertIsNone(heard_from(line), line)


if __name__ == "__main__":
    unittest.main()
