"""One-to-one pairing with the greatest total overlap, against trying every pairing."""

import unittest

from dotledger import measure
from tests import reference
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.core.questions.test_questions import BOX, FAR, cases


class TotalOverlap(unittest.TestCase):
    def test_total_overlap(self):
        """Pairing by greatest total overlap reaches what trying every pairing reaches."""
        greater = 0
        for seed, found, true, tables in cases(range(150)):
            result = measure(*tables, overlap=0.3, pairing="total-overlap", draws=0)
            usual = measure(*tables, overlap=0.3, draws=0)
            total = 0.0
            scope = {f["image"] for f in found}
            for image in scope:
                for label in {a["label"] for a in true if a["label"]}:
                    total += float(
                        reference.greatest_total(
                            [f for f in found if (f["image"], f["label"]) == (image, label)],
                            [a for a in true if (a["image"], a["label"]) == (image, label)],
                            reference.Fraction(3, 10),
                        )
                    )
            row, before = result.pooled, usual.pooled
            reached = row.true_positives and row.true_positives * row.mean_overlap
            self.assertAlmostEqual(reached, total, msg=seed)
            greater += reached > before.true_positives * (before.mean_overlap or 0) + 1e-9
            self.assertIn("total overlap", " ".join(result.notes))
        self.assertGreater(greater, 0)

    def test_total_overlap_keeps_the_curve(self):
        """Average precision stays that of pairing by confidence, over several kinds pooled too."""
        said = findings_of(
            [("a", "object", "x", 0.9, BOX), ("a", "object", "x", 0.4, FAR), ("a", "label", "dusk", 0.7, None)]
        )  # fmt: skip
        true = annotations_of(
            [("a", "object", "x", BOX, False), ("a", "object", "x", FAR, False), ("a", "label", "dusk", None, False)]
        )  # fmt: skip
        usual = measure(said, true, threshold=0.5)
        other = measure(said, true, threshold=0.5, pairing="total-overlap")
        self.assertEqual(usual.pooled.average_precision, 1.0)
        self.assertEqual(other.pooled.average_precision, 1.0)
        self.assertNotIn("average_precision", other.pooled.intervals)

    def test_exactly_enough(self):
        """An overlap of exactly what is required is enough, also here: 50/100."""
        said = findings_of([("a", "object", "x", 0.9, (0, 0, 5, 10))])
        true = annotations_of([("a", "object", "x", BOX, False)])
        result = measure(said, true, overlap=0.5, pairing="total-overlap", draws=0)
        self.assertEqual(result.pooled.true_positives, 1)
