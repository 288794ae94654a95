"""Lanes over a knob in the characters of a terminal."""

import unittest

from ivrell.cli.drawing import HEIGHT, Line, drawing

TOLD = "{:g} s".format
SIZE = "{:,g}".format


class Drawings(unittest.TestCase):
    def test_letters_stand_where_values_are(self):
        lines = [
            Line("Scan", {10: 0.1, 100: 1.0, 1000: 10.0}),
            Line("Index", {10: 1.0, 100: 1.0, 1000: 1.0}),
        ]
        text = drawing(lines, [100], TOLD, SIZE, 80).splitlines()
        self.assertEqual(len(text), HEIGHT + 2)
        self.assertTrue(text[0].startswith("      10 s"))
        self.assertTrue(text[0].endswith("A"))
        self.assertIn("0.1 s A", text[HEIGHT - 1])
        # In the middle both have the same value, where one passes the other.
        self.assertEqual(sum(line.count("*") for line in text[:HEIGHT]), 1)
        self.assertGreater(sum(line.count("|") for line in text[:HEIGHT]), HEIGHT - 4)
        self.assertEqual(text[HEIGHT].split(), ["10", "100", "1,000"])
        self.assertEqual(text[-1].strip(), "A Scan   B Index")
        self.assertLessEqual(max(map(len, text)), 80)

    def test_many_sizes_and_lanes_fit(self):
        sizes = [10 * 1.2**step for step in range(40)]
        lines = [
            Line(f"A lane of a long name {n}", {s: n * s for s in sizes}) for n in range(1, 21)
        ]
        text = drawing(lines, [], TOLD, SIZE, 60).splitlines()
        self.assertLessEqual(max(map(len, text[:HEIGHT])), 60)
        self.assertIn("T A lane of a long name 20", text[-1])

    def test_one_size_is_no_drawing(self):
        self.assertEqual(drawing([Line("a", {10: 1.0})], [], TOLD, SIZE, 80), "")
        self.assertEqual(drawing([], [], TOLD, SIZE, 80), "")


if __name__ == "__main__":
    unittest.main()
