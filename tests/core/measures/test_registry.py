"""The registry of measures: one record each, met everywhere a measure is shown."""

import math
import unittest

import numpy as np

from dotledger import check_gates, compare, measure
from dotledger.core.measures.registry import MEASURES, RANKED, RATIOS, combined
from dotledger.core.measures.share_limits import (
    ShareSums,
    mean_of_shares_limits,
    mean_of_shares_limits_by_image,
    share_interval,
)
from dotledger.report.terminal.comparison_tables import comparison_parts
from dotledger.report.terminal.measure_tables import measure_tables
from dotledger.report.terminal.terminal_tables import console, printed
from tests.core.measurement.test_measure import annotations_of, findings_of


def labels(found, true, label="smoke"):
    """Presence of one label in images i0, i1, ...: tables from two lists of 0 and 1."""
    names = [f"i{n}" for n in range(len(true))]
    said = [
        (i, "unsafe", label if f else "", 0.9 if f else None, None) for i, f in zip(names, found)
    ]
    truth = [(i, "unsafe", label if t else "", None, False) for i, t in zip(names, true)]
    return findings_of(said), annotations_of(truth)


class Records(unittest.TestCase):
    def test_forms(self):
        """Each ratio by hand, from 6 right of 8 found, 9 annotated and 11 without the label."""
        counts = {"hits": 6, "found": 8, "actual": 9, "absent": 11, "overlap": 4.5}
        wanted = {
            "precision": 6 / 8,
            "recall": 6 / 9,
            "f1": 12 / 17,
            "mean_overlap": 4.5 / 6,
            "false_alarm_rate": 2 / 11,
            "balanced_accuracy": (6 / 9 + 9 / 11) / 2,
        }
        self.assertEqual(set(wanted), set(RATIOS))
        for name, value in wanted.items():
            self.assertAlmostEqual(float(RATIOS[name].value(counts)), value, msg=name)
        self.assertEqual(combined({"hits": 2, "found": -1}, counts), 4)
        self.assertEqual(sorted(RANKED), sorted(MEASURES))
        for record in MEASURES.values():
            self.assertRegex(record.definition, "undefined (if|without)")

    def test_undefined(self):
        """Without a whole, or without the counts it needs, a measure is NaN and no error."""
        for counts in ({"hits": 0, "found": 0, "actual": 0, "absent": 0}, {"hits": 1, "found": 1, "actual": 1}):  # fmt: skip
            self.assertTrue(math.isnan(float(RATIOS["balanced_accuracy"].value(counts))))


class BalancedAccuracy(unittest.TestCase):
    found = (1, 1, 0, 1, 0, 0, 0, 0, 1, 0)
    true = (1, 1, 1, 1, 0, 0, 0, 0, 0, 0)

    def test_by_hand(self):
        """Three of four found, five of six left alone: the mean of 3/4 and 5/6."""
        row = measure(*labels(self.found, self.true)).labels["smoke"]
        self.assertAlmostEqual(row.balanced_accuracy, (3 / 4 + 5 / 6) / 2)
        # v = 10/9 (3/4 1/4 / 4 + 5/6 1/6 / 6) / 4, against p (1 - p) / 10: worth all ten cases.
        p = (3 / 4 + 5 / 6) / 2
        variance = 10 / 9 * (3 / 16 / 4 + 5 / 36 / 6) / 4
        e = 10 / max(1, variance / (p * (1 - p) / 10))
        t = 2.2621571627409915  # the 97.5 % point of Student's t with nine degrees of freedom
        centre = (p + t * t / (2 * e)) / (1 + t * t / e)
        half = t * math.sqrt(p * (1 - p) / e + t * t / (4 * e * e)) / (1 + t * t / e)
        low, high = row.intervals["balanced_accuracy"]
        self.assertAlmostEqual(low, centre - half)
        self.assertAlmostEqual(high, centre + half)

    def test_two_ways_of_one_interval(self):
        """Sums by label and counts by image give the same ends; of one share those of a share."""
        hit, true = np.array(self.found, dtype=float), np.array(self.true, dtype=float)
        pairs = [(hit * true, true), ((1 - hit) * (1 - true), 1 - true)]
        sums = [ShareSums.of_images(x, m) for x, m in pairs]
        for one, other in zip(mean_of_shares_limits(sums), mean_of_shares_limits_by_image(pairs)):
            self.assertAlmostEqual(float(one), float(other))
        low, high = mean_of_shares_limits_by_image(pairs[:1])
        self.assertEqual((float(low), float(high)), share_interval(*pairs[0]))

    def test_coverage(self):
        """Simulated: of 400 intervals over 40 images some 95 of 100 hold the true value."""
        rng, held = np.random.default_rng(8), 0
        for _ in range(400):
            true = rng.random(40) < 0.3
            hit = np.where(true, rng.random(40) < 0.8, rng.random(40) < 0.1).astype(float)
            pairs = [(hit * true, true * 1.0), ((1 - hit) * ~true, ~true * 1.0)]
            low, high = mean_of_shares_limits_by_image(pairs)
            held += bool(low <= 0.85 <= high)
        self.assertGreater(held, 370)

    def test_everywhere(self):
        """In JSON, tables, frames, slices, sweeps, gates and comparisons, with interval and verdict."""
        found, true = labels(self.found * 6, self.true * 6)
        result = measure(found, true)
        plain = result.to_dict()
        self.assertIn("balanced_accuracy", plain["pooled"]["intervals"])
        self.assertIn("balanced_accuracy_low", result.frame().columns)
        out = console()
        self.assertIn("balanced", "".join(printed(out, one) for one in measure_tables(result)))
        swept = result.sweep("label").frame()
        self.assertAlmostEqual(swept.balanced_accuracy.iloc[-1], result.pooled.balanced_accuracy)
        self.assertAlmostEqual(
            swept.balanced_accuracy_low.iloc[-1], result.pooled.intervals["balanced_accuracy"][0]
        )
        worse, _ = labels([0] * 60, self.true * 6)
        both = compare(found, worse, annotations=true, names=["all", "none"])
        one = both.pair.kinds["unsafe"]["balanced_accuracy"]
        self.assertAlmostEqual(one.difference, 0.5 - result.pooled.balanced_accuracy)
        self.assertLess(one.high, 0)
        self.assertEqual((one.told_apart, one.better), (True, 0))
        shown = "".join(printed(out, part) for part in comparison_parts(both))
        self.assertRegex(shown, "balanced +0.79 +0.50")

    def test_gates(self):
        """A gate may ask for it, by its name in the registry."""
        import tempfile
        from pathlib import Path

        with tempfile.TemporaryDirectory() as folder:
            gates = Path(folder) / "gates.toml"
            gates.write_text(
                'gates_file = 1\n[[gate]]\nmeasure = "balanced_accuracy"\nof = "unsafe"\nat_least = 0.7\n'
            )
            verdicts = check_gates(*labels(self.found, self.true), gates)
            self.assertTrue(verdicts.holds)
            gates.write_text('gates_file = 1\n[[gate]]\nmeasure = "balance"\nat_least = 0.7\n')
            with self.assertRaisesRegex(Exception, "balanced_accuracy"):
                check_gates(*labels(self.found, self.true), gates)
