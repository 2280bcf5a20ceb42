"""Comparing at its limits: confidences by image and label, what is said of many unmet expectations."""

import math
import unittest

from dotledger import compare, drift, measure
from dotledger.core.comparison.expectations import Expectation
from dotledger.core.comparison.interrater_agreement import kappa
from dotledger.core.comparison.release_gates import Gate, judge_gates
from tests.core.measurement.test_measure import annotations_of, findings_of


class Confidences(unittest.TestCase):
    def test_of_the_same_label_in_the_same_image(self):
        """Two images with two labels each: every confidence is compared with its own."""
        sure = {("a", "x"): 0.9, ("a", "y"): 0.5, ("b", "x"): 0.3, ("b", "y"): 0.7}
        first = findings_of([(i, "label", n, c, None) for (i, n), c in sure.items()])
        second = findings_of([(i, "label", n, c - 0.1, None) for (i, n), c in sure.items()])
        [label] = compare(first, second).kinds["run 1", "run 2"]
        self.assertAlmostEqual(label.confidence_difference, -0.1)
        self.assertAlmostEqual(label.confidence_distance, 0.1)


class Kappa(unittest.TestCase):
    def test_by_hand(self):
        """20 both, 5 and 10 one alone, 15 neither: seen 0.7, by chance 0.5 x 0.6 + 0.5 x 0.4."""
        self.assertAlmostEqual(kappa(20, 5, 10, 15), 0.4)
        self.assertAlmostEqual(kappa(20, 10, 5, 15), 0.4)
        self.assertEqual((kappa(5, 0, 0, 5), kappa(0, 5, 5, 0)), (1.0, -1.0))


class Gates(unittest.TestCase):
    def test_many_unmet_expectations(self):
        """Five of eight are named, all are counted."""
        found = findings_of([(f"i{n}", "object", "x", 0.9, (0, 0, 9, 9)) for n in range(8)])
        true = annotations_of([(f"i{n}", "object", "x", (0, 0, 9, 9), False) for n in range(8)])
        wanted = tuple(
            Expectation(image=f"i{n}", kind="object", label="y", at_least=1) for n in range(8)
        )
        gate = Gate(measure="unmet_expectations", at_most=0, expectations=wanted)
        [one] = judge_gates([gate], measure(found, true, draws=0)).judged
        self.assertEqual((one.holds, one.counts), (False, "8 of 8"))
        self.assertEqual(sum(f"i{n} " in one.why for n in range(8)), 5)

    def test_screened_images_are_all_counted(self):
        """Caught, let through, stopped for nothing and rightly passed: one each of four."""
        found = findings_of(
            [
                ("a", "unsafe", "s", 0.9, None),
                ("b", "unsafe", "", None, None),
                ("c", "unsafe", "s", 0.9, None),
                ("d", "unsafe", "", None, None),
            ]
        )
        true = annotations_of(
            [
                ("a", "unsafe", "s", None, False),
                ("b", "unsafe", "s", None, False),
                ("c", "unsafe", "", None, False),
                ("d", "unsafe", "", None, False),
            ]
        )
        for least, judged in ((4, True), (5, False)):
            gate = Gate(measure="caught_share", at_least=0.5, least_images=least)
            [one] = judge_gates([gate], measure(found, true, draws=0)).judged
            self.assertEqual((one.value, one.was_judged), (0.5, judged), least)


class Drifts(unittest.TestCase):
    def test_what_is_said_of_other_images(self):
        """Runs of different images are said to be; those left out are counted only where some are common."""

        def run(names):
            return findings_of(
                [(n, "label", "x", 0.5 + k / 100, None) for k, n in enumerate(names)]
            )

        apart = " ".join(drift(run("abc"), run("def")).notes)
        self.assertIn("different images", apart)
        self.assertNotIn("left out", apart)
        names = [f"i{n}" for n in range(12)]
        common = " ".join(drift(run(names), run(names[2:])).notes)
        self.assertIn("2 images that only one run answered were left out", common)
        self.assertNotIn("left out", " ".join(drift(run(names), run(names)).notes))


