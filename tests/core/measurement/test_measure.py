"""Measures: against hand-worked cases and the slow reference."""

import contextlib
import math
import random
import unittest
from unittest import mock

import numpy as np
import pandas as pd

from dotledger import Annotations, Findings, measure
from dotledger.core.measurement.measure_notes import repeats_of
from dotledger.errors import ArgumentError, ScopeError, TableError
from tests import reference

NO_BOX = (None, None, None, None)


def columns(rows, names):
    """Rows turned into columns, without numbers as NaN."""
    return {
        name: [math.nan if row[place] is None else row[place] for row in rows]
        for place, name in enumerate(names)
    }


@contextlib.contextmanager
def at_a_time(rows):
    """Let large tables be worked on a few rows at a time, so that small ones are large."""
    with (
        mock.patch("dotledger.core.arrays._AT_A_TIME", rows),
        mock.patch("dotledger.core.pairing.greedy_pairing._FINDINGS_AT_ONCE", rows),
    ):
        yield


def findings_of(rows):
    """Rows of (image, kind, label, confidence, box or None)."""
    names = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")
    return Findings.from_columns(**columns([(*r[:4], *(r[4] or NO_BOX)) for r in rows], names))


def annotations_of(rows, **more):
    """Rows of (image, kind, label, box or None, ignore)."""
    names = ("image", "kind", "label", "x0", "y0", "x1", "y1", "ignore")
    table = columns([(*r[:3], *(r[3] or NO_BOX), r[4]) for r in rows], names)
    return Annotations.from_columns(**table, **more)


def random_case(seed, kind="object"):
    """A small case with ties, duplicates, ignored regions and findings without confidence."""
    rng = random.Random(seed)
    images = [f"i{n}" for n in range(rng.randint(1, 3))]
    labels = ["a", "b", "c"][: rng.randint(1, 3)]
    boxed = kind == "object"

    def box():
        x, y = rng.randint(0, 5), rng.randint(0, 5)
        return (x, y, x + rng.randint(1, 4), y + rng.randint(1, 4)) if boxed else None

    levels = [None, 0.2, 0.5, 0.5, 0.8]
    found = [
        {"image": rng.choice(images), "label": rng.choice([*labels, "z"]), "box": box(),
         "confidence": rng.choice(levels)}
        for _ in range(rng.randint(0, 12))
    ]  # fmt: skip
    true = [
        {"image": rng.choice(images), "label": rng.choice(labels), "box": box(),
         "ignore": rng.random() < 0.2}
        for _ in range(rng.randint(0, 9))
    ]  # fmt: skip
    if found and rng.random() < 0.3:
        found.append(dict(rng.choice(found)))
    true += [
        {"image": i, "label": "", "box": None, "ignore": False}
        for i in images
        if rng.random() < 0.5
    ]
    found += [
        {"image": i, "label": "", "box": None, "confidence": None}
        for i in images
        if rng.random() < 0.7
    ]
    return found, true


def as_tables(found, true, kind="object"):
    return (
        findings_of([(f["image"], kind, f["label"], f["confidence"], f["box"]) for f in found]),
        annotations_of([(a["image"], kind, a["label"], a["box"], a["ignore"]) for a in true]),
    )


