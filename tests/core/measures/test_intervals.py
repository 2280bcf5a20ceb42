"""Intervals: replicates against the slow reference, coverage by simulation, what must not matter."""

import math
import random
import unittest
from unittest import mock

import numpy as np
from scipy.special import stdtrit

from dotledger import measure
from dotledger.core.measures.intervals import spread_of
from dotledger.core.measures.resampling import Resampling, limits, placed, places_of_images, weights
from dotledger.core.measures.share_limits import (
    ShareSums,
    drawn_limits,
    expanded_tails,
    mean_limits,
    share_interval,
)
from dotledger.core.pairing.measure_scope import scope_of
from dotledger.core.pairing.pair_judging import judge
from tests import reference
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case
from tests.simulation import coverage


def quantile(freedom):
    return float(stdtrit(freedom, 0.975))


MEASURES = ("average_precision",)


def repeated(rows, images, weight):
    """Write rows down as often as their image was drawn, under new names."""
    return [
        {**row, "image": f"{row['image']}/{copy}"}
        for row in rows
        if row["image"] in images
        for copy in range(int(weight[images.index(row["image"])]))
    ]


class Replicates(unittest.TestCase):
    def test_one_draw_is_the_measure_of_the_drawn_images(self):
        """With one draw what is no share is what the reference finds on the images drawn."""
        checked = 0
        for seed in range(250):
            found, true = random_case(seed)
            tables = as_tables(found, true)
            scope = scope_of(*tables, "object")
            if not scope.images or not scope.labels:
                continue
            once = Resampling(draws=1, seed=seed)
            judged = judge(scope, (0.3, 0.5))
            count = len(scope.images)
            keys = places_of_images(scope.images, tables[1], tables[0])
            place = placed(scope.images, keys)
            weight = next(weights(count, once, 1))[place][:, 0]
            passes = judged[0].findings.confidence >= 0.3
            with mock.patch(
                "dotledger.core.measures.intervals.drawn_limits",
                lambda _, draws, *__: (draws[..., 0],) * 2,
            ):
                spread = spread_of(judged, passes, once, place)
            drawn = [repeated(rows, scope.images, weight) for rows in (found, true)]
            drawn[1] += [self.labelled(label, scope) for label in scope.labels]
            wanted = reference.measure_boxes(*drawn, 0.3, 0.3)
            for label, interval in zip(scope.labels, spread.labels):
                self.same(interval, wanted[label])
            self.same(spread.pooled, wanted[None])
            means = [reference.measure_boxes(*drawn, t, None) for t in (0.3, 0.5)]
            self.same_mean(spread.mean_ap, means)
            checked += 1
        self.assertGreater(checked, 180)

    def labelled(self, label, scope):
        """Keep the vocabulary whole, by an annotation on an image that has no answer."""
        return {"image": "unanswered", "label": label, "box": (0, 0, 1, 1), "ignore": False}

    def same(self, interval, wanted):
        for name in MEASURES:
            low, high = interval[name]
            if wanted[name] is None:
                self.assertTrue(np.isnan(low) and np.isnan(high), name)
            else:
                self.assertAlmostEqual(low, float(wanted[name]), places=5, msg=name)
                self.assertEqual(low, high)

    def same_mean(self, interval, rows):
        per_overlap = []
        for by_label in rows:
            each = [r["average_precision"] for n, r in by_label.items() if n is not None]
            each = [value for value in each if value is not None]
            per_overlap.append(sum(each) / len(each) if each else None)
        if None in per_overlap:
            self.assertTrue(np.isnan(interval[0]))
        else:
            self.assertAlmostEqual(interval[0], float(sum(per_overlap) / 2), places=5)


