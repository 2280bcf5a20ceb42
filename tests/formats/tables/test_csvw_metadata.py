"""Metadata next to a CSV file, as the W3C's vocabulary has it."""

import csv
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from dotledger import Annotations, Findings, read_findings, write_table
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.csvw_metadata import metadata_file, write_csv_metadata

FOUND = Findings.from_columns(
    image=["a.jpg", "b.jpg"], kind=["object", "object"], label=["drum", ""], confidence=[0.9, None],
    x0=[1, None], y0=[2, None], x1=[3, None], y1=[4.5, None],
)  # fmt: skip


class Metadata(unittest.TestCase):
    def setUp(self):
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "found.csv"

    def test_columns_and_source(self):
        """Every column of the header in order, each cell of the type that is said; floor and cut."""
        origin = Origin(service="flint", batch=3, floor=0.2, cut=((0.5, {"object": 4}),))
        table = replace(FOUND, origin=origin)
        write_table(table, self.path, details=True)
        beside = write_csv_metadata(table, self.path, created="2026-11-26")
        self.assertEqual(beside.name, "found.csv-metadata.json")
        said = json.loads(beside.read_text())
        self.assertEqual(said["@context"][0], "http://www.w3.org/ns/csvw")
        self.assertEqual(
            (said["url"], said["dc:title"]), ("found.csv", "findings of flint, batch 3")
        )
        self.assertEqual(said["dc:created"]["@value"], "2026-11-26")
        self.assertIn("4 removed", said["notes"][0])
        self.assertIn("0.2", said["notes"][1])
        text = self.path.read_text(encoding=said["dialect"]["encoding"])
        header, *rows = list(csv.reader(text.splitlines()))
        columns = said["tableSchema"]["columns"]
        self.assertEqual([one["titles"] for one in columns], header)
        reads = {"string": str, "number": float, "json": json.loads}
        for row in rows:
            for cell, one in zip(row, columns, strict=True):
                kind = one["datatype"]
                kind = kind if isinstance(kind, str) else kind["base"]
                self.assertTrue(cell or not one.get("required"))
                reads[kind](cell) if cell else None
        self.assertEqual(read_findings(self.path).origin.floor, 0.2)
        write_csv_metadata(table, self.path)  # ours is replaced

    def test_annotations(self):
        """Own columns are named too, without more being known of them."""
        truth = Annotations.from_frame(
            FOUND.frame().drop(columns="confidence").assign(light="dusk")
        )
        write_table(truth, self.path)
        said = json.loads(write_csv_metadata(truth, self.path).read_text())
        names = [one["name"] for one in said["tableSchema"]["columns"]]
        self.assertEqual(names[-2:], ["ignore", "light"])

    def test_refused(self):
        """Another format, and another file of that name."""
        with self.assertRaisesRegex(TableError, ".csv file"):
            write_csv_metadata(FOUND, self.path.with_suffix(".parquet"))
        write_table(FOUND, self.path)
        metadata_file(self.path).write_text("mine")
        with self.assertRaisesRegex(ArgumentError, "another file"):
            write_csv_metadata(FOUND, self.path)
        self.assertEqual(metadata_file(self.path).read_text(), "mine")
