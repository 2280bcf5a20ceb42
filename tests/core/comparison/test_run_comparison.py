"""Comparing runs: against plain loops, a known law, and simulated services that are equal."""

import math
import unittest
from dataclasses import replace

import numpy as np

from dotledger import combine, compare
from dotledger.core.comparison.differences import holm, mcnemar
from dotledger.core.comparison.interrater_agreement import kappa
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, ScopeError
from tests import reference, simulation
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.core.measures.test_intervals import quantile

BOX, FAR = (0, 0, 10, 10), (50, 0, 60, 10)


def pair_of(seed, images, shift=0.0):
    rng = np.random.default_rng(seed)
    true, first, second = simulation.equal_services(rng, images)
    if shift:
        second = replace(second, confidence=np.clip(second.confidence + shift, 0, 1))
    return first, second, true


class Differences(unittest.TestCase):
    def test_against_plain_loops(self):
        """Intervals by the formula, from counts by image that plain loops give."""
        first, second, true = pair_of(1, 40, shift=0.1)
        got = compare(first, second, annotations=true, threshold=0.6, draws=20).pair
        counts = [self._by_image(table.cut(0.6), true) for table in (first, second)]
        shares = {
            "recall": lambda hits, _, actual: (hits, actual),
            "precision": lambda hits, found, _: (hits, found),
            "f1": lambda hits, found, actual: (2 * hits, found + actual),
        }
        for name, share in shares.items():
            cases = [[share(*row) for row in side] for side in counts]
            low, high = reference.hybrid_interval(*cases, quantile)
            one = got.pooled[name]
            np.testing.assert_allclose((one.low, one.high), (low, high), atol=1e-9)
            p = [sum(x for x, _ in side) / sum(m for _, m in side) for side in cases]
            self.assertAlmostEqual(one.difference, p[1] - p[0])

    def _by_image(self, table, true):
        """(right, found, annotated) of each image: findings near the origin are right."""
        rows = [[0, 0, 0] for _ in range(40)]
        for image, box, blank in zip(table.image.values(), table.box, table.blank, strict=True):
            if not blank:
                at = int(image.partition("-")[2])
                rows[at][1] += 1
                rows[at][0] += box[0] < 1e5
        for image in true.image.values():
            rows[int(image.partition("-")[2])][2] += 1
        return rows

    def test_equal_services(self):
        """Two equal services with 1, 5 and 20 labels: any row is called better in about 5 of 100 sets."""
        apart, held, rows = 0, 0, 0
        for seed in range(90):
            labels = (1, 5, 20)[seed % 3]
            true, first, second = simulation.equal_runs(np.random.default_rng(seed), 25, labels)
            got = compare(first, second, annotations=true, threshold=0.3, draws=20, seed=seed)
            apart += any(got.frame()["told_apart"])
            one = got.pair.pooled["f1"]
            held += one.low <= 0 <= one.high
            rows = max(rows, got.rows_together)
        self.assertLessEqual(apart, 10)  # 5 % of 90 are 4.5: more than 10 come in 1 of 200 tries
        self.assertGreaterEqual(held, 81)
        self.assertGreater(rows, 80)  # 20 labels of up to five measures

    def test_everything_against_nothing(self):
        """1.00 against 0.00 on 60 images: no draw of images differs, and it is a difference all the same."""
        true = annotations_of([(f"i{n}", "label", "x", None, False) for n in range(60)])
        every = findings_of([(f"i{n}", "label", "x", 0.9, None) for n in range(60)])
        none = findings_of([(f"i{n}", "label", "", None, None) for n in range(60)])
        one = compare(every, none, annotations=true, threshold=0.5).pair.pooled["recall"]
        self.assertEqual((one.difference, one.told_apart, one.better), (-1.0, True, 0))
        # Each run's exact limit for 60 images is 0.025^(1/60) = 0.940: 1 - 0.060 sqrt(2) = 0.916.
        self.assertAlmostEqual(one.high, -0.9157, places=3)
        self.assertEqual(one.low, -1.0)

    def test_a_better_one(self):
        """A clear difference is told, whichever way round; a smaller one than matters is not."""
        first, second, true = pair_of(3, 150, shift=0.15)
        got = compare(first, second, annotations=true, threshold=0.6, names=["a", "b"])
        recall = got.to_dict()["pooled"]["recall"]
        self.assertEqual(set(recall), {"first", "second", "difference", "low", "high", "p_value", "told_apart"})  # fmt: skip
        self.assertTrue(recall["told_apart"] and recall["low"] > 0)
        self.assertEqual(got.pair.pooled["recall"].better, 1)
        self.assertEqual(got.never_beaten["recall"], ("b",))
        other = compare(second, first, annotations=true, threshold=0.6, names=["b", "a"])
        mirrored = other.to_dict()["pooled"]["recall"]
        self.assertAlmostEqual(mirrored["low"], -recall["high"])
        for wrong in (-0.1, 1.0):
            with self.assertRaisesRegex(ArgumentError, "matters"):
                compare(first, second, annotations=true, matters=wrong)
        wide = compare(first, second, annotations=true, threshold=0.6, matters=0.5)
        self.assertFalse(wide.pair.pooled["recall"].told_apart)

    def test_order_and_names(self):
        """Other names of images and another order of rows change no interval."""
        first, second, true = pair_of(4, 30)
        wanted = compare(first, second, annotations=true, draws=100).frame()
        rows = np.random.default_rng(0).permutation(len(first))
        renamed = [
            replace(t, image=replace(t.image, names=tuple(f"n{n[::-1]}" for n in t.image.names)))
            for t in (first.take(rows), second, true)
        ]
        got = compare(*renamed[:2], annotations=renamed[2], draws=100).frame()
        for name in ("difference", "low", "high"):
            np.testing.assert_allclose(got[name], wanted[name], rtol=1e-12)

    def test_common_aim(self):
        """Under one aim each run has thresholds of its own, and they are named."""
        first, second, true = pair_of(5, 60, shift=0.1)
        got = compare(
            first, second, annotations=true, names=["a", "b"], aim="recall >= 0.8", draws=50
        )
        cuts = [float(got.cuts[name].rpartition(" ")[2]) for name in ("a", "b")]
        self.assertGreater(cuts[1], cuts[0] + 0.05)
        recall = got.pair.pooled["recall"]
        self.assertAlmostEqual(recall.first, 0.8, delta=0.05)
        self.assertAlmostEqual(recall.second, 0.8, delta=0.05)
        with self.assertRaisesRegex(ArgumentError, "not both"):
            compare(first, second, annotations=true, aim="best f1", threshold=0.5)