class Draws(unittest.TestCase):
    def test_weights(self):
        """Each draw takes as many images as there are, whatever is held at once; seeds decide."""
        settings = Resampling(draws=11, seed=3)
        whole = np.hstack(list(weights(7, settings, 11)))
        parts = np.hstack(list(weights(7, settings, 4)))
        np.testing.assert_array_equal(whole, parts)
        self.assertEqual((whole.shape, set(whole.sum(axis=0))), ((7, 11), {7.0}))
        other = np.hstack(list(weights(7, Resampling(draws=11, seed=4), 11)))
        self.assertFalse(np.array_equal(whole, other))

    def test_limits(self):
        """Percentiles by linear interpolation over the draws that are defined."""
        draws = np.array(
            [[0.0, 1, 2, 3, 4], [np.nan, 10, np.nan, 20, np.nan], [np.nan] * 5, [7.0] * 5]
        )
        with mock.patch("dotledger.core.measures.resampling.expanded_tails", return_value=0.25):
            low, high = limits(draws, 9, 0.5)
        np.testing.assert_allclose(low, [1, 12.5, np.nan, np.nan])
        np.testing.assert_allclose(high, [3, 17.5, np.nan, np.nan])
        self.assertTrue(np.isnan(limits(draws, 1, 0.5)[0]).all(), "one image says nothing")
        # For 5 images t is 2.776: Phi(-sqrt(5/4) * 2.776) = Phi(-3.104) = 0.00095.
        self.assertAlmostEqual(float(expanded_tails(5, 0.95)), 0.00095, places=5)
        self.assertAlmostEqual(float(expanded_tails(10**9, 0.95)), 0.025, places=6)

    def test_an_interval_holds_its_measure(self):
        """On an ordinary set every interval lies around its measure, and is narrower for more."""
        rng = random.Random(5)
        rows = [
            (f"i{i}", "object", "x", rng.random(), (0, 0, 10, 10) if rng.random() < 0.7 else (50, 0, 60, 10))
            for i in range(120)
        ]  # fmt: skip
        true = [(f"i{i}", "object", "x", (0, 0, 10, 10), False) for i in range(120)]
        widths = []
        for count in (30, 120):
            row = measure(findings_of(rows[:count]), annotations_of(true[:count])).pooled
            for name in ("precision", "recall", "f1"):
                low, high = row.intervals[name]
                self.assertLess(low, getattr(row, name))
                self.assertGreater(high, getattr(row, name))
            widths.append(high - low)
        self.assertLess(widths[1], 0.7 * widths[0])

    def test_none_wanted(self):
        """Without draws there are no intervals, in no form."""
        said = findings_of([("a", "object", "x", 0.9, (0, 0, 1, 1))])
        true = annotations_of([("a", "object", "x", (0, 0, 1, 1), False)])
        result = measure(said, true, draws=0)
        self.assertEqual(dict(result.pooled.intervals), {})
        self.assertNotIn("intervals", result.to_dict()["pooled"])


class Coverage(unittest.TestCase):
    def test_coverage(self):
        """On the stated model 95 % intervals hold the true value 93 to 97 % of the time."""
        for name, share in coverage(runs=500, images=150, draws=500, seed=11).items():
            self.assertTrue(0.93 <= share <= 0.97, f"{name}: {share}")


class HeldAtOnce(unittest.TestCase):
    """What is held in memory at once must not change a result."""

    def setUp(self):
        rng = random.Random(3)
        rows, true = [], []
        for image in range(40):
            for place in range(rng.randint(0, 5)):
                box = (20 * place, 0, 20 * place + 10, 10)
                label = rng.choice("abc")
                true.append((f"i{image}", "object", label, box, rng.random() < 0.1))
                shifted = (box[0] + rng.randint(0, 6), 0, box[2] + rng.randint(0, 6) + 1, 10)
                rows.append(
                    (
                        f"i{image}",
                        "object",
                        rng.choice("aabc"),
                        rng.choice((None, 0.3, 0.6, 0.9)),
                        shifted,
                    )
                )
        self.tables = findings_of(rows), annotations_of(true)
        self.overlaps = (0.5, 0.3, 0.75)

    def result(self):
        return measure(*self.tables, overlap=self.overlaps, threshold=0.5, draws=40).to_dict()

    def test_pairing_in_parts(self):
        """Findings paired a few groups at a time give what they give together."""
        wanted = self.result()
        for count in (1, 7, 50):
            with mock.patch("dotledger.core.pairing.greedy_pairing._FINDINGS_AT_ONCE", count):
                self.assertEqual(self.result(), wanted)

    def test_groups_far_apart(self):
        """Groups too many to be counted in an array are looked up instead."""
        wanted = self.result()
        with mock.patch("dotledger.core.pairing.overlapping_pairs._DENSE", 0):
            self.assertEqual(self.result(), wanted)

    def test_blocks_and_precision(self):
        """Curves in larger or smaller blocks, draws in other portions, double precision: the same."""
        wanted = self.result()
        for name, value in (("_POINTS_IN_A_BLOCK", 1), ("_AT_ONCE", 1), ("_MOST_WEIGHTS", 1)):
            with mock.patch(f"dotledger.core.measures.drawn_curves.{name}", value):
                self.assertEqual(self.result(), wanted)
        with mock.patch("dotledger.core.measures.drawn_curves._EXACT", 0):
            self.close_to(self.result(), wanted)

    def close_to(self, got, wanted):
        """Compare intervals that were computed in another precision."""
        for name, interval in wanted["pooled"]["intervals"].items():
            np.testing.assert_allclose(got["pooled"]["intervals"][name], interval, atol=1e-6)


