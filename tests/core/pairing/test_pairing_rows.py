"""The pairing, row by row."""

import unittest

from dotledger import measure, pair_tables
from dotledger.core.comparison.common_images import on_common_images
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case


class Pairing(unittest.TestCase):
    def test_agrees_with_the_counts(self):
        """The states of the rows add up to the counts of the measure."""
        for seed in range(200):
            found, true = random_case(seed)
            said, truth = as_tables(found, true)
            if not {f["image"] for f in found} & {a["image"] for a in true}:
                continue
            states = pair_tables(said, truth)
            pooled = measure(said, truth).pooled
            self.assertEqual((states.finding == "right").sum(), pooled.true_positives)
            self.assertEqual((states.finding == "wrong").sum(), pooled.false_positives)
            self.assertEqual((states.annotation == "missed").sum(), pooled.misses)

    def test_partners(self):
        """A right finding knows its annotation; others know none."""
        said = findings_of(
            [("a", "face", "f", 0.9, (9, 9, 10, 10)), ("a", "face", "f", 0.8, (0, 0, 2, 2))]
        )
        truth = annotations_of([("a", "face", "f", (0, 0, 2, 2), False)])
        states = pair_tables(said, truth)
        self.assertEqual(states.finding.tolist(), ["wrong", "right"])
        self.assertEqual(states.partner.tolist(), [-1, 0])
        self.assertEqual(states.overlap[1], 1.0)

    def test_cut_keeps_answered_images(self):
        """A cut leaves a blank row where everything fell below the threshold."""
        said = findings_of(
            [("a", "face", "f", 0.2, (0, 0, 1, 1)), ("b", "face", "f", None, (0, 0, 1, 1))]
        )
        cut = said.cut(0.5)
        self.assertEqual(sorted(cut.image.values()), ["a", "b"])
        self.assertEqual(cut.blank.sum(), 1)

    def test_common_images(self):
        """Only images that all tables answered are kept, for each kind."""
        one = findings_of([("a", "face", "", None, None), ("b", "face", "", None, None)])
        two = findings_of([("b", "face", "f", 0.5, (0, 0, 1, 1)), ("a", "label", "", None, None)])
        self.assertEqual(
            [t.image.values().tolist() for t in on_common_images([one, two])], [["b"], ["b"]]
        )
