"""Formulas for confidences: what they give, and what is none."""

import math
import unittest

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import DescriptionError
from dotledger.reading.confidence_formulas import formula
from dotledger.services.answer_reading import Reader
from dotledger.services.service_description import parse_description

TEXT = """service = "s"
[connect]
address = "https://h.example"
[[call]]
name = "c"
kinds = ["label"]
path = "/"
[[read]]
kind = "label"
each = "tags[]"
label = "n"
confidence = { at = "s", scale = "formula", RULE }
"""


class Formulas(unittest.TestCase):
    def test_values(self):
        """Worked by hand: log-odds, a distance, a capped score, decibels, powers."""
        for text, between, pairs in (
            ("1 / (1 + exp(-x))", None, ((0, 0.5), (math.log(3), 0.75), (-math.log(4), 0.2))),
            ("1 - x / 2", (0, 2), ((0, 1), (2, 0), (0.5, 0.75))),
            ("max(0, min(1, x / 5))", None, ((9, 1), (-3, 0), (2.5, 0.5))),
            ("10 ** (x / 10)", (-60, 0), ((0, 1), (-10, 0.1), (-20, 0.01))),
            ("x ** 2", (0, 1), ((0.5, 0.25), (1, 1))),
            ("0.5 + atan(x) / pi", None, ((1, 0.75), (0, 0.5))),
            ("-log10(x) / 4", (1e-4, 1), ((1e-4, 1), (0.01, 0.5))),
        ):
            convert = formula(text, between)
            for own, confidence in pairs:
                self.assertAlmostEqual(convert(own), confidence, msg=f"{text} at {own}")

    def test_no_value(self):
        """NaN outside its numbers, and where there is none; nothing is raised."""
        self.assertTrue(math.isnan(formula("x ** 2", (0, 1))(1.5)))
        self.assertTrue(math.isnan(formula("sqrt(x) / 2", None)(-1.0)))
        self.assertTrue(math.isnan(formula("1 / (1 + exp(-x))")(-1e9)))

    def test_refused(self):
        """What is no arithmetic, gives no confidence, or rises and falls; never run."""
        for text, told in (
            ("__import__('os').getpid()", "no part of a formula"),
            ("x.real", "no part of a formula"),
            ("exp(x, 2)", "takes one number"),
            ("exit()", "no part of a formula"),
            ("y + 1", "'y' is no part"),
            ("x if x else 1", "no part"),
            ("True", "no part"),
            ("1 +", "no formula"),
            ("x * x", "rises and falls"),
            ("x + 7 * x / x / x * 0 + 2 ** 40 + x * 0", "no confidences"),
            ("0.5", "no confidences"),
            ("(" * 150 + "x" + ")" * 150, "at most 200"),
            ("9 ** 9 ** 9 ** 9 ** x", "no confidences"),
        ):
            with self.subTest(text), self.assertRaisesRegex(ValueError, told):
                formula(text)

    def read(self, rule, *values):
        reader = Reader(parse_description(TEXT.replace("RULE", rule)))
        tags = ", ".join(f'{{"n": "a", "s": {value}}}' for value in values)
        return reader.read(f'{{"tags": [{tags}]}}'.encode(), "c", ["label"], [Frame(8, 8, 8, 8)])[0]

    def test_in_a_description(self):
        """Read like any scale: the service's own number is kept, one outside is set aside."""
        rule = 'formula = "1 - x / 2", range = [0, 2]'
        reading = self.read(rule, 0.5, 2, 3)
        self.assertEqual([one.confidence for one in reading.found], [0.75, 0.0])
        self.assertEqual(reading.found[0].details.own_confidence, 0.5)
        self.assertEqual(reading.notes, [("confidence outside its scale", "3")])

    def test_wrong_twins(self):
        for rule, told in (
            ('formula = "x * x"', "rises and falls"),
            ('formulas = "x"', "did you mean 'formula'"),
            ("range = [0, 1]", "goes with formula"),
        ):
            with self.subTest(told), self.assertRaisesRegex(DescriptionError, told):
                parse_description(TEXT.replace("RULE", rule))


if __name__ == "__main__":
    unittest.main()