class Shares(unittest.TestCase):
    def test_worked(self):
        """2 of 2, 1 of 2 and 0 of 2: six cases worth three, 0.036 to 0.964; see the module."""
        low, high = share_interval([2, 1, 0], [2, 2, 2])
        self.assertAlmostEqual(low, 0.0360, places=3)
        self.assertAlmostEqual(high, 0.9640, places=3)
        self.assertTrue(np.isnan(share_interval([2], [2])[0]), "one image")
        low, high = share_interval([1] * 30, [1] * 30)

    def test_nothing_wrong_seen(self):
        """Where a share is 0 or 1 nothing varies: the exact limit, with each image as one case."""
        for x, m, wanted in (
            ([1, 1], [1, 1], (0.025 ** (1 / 2), 1.0)),  # 0.16
            ([1] * 33, [1] * 33, (0.025 ** (1 / 33), 1.0)),  # 0.89
            ([7] * 30, [7] * 30, (0.025 ** (1 / 30), 1.0)),  # boxes of one image are alike
            ([0, 0, 0], [4, 0, 1], (0.0, 1 - 0.025 ** (1 / 2))),  # one image has no case
        ):
            np.testing.assert_allclose(share_interval(x, m), wanted, atol=1e-12)

    def test_means(self):
        """Mean overlap by hand: 0.9 and 0.7 in one image, 0.5 in another; equal ones; all 1."""
        # p = 0.7; x_i - p m_i is 0.2 and -0.2: v = 2 * 0.08 / 9, e = 0.21 / v = 11.8125.
        # t = 12.706, t^2 / e = 13.668: centre 7.5337 / 14.668, half width 12.706 sqrt(0.01778 + 0.28926) / 14.668.
        low, high = mean_limits(ShareSums.of_images([1.6, 0.5], [2, 1]))
        self.assertAlmostEqual(float(low), 0.0336, places=3)
        self.assertAlmostEqual(float(high), 0.9936, places=3)
        for x, m in (
            ([0.8] * 9, [1] * 9),
            ([1.0, 2.0], [1, 2]),
            ([0.3, 0.1, 0.9, 0], [1, 1, 2, 0]),
        ):
            got = mean_limits(ShareSums.of_images(x, m))
            np.testing.assert_allclose(got, reference.mean_interval(list(zip(x, m)), quantile))
        self.assertTrue(np.isnan(mean_limits(ShareSums.of_images([0.5], [1]))[0]))

    def test_of_draws(self):
        """Average precision by hand; without spread; where every draw says 1 or 0; undefined."""
        # The draws 0.4 and 0.6 have variance 0.01: times 5/4 is v = 0.0125, e = min(7, 0.25 / v) = 7,
        # t = 2.776, t^2 / e = 1.101; centre 0.5, half width 2.776 sqrt(0.25/7 + 7.708/196) / 2.101.
        low, high = drawn_limits([0.5], np.array([[0.4, 0.6]]), [5], [7])
        self.assertAlmostEqual(float(high[0] - 0.5), 0.3619, places=3)
        self.assertAlmostEqual(float(low[0] + high[0]), 1.0)
        none = np.full((1, 2), np.nan)
        for p, draws, wanted in (
            (1.0, np.ones((1, 9)), (0.025 ** (1 / 4), 1.0)),
            (0.0, np.zeros((1, 9)), (0.0, 1 - 0.025 ** (1 / 4))),
            (0.3, np.full((1, 9), 0.3), reference.wilson(0.3, 4, quantile(3))),
            (np.nan, none, (np.nan, np.nan)),
            (0.5, none, (np.nan, np.nan)),
        ):
            got = drawn_limits([p], draws, [4], [9])
            np.testing.assert_allclose(np.ravel(got), wanted)

    def test_against_the_reference(self):
        """Every share of every label, pooled and not, as plain loops over the images give it."""
        checked = 0
        for seed in range(150):
            found, true = random_case(seed)
            tables = as_tables(found, true)
            scope = scope_of(*tables, "object")
            if not scope.images or not scope.labels:
                continue
            result = measure(*tables, overlap=0.5, threshold=0.4, draws=5).kinds["object"]
            cases = reference.cases_by_image(found, true, scope.images, scope.labels, 0.5, 0.4)
            for label, shares in cases.items():
                row = result.pooled if label is None else result.rows[label]
                for name, counts in shares.items():
                    wanted = reference.share_interval(counts, quantile)
                    got = row.intervals[name]
                    if wanted is None:
                        self.assertTrue(np.isnan(got[0]), (seed, label, name))
                    else:
                        np.testing.assert_allclose(got, wanted, atol=1e-12)
                        checked += 1
        self.assertGreater(checked, 300)

    def test_what_must_not_matter(self):
        """Row order, names, units by an exact factor, one more overlap or threshold: bit for bit."""
        rng = random.Random(8)
        rows = [
            (
                f"i{i % 30}",
                "object",
                rng.choice("ab"),
                rng.choice((0.5, 0.5, 0.9)),
                (x := rng.randint(0, 30), 0, x + rng.randint(4, 9), 8),
            )
            for i in range(120)
        ]
        true = [
            (
                f"i{i % 30}",
                "object",
                rng.choice("ab"),
                (x := rng.randint(0, 30), 0, x + rng.randint(4, 9), 8),
                False,
            )
            for i in range(90)
        ]

        def result(rows, true, **options):
            found = measure(findings_of(rows), annotations_of(true), **{"overlap": 0.5, **options})
            kind = found.kinds["object"]
            return {**kind.pooled.intervals, "means": kind.mean_intervals["average_precision"]}

        wanted = result(rows, true)
        for seed in range(4):
            mixed = rows[:], true[:]
            for side in mixed:
                random.Random(seed).shuffle(side)
            self.assertEqual(result(*mixed), wanted)
            names = random.Random(seed).sample(range(1000), 30)
            renamed = [
                [(f"n{names[int(r[0][1:])]}", *r[1:]) for r in side] for side in (rows, true)
            ]
            self.assertEqual(result(*renamed), wanted)
        scaled = [
            [tuple(tuple(4 * v for v in part) if isinstance(part, tuple) else part for part in r) for r in side]
            for side in (rows, true)
        ]  # fmt: skip
        self.assertEqual(result(*scaled), wanted)
        more = measure(
            findings_of(rows),
            annotations_of(true),
            overlap=(0.5, 0.7),
            threshold=(None or 0.0, 0.9),
        )
        self.assertEqual(
            dict(more.kinds["object"].pooled.intervals),
            {n: wanted[n] for n in more.kinds["object"].pooled.intervals},
        )


