"""Sweeps: every row is what measuring at its threshold gives."""

import math
import unittest

import numpy as np

from dotledger import measure
from dotledger.core.measures.registry import RATIOS
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError
from tests import simulation
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case

MEASURES = [name for name, one in RATIOS.items() if one.interval == "share"]


class Sweeping(unittest.TestCase):
    def same(self, tables, kind, swept, *, draws):
        for row in swept.table.to_dict("records"):
            at = measure(*tables, threshold=row["threshold"], draws=draws).kinds[kind]
            one = at.pooled if row["group"] == kind else at.rows[row["group"].partition(":")[2]]
            for name in ("true_positives", "false_positives", "misses"):
                self.assertEqual(row[name], getattr(one, name))
            for name in MEASURES:
                np.testing.assert_allclose(row[name], getattr(one, name), rtol=1e-12, err_msg=name)
                if draws and name in one.intervals and not math.isnan(one.intervals[name][0]):
                    ends = (row[f"{name}_low"], row[f"{name}_high"])
                    np.testing.assert_allclose(ends, one.intervals[name], rtol=1e-9, err_msg=name)

    def test_rows_are_measures(self):
        """Counts, measures and intervals at each threshold, for kinds and labels."""
        true, found = simulation.confident_set(np.random.default_rng(0), 12)
        for each in ("kind", "label"):
            swept = measure(found, true, draws=0).sweep(each)
            self.assertEqual(len(swept.table), (~np.isnan(found.confidence)).sum())
            self.same((found, true), "object", swept, draws=1)

    def test_small_cases(self):
        """With ties, ignored boxes, and findings without a confidence, by boxes and presence."""
        checked = 0
        for seed in range(200):
            kind = ("object", "label")[seed % 2]
            cells = random_case(seed, kind)
            if not {f["image"] for f in cells[0]} & {a["image"] for a in cells[1]}:
                continue
            tables = as_tables(*cells, kind)
            with self.subTest(seed=seed):
                swept = measure(*tables, draws=0).sweep("label", intervals=False)
                self.same(tables, kind, swept, draws=0)
                checked += len(swept.table)
        self.assertGreater(checked, 200)

    def test_intervals_of_presence(self):
        """False-alarm rates of labels and kinds, with doubtful labels left out, agree."""
        checked = 0
        for seed in range(1, 140, 2):
            cells = random_case(seed, "label")
            if not {f["image"] for f in cells[0]} & {a["image"] for a in cells[1]}:
                continue
            tables = as_tables(*cells, "label")
            with self.subTest(seed=seed):
                for each in ("label", "kind"):
                    swept = measure(*tables, draws=0).sweep(each)
                    self.same(tables, "label", swept, draws=1)
                    checked += int(swept.table.false_alarm_rate_low.notna().sum())
        self.assertGreater(checked, 20)

    def test_images_stopped(self):
        """Any finding stops its image: also one of a label that nobody annotates."""
        found = findings_of([("a", "unsafe", "smoke", 0.9, None), ("b", "unsafe", "fog", 0.8, None),
                             ("c", "unsafe", "smoke", 0.7, None), ("d", "unsafe", "", None, None)])  # fmt: skip
        true = annotations_of(
            [(i, "unsafe", "smoke" if i == "a" else "", None, False) for i in "abcd"]
        )
        table = measure(found, true, draws=0).sweep().table
        self.assertEqual(list(table.threshold), [0.9, 0.7])
        self.assertEqual(list(table.stopped_share), [0.25, 0.75])
        self.assertEqual(list(table.false_alarms_per_100_images), [0.0, 25.0])

    def test_floor_and_what_is_shown(self):
        """It stops at the floor and says so; at most 25 rows are shown, with the best F1."""
        true, found = simulation.confident_set(np.random.default_rng(1), 60)
        swept = measure(found, true, draws=0, floor=0.3).sweep()
        self.assertGreaterEqual(swept.table.threshold.min(), 0.3)
        self.assertIn("below 0.3, the service's floor", swept.stopped_at["object"])
        shown = swept.shown()
        self.assertLessEqual(len(shown), 25)
        self.assertEqual(shown.f1.max(), swept.table.f1.max())
        self.assertEqual(shown.threshold.iloc[0], swept.table.threshold.iloc[0])
        self.assertEqual(shown.threshold.iloc[-1], swept.table.threshold.iloc[-1])
        unknown = measure(found, true, draws=0).sweep().stopped_at["object"]
        self.assertIn("floor is not known", unknown)

    def test_empty_and_refused(self):
        """Nothing found gives no row, and a pairing for one threshold no sweep."""
        true, found = simulation.confident_set(np.random.default_rng(2), 5)
        nothing = measure(found.take(found.blank), true, draws=0).sweep()
        self.assertEqual((len(nothing.table), nothing.shown().empty), (0, True))
        with self.assertRaisesRegex(ArgumentError, "holds for one threshold"):
            measure(found, true, draws=0, pairing="total-overlap").sweep()
        with self.assertRaisesRegex(ArgumentError, "each"):
            measure(found, true, draws=0).sweep("image")

    def test_threshold_below_the_floor(self):
        """A threshold where nothing is known is refused; 0 cuts nothing."""
        true, found = simulation.confident_set(np.random.default_rng(3), 5)
        with self.assertRaisesRegex(ArgumentError, "below the service's floor"):
            measure(found, true, draws=0, floor=0.3, threshold=0.2)
        measure(found, true, draws=0, floor=0.3, threshold=0)
        with self.assertRaisesRegex(ArgumentError, "0.4 to 1"):
            _with_floor(found).cut({"object": 0.3})


def _with_floor(found):
    from dataclasses import replace

    return replace(found, origin=Origin(floor=0.4))
