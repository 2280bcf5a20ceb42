"""Image names: each rule, and that nothing is guessed."""

import unittest

from dotledger import match_images
from dotledger.core.tables.image_name_matching import match_names
from dotledger.errors import ArgumentError
from tests.core.measurement.test_measure import findings_of


class Rules(unittest.TestCase):
    def test_each_rule(self):
        """Percent-encoding and slashes, letter case, folders, endings: each says what it did."""
        said = ["a.jpg", "b%20c.jpg", r"x\d.jpg", "E.JPG", "photos/f.jpg", "g.png"]
        covered = ["a.jpg", "b c.jpg", "x/d.jpg", "e.jpg", "f.jpg", "g.jpg"]
        found = match_names(said, covered)
        self.assertEqual(found.names, dict(zip(said, covered)))
        wanted = {"exact": 1, "spelling": 2, "case": 1, "folders": 1, "ending": 1}
        self.assertEqual(found.by_rule, wanted)
        self.assertIn("'photos/f.jpg' is 'f.jpg'", " ".join(found.lines()))
        self.assertEqual(match_names(said, covered, ["exact"]).names, {"a.jpg": "a.jpg"})

    def test_ambiguous_names_are_refused(self):
        """Two images of one name in different folders, or two candidates: neither is taken."""
        found = match_names(["f.jpg"], ["one/f.jpg", "two/f.jpg"])
        self.assertEqual((found.names, found.ambiguous), ({}, ("f.jpg",)))
        found = match_names(["A.jpg", "a.JPG"], ["a.jpg"])
        self.assertEqual((found.names, found.ambiguous), ({}, ("A.jpg", "a.JPG")))
        self.assertIn("refused", found.lines()[0])

    def test_other_folders_are_other_images(self):
        """Names that differ in a folder are not the same, however alike the file."""
        self.assertEqual(match_names(["one/f.jpg"], ["two/f.jpg"]).names, {})
        self.assertEqual(
            match_names(["x/one/f.jpg"], ["one/f.jpg"]).names, {"x/one/f.jpg": "one/f.jpg"}
        )

    def test_findings_are_renamed(self):
        """Findings take the annotations' names; unknown rules are refused."""
        table = findings_of(
            [("P/A.JPG", "object", "x", 0.5, (0, 0, 1, 1)), ("z", "object", "", None, None)]
        )
        renamed, found = match_images(table, ["p/a.jpg"])
        self.assertEqual(renamed.image.values().tolist(), ["p/a.jpg", "z"])
        self.assertEqual(found.by_rule, {"case": 1})
        with self.assertRaisesRegex(ArgumentError, "exact, spelling"):
            match_images(table, [], ["alike"])
