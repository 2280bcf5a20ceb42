"""Aims: what their sentences mean, and what is said of others."""

import math
import unittest

from dotledger.core.thresholds.aims import AIMS, read_aim
from dotledger.errors import ArgumentError


class Reading(unittest.TestCase):
    def test_every_form(self):
        """Each form means one thing, however it is spaced and whatever its letters."""
        for text, wanted in (
            ("recall >= 0.9", ("at least", "recall", 0.9, 1)),
            ("  Recall>=90% ", ("at least", "recall", 0.9, 1)),
            ("precision \u2265 .8", ("at least", "precision", 0.8, 1)),
            ("f2 >= 0.5", ("at least", "f", 0.5, 2)),
            ("false-alarm rate <= 5%", ("at most", "false_alarm_rate", 0.05, 1)),
            ("at most 1 false alarm in 100 images", ("at most", "false_alarms_per_100_images", 1, 1)),
            ("At most 12.5% of the images are held.", ("at most", "stopped_share", 0.125, 1)),
            ("best f0.5", ("best", "f", math.nan, 0.5)),
        ):  # fmt: skip
            aim = read_aim(text)
            got = (aim.sort, aim.measure, aim.limit, aim.beta)
            self.assertEqual(str(got), str(tuple(map(_plain, wanted))), text)
        cost = read_aim("a miss costs 5, a false alarm costs 0.2")
        self.assertEqual((cost.sort, cost.miss_cost, cost.alarm_cost), ("cost", 5, 0.2))
        ways = read_aim("at most 1% of unsafe images pass, at most 5% of safe ones are stopped")
        self.assertEqual((ways.sort, ways.passed, ways.stopped), ("three ways", 0.01, 0.05))

    def test_examples_are_aims(self):
        """What a message proposes can be written as it is."""
        for text in AIMS:
            self.assertEqual(read_aim(text).text, text.casefold())

    def test_what_is_no_aim(self):
        """The message says what is wrong, and what is allowed."""
        for text, why in (
            ("recal >= 0.9", "is it 'recall' for 'recal'"),
            ("recall <= 0.9", "at least something"),
            ("recall > 0.9", "write >="),
            ("recall >= 1.2", "from 0 to 1"),
            ("recall >= 120%", "from 0 to 1"),
            ("best f0", "above 0"),
            ("recall >= 0.9 and precision >= 0.5", "one condition"),
            ("a miss costs 0, a false alarm costs 0", "nothing is aimed at"),
            ("at most 150% of images held", "from 0 to 1"),
            ("", "not an aim"),
            (0.9, "sentence"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(ArgumentError, why):
                read_aim(text)

    def test_holds(self):
        """A value on the limit meets it; an undefined one never does."""
        self.assertTrue(read_aim("recall >= 0.9").holds(0.9))
        self.assertFalse(read_aim("recall >= 0.9").holds(math.nan))
        self.assertTrue(read_aim("at most 5 false alarms in 100 images").holds(5.0))
        self.assertFalse(read_aim("at most 5 false alarms in 100 images").holds(5.1))


def _plain(value):
    return float(value) if isinstance(value, (int, float)) else value
