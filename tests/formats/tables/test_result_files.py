"""A measure written as CSV files: whole, guarded, inside its folder."""

import csv
import tempfile
import unittest
from pathlib import Path

from dotledger import measure
from dotledger.core.tables.finding_details import Details
from dotledger.formats.tables.result_files import write_everything, write_frame
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.core.questions.test_questions import with_details

BOX = (0, 0, 10, 10)


class Everything(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        said = findings_of(
            [("a", "object", "=1+1", 0.9, BOX), ("b", "object", "x", 0.2, BOX), ("a", "unsafe", "smoke", 0.9, None), ("a", "text", "tea", 0.9, BOX)]
        )  # fmt: skip
        true = annotations_of(
            [("a", "object", "=1+1", BOX, False), ("b", "object", "=1+1", BOX, False), ("a", "unsafe", "smoke", None, False), ("a", "text", "tea", BOX, False)]
        )  # fmt: skip
        facts = {"a": {"../../up": "one"}}
        details = [Details(attributes={"lit": "yes"}), None, None, None]
        self.said = with_details(said, details)
        self.true = with_details(true, details).with_images(facts)

    def rows(self, name):
        with (self.folder / f"{name}.csv").open(newline="") as file:
            return list(csv.DictReader(file))

    def test_every_part_is_a_table(self):
        """Each part is a file; names are guarded text and never lead out of the folder."""
        result = measure(self.said, self.true, threshold=0.5)
        written = write_everything(result, self.folder)
        self.assertEqual({p.parent for p in written}, {self.folder})
        self.assertEqual({p.name for p in self.folder.iterdir()}, {p.name for p in written})
        self.assertEqual([r["label"] for r in self.rows("labels")], ["'=1+1", "smoke"])
        self.assertEqual([r["reason"] for r in self.rows("missed")], ["not seen"])
        self.assertEqual(self.rows("screening")[0]["caught"], "1")
        self.assertEqual(self.rows("text")[0]["exact"], "1")
        self.assertEqual(self.rows("details")[0]["name"], "lit")
        self.assertEqual(self.rows("by-______up")[0]["slice"], "one")
        self.assertEqual(len(self.rows("pooled")), 3)

    def test_undefined_is_empty(self):
        """What is undefined is an empty cell."""
        write_frame(measure(self.said, self.true).frame(), self.folder / "rows.csv")
        self.assertEqual(self.rows("rows")[1]["mean_overlap"], "")

    def test_no_curve_for_other_pairing(self):
        """Pairing by greatest total overlap holds for one threshold and has no curve."""
        result = measure(self.said, self.true, pairing="total-overlap")
        names = {p.name for p in write_everything(result, self.folder)}
        self.assertFalse([name for name in names if name.startswith("curve")])
