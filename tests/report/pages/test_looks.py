"""The pages' colours: contrast by WCAG 2.1, and what the colour-blind see of the boxes."""

import itertools
import re
import unittest
from importlib.resources import files

from dotledger.report.pictures.box_marks import TONES

PAGES = {
    "report": files("dotledger.report.pages") / "parts/report.css",
    "review": files("dotledger.acting.reviewing") / "page.css",
}
WRITING = {
    "report": ("ink", "soft", "right", "wrong", "missed", "ignored", "unjudged", "small", "accent"),
    "review": ("ink", "soft", "pass", "block", "warm"),
}


def rgb(text):
    return tuple(int(text[place : place + 2], 16) for place in (1, 3, 5))


def luminance(colour):
    """WCAG 2.1, relative luminance."""
    parts = [value / 255 for value in colour]
    r, g, b = (v / 12.92 if v <= 0.03928 else ((v + 0.055) / 1.055) ** 2.4 for v in parts)
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


def contrast(one, other):
    """WCAG 2.1, contrast ratio, 1 to 21."""
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


def themes(text):
    """The variables of the light theme, and of the dark one."""
    blocks = re.findall(r":root \{(.*?)\}", text, re.DOTALL)
    return [dict(re.findall(r"--(\w+): (#[0-9a-f]{6})", block)) for block in blocks[:2]]


# Simulation of dichromats: Vienot, Brettel and Mollon (1999), in linear light.
PROTAN = ((0.11238, 0.88762, 0.0), (0.11238, 0.88762, 0.0), (0.00401, -0.00401, 1.0))
DEUTAN = ((0.29275, 0.70725, 0.0), (0.29275, 0.70725, 0.0), (-0.02234, 0.02234, 1.0))


def seen(colour, matrix):
    linear = [(value / 255) ** 2.2 for value in colour]
    mixed = [sum(w * v for w, v in zip(row, linear)) for row in matrix]
    return tuple(255 * max(0.0, min(1.0, value)) ** (1 / 2.2) for value in mixed)


class Colours(unittest.TestCase):
    def test_the_ratio(self):
        """Black on white is 21; the standard's own example, #777 on white, is 4.48."""
        self.assertAlmostEqual(contrast((0, 0, 0), (255, 255, 255)), 21)
        self.assertAlmostEqual(contrast((0x77,) * 3, (255, 255, 255)), 4.48, places=2)

    def test_writing_has_contrast(self):
        """Every colour that is written with has at least 4.5 on both grounds, light and dark (AA)."""
        for page, file in PAGES.items():
            for theme in themes(file.read_text(encoding="utf-8")):
                for name, ground in itertools.product(WRITING[page], ("ground", "panel")):
                    ratio = contrast(rgb(theme[name]), rgb(theme[ground]))
                    self.assertGreaterEqual(ratio, 4.5, (page, name, ground, theme[name]))

    def test_boxes_for_the_colour_blind(self):
        """Right, wrong and missed stay apart for who lacks red or green; each stands off its dark line."""
        shown = ("right", "wrong", "missed")
        for matrix in (PROTAN, DEUTAN):
            for one, other in itertools.combinations(shown, 2):
                distance = (
                    sum(
                        (a - b) ** 2
                        for a, b in zip(seen(TONES[one], matrix), seen(TONES[other], matrix))
                    )
                    ** 0.5
                )
                self.assertGreater(distance, 40, (one, other))
        for tone in TONES.values():
            self.assertGreater(contrast(tone, (16, 16, 28)), 4.5)

    def test_one_colour_for_one_meaning(self):
        """Boxes have the same colours in pictures as in the report."""
        text = PAGES["report"].read_text(encoding="utf-8")
        for name in ("right", "wrong", "missed", "unjudged"):
            colour = re.search(rf"\.box\.{name} {{ stroke: (#[0-9a-f]{{6}})", text)[1]
            for one, other in zip(rgb(colour), TONES[name]):
                self.assertLess(abs(one - other), 8, name)
