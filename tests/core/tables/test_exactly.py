"""Tables at their limits: points that are none among others, thresholds for other labels."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from dotledger import Findings, write_table
from dotledger.core.tables.cell_checks import refuse_rows
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.threshold_values import _check_some
from dotledger.errors import ArgumentError, TableError
from tests.core.measurement.test_measure import findings_of


class Parts(unittest.TestCase):
    def test_round_trip(self):
        """Outline, points, broader labels and the rest come back as they went."""
        one = Details(
            {"a": 1},
            {"nose": (1.0, 2.0)},
            ((1.0, 2.0), (3.0, 4.0), (5.0, 7.0)),
            ("up",),
            0.5,
            ("note",),
        )
        back = Details.from_dict(one.to_dict())
        self.assertEqual(back.polygon, one.polygon)
        self.assertEqual(dict(back.points), dict(one.points))
        self.assertEqual(
            (back.parents, back.own_confidence, back.notes), (one.parents, 0.5, ("note",))
        )


class ForOthers(unittest.TestCase):
    def test_some_label_must_be_there(self):
        """One of several is enough; none is a mistake; without labels nobody can tell."""
        _check_some({"object:a": 0.5, "object:z": 0.5}, ["a", "b"], "t")
        _check_some({"object": 0.5}, ["a"], "t")
        _check_some({"object:z": 0.5}, [], "t")
        with self.assertRaisesRegex(ArgumentError, "chosen for other labels; got 'y, z'"):
            _check_some({"object:y": 0.5, "object:z": 0.5}, ["a", "b"], "t")


class ManyRows(unittest.TestCase):
    def test_twenty_are_named(self):
        """Twenty bad rows are all named; of more it is said that they go on."""
        for count, more in ((20, False), (21, True)):
            with self.assertRaises(TableError) as caught:
                refuse_rows(range(count), "f", "kind", lambda row, _: f"row {row}", "bad")
            said = str(caught.exception)
            self.assertEqual(("row 19" in said, ", ..." in said), (True, more), said)


class Joined(unittest.TestCase):
    def test_details_of_some(self):
        """A table without details next to one with them: each row keeps its own."""
        plain = findings_of([("a", "label", "x", 0.5, None)] * 2)
        rich = replace(plain, details=(Details({"n": "größer"}), None))
        for parts, wanted in (([plain, rich], [None, None, "größer", None]), ([rich, plain], ["größer", None, None, None])):  # fmt: skip
            joined = Findings.concat(parts)
            self.assertEqual([one and one.attributes["n"] for one in joined.details], wanted)
        self.assertIsNone(Findings.concat([plain, plain]).details)

    def test_details_as_text(self):
        """As JSON in a cell, letters stay what they are."""
        rich = replace(
            findings_of([("a", "label", "x", 0.5, None)]), details=(Details({"n": "größer"}),)
        )
        with tempfile.TemporaryDirectory() as home:
            path = write_table(rich, Path(home) / "f.csv", details=True)
            self.assertIn("größer", path.read_text(encoding="utf-8"))
        self.assertIn("größer", rich.frame(details="json")["details"][0])