class FoundBy(unittest.TestCase):
    def test_counts_and_images(self):
        """Found by both, by one, by neither; the images where it changed, the largest first."""
        true = annotations_of([(i, "object", "x", b, False) for i in "abc" for b in (BOX, FAR)])
        first = findings_of([("a", "object", "x", 0.9, BOX), ("a", "object", "x", 0.9, FAR),
                             ("b", "object", "x", 0.9, BOX), ("c", "object", "", None, None)])  # fmt: skip
        second = findings_of([("a", "object", "", None, None), ("b", "object", "x", 0.9, BOX),
                              ("c", "object", "x", 0.9, BOX)])  # fmt: skip
        pair = compare(first, second, annotations=true, draws=20).pair
        found = pair.found_by["object"]
        self.assertEqual(
            (found.both, found.first_only, found.second_only, found.neither), (1, 2, 1, 2)
        )
        self.assertEqual(found.p_value, 1.0)
        self.assertEqual(
            [(r["image"], r["gained"], r["lost"]) for r in pair.changed], [("a", 0, 2), ("c", 1, 0)]
        )

    def test_presence(self):
        """By presence what is found is a label of an image."""
        true = annotations_of([(i, "label", "x", None, False) for i in "abc"])
        first = findings_of(
            [
                ("a", "label", "x", 0.9, None),
                ("b", "label", "x", 0.2, None),
                ("c", "label", "", None, None),
            ]
        )
        second = findings_of([(i, "label", "x", 0.9, None) for i in "abc"])
        found = compare(first, second, annotations=true, threshold=0.5).pair.found_by["label"]
        self.assertEqual((found.both, found.first_only, found.second_only), (1, 0, 2))

    def test_mcnemar_and_holm(self):
        """Exact p-values in fractions; Holm's own example of steps."""
        for one in range(8):
            for other in range(8):
                self.assertAlmostEqual(
                    mcnemar(one, other), float(reference.exact_mcnemar(one, other))
                )
        self.assertEqual(holm([0.01, 0.02, 0.03, 0.04]), [0.04, 0.06, 0.06, 0.06])
        self.assertEqual(holm([0.9, 0.6]), [1.0, 1.0])
        self.assertEqual(holm([]), [])


