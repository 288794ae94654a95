"""Texts of the page against the grounds that they stand on: contrast by the W3C's formula."""

import re
import unittest
from itertools import product
from pathlib import Path

THEME = Path(__file__).parents[2] / "web" / "src" / "ui" / "theme.css"
TEXTS = ("ink", "ink-2", "ink-3", "accent", "caution", "bad", "good")
GROUNDS = ("ground", "sheet", "sunk")
ENOUGH = 4.5


def luminance(colour):
    """Relative luminance (WCAG 2.2) of a colour such as #5f6982."""
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one, other):
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


class Colours(unittest.TestCase):
    def test_the_formula(self):
        self.assertAlmostEqual(contrast("#000000", "#ffffff"), 21)
        self.assertAlmostEqual(contrast("#777777", "#ffffff"), 4.48, delta=0.01)

    def test_every_text_can_be_read_in_both_themes(self):
        light, dark = re.findall(r":root[^{]*\{([^}]*)\}", THEME.read_text())[:2]
        for theme, text in (("light", light), ("dark", dark)):
            colours = dict(re.findall(r"--([a-z0-9-]+): (#[0-9a-f]{6});", text))
            for word, ground in product(TEXTS, GROUNDS):
                with self.subTest(theme=theme, word=word, ground=ground):
                    self.assertGreaterEqual(contrast(colours[word], colours[ground]), ENOUGH)
            for band in (name for name in colours if name.startswith("band-")):
                with self.subTest(theme=theme, band=band):
                    self.assertGreaterEqual(contrast(colours["ink-3"], colours[band]), ENOUGH)


if __name__ == "__main__":
    unittest.main()
