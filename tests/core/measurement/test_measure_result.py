"""What a measure shows of itself: short, numeric, and under names that stay."""

import unittest

import dotledger
from dotledger import measure
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX = (0, 0, 4, 4)


class Shown(unittest.TestCase):
    def setUp(self):
        said = findings_of(
            [("a", "object", "moon", 0.9, BOX), ("a", "label", "moon", 0.8, None), ("b", "unsafe", "smoke", 0.7, None)]
        )  # fmt: skip
        truth = annotations_of(
            [("a", "object", "moon", BOX, False), ("a", "label", "moon", None, False), ("b", "unsafe", "smoke", None, False), ("b", "object", "stool", BOX, False)]
        )  # fmt: skip
        self.result = measure(said, truth)

    def test_at_most_six_lines(self):
        """Every result says in a few lines what a person can use, and has a table for notebooks."""
        result = self.result
        parts = [
            result, result.kinds["object"], result.pooled, result.why(), result.screening(),
            *result.confusion().values(), *result.by("size").values(),
            *result.reliability().values(), *result.counts().values(), *result.details().values(),
        ]  # fmt: skip
        for part in parts:
            self.assertLessEqual(len(repr(part).splitlines()), 6, repr(part))
            self.assertLessEqual(len(repr(part)), 900)
        self.assertIn("object: recall 1.00, precision 1.00", repr(result))
        self.assertIn("<table", result.kinds["object"]._repr_html_())

    def test_names_of_rows(self):
        """Always kind and label; a label alone where one kind uses it, else the error lists both."""
        labels = self.result.labels
        self.assertEqual(
            sorted(labels), ["label:moon", "object:moon", "object:stool", "unsafe:smoke"]
        )
        self.assertEqual(labels["smoke"].annotated, 1)
        with self.assertRaisesRegex(KeyError, "label:moon, object:moon"):
            labels["moon"]
        with self.assertRaises(KeyError):
            labels["sun"]

    def test_frames_are_numeric(self):
        """Measures are floats that are NaN where undefined, counts whole numbers."""
        for frame in (self.result.kinds["object"].frame(), self.result.pooled.frame()):
            kinds = {str(t) for n, t in frame.dtypes.items() if n != "label"}
            self.assertLessEqual(kinds, {"int64", "float64"})
        self.assertEqual(dotledger.measure.__module__, "dotledger.api.public_calls")