class Scope(unittest.TestCase):
    def test_only_common_images(self):
        """What is in only one run is counted, and left out; no common image is refused."""
        true = annotations_of([(i, "object", "x", BOX, False) for i in "abc"])
        first = findings_of([(i, "object", "x", 0.9, BOX) for i in "ab"])
        second = findings_of([(i, "object", "x", 0.9, BOX) for i in "bc"])
        got = compare(first, second, annotations=true, names=["p", "q"], draws=0)
        self.assertEqual((got.images, got.only_in), (1, {"p": 1, "q": 1}))
        self.assertFalse(any(one.told_apart for one in got.pair.pooled.values()))
        other = findings_of([("z", "object", "x", 0.9, BOX)])
        with self.assertRaisesRegex(ScopeError, "no image was answered by all"):
            compare(first, other, annotations=true)
        with self.assertRaisesRegex(ScopeError, "is annotated"):
            compare(first, first, annotations=annotations_of([("z", "object", "x", BOX, False)]))
        with self.assertRaisesRegex(ArgumentError, "two runs or more"):
            compare(first, annotations=true)
        with self.assertRaisesRegex(ArgumentError, "one for each"):
            compare(first, second, annotations=true, threshold=[0.1, 0.2, 0.3])

    def test_three_runs(self):
        """Every two of them, and who is never beaten."""
        first, second, true = pair_of(6, 150, shift=0.2)
        got = compare(first, second, second, annotations=true, threshold=0.6, names=["a", "b", "c"])
        self.assertEqual(
            [(p.first, p.second) for p in got.pairs], [("a", "b"), ("a", "c"), ("b", "c")]
        )
        self.assertEqual(got.never_beaten["recall"], ("b", "c"))

    def test_claims(self):
        """A claimed figure inside the interval is compatible, another not."""
        first, second, true = pair_of(7, 150)
        got = compare(first, second, annotations=true, threshold=0.5, draws=0,
                      claims=["recall 85%", "precision of object 0.2", "f1 of object:lantern 0.8"])  # fmt: skip
        self.assertEqual([one.compatible for one in got.claims][:4], [True, True, False, False])
        inside = got.claims[0]
        self.assertTrue(inside.low < inside.value < inside.high)
        pooled, label = got.rows["run 1"]["pooled"], got.rows["run 2"]["object:lantern"]
        self.assertAlmostEqual(inside.value, pooled.recall)
        self.assertAlmostEqual(got.claims[2].value, got.rows["run 1"]["object"].precision)
        self.assertAlmostEqual(got.claims[5].value, label.f1)
        self.assertTrue(got.claims[5].low < label.f1 < got.claims[5].high)
        for text, why in (("recal 0.9", "not a claim"), ("recall 90", "not a claim"),
                          ("recall of objekt 0.9", "did you mean 'object'")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, why):
                compare(first, second, annotations=true, claims=[text])


