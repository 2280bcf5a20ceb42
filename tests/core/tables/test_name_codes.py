"""Names and codes."""

import unittest

from dotledger.core.spelling import natural_key, nearest
from dotledger.core.tables.name_codes import Coded
from dotledger.reading.confidence_scales import SCALES, linear, ordered_words


class Names(unittest.TestCase):
    def test_coded_gives_back_what_it_was_given(self):
        """Coding and spelling out is the identity; unknown names become -1."""
        column = Coded.of(["b", "a", "b"])
        self.assertEqual(column.values().tolist(), ["b", "a", "b"])
        self.assertEqual(column.onto(["a"]).tolist(), [-1, 0, -1])
        self.assertEqual(column.take([1]).used(), ["a"])
        self.assertEqual(Coded.of([]).onto(["a"]).tolist(), [])

    def test_which_names_are_used(self):
        """Rows with some names, and names that some row uses; a name of the table need not be."""
        column = Coded.of(["b", "a", "b", "c"]).take([0, 1, 2])
        self.assertEqual(column.among(["b", "z"]).tolist(), [True, False, True])
        self.assertEqual(column.present().tolist(), [True, True, False])
        self.assertEqual(column.uses(["z", "c", "a"]).tolist(), [False, False, True])
        self.assertEqual(column.uses(["b", "a", "c"]).tolist(), [True, True, False])
        nothing = Coded.of([])
        self.assertEqual((nothing.among(["a"]).size, nothing.uses(["a"]).tolist()), (0, [False]))
        self.assertEqual((column.uses([]).size, nothing.present().size), (0, 0))

    def test_natural_order(self):
        """Numbers in names sort by value."""
        names = ["walk-10", "walk-9", "Walk-1"]
        self.assertEqual(sorted(names, key=natural_key), ["Walk-1", "walk-9", "walk-10"])

    def test_nearest(self):
        """The nearest spelling is found regardless of letter case, or nothing."""
        self.assertEqual(nearest("LANTREN", ["banner", "lantern"]), ["lantern"])
        self.assertEqual(nearest("qqq", ["banner"]), [])


class Confidence(unittest.TestCase):
    def test_scales(self):
        """Each scale brings its middle to one half."""
        for scale, middle in (
            ("fraction", 0.5),
            ("percent", 50),
            ("thousandths", 500),
            ("log-odds", 0),
        ):
            self.assertEqual(SCALES[scale](middle), 0.5)
        self.assertEqual(linear(1, 5)(2), 0.25)
        self.assertAlmostEqual(SCALES["log-odds"](-1000), 0)

    def test_words_keep_their_order(self):
        """Ranks follow the order of declaration."""
        words = ordered_words([("low", 0.1), ("high", 0.9)])
        self.assertLess(words["low"].rank, words["high"].rank)
