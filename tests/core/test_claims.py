"""Claims of each strength, held and broken by what was measured."""

import unittest

from ivrell.core.comparison import edit
from ivrell.core.comparison.claims import Claim
from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import Findings, PairRatio, Ratio
from ivrell.core.report.claims import over_all
from ivrell.core.stats.contrasts import turned
from tests.core.test_findings import DIFFERS, SLOW
from tests.core.test_pairs import MIDDLE, STEPS, found_of, runs_of

ROWS, ONCE, WHOLE = SLOW, MIDDLE, [9, 1.0, 1.05, 0.95, 1.0, 1.02, 0.98]
ALL = {"rows": ROWS, "once": ONCE, "whole": WHOLE}


def claim_of(lines, times=ALL, targets='[targets]\nelapsed = "1.5 s"', **agreement):
    text = STEPS.replace('[targets]\nelapsed = "1.5 s"', targets)
    text += f'\n[[claim]]\ntext = "x"\n{lines}\n'
    return found_of(text, runs_of(times), **agreement).claims[0]


PAIR = 'lower = "once"\nhigher = "rows"\n'


class OfTwoLanes(unittest.TestCase):
    def setUp(self):
        found = found_of(STEPS, runs_of(ALL))
        pairs = {(pair.base, pair.lane): pair.ratio for pair in found.pairs}
        self.ratio = pairs["rows", "once"]
        self.assertEqual("faster", self.ratio.verdict)

    def test_at_least_so_many_times(self):
        low, high = self.ratio.low, self.ratio.high
        held = claim_of(f"{PAIR}at_least = {max(1.01, low - 0.01)}")
        self.assertEqual("holds", held.state)
        less = claim_of(f"{PAIR}at_least = {high + 0.01}")
        self.assertEqual("weakened", less.state)
        self.assertIn("that it takes less holds", less.reason)
        self.assertIn("at least", less.asserts)
        between = claim_of(f"{PAIR}at_least = {(low + high) / 2}")
        self.assertEqual("cannot tell", between.state)
        self.assertIn("that it takes less holds", between.reason)
        back = claim_of('lower = "rows"\nhigher = "once"\nat_least = 1.5')
        self.assertEqual("contradicted", back.state)

    def test_within_a_range(self):
        low, high = self.ratio.low, self.ratio.high
        held = claim_of(f"{PAIR}between = [{low - 0.01}, {high + 0.01}]")
        self.assertEqual("holds", held.state)
        for least, most in ((high + 1, high + 2), (0.5, low - 0.01)):
            self.assertEqual("weakened", claim_of(f"{PAIR}between = [{least}, {most}]").state)
        part = claim_of(f"{PAIR}between = [{(low + high) / 2}, {high + 5}]")
        self.assertEqual("cannot tell", part.state)
        back = claim_of('lower = "rows"\nhigher = "once"\nbetween = [1.5, 3]')
        self.assertEqual("contradicted", back.state)

    def test_a_direction_says_that_its_factor_moved(self):
        far = claim_of(f"{PAIR}factor = {self.ratio.high * 2}")
        self.assertEqual("holds", far.state)
        self.assertIn("times then, less now", far.reason)
        near = claim_of(f"{PAIR}factor = {self.ratio.value}")
        self.assertNotIn("then", near.reason)


class Targets(unittest.TestCase):
    def test_met_and_missed(self):
        met = claim_of('lane = "whole"\nmeets = "elapsed"')
        self.assertEqual("holds", met.state)
        self.assertIn("the target is 1.50 s", met.reason)
        missed = claim_of('lane = "rows"\nmeets = "elapsed"')
        self.assertEqual("contradicted", missed.state)
        near = claim_of('lane = "whole"\nmeets = "elapsed"', targets="[targets]\nelapsed = 1.0")
        self.assertEqual("cannot tell", near.state)
        wrong = claim_of('lane = "whole"\nmeets = "elapsed"', whole=DIFFERS)
        self.assertEqual("contradicted", wrong.state)
        absent = claim_of('lane = "whole"\nmeets = "elapsed"', {"rows": ROWS, "once": ONCE})
        self.assertEqual("not measured", absent.state)


class Orders(unittest.TestCase):
    order = 'order = ["whole", "once", "rows"]'

    def test_held_weakened_and_broken(self):
        self.assertEqual("holds", claim_of(self.order).state)
        behind = claim_of(self.order, {"rows": ONCE, "once": ROWS, "whole": WHOLE})
        self.assertEqual("weakened", behind.state)
        self.assertIn("That All at once takes the least holds", behind.reason)
        first = claim_of(self.order, {"rows": ROWS, "once": WHOLE, "whole": ONCE})
        self.assertEqual("contradicted", first.state)
        level = claim_of(self.order, {"rows": ROWS, "once": ROWS, "whole": WHOLE})
        self.assertEqual("cannot tell", level.state)
        self.assertEqual("not measured", claim_of(self.order, {"rows": ROWS, "once": ONCE}).state)