class Agreement(unittest.TestCase):
    def test_worked(self):
        """Two boxes found by both, one by each; presence with kappa; the disputed images."""
        first = findings_of([("a", "object", "x", 0.9, BOX), ("a", "object", "x", 0.8, FAR), ("b", "object", "x", 0.5, BOX),
                             ("a", "label", "x", 0.9, None), ("b", "label", "", None, None)])  # fmt: skip
        second = findings_of([("a", "object", "x", 0.7, BOX), ("b", "object", "x", 0.6, BOX), ("b", "object", "x", 0.4, FAR),
                              ("a", "label", "x", 0.9, None), ("b", "label", "x", 0.8, None)])  # fmt: skip
        got = compare(first, second, names=["p", "q"])
        label, boxes = got.kinds["p", "q"]
        self.assertEqual(
            (boxes.both, boxes.first_only, boxes.second_only, boxes.neither), (2, 1, 1, None)
        )
        self.assertAlmostEqual(boxes.confidence_difference, (-0.2 + 0.1) / 2)
        self.assertAlmostEqual(boxes.confidence_distance, 0.15)
        self.assertEqual(
            (label.both, label.second_only, label.neither, label.agreed), (1, 1, 0, 0.5)
        )
        self.assertEqual([(r["image"], r["kind"], r["disputed"]) for r in got.disputed],
                         [("a", "object", 1), ("b", "label", 1), ("b", "object", 1)])  # fmt: skip

    def test_swapping_changes_nothing(self):
        """Neither run is the measure of the other."""
        # Without the false ones, which stand in one place: any of them may pair with any other.
        first, second = (t.without(t.box[:, 0] > 1e5) for t in pair_of(8, 30)[:2])
        one = compare(first, second).kinds["run 1", "run 2"][0]
        other = compare(second, first).kinds["run 1", "run 2"][0]
        self.assertEqual((one.both, one.first_only), (other.both, other.second_only))
        self.assertAlmostEqual(one.confidence_difference, -other.confidence_difference)

    def test_kappa(self):
        """Worked: 0.7 seen where chance gives 0.5; undefined where chance gives all."""
        self.assertAlmostEqual(kappa(20, 5, 10, 15), 0.4)
        self.assertTrue(math.isnan(kappa(5, 0, 0, 0)))
        self.assertTrue(math.isnan(kappa(0, 0, 0, 0)))
        with self.assertRaisesRegex(ArgumentError, "nothing to aim at"):
            first, second, _ = pair_of(8, 5)
            compare(first, second, aim="best f1")


class Combining(unittest.TestCase):
    def test_worked(self):
        """Boxes weighted by confidence; the mean counts who did not find it as 0."""
        one = findings_of(
            [
                ("a", "object", "x", 0.9, (0, 0, 10, 10)),
                ("b", "object", "", None, None),
                ("c", "object", "x", 0.5, BOX),
            ]
        )
        two = findings_of(
            [("a", "object", "x", 0.3, (0, 0, 14, 10)), ("b", "object", "y", 0.6, FAR)]
        )
        every = combine({"one": one, "two": two})
        rows = every.by_confidence().frame().to_dict("records")
        self.assertEqual([(r["image"], r["label"]) for r in rows], [("a", "x"), ("b", "y")])
        self.assertAlmostEqual(rows[0]["confidence"], 0.6)
        self.assertAlmostEqual(rows[0]["x1"], (10 * 0.9 + 14 * 0.3) / 1.2)
        self.assertAlmostEqual(rows[1]["confidence"], 0.3)
        both = combine({"one": one, "two": two}, least=2, confidence="highest", weights={"two": 3})
        kept = both.frame().to_dict("records")
        self.assertEqual([(r["image"], r["label"]) for r in kept], [("a", "x"), ("b", "")])
        self.assertEqual(kept[0]["confidence"], 0.9)
        self.assertAlmostEqual(kept[0]["x1"], (10 * 0.9 + 14 * 0.9) / 1.8)
        self.assertEqual(both.origin, Origin(service="one and two"))

    def test_one_service_once(self):
        """Two boxes of one service never make one thing; what is asserted counts as sure."""
        twice = findings_of(
            [("a", "object", "x", None, BOX), ("a", "object", "x", 0.5, (1, 0, 11, 10))]
        )
        self.assertEqual(len(combine({"one": twice})), 2)
        sure = combine({"one": twice, "two": twice})
        self.assertEqual(sorted(np.nan_to_num(sure.confidence, nan=2)), [0.5, 2.0])
        for options, why in (({"least": 3}, "least"), ({"confidence": "sum"}, "confidence"), ({"weights": {"x": 1}}, "names no service"), ({"weights": {"one": 0}}, "above 0")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, why):
                combine({"one": twice, "two": twice}, **options)