class KindsTogether(unittest.TestCase):
    def test_one_draw_over_two_kinds(self):
        """Pooled over a kind with boxes and one without, from the images of both."""
        said = findings_of(
            [("a", "object", "x", 0.9, (0, 0, 4, 4)), ("b", "object", "x", 0.8, (9, 0, 13, 4)), ("a", "label", "dusk", 0.7, None), ("b", "label", "", None, None)]
        )  # fmt: skip
        true = annotations_of(
            [("a", "object", "x", (0, 0, 4, 4), False), ("b", "object", "x", (0, 0, 4, 4), False), ("b", "label", "dusk", None, False)]
        )  # fmt: skip
        pooled = measure(said, true).pooled
        # In a one of two said is right and one of one is found; in b none of one and none of two.
        self.assertEqual(pooled.intervals["precision"], share_interval([1, 0], [2, 1]))
        self.assertEqual(pooled.intervals["recall"], share_interval([1, 0], [1, 2]))
        self.assertNotIn("false_alarm_rate", pooled.intervals)


class Noticed(unittest.TestCase):
    """Worked cases of what nothing else tells apart."""

    def test_two_kinds_that_are_one(self):
        """A kind next to its own copy: every pooled interval is that of the one."""
        rng = np.random.default_rng(4)
        box, far = (0, 0, 10, 10), (50, 0, 60, 10)
        found, true = [], []
        for n in range(40):
            for place in range(3):
                spot = tuple(v + 100 * place for v in (box if rng.random() < 0.7 else far))
                found.append((f"i{n}", "lantern", round(float(rng.random()), 2), spot))
                true.append((f"i{n}", "lantern", tuple(v + 100 * place for v in box)))
        one = measure(
            findings_of([(i, "object", n, c, b) for i, n, c, b in found]),
            annotations_of([(i, "object", n, b, False) for i, n, b in true]),
        )
        both = measure(
            findings_of([(i, k, n, c, b) for k in ("object", "face") for i, n, c, b in found]),
            annotations_of([(i, k, n, b, False) for k in ("object", "face") for i, n, b in true]),
        )
        self.assertAlmostEqual(both.pooled.average_precision, one.pooled.average_precision)
        for name in ("recall", "precision", "f1"):
            self.assertAlmostEqual(getattr(both.pooled, name), getattr(one.pooled, name))
        for end in (0, 1):
            self.assertAlmostEqual(
                both.pooled.intervals["average_precision"][end],
                one.pooled.intervals["average_precision"][end],
                places=6,
            )

    def test_pairing_by_overlap_keeps_every_other_interval(self):
        """Without the curve's interval, and with all others."""
        rows = [(f"i{n}", "object", "x", 0.5 + n / 40, (0, 0, 10, 10 + n % 3)) for n in range(12)]
        true = annotations_of([(f"i{n}", "object", "x", (0, 0, 10, 10), False) for n in range(12)])
        ends = measure(findings_of(rows), true, pairing="total-overlap").pooled.intervals
        self.assertNotIn("average_precision", ends)
        self.assertTrue({"recall", "precision", "f1", "mean_overlap"} <= set(ends))

    def test_screening_intervals(self):
        """Of four images two are stopped, one of them rightly; shares by hand, Wilson's ends."""
        found = findings_of([("a", "unsafe", "x", 0.9, None), ("b", "unsafe", "x", 0.8, None),
                             ("c", "unsafe", "", None, None), ("d", "unsafe", "", None, None)])  # fmt: skip
        true = annotations_of([("a", "unsafe", "x", None, False), ("b", "unsafe", "", None, False),
                               ("c", "unsafe", "x", None, False), ("d", "unsafe", "", None, False)])  # fmt: skip
        screened = measure(found, true, threshold=0.5).screening()
        self.assertEqual(
            (screened.caught, screened.let_through, screened.false_alarms, screened.rightly_passed),
            (1, 1, 1, 1),
        )
        self.assertEqual(screened.stopped_share, 0.5)
        t = 3.182446305284263  # the 97.5 % point of Student's t with three degrees of freedom
        # v = 4/3 * 4 * 0.25 / 16 = 1/12, a third more than p (1 - p) / 4: worth three cases.
        half = t * math.sqrt(0.25 / 3 + t * t / 36) / (1 + t * t / 3)
        for end, sign in ((0, -1), (1, 1)):
            self.assertAlmostEqual(screened.intervals["stopped_share"][end], 0.5 + sign * half)
