"""Candidate pairs are made a bounded number at a time, and none is lost between."""

import unittest
from unittest import mock

import numpy as np

from dotledger import measure
from dotledger.core.pairing import overlapping_pairs as edges
from tests.core.measurement.test_measure import annotations_of, findings_of


class Chunks(unittest.TestCase):
    def test_bounded(self):
        """No part has more pairs than allowed, but for a row that has more by itself; all rows come once."""
        rng = np.random.default_rng(3)
        for limit in (1, 7, 20, 1000):
            count = rng.integers(0, 12, 200)
            with mock.patch.object(edges, "_PAIRS_AT_ONCE", limit):
                parts = list(edges._chunks(count))
            self.assertEqual(np.concatenate(parts).tolist(), np.flatnonzero(count).tolist())
            for part, following in zip(parts, [*parts[1:], None]):
                self.assertTrue(count[part].sum() <= limit or len(part) == 1)
                if following is not None:  # it could not have held one more
                    self.assertGreater(count[part].sum() + count[following[0]], limit)

    def test_the_left_one_goes_first(self):
        """Of two findings that are as sure and overlap as much, the one further left is right, not the upper one."""
        true = annotations_of([("a", "object", "x", (5, 5, 15, 15), False)])
        rows = [("a", "object", "x", 0.9, box) for box in ((10, 0, 20, 10), (0, 10, 10, 20))]
        for order in (rows, rows[::-1]):
            [wrong] = measure(findings_of(order), true, overlap=0.1, draws=0).why().wrong
            self.assertEqual(wrong.box, (10, 0, 20, 10))
