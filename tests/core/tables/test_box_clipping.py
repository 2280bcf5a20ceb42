"""Boxes of tables held against their images' sizes."""

import math
import unittest

from dotledger.core.tables.box_clipping import clip_annotations, clip_findings
from tests.core.measurement.test_measure import annotations_of, findings_of

SIZES = {"a": {"width": 100, "height": 50}, "b": {"width": True, "height": "50"}}
BOXES = [(-5, 10, 20, 60), (0, 0, 100, 50), (100, 0, 120, 50), (10, 10, 20, 20)]


class Clipping(unittest.TestCase):
    def test_annotations(self):
        """Over the edge is clipped, an image with a box wholly outside is not covered."""
        rows = [("a", "object", "x", box, box == BOXES[2]) for box in BOXES]
        found = clip_annotations(
            annotations_of([*rows, ("b", "object", "x", BOXES[0], False)]), SIZES
        )
        self.assertEqual((found.clipped.tolist(), found.outside.tolist()), ([0], [2]))
        table = found.table
        self.assertEqual(table.box[0].tolist(), [0, 10, 20, 50])
        self.assertEqual(table.box[4].tolist(), list(BOXES[0]))  # its size is not known
        self.assertEqual((table.label.values()[2], bool(table.ignore[2])), ("", True))
        alone = annotations_of([("a", "object", "x", BOXES[2], False)]).with_images(SIZES)
        self.assertEqual(clip_annotations(alone).table.image.used(), ["a"])
        self.assertEqual(clip_annotations(alone).table.labels("object"), ())
        self.assertEqual(clip_annotations(alone).table.covered("object"), [])
        self.assertEqual(clip_annotations(alone).table.covered("face"), ["a"])

    def test_findings(self):
        """Findings likewise; an image whose only finding is gone was answered all the same."""
        rows = [("a", "object", "x", 0.5, box) for box in BOXES]
        found = clip_findings(findings_of([*rows, ("a", "label", "dusk", 0.5, None)]), SIZES)
        self.assertEqual((found.clipped.tolist(), found.outside.tolist()), ([0], [2]))
        self.assertEqual(len(found.table), 4)
        alone = clip_findings(findings_of([("a", "object", "x", 0.5, BOXES[2])]), SIZES).table
        self.assertEqual((alone.blank.tolist(), math.isnan(alone.box[0, 0])), ([True], True))

    def test_nothing_to_do(self):
        """Tables that lie inside come back as they are."""
        table = annotations_of([("a", "object", "x", BOXES[3], False)])
        self.assertIs(clip_annotations(table, SIZES).table, table)
        said = findings_of([("a", "object", "x", 0.5, BOXES[3])])
        self.assertIs(clip_findings(said, SIZES).table, said)
