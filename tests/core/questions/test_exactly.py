"""Questions at their limits: edges that touch, all kinds at once, a box exactly near, lines set aside."""

import unittest

import numpy as np

from dotledger import measure
from dotledger.core.questions.image_properties import at_edge
from dotledger.core.questions.text_lines import measure_text
from dotledger.errors import ArgumentError
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX, FAR = (0, 0, 10, 10), (50, 0, 60, 10)


class Limits(unittest.TestCase):
    def test_edges_rise(self):
        """Bands that touch have no width: equal edges, and edges at 0 or 1, are refused."""
        found = findings_of([("a", "object", "x", 0.5, BOX)])
        result = measure(found, annotations_of([("a", "object", "x", BOX, False)]), draws=0)
        for edges in ((0.5, 0.5), (0.0, 0.5), (0.5, 1.0), (0.6, 0.5)):
            with self.assertRaisesRegex(ArgumentError, "edges must rise"):
                result.reliability(edges=edges)
        self.assertIn("object", result.reliability(edges=(0.25, 0.5)))

    def test_all_kinds_asked_for(self):
        """A sweep of every kind by name holds every kind."""
        found = findings_of([("a", "object", "x", 0.5, BOX), ("a", "label", "x", 0.5, None)])
        true = annotations_of([("a", "object", "x", BOX, False), ("a", "label", "x", None, False)])
        result = measure(found, true, draws=0)
        for kinds in (("object", "label"), ("object",)):
            groups = set(result.sweep(kinds=kinds, each="kind").frame()["group"])
            self.assertEqual(groups, set(kinds))

    def test_a_box_exactly_near(self):
        """A box that overlaps by just what counts as near is shifted; below that it is nowhere."""
        true = annotations_of([("a", "object", "x", (0, 0, 30, 10), False)])
        said = findings_of([("a", "object", "x", 0.9, (20, 0, 50, 10))])  # 10 of 50: a fifth
        for near, reason in ((0.2, "box shifted"), (0.21, "nothing there")):
            case = measure(said, true, overlap=0.5, draws=0).why(near=near).wrong[0]
            self.assertEqual(case.reason.startswith(reason), True, (near, case.reason))

    def test_totals_of_a_side(self):
        """Two wrong of one reason and one missed: each side has its own."""
        true = annotations_of([("a", "object", "x", BOX, False)])
        said = findings_of(
            [("a", "object", "x", 0.9, FAR), ("a", "object", "x", 0.8, (90, 0, 99, 9))]
        )
        told = measure(said, true, overlap=0.5, draws=0).why()
        self.assertEqual(list(told.totals("wrong").values()), [(2, 1.0)])
        self.assertEqual(list(told.totals("missed").values()), [(1, 1.0)])

    def test_one_box_over_several(self):
        """A box over two lanterns is one for several; over a lantern and a basket it is not."""
        said = findings_of([("a", "object", "lantern", 0.9, (0, 0, 40, 10))])
        for other, several in (("lantern", True), ("basket", False)):
            true = annotations_of(
                [
                    ("a", "object", "lantern", (0, 0, 18, 10), False),
                    ("a", "object", other, (22, 0, 40, 10), False),
                ]
            )
            case = measure(said, true, overlap=0.6, draws=0).why().wrong[0]
            self.assertEqual("several" in case.reason, several, case.reason)

    def test_lines_set_aside(self):
        """Lines over what is ignored are neither right nor wrong: they are no wrong ones."""
        said = findings_of(
            [
                ("a", "text", "one", 0.9, BOX),
                ("a", "text", "two", 0.9, FAR),
                ("a", "text", "odd", 0.9, (90, 0, 99, 9)),
            ]
        )
        true = annotations_of([("a", "text", "one", BOX, False), ("a", "text", "two", FAR, True)])
        told = measure_text(said, true)
        self.assertEqual((told.paired, told.exact, told.wrong, told.missed), (1, 1, 1, 0))

    def test_confidences_are_not_missed_where_they_are(self):
        """The note about findings without a confidence stands where none has one, and only there."""
        true = annotations_of([("a", "object", "x", BOX, False)])
        note = "No finding has a confidence"
        for rows, said in (([("a", "object", "x", 0.5, BOX)], False), ([("a", "object", "x", None, BOX)], True), ([("a", "object", "", None, None)], False),
                           ([("a", "object", "x", None, BOX), ("a", "object", "x", 0.5, FAR)], False)):  # fmt: skip
            notes = measure(findings_of(rows), true, draws=0).notes
            self.assertEqual(any(one.startswith(note) for one in notes), said, rows)

    def test_a_box_a_pixel_from_the_edge(self):
        """Within a pixel of any side is at the edge; a little further in is not."""
        for box, edge in (((1, 5, 40, 40), 1), ((1.1, 5, 40, 40), 0), ((5, 5, 99, 40), 1), ((5, 5, 98.9, 40), 0), ((5, 5, 40, 49), 1)):  # fmt: skip
            true = annotations_of(
                [("a", "object", "x", box, False)], images={"a": {"width": 100, "height": 50}}
            )
            basis = measure(findings_of([("a", "object", "x", 0.5, box)]), true, draws=0).basis
            scope = basis.scopes["object"]
            self.assertEqual(at_edge(true, scope, scope.annotations).tolist(), [edge], box)

    def test_bands_as_a_table(self):
        """The ends of each band's interval stand in their columns, the low one first."""
        rng = np.random.default_rng(1)
        sure = rng.random(60)
        found = findings_of(
            [
                (f"i{n}", "object", "x", c, BOX if rng.random() < c else FAR)
                for n, c in enumerate(sure)
            ]
        )
        true = annotations_of([(f"i{n}", "object", "x", BOX, False) for n in range(60)])
        bands = measure(found, true, draws=0).reliability()["object"]
        frame = bands.frame()
        ends = [tuple(one.interval) for one in bands.bands]
        np.testing.assert_array_equal(frame[["low_end", "high_end"]].to_numpy(), np.array(ends))
        self.assertTrue((frame["low_end"] < frame["high_end"]).any())
