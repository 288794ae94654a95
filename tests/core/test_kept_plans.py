"""Plans that a comparison keeps by name."""

import unittest

import ivrell
from ivrell.cli.commands import _plan
from ivrell.cli.main import parser
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import edit
from ivrell.core.comparison.file import parse
from ivrell.core.records.plan import Plan
from ivrell.core.trial.plan import points_of
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

LANES = approach("a", COUNTING) + approach("b", COUNTING) + approach("c", COUNTING)


def text(plan):
    return HEAD.replace("[data]", f"[[plan]]\n{plan}\n\n[data]", 1) + LANES


GOOD = text(
    'name = "how it scales"\nrounds = 4\napproaches = ["a", "b"]\n'
    'knobs = { rows = ["10..1_000/1"] }\nstep_up = true\nlimits = { seconds = 7 }'
)


class File(unittest.TestCase):
    def test_a_plan_is_one_of_a_launch_with_a_name(self):
        comparison = parse(GOOD)
        plan = comparison.plan_called("how it scales").launched()
        self.assertEqual((plan.rounds, plan.warm_ups, plan.step_up), (4, 1, True))
        self.assertEqual(plan.limits.seconds, 7)
        sizes = [point["rows"] for point in points_of(plan, comparison)]
        self.assertEqual(sizes, [10, 100, 1000])
        with self.assertRaisesRegex(BadInput, 'Plans here: "how it scales"'):
            comparison.plan_called("another")

    def test_what_cannot_be_is_refused_by_its_name(self):
        for plan, words in (
            ('name = "x"\napproaches = ["z"]', "z"),
            ('name = "x"\nknobs = { width = [1] }', 'no knob "width"'),
            ('name = "x"\n[[plan]]\nname = "x"', "plans have the name"),
            ('name = "x"\nsandbox = "off"', "not for a comparison to say"),
            ('name = "x"\nown_files = "/etc"', "not for a comparison to say"),
            (
                'name = "x"\nlimits = { memory_bytes = 99_000_000_000 }',
                "memory_bytes above the usual",
            ),
            ('name = "x"\nlimits = { processes = 9_999 }', "processes above the usual"),
            ('name = "x"\npoints = [{ width = 1 }]', 'no knob "width"'),
            ('name = "x"\npoints = [{ rows = 1 }]\nknobs = { rows = [1] }', "under knobs already"),
            ('name = "x"\nstep_up = true\nuntil = { at_most = 9 }', "no until"),
        ):
            with self.subTest(words), self.assertRaises(BadInput) as caught:
                parse(text(plan))
            self.assertIn(words, str(caught.exception))

    def test_values_that_go_together_are_points_of_every_choice_of_the_others(self):
        knobs = "rows = [300]\nwidth = [1, 2]\nshape = ['flat']"
        plan = (
            'name = "x"\npoints = [{ rows = 10, width = 8 }, { rows = 1_000, width = 2 }]\n'
            'knobs = { shape = ["flat", "deep"] }\ncache = ["warm", "cold"]'
        )
        comparison = parse(text(plan).replace("rows = [300]", knobs, 1))
        found = points_of(comparison.plan_called("x"), comparison)
        self.assertEqual(len(found), 8)
        self.assertEqual(
            [(point["rows"], point["width"], point["shape"]) for point in found[::2]],
            [(10, 8, "flat"), (10, 8, "deep"), (1000, 2, "flat"), (1000, 2, "deep")],
        )
        with self.assertRaisesRegex(ValueError, "point 2 names rows where the first names width"):
            Plan(points=[{"width": 1}, {"rows": 1}])

    def test_lanes_of_plans_are_followed(self):
        renamed = edit.change_approach(GOOD, "a", {"id": "first"})
        self.assertEqual(parse(renamed).plan[0].approaches, ["first", "b"])
        one = edit.remove_approach(renamed, "first")
        self.assertEqual(parse(one).plan[0].approaches, ["b"])
        self.assertIsNone(parse(edit.remove_approach(one, "b")).plan[0].approaches)


class CommandLine(TrialCase):
    def plan(self, *words):
        path = self.folder / "gauges.toml"
        path.write_text(GOOD)
        args = parser(with_plan=True).parse_args(["run", str(path), *words])
        return _plan(args, ivrell.Comparison(GOOD))

    def test_a_kept_plan_and_what_is_said_besides(self):
        plan = self.plan("--plan", "how it scales")
        self.assertEqual((plan.rounds, plan.approaches), (4, ["a", "b"]))
        plan = self.plan("--plan", "how it scales", "--rounds", "2", "--limit-memory", "1 GB",
                         "--set", "rows=5")  # fmt: skip
        self.assertEqual((plan.rounds, plan.step_up, plan.knobs), (2, True, {"rows": [5]}))
        self.assertEqual((plan.limits.seconds, plan.limits.memory_bytes), (7, 10**9))
        self.assertEqual(self.plan().rounds, 5)
        with self.assertRaises(BadInput):
            self.plan("--plan", "none")
        plan = self.plan("--point", "rows=1_000", "--point", "rows=20")
        self.assertEqual(plan.points, [{"rows": 1000}, {"rows": 20}])
        for wrong in ("rows", "rows=1,=2", "rows="):
            with self.assertRaisesRegex(BadInput, "knob=value"):
                self.plan("--point", wrong)


if __name__ == "__main__":
    unittest.main()
