"""Tables at their limits: points that are none among others, thresholds for other labels."""

import unittest

from dotledger.core.tables.details import Details
from dotledger.core.tables.thresholds import _check_some
from dotledger.errors import ArgumentError


class Parts(unittest.TestCase):
    def test_round_trip(self):
        """Outline, points, broader labels and the rest come back as they went."""
        one = Details({"a": 1}, {"nose": (1.0, 2.0)}, ((1.0, 2.0), (3.0, 4.0), (5.0, 7.0)), ("up",), 0.5, ("note",))  # fmt: skip
        back = Details.from_dict(one.to_dict())
        self.assertEqual(back.polygon, one.polygon)
        self.assertEqual(dict(back.points), dict(one.points))
        self.assertEqual((back.parents, back.own_confidence, back.notes), (one.parents, 0.5, ("note",)))  # fmt: skip


class ForOthers(unittest.TestCase):
    def test_some_label_must_be_there(self):
        """One of several is enough; none is a mistake; without labels nobody can tell."""
        _check_some({"object:a": 0.5, "object:z": 0.5}, ["a", "b"], "t")
        _check_some({"object": 0.5}, ["a"], "t")
        _check_some({"object:z": 0.5}, [], "t")
        with self.assertRaisesRegex(ArgumentError, "chosen for other labels; got 'y, z'"):
            _check_some({"object:y": 0.5, "object:z": 0.5}, ["a", "b"], "t")
