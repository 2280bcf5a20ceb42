"""Values that lie exactly on a border: at the threshold, at the overlap, at a limit of counts."""

import unittest
from dataclasses import replace

import numpy as np

from dotledger import ConfidenceMap, Findings, measure
from dotledger.core.measurement.suspicious_readings import suspicions
from dotledger.core.measures.finding_groups import Group
from dotledger.core.measures.image_sums import CasesInOrder
from dotledger.core.measures.share_limits import share_interval
from dotledger.core.questions.box_conventions import Fit, better_convention
from dotledger.core.questions.screening_decisions import ScreeningCounts
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.threshold_values import Thresholds, thresholds_of
from dotledger.core.thresholds.image_folds import part_of_images
from dotledger.errors import ArgumentError
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX = (0, 0, 10, 10)


class Borders(unittest.TestCase):
    def test_a_confidence_at_the_threshold_passes(self):
        """Everywhere: in a cut, by name, in a measure's counts and for an image that is screened."""
        said = findings_of([("a", "unsafe", "smoke", 0.5, None), ("b", "unsafe", "", None, None)])
        true = annotations_of(
            [("a", "unsafe", "smoke", None, False), ("b", "unsafe", "", None, False)]
        )
        for threshold in (0.5, {"smoke": 0.5}, {"unsafe": 0.5}):
            self.assertFalse(said.cut(threshold).blank[0])
            result = measure(said, true, threshold=threshold, draws=0)
            self.assertEqual((result.pooled.true_positives, result.screening().caught), (1, 1))
        self.assertTrue(said.cut(0.5000001).blank[0])
        self.assertEqual(Thresholds().passes(said).tolist(), [True, True])

    def test_an_overlap_that_is_just_enough_is_right(self):
        """Half of both: an overlap of exactly a third."""
        said = findings_of([("a", "object", "x", 0.9, (5, 0, 15, 10))])
        true = annotations_of([("a", "object", "x", BOX, False)])
        self.assertEqual(measure(said, true, overlap=1 / 3, draws=0).pooled.true_positives, 1)
        self.assertEqual(measure(said, true, overlap=0.3334, draws=0).pooled.true_positives, 0)

    def test_three_to_one_names_the_fault(self):
        """A box that spills exactly three times what it cuts off spills; just below it is shifted."""
        true = annotations_of([("a", "object", "x", (0, 0, 12, 10), False)])
        for right, reason in ((32, "box spills over"), (28, "box shifted")):
            # It cuts 4/16, 1 - 9/12 of the object; what it spills is 1 - 9/(right - 3) of itself.
            said = findings_of([("a", "object", "x", 0.9, (3, 0, right + 7, 10))])
            case = measure(said, true, overlap=0.5, draws=0).why(near=0.1).wrong[0]
            self.assertEqual(case.reason, reason, right)

    def test_average_precision_of_all_kinds_pooled(self):
        """One common curve by hand: wrong, right, right of two annotations, 2/3 at every recall."""
        said = findings_of(
            [("a", "object", "x", 0.9, (50, 50, 60, 60)), ("a", "object", "x", 0.5, BOX), ("a", "face", "f", 0.8, BOX)]
        )  # fmt: skip
        true = annotations_of([("a", "object", "x", BOX, False), ("a", "face", "f", BOX, False)])
        self.assertAlmostEqual(measure(said, true, draws=0).pooled.average_precision, 2 / 3)
        # More that is wrong, behind all that is right, changes nothing.
        more = findings_of([("a", "face", "f", c, (50, 50, 60, 60)) for c in (0.2, 0.1)])
        both = Findings.concat([said, more])
        self.assertAlmostEqual(measure(both, true, draws=0).pooled.average_precision, 2 / 3)

    def test_the_interval_of_a_labels_false_alarms(self):
        """Cases are images where the label is absent: 2 of 3 of them here are alarms."""
        rows = [("a", "moon"), ("b", "moon"), ("c", ""), ("d", "moon")]
        said = findings_of([(n, "label", label, 0.9, None) for n, label in rows])
        true = annotations_of(
            [("d", "label", "moon", None, False), *((n, "", "", None, False) for n in "abc")]
        )
        row = measure(said, true, kinds=["label"]).labels["moon"]
        for got, wanted in zip(row.intervals["false_alarm_rate"], share_interval([1, 1, 0], [1] * 3)):  # fmt: skip
            self.assertAlmostEqual(got, wanted)

    def test_shares_of_screening(self):
        """Of 4 unsafe images 3 are stopped, of 6 others 2: half of all."""
        counts = ScreeningCounts(
            caught=3, let_through=1, false_alarms=2, rightly_passed=4, left_out=7
        )
        shares = (counts.caught_share, counts.false_alarm_rate, counts.stopped_share)
        self.assertEqual(shares, (0.75, 1 / 3, 0.5))

    def test_what_filtering_leaves_of_the_vocabulary(self):
        """All of it where kinds or images are chosen; those labels where labels are."""
        rows = [("a", "object", "x", BOX, False), ("a", "object", "y", BOX, False)]
        true = annotations_of([*rows, ("b", "face", "f", BOX, False)])
        true = replace(true, vocabulary={"object": ("x", "y"), "face": ("f",)})
        self.assertEqual(true.filter(image="a").labels("face"), ("f",))
        self.assertEqual(true.filter(kind="face").labels("object"), ("x", "y"))
        self.assertEqual(true.filter(label="x").labels("object"), ("x",))
        self.assertEqual(true.filter(label="x").labels("face"), ())

    def test_what_looks_wrong_in_a_whole_batch(self):
        """From ten findings on: an attribute that one of them has is there, another is not."""
        rows = [("a", "face", "f", 0.9, BOX)] * 10
        known = replace(findings_of(rows), details=(Details(attributes={"age": 3}), *[None] * 9))
        wanted = {"face": ["age", "smile"]}
        found = suspicions(known, {"a": (50.0, 50.0)}, wanted)
        self.assertEqual(found, ["face: no finding has the attribute 'smile': another path?"])
        self.assertEqual(suspicions(findings_of(rows[:9]), {}, wanted), [])
        self.assertEqual(
            len(suspicions(known, {"a": (100.0, 100.0)}, {})), 1
        )  # in a tenth: a corner
        self.assertEqual(suspicions(known, {"a": (99.0, 100.0)}, {}), [])
        low = findings_of([("a", "face", "f", 0.1, BOX)] * 10)
        self.assertIn("another scale?", suspicions(low, {}, {})[0])
        self.assertEqual(suspicions(findings_of([("a", "face", "f", 0.11, BOX)] * 10), {}, {}), [])

    def test_counts_that_are_just_enough(self):
        """Thirty images to fit on are enough; the least part is one image, and one is left."""
        knots = {"object": ((0.0, 0.0), (1.0, 1.0))}
        for count, doubts in ((30, 0), (29, 1)):
            images = frozenset(f"i{n}" for n in range(count))
            mapping = ConfidenceMap(knots=knots, images=images, overlap=0.5)
            self.assertEqual(len(mapping.doubts(Findings.empty())), doubts)
        said = findings_of([(f"i{n}", "object", "x", 0.5, BOX) for n in range(4)])
        true = annotations_of([(f"i{n}", "object", "x", BOX, False) for n in range(4)])
        self.assertEqual([len(part_of_images(said, true, s)) for s in (0.01, 0.5, 0.99)], [1, 2, 3])
        for share in (0.0, 1.0):
            with self.assertRaises(ArgumentError):
                part_of_images(said, true, share)

    def test_only_what_is_clearly_better_is_advised(self):
        """By more than 0.1, and with an overlap of 0.5 at least."""

        def fit(now, then):
            return Fit(name="x", mean_overlap=then, as_now=now, changed=1)

        self.assertIsNone(better_convention([fit(0.75, 0.8)]))
        self.assertIsNone(better_convention([fit(0.1, 0.49)]))
        self.assertIsNotNone(better_convention([fit(0.25, 0.5)]))

    def test_columns_of_several_cuts(self):
        """A table names overlap and threshold where there are several, and only there."""
        tables = (
            findings_of([("a", "object", "x", 0.9, BOX)]),
            annotations_of([("a", "object", "x", BOX, False)]),
        )
        for more, there in (({}, False), ({"overlap": [0.5, 0.75]}, True), ({"threshold": [0.1, 0.5]}, True)):  # fmt: skip
            columns = measure(*tables, draws=0, **more).frame().columns
            self.assertEqual({"overlap", "threshold"} <= set(columns), there, more)

    def test_below_every_level(self):
        """What is less sure than the least threshold counts nowhere, not in the next image either."""
        group = Group(name="x", kinds=("x",), images=2, confidence=np.array([0.4, 0.6]), image=np.array([0, 1]),
                      right=np.array([True, True]), true_image=np.array([0, 1]), absent=None, top=np.array([0.4, 0.6]), inside=np.array([True, True]), unsafe=np.array([False, False]), left_out=0)  # fmt: skip
        cases = CasesInOrder(group, np.array([0.7, 0.5]))
        self.assertEqual((cases.image.tolist(), cases.level.tolist()), ([1], [1]))
        self.assertEqual([one.tolist() for one in cases.stops], [[1], [1]])

    def test_names_are_checked_also_without_findings(self):
        """Of an empty table any label may be named, but no kind that there is not."""
        empty = Findings.empty()
        self.assertEqual(thresholds_of({"object:moon": 0.5}, empty).named, {"object:moon": 0.5})
        with self.assertRaises(ArgumentError):
            thresholds_of({"objects:moon": 0.5}, empty)
