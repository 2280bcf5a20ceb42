"""What is chosen, in numbers: the chance of meeting an aim, parts in turn, the interval of what is aimed at."""

import math
import unittest

import numpy as np

from tests.core.thresholds.test_choose_thresholds import ThreeWays, chosen, worked


class Chances(unittest.TestCase):
    def test_of_meeting_the_aim(self):
        """An aim that is met in every draw has chance 1, a limit in between less, none without a limit."""
        tables = worked()
        easy = chosen(tables, "recall >= 0.01", draws=200).groups["object"]
        hard = chosen(tables, "precision >= 0.8", draws=200).groups["object"]
        best = chosen(tables, "best f1", draws=200).groups["object"]
        self.assertEqual(easy.chance, 1.0)
        self.assertTrue(0 < hard.chance <= 1)
        self.assertTrue(math.isnan(best.chance))

    def test_the_interval_of_what_is_aimed_at(self):
        """That of f1 is the one of f1; of F with beta 2 another, which holds what is measured."""
        tables = worked()
        one = chosen(tables, "best f1", draws=200).groups["object"].outcome
        self.assertEqual(one.intervals["aimed"], one.intervals["f1"])
        two = chosen(tables, "best f2", draws=200).groups["object"].outcome
        self.assertNotEqual(two.intervals["aimed"], two.intervals["f1"])
        self.assertTrue(two.intervals["aimed"][0] <= two.aimed <= two.intervals["aimed"][1])


class Parts(ThreeWays):
    def test_honest_thresholds_come_from_the_other_parts(self):
        """Where one part is all unsafe and sure, the thresholds of the others do not know it."""
        tables, *_ = self.unsafe_set(np.random.default_rng(5), 80)
        aim = "at most 5% of unsafe images pass, at most 5% of safe images are stopped"
        got = [chosen(tables, aim, parts=parts) for parts in (2, 4)]
        for one in got:
            self.assertLessEqual(one.optimistic.unsafe_passed_share, 0.05)
            self.assertLess(one.outcome.unsafe_passed_share, 0.2)
            self.assertLess(one.outcome.safe_stopped_share, 0.2)

    test_against_every_pair = test_counts_and_intervals = None