class AgainstReference(unittest.TestCase):
    def agree(self, got, wanted):
        for name, value in wanted.items():
            if value is None:
                self.assertIsNone(got[name], name)
            else:
                self.assertAlmostEqual(got[name], float(value), places=12, msg=name)

    def compare(self, kind, seeds, slow):
        checked = 0
        for seed in seeds:
            found, true = random_case(seed, kind)
            required, threshold = [(0.3, None), (0.5, 0.5), (1 / 3, 0.2), (0.75, 0.9)][seed % 4]
            wanted = slow(found, true, required, threshold)
            tables = as_tables(found, true, kind)
            if not len(tables[1]) or not {f["image"] for f in found} & {a["image"] for a in true}:
                continue
            got = measure(*tables, overlap=required, threshold=threshold, draws=0).to_dict()[
                "kinds"
            ][kind]
            with self.subTest(seed=seed):
                self.assertEqual(set(got["labels"]), set(wanted) - {None})
                self.agree(got["pooled"], wanted[None])
                for label, row in got["labels"].items():
                    self.agree(row, wanted[label])
            checked += 1
        self.assertGreater(checked, len(seeds) // 2)

    def test_boxes(self):
        """Two thousand random small cases agree with the definitions in fractions."""
        self.compare("object", range(2000), reference.measure_boxes)

    def test_presence(self):
        """A thousand random small cases of presence agree, true negatives too."""

        def slow(found, true, _, threshold):
            return reference.measure_presence(found, true, threshold)

        self.compare("label", range(1000), slow)

    def test_in_parts(self):
        """However few rows are worked on at a time, the definitions are met."""
        for size in (1, 3):
            with at_a_time(size):
                self.compare("object", range(100), reference.measure_boxes)

    def test_order_does_not_matter(self):
        """Neither the order of rows nor other image names change a result."""
        for seed in range(120):
            found, true = random_case(seed)
            tables = as_tables(found, true)
            if not len(tables[0]) or not len(tables[1]):
                continue
            try:
                wanted = measure(*tables).to_dict()
            except ScopeError:
                continue
            rng = random.Random(seed)
            rng.shuffle(found)
            rng.shuffle(true)
            renamed = [
                [{**r, "image": "x" + r["image"][::-1]} for r in rows] for rows in (found, true)
            ]
            self.assertEqual(measure(*as_tables(*renamed)).to_dict(), wanted)


class HandWorked(unittest.TestCase):
    def test_two_lanterns(self):
        """One right, one wrong, one missed: every number worked by hand."""
        said = findings_of(
            [
                ("a", "object", "lantern", 0.9, (0, 0, 10, 10)),
                ("a", "object", "lantern", 0.8, (1, 0, 11, 10)),
            ]
        )
        true = annotations_of(
            [
                ("a", "object", "lantern", (0, 0, 10, 8), False),
                ("a", "object", "lantern", (50, 0, 60, 10), False),
            ]
        )
        row = measure(said, true).labels["lantern"]
        self.assertEqual((row.true_positives, row.false_positives, row.misses), (1, 1, 1))
        self.assertEqual((row.precision, row.recall, row.f1), (0.5, 0.5, 0.5))
        self.assertAlmostEqual(row.mean_overlap, 0.8)
        self.assertAlmostEqual(row.average_precision, 0.5)

    def test_average_precision_takes_the_best_precision_to_the_right(self):
        """Right, wrong, right of two: 1/2 x 1 + 1/2 x 2/3 = 5/6, at any threshold."""
        boxes = [(0, 0, 10, 10), (100, 0, 110, 10), (50, 0, 60, 10)]
        said = findings_of([("a", "face", "f", c, b) for c, b in zip((0.9, 0.8, 0.7), boxes)])
        true = annotations_of([("a", "face", "f", b, False) for b in (boxes[0], boxes[2])])
        for threshold in (None, 0.85):
            row = measure(said, true, threshold=threshold).labels["f"]
            self.assertAlmostEqual(row.average_precision, 5 / 6)
        self.assertEqual(row.misses, 1)

    def test_scope_and_unjudged(self):
        """Unanswered images are left out, or counted as missed on request; other labels are unjudged."""
        said = findings_of(
            [("a", "object", "moon", 0.9, (0, 0, 5, 5)), ("c", "object", "", None, None)]
        )
        true = annotations_of(
            [(i, "object", "lantern", (0, 0, 5, 5), False) for i in "ab"],
        )
        left_out = measure(said, true)
        self.assertEqual(
            (left_out.images_in_scope, left_out.unanswered, left_out.uncovered), (1, 1, 1)
        )
        self.assertEqual((left_out.unjudged, left_out.labels["lantern"].misses), (1, 1))
        counted = measure(said, true, count_unanswered=True)
        self.assertEqual(counted.labels["lantern"].misses, 2)

    def test_undefined_is_never_a_number(self):
        """Nothing said and nothing annotated: NaN, and None in the dictionary."""
        said = findings_of([("a", "object", "", None, None)])
        true = annotations_of(
            [("a", "object", "", None, False)], vocabulary={"object": ["lantern"]}
        )
        row = measure(said, true).labels["lantern"]
        self.assertTrue(
            all(math.isnan(v) for v in (row.precision, row.recall, row.f1, row.mean_overlap))
        )
        plain = row.to_dict()
        self.assertIsNone(plain["average_precision"])
        self.assertIsNone(plain["false_alarm_rate"])

    def test_ignored_regions_are_neither_found_nor_missed(self):
        """A finding inside an ignored region is set aside, above the threshold only."""
        said = findings_of(
            [("a", "object", "x", 0.9, (0, 0, 10, 10)), ("a", "object", "x", 0.3, (0, 0, 9, 9))]
        )
        true = annotations_of([("a", "object", "x", (0, 0, 100, 100), True)])
        row = measure(said, true, threshold=0.5).labels["x"]
        self.assertEqual(
            (row.annotated, row.false_positives, row.misses, row.set_aside), (0, 0, 0, 1)
        )

    def test_false_alarm_rate(self):
        """One of two images without smoke is said to have some: 1/2."""
        said = findings_of(
            [("a", "unsafe", "smoke", 0.9, None), *((i, "unsafe", "", None, None) for i in "bc")]
        )
        true = annotations_of(
            [
                ("a", "unsafe", "", None, False),
                ("b", "unsafe", "", None, False),
                ("c", "unsafe", "smoke", None, False),
            ]
        )
        row = measure(said, true).labels["smoke"]
        self.assertEqual((row.false_positives, row.true_negatives, row.misses), (1, 1, 1))
        self.assertEqual(row.false_alarm_rate, 0.5)

    def test_kinds_together(self):
        """Kinds keep apart; a name that two kinds use is written with its kind."""
        said = findings_of(
            [
                ("a", "object", "lantern", 0.9, (0, 0, 4, 4)),
                ("a", "label", "lantern", 0.9, None),
                ("a", "face", "f", 0.9, (0, 0, 4, 4)),
            ]
        )
        true = annotations_of(
            [
                ("a", "object", "lantern", (0, 0, 4, 4), False),
                ("a", "label", "lantern", None, False),
            ]
        )
        result = measure(said, true)
        self.assertEqual(set(result.labels), {"object:lantern", "label:lantern"})
        self.assertEqual((result.pooled.true_positives, result.pooled.mean_overlap), (2, 1.0))
        self.assertEqual((result.unjudged, dict(result.unjudged_kinds)), (1, {"face": 1}))
        self.assertEqual(list(result.frame()["kind"]), ["label", "object"])

    def test_empty_tables(self):
        """Empty tables measure nothing and raise nothing."""
        result = measure(Findings.empty(), annotations_of([]))
        self.assertEqual((result.images_in_scope, result.labels), (0, {}))
        self.assertTrue(math.isnan(result.pooled.precision))
        result = measure(
            Findings.empty(), annotations_of([("a", "object", "x", (0, 0, 1, 1), False)])
        )
        self.assertEqual(result.labels["x"].annotated, 0)


class BadInput(unittest.TestCase):
    def test_ranges(self):
        """Overlap and threshold out of range are refused with what is allowed."""
        for bad in ({"overlap": 0}, {"overlap": 1.1}, {"threshold": -0.1}, {"overlap": math.nan}):
            with self.assertRaisesRegex(ArgumentError, "allowed"):
                measure(Findings.empty(), annotations_of([]), **bad)
        with self.assertRaisesRegex(ArgumentError, "label, object, face"):
            measure(Findings.empty(), annotations_of([]), kinds=["objects"])

    def test_nothing_in_common(self):
        """Two sides without a common image are refused with the nearest pair."""
        said = findings_of([("walk-01.JPG", "object", "x", 0.5, (0, 0, 1, 1))])
        true = annotations_of([("walk-01.jpg", "object", "x", (0, 0, 1, 1), False)])
        with self.assertRaisesRegex(ScopeError, "walk-01.jpg"):
            measure(said, true)

    def test_vocabularies_apart(self):
        """No label in common is said with the nearest names; repeated findings are counted."""
        row = ("a", "object", "lanterns", 0.5, (0, 0, 1, 1))
        said = findings_of([row, row])
        true = annotations_of([("a", "object", "lantern", (0, 0, 1, 1), False)])
        notes = " ".join(measure(said, true).notes)
        self.assertIn("no finding has a label of the annotations' vocabulary", notes)
        self.assertIn("'lanterns' is 'lantern'", notes)
        self.assertIn("1 duplicate finding", notes)

    def test_duplicates_in_parts(self):
        """Repeated findings are looked for some rows at a time: found wherever a part ends."""
        rows = [(image, "object", "kite", 0.5, (0, 0, n, 1)) for n in (1, 2) for image in "abcb"]
        said = findings_of([*rows, rows[0], ("a", "object", "kite", 0.4, (0, 0, 1, 1)), rows[6]])
        for size in (1, 2, 3, 10, 11, 12):  # by hand: b twice at each of two places, a, c
            with at_a_time(size):
                self.assertEqual(repeats_of(said), 4, size)

    def test_bad_arguments(self):
        """Unknown pairings, no overlap at all and negative draws are refused."""
        for bad in ({"pairing": "best"}, {"overlap": ()}, {"draws": -1}, {"threshold": []}):
            with self.assertRaises(ArgumentError):
                measure(Findings.empty(), annotations_of([]), **bad)

    def test_bad_frames(self):
        """A frame that breaks the common shape names row and column."""
        frame = pd.DataFrame(
            {"image": ["a"], "kind": ["object"], "label": ["x"], "confidence": [1.5]}
        )
        with self.assertRaisesRegex(TableError, "row 0, column confidence"):
            measure(frame, annotations_of([]))
        with self.assertRaisesRegex(TableError, "no column 'kind'"):
            measure(frame.drop(columns="kind"), annotations_of([]))
        with self.assertRaisesRegex(TableError, "needs a box"):
            annotations_of([("a", "object", "x", None, False)])

    def test_tables_reject_broken_boxes(self):
        """Inverted, partial and infinite boxes are refused."""
        for box, sign in (
            ((5, 0, 1, 1), "x0 < x1"),
            ((0, 0, None, 1), "all four"),
            ((0, 0, np.inf, 1), "finite"),
        ):
            with self.assertRaisesRegex(TableError, sign):
                findings_of([("a", "object", "x", 0.5, box)])
