"""Exchanges of two runs' answers: by hand, against plain loops, and against measuring anew."""

import itertools
import random
import unittest

import numpy as np

from dotledger import compare, measure
from dotledger.core.comparison.exchange_test import adjusted, exchanges, has_all
from tests import reference
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX = (0, 0, 10, 10)
MEASURES = ("recall", "precision", "f1", "average_precision", "mean_overlap")


class Adjusted(unittest.TestCase):
    def test_by_hand(self):
        """One row: two of eight exchanges of three images are as large. Two rows: the larger of both counts."""
        made = next(exchanges(3, 0, 8))
        self.assertEqual(
            sorted(map(tuple, made.T.astype(int))), sorted(itertools.product((0, 1), repeat=3))
        )
        moved = 1 - 2 * made.mean(axis=0)
        got = adjusted(
            np.array([1.0, np.nan, 0.0]), np.array([moved, moved, 0 * moved]), all_made=True
        )
        np.testing.assert_allclose(got, [2 / 8, np.nan, np.nan])
        # Of four random exchanges one is as large; the one observed is counted with them.
        got = adjusted(np.array([3.0]), np.array([[1.0, -3.0, 2.0, -1.0]]), all_made=False)
        np.testing.assert_allclose(got, [2 / 5])

    def test_against_loops(self):
        """Many rows, ties among them: as plain loops give them."""
        rng = np.random.default_rng(5)
        for _ in range(40):
            made = next(exchanges(6, 0, 64))
            one, other = rng.integers(0, 3, (5, 6)), rng.integers(0, 3, (5, 6))
            moved = (other - one) @ (1 - 2 * made)
            seen = (other - one).sum(axis=1).astype(float)
            got = adjusted(seen, moved, all_made=True)
            wanted = reference.step_down(seen.tolist(), moved.T.tolist())
            np.testing.assert_allclose(got, [np.nan if p is None else p for p in wanted])

    def test_seeds_and_portions(self):
        """The same seed gives the same exchanges, however many are held at once."""
        whole = np.hstack(list(exchanges(30, 4, 2000)))
        parts = np.hstack(list(exchanges(30, 4, 7)))
        np.testing.assert_array_equal(whole, parts)
        self.assertEqual((whole.shape, set(np.unique(whole))), ((30, 2000), {0.0, 1.0}))
        self.assertTrue(0.48 < whole.mean() < 0.52)
        self.assertEqual((has_all(10), has_all(11), has_all(10**6)), (True, False, False))
        self.assertEqual(list(exchanges(0, 0, 5)), [])


class Runs(unittest.TestCase):
    def test_every_row_is_measured_anew(self):
        """Each exchange of five images, measured as if the runs were so: the p-values of all rows."""
        for seed in range(4):
            runs, true = self.made(seed)
            got = compare(*map(findings_of, runs), annotations=annotations_of(true), draws=20)
            frame = got.frame().set_index(["group", "measure"])["p_value"]
            rows, names = [], None
            for swap in itertools.product((0, 1), repeat=5):
                sides = [
                    [row for run, rows in enumerate(runs) for row in rows if (swap[int(row[0][1])] ^ run) == side]
                    for side in (0, 1)
                ]  # fmt: skip
                figures = [self.figures(side, true) for side in sides]
                names = names or [n for n in figures[0] if n in figures[1]]
                rows.append(
                    [
                        figures[1][n] - figures[0][n]
                        if n in figures[0] and n in figures[1]
                        else 0.0
                        for n in names
                    ]
                )
            wanted = reference.step_down(rows[0], rows)
            for name, p in zip(names, wanted, strict=True):
                if p is None:
                    self.assertTrue(np.isnan(frame[name]), (seed, name))
                else:
                    self.assertAlmostEqual(frame[name], p, places=9, msg=(seed, name))
            self.assertEqual(got.rows_together, sum(p is not None for p in wanted))

    def made(self, seed):
        rng = random.Random(seed)
        true, runs = [], ([], [])
        for n in range(5):
            for place in range(2):
                box = (20 * place, 0, 20 * place + 10, 10)
                kind, label = rng.choice([("object", "a"), ("object", "b"), ("face", "face")])
                true.append((f"i{n}", kind, label, box, False))
                for rows in runs:
                    right = rng.random() < 0.7
                    at = (
                        (box[0], 0, box[2], rng.choice((8, 10)))
                        if right
                        else (500 + 20 * place, 0, 510 + 20 * place, 10)
                    )
                    rows.append((f"i{n}", kind, label, rng.choice((0.3, 0.6, 0.9)), at))
        for kind, label in (("object", "a"), ("object", "b"), ("face", "face")):
            true.append(("i0", kind, label, (900, 0, 910, 10), False))
            for rows in runs:  # in every image of every kind something was found, so all is defined
                rows += [(f"i{n}", kind, label, 0.5, (700, 0, 710, 10)) for n in range(5)]
        for kind in ("object", "face"):
            true += [(f"i{n}", kind, "", None, False) for n in range(5)]
        return runs, true

    def figures(self, rows, true):
        result = measure(findings_of(rows), annotations_of(true), draws=0)
        groups = {"pooled": result.pooled}
        for kind, found in result.kinds.items():
            groups |= {kind: found.pooled, **{f"{kind}:{n}": row for n, row in found.rows.items()}}
        return {
            (group, name): value
            for group, row in groups.items()
            for name in MEASURES
            if not np.isnan(value := getattr(row, name))
        }
