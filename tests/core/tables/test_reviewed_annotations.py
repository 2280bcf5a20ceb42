"""Annotations from reviewed findings."""

import unittest

from dotledger import annotations_from_review
from dotledger.errors import TableError
from tests.core.measurement.test_measure import findings_of

BOX = (0, 0, 10, 10)


class Review(unittest.TestCase):
    def test_each_word(self):
        """Confirmed, corrected and added rows stand; wrong ones go; doubtful ones are ignored."""
        words = ["confirmed", "corrected", "added", "wrong", "doubtful", "confirmed", "wrong", ""]
        images = ["a"] * 5 + ["b", "c", "d"]
        said = findings_of(
            [(i, "object", "" if i == "b" else f"x{n}", 0.5, None if i == "b" else BOX) for n, i in enumerate(images)]
        )  # fmt: skip
        found = annotations_from_review(said, words)
        table = found.annotations
        rows = zip(table.image.values(), table.label.values(), table.ignore)
        self.assertEqual(
            [tuple(row) for row in rows],
            [("a", "x0", False), ("a", "x1", False), ("a", "x2", False), ("a", "x4", True), ("b", "", False), ("c", "", False)],
        )  # fmt: skip
        self.assertEqual(found.left_out, ("d",))
        self.assertEqual(found.counts["not looked at"], 1)

    def test_bad(self):
        """An unknown word is named with its row."""
        said = findings_of([("a", "object", "x", 0.5, BOX)])
        with self.assertRaisesRegex(TableError, "row 0, column review.*confirmed"):
            annotations_from_review(said, ["fine"])
        with self.assertRaisesRegex(TableError, "length"):
            annotations_from_review(said, [])