class Claims(unittest.TestCase):
    def test_what_is_set_aside_is_no_case(self):
        """A finding over an ignored annotation is neither right nor wrong for a claim either."""
        found = findings_of(
            [("a", "object", "x", 0.9, (0, 0, 9, 9)), ("a", "object", "x", 0.8, (50, 0, 59, 9))]
        )
        true = annotations_of(
            [("a", "object", "x", (0, 0, 9, 9), False), ("a", "object", "x", (50, 0, 59, 9), True)]
        )
        got = compare(found, found, annotations=true, claims=["precision 100%"], draws=0)
        self.assertEqual([one.value for one in got.claims], [1.0, 1.0])


class Agreements(unittest.TestCase):
    def test_as_plain_values(self):
        """Each pair by the names of its runs; an image that one run alone finds is disputed."""
        first = findings_of([("a", "label", "x", 0.5, None), ("b", "label", "", None, None)])
        second = findings_of([("a", "label", "x", 0.9, None), ("b", "label", "x", 0.5, None)])
        plain = compare(first, second, names=["old", "new"]).to_dict()
        [pair] = plain["pairs"]
        self.assertEqual((pair["first"], pair["second"]), ("old", "new"))
        self.assertEqual([row["image"] for row in plain["disputed"]], ["b"])
        # The one image with a common finding is the first: it counts like any other.
        self.assertAlmostEqual(pair["kinds"][0]["confidence_difference"], 0.4)


class Sides(unittest.TestCase):
    def test_who_is_better(self):
        """What is told apart names the better run; what is not names none."""
        rows = [(f"i{n}", "label", "x", 0.9, None) for n in range(30)]
        none = [(f"i{n}", "label", "", None, None) for n in range(30)]
        true = annotations_of([(f"i{n}", "label", "x", None, False) for n in range(30)])
        first, good = findings_of([*rows[:15], *none[15:]]), findings_of(rows)
        [pair] = compare(first, good, annotations=true, threshold=0.5, draws=200).pairs
        self.assertEqual(
            (pair.pooled["recall"].told_apart, pair.pooled["recall"].better), (True, 1)
        )
        [same] = compare(good, good, annotations=true, threshold=0.5, draws=200).pairs
        self.assertEqual(
            (same.pooled["recall"].told_apart, same.pooled["recall"].better), (False, -1)
        )

    def test_images_are_counted_once(self):
        """Two kinds in the same two images, and a third image: three."""
        rows = [(n, k, "x", 0.9, None) for n in "abc" for k in ("label", "unsafe")]
        true = annotations_of(
            [(n, k, "x", None, False) for n in "abc" for k in ("label", "unsafe")]
        )
        self.assertEqual(
            compare(findings_of(rows), findings_of(rows), annotations=true, draws=0).images, 3
        )


class Contributing(unittest.TestCase):
    def test_few_images_of_a_label(self):
        """A label's interval is undefined where under two images hold it, however many others there are."""
        rows = [(f"i{n}", "label", "x", 0.9, None) for n in range(12)]
        first = findings_of([*rows, ("i0", "label", "y", 0.9, None)])
        second = findings_of(
            [
                *rows[:6],
                *[(f"i{n}", "label", "", None, None) for n in range(6, 12)],
                ("i0", "label", "y", 0.4, None),
            ]
        )
        true = annotations_of(
            [
                *[(f"i{n}", "label", "x", None, False) for n in range(12)],
                ("i0", "label", "y", None, False),
            ]
        )
        [pair] = compare(first, second, annotations=true, threshold=0.5, draws=200).pairs
        self.assertTrue(math.isnan(pair.labels["label:y"]["recall"].low))
        self.assertLess(pair.labels["label:x"]["recall"].high, 0)
