"""Drift: what changed is found, what did not is not, and what could not be seen is said."""

import itertools
import math
import unittest
from dataclasses import replace

import numpy as np

from dotledger import drift
from dotledger.core.comparison.drift import drift_of
from dotledger.core.comparison.drift_figures import fields_of
from dotledger.core.comparison.drift_runs import RunFacts
from dotledger.errors import ScopeError
from tests import simulation
from tests.core.measurement.test_measure import findings_of

BOX = (0, 0, 10, 10)


def rounds(seed, images, change="", anew=False):
    """Two runs over a made scene, as tables."""
    rng = np.random.default_rng(seed)
    scene = simulation.scene_of(rng, images)
    first, second = (simulation.answered(rng, scene, anew=anew) for _ in range(2))
    return findings_of(first), findings_of(simulation.changed_rows(rng, second, change))


class Simulated(unittest.TestCase):
    def test_nothing_changed(self):
        """All answers drawn anew: any figure of some forty is said to have changed in about 5 of 100."""
        alarms = sum(
            bool(drift_of(*rounds(seed, 30, anew=True), draws=400).found) for seed in range(60)
        )
        self.assertLessEqual(alarms, 8)  # 5 % of 60 are 3: more than 8 come in 1 of 300 tries

    def test_real_changes(self):
        """Each is found on 100 images, and named; what a service lost altogether, too."""
        for change, named in (
            ("surer", {"mean confidence", "distance of confidences"}),
            ("less sure", {"mean confidence", "distance of confidences"}),
            ("lost label", {"images with a finding", "findings per image"}),
            ("lost tenth", {"findings per image"}),
            ("larger", {"log area of a box"}),
            ("shifted", {"boxes moved right"}),
            ("far away", {"mean x of all boxes"}),
            ("gone", {"images with a finding", "findings per image"}),
            ("doubled", {"findings per image"}),
            ("no confidences", {"findings with a confidence"}),
        ):
            for seed in range(3):
                with self.subTest(change=change, seed=seed):
                    found = drift_of(*rounds(seed, 100, change), draws=500).found
                    self.assertLessEqual(named, {one.what for one in found})
        lost = drift_of(*rounds(1, 100, "lost label"))
        self.assertIn("object:stool", lost.went)
        self.assertEqual({one.of for one in lost.found} - {"object"}, {"object:stool"})
        [larger] = [
            one
            for one in drift_of(*rounds(1, 100, "larger")).found
            if one.what == "log area of a box"
        ]
        self.assertAlmostEqual(larger.change, math.log(1.1), places=6)

    def test_the_same(self):
        """The same answers again: every figure is the same, and nothing has a p-value."""
        first, second = rounds(2, 20)
        result = drift(first, second)
        self.assertTrue(result.same)
        self.assertTrue(all(math.isnan(one.p_value) for one in result.changes))
        mixed = second.take(np.random.default_rng(0).permutation(len(second)))
        self.assertTrue(drift(first, mixed).same)

    def test_equal_figures_are_not_equal_findings(self):
        """A rare label that is called otherwise changes no figure that is looked at, and is not "the same"."""
        rows = [(f"i{n}", "label", "moon", 0.9, None) for n in range(20)]
        first = findings_of([*rows, ("i0", "label", "sun", 0.5, None)])
        second = findings_of([*rows, ("i0", "label", "star", 0.5, None)])
        result = drift(first, second)
        self.assertFalse(any(one.change for one in result.changes))
        self.assertFalse(result.same)
        apart = findings_of([(f"j{n}", *row[1:]) for n, row in enumerate(rows)])
        self.assertFalse(drift(findings_of(rows), apart).same)