def ratio(value, spread=1.03):
    verdict = "faster" if value > spread else "slower" if value * spread < 1 else "not told apart"
    return Ratio(value, value / spread, value * spread, 5, verdict)


def sized(sizes):
    """Findings at each size, of how many times faster "once" is than "rows" there."""
    return [
        Findings(
            point={"size": size, "cache": "warm"}, ranking=[], cautions=[], lanes=[],
            pairs=[PairRatio("rows", "once", ratio(value)),
                   PairRatio("once", "rows", turned(ratio(value)))],
            claims=[],
        )
        for size, value in sizes.items()
    ]  # fmt: skip


class Crossings(unittest.TestCase):
    growing = {1_000: 0.5, 2_000: 0.7, 4_000: 0.98, 8_000: 1.4, 16_000: 2.0}

    def state(self, low, high, sizes=growing):
        claim = Claim(text="x", lower="once", higher="rows",
                      crossing={"knob": "size", "low": low, "high": high})  # fmt: skip
        points = [one.model_copy(update={"claims": [None]}) for one in sized(sizes)]
        return over_all([claim], points)[0]

    def test_between_two_sizes(self):
        held = self.state(3_000, 7_000)
        self.assertEqual("holds", held.state)
        self.assertIn("it passes at", held.reason)
        moved = self.state(9_000, 20_000)
        self.assertEqual("weakened", moved.state)
        self.assertEqual("cannot tell", self.state(4_000, 4_200).state)

    def test_where_none_passes(self):
        always = dict.fromkeys(self.growing, 2.0)
        self.assertEqual("contradicted", self.state(3_000, 7_000, always).state)
        never = dict.fromkeys(self.growing, 0.5)
        self.assertEqual("contradicted", self.state(3_000, 7_000, never).state)
        back = {size: 1 / value for size, value in self.growing.items()}
        self.assertEqual("contradicted", self.state(3_000, 7_000, back).state)
        level = dict.fromkeys(self.growing, 1.0)
        self.assertEqual("cannot tell", self.state(3_000, 7_000, level).state)
        self.assertEqual("not measured", self.state(3_000, 7_000, {1_000: 0.5}).state)

    def test_along_values_that_go_together_and_sizes_of_nought(self):
        sizes = {0: 0.4, **self.growing}
        joint = [
            one.model_copy(update={"point": {**one.point, "width": one.point["size"] * 2},
                                   "claims": [None]})
            for one in sized(sizes)
        ]  # fmt: skip
        claim = Claim(text="x", lower="once", higher="rows",
                      crossing={"knob": "size", "low": 3_000, "high": 7_000})  # fmt: skip
        self.assertEqual("holds", over_all([claim], joint)[0].state)


class InTheFile(unittest.TestCase):
    def test_one_claim_asserts_one_thing(self):
        for lines, word in (
            (f"{PAIR}at_least = 2\nbetween = [2, 3]", "two claims"),
            (f"{PAIR}at_least = 1", "above 1"),
            (f"{PAIR}between = [3, 2]", "smaller factor first"),
            (f"{PAIR}crossing = {{ knob = 'none', low = 1, high = 2 }}", "no knob"),
            (f"{PAIR}crossing = {{ knob = 'rows', low = 3, high = 2 }}", "low must be below"),
            ('lane = "once"', "needs both"),
            ('lane = "once"\nmeets = "memory"', "no target of memory"),
            ('order = ["once", "once"]', "twice"),
            ('order = ["once", "gone"]', "gone"),
            (f'{PAIR}order = ["once", "rows"]', "goes without"),
            ("", "names no lanes"),
        ):
            with self.subTest(lines), self.assertRaisesRegex(Exception, word):
                parse(f'{STEPS}\n[[claim]]\ntext = "x"\n{lines}\n')

    def test_a_renamed_lane_is_followed(self):
        given = [{"text": "c", "order": ["once", "rows"]}]
        text = edit.set_remarks(STEPS, [], given)
        renamed = parse(edit.change_approach(text, "once", {"id": "single"}))
        self.assertEqual(["single", "rows"], renamed.claim[0].order)
        again = parse(edit.set_remarks(text, [], [parse(text).claim[0].model_dump()]))
        self.assertEqual(parse(text).claim, again.claim)