class Worked(unittest.TestCase):
    def test_against_plain_loops(self):
        """Six images: all 64 exchanges of findings per image, by hand."""
        first = findings_of([(f"i{n}", "label", "x", None, None) for n in range(6)])
        second = findings_of(
            [(f"i{n}", "label", "x" if n == 5 else "", None, None) for n in range(6)]
        )
        [one] = [c for c in drift_of(first, second).changes if c.what == "findings per image"]
        sums = [
            sum(-1 if swap else 1 for swap in swaps[:5])
            for swaps in itertools.product((0, 1), repeat=6)
        ]
        self.assertEqual((one.first, one.second), (1.0, 1 / 6))
        self.assertEqual(one.p_value, sum(abs(total) >= 5 for total in sums) / 64)

    def test_too_few_images(self):
        """Eight images cannot show a small change, four none at all: it is said."""
        first = [(f"i{n}", "label", "x", 0.9, None) for n in range(8)]
        second = [
            (n, k, "" if n in ("i0", "i1") else "x", None if n in ("i0", "i1") else c, b)
            for n, k, _, c, b in first
        ]
        eight = drift_of(findings_of(first), findings_of(second))
        self.assertEqual(eight.found, ())
        self.assertRegex(
            " ".join(eight.notes),
            r"With 8 images a change of 0.\d\d in the share of images with a finding of label may pass",
        )
        four = drift_of(findings_of(first[:4]), findings_of(second[:4]))
        self.assertIn(
            "With 4 images there are 16 exchanges: no change, however large, of the answers is significant",
            " ".join(four.notes),
        )

    def test_what_is_known(self):
        """The version, settings and description are said, without any statistics."""
        rows = findings_of([("a", "label", "x", 0.9, None)])
        one = RunFacts(versions={"3.1": 2}, settings={"mode": "fast"}, described_as="a")
        other = RunFacts(versions={"3.2": 2}, settings={"mode": "fine"}, described_as="b")
        self.assertEqual(
            drift_of(rows, rows, facts=(one, other)).known,
            ("The service's version: 3.1, then 3.2.", "The setting mode: fast, then fine."),
        )
        only = drift_of(
            rows, rows, facts=(replace(one, described_as="a"), replace(one, described_as="b"))
        )
        self.assertEqual(
            only.known, ("The description of the service is not the same in both runs.",)
        )
        self.assertEqual(drift_of(rows, rows, facts=(one, one)).known, ())

    def test_calls_and_answers(self):
        """Calls that take longer, images without an answer, and fields that are gone."""
        rows = findings_of([(f"i{n}", "label", "moon", 0.9, None) for n in range(30)])
        fewer = rows.take(np.arange(20))
        asked = tuple(f"i{n}" for n in range(30))
        quick = RunFacts(
            asked=asked, seconds=[0.1, 0.12, 0.11] * 9, fields={n: frozenset("ab") for n in asked}
        )
        slow = RunFacts(
            asked=asked,
            seconds=[0.3, 0.31, 0.29] * 9,
            fields={n: frozenset("ac") for n in asked[:20]},
        )
        result = drift_of(rows, fewer, facts=(quick, slow))
        self.assertEqual(
            {one.what for one in result.found},
            {"typical seconds of a call", "images with an answer", "answers with a field"},
        )
        self.assertEqual(result.shape, {"appeared": ("c",), "vanished": ("b",)})
        self.assertEqual(fields_of({"a": {"b": 1}, "c": [{"d": 1}]}), {"a", "a.b", "c", "c[].d"})

    def test_labels_and_other_images(self):
        """Labels that came and went; runs of other images are compared, with a word of warning."""
        first = findings_of([(f"i{n}", "label", "moon", 0.9, None) for n in range(30)])
        second = findings_of([(f"i{n}", "label", "sun", 0.9, None) for n in range(30)])
        result = drift_of(first, second, draws=50)
        self.assertEqual((result.came, result.went), ({"label:sun": 30}, {"label:moon": 30}))
        self.assertTrue(result.paired)
        other = replace(
            second, image=replace(second.image, names=tuple(f"j{n}" for n in range(30)))
        )
        apart = drift_of(first, other.take(np.arange(10)))
        self.assertEqual((apart.paired, apart.images), (False, (30, 10)))
        self.assertIn("different images", apart.notes[-1])
        self.assertEqual({one.of for one in apart.found}, {"label:moon", "label:sun"})
        with self.assertRaises(ScopeError):
            drift_of(first, first.take(np.zeros(0, dtype=np.intp)))

    def test_order_and_names(self):
        """Other names of images, another order of rows, and which run is the first: the same p-values."""
        first, second = rounds(3, 40, "lost tenth")
        wanted = drift_of(first, second, draws=200).frame()
        rows = np.random.default_rng(0).permutation(len(first))
        renamed = [
            replace(t, image=replace(t.image, names=tuple(f"n{n[::-1]}" for n in t.image.names)))
            for t in (first.take(rows), second)
        ]
        got = drift_of(*renamed, draws=200).frame()
        back = drift_of(second, first, draws=200).frame()
        for other in (got, back):
            both = wanted.merge(other, on=["what", "of"])
            self.assertEqual(len(both), len(wanted))
            np.testing.assert_allclose(both["p_value_x"], both["p_value_y"])
