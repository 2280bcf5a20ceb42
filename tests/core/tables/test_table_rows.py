"""Tables as rows: choosing, joining, comparing, showing, and other dataframe libraries."""

import json
import unittest

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa

from dotledger import Annotations, Findings, measure
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError, TableError
from tests.core.measurement.test_measure import annotations_of, findings_of

SAID = findings_of(
    [
        ("a", "object", "lantern", 0.9, (0, 0, 4, 4)),
        ("a", "object", "stool", 0.4, (5, 5, 9, 9)),
        ("b", "object", "stool", 0.3, (0, 0, 4, 4)),
        ("b", "face", "", None, None),
    ]
)
TRUE = annotations_of(
    [("a", "object", "lantern", (0, 0, 4, 4), False), ("b", "object", "stool", (0, 0, 4, 4), True)]
)


class Choosing(unittest.TestCase):
    def test_rows_masks_and_images(self):
        """A slice, a mask and places give rows; iteration gives each image's."""
        self.assertEqual(
            [len(SAID[:2]), len(SAID[[3, 0]]), len(SAID[SAID.confidence > 0.5])], [2, 2, 1]
        )
        self.assertEqual({name: len(part) for name, part in SAID}, {"a": 2, "b": 2})
        self.assertEqual([*Findings.empty()], [])
        with self.assertRaisesRegex(ArgumentError, "another length"):
            SAID[np.array([True])]

    def test_filtering_keeps_what_was_answered(self):
        """Image b has no lantern: it stays answered, through a frame and back too."""
        kept = SAID.filter(kind="object", label="lantern")
        self.assertEqual((kept.image.used(), kept.blank.tolist()), (["a", "b"], [False, True]))
        self.assertEqual(Findings.from_frame(kept.frame()).image.used(), ["a", "b"])
        self.assertEqual(SAID.filter(least=0.5, kind="object").blank.tolist(), [False, True])
        self.assertEqual(SAID.filter(image=["b"]).image.used(), ["b"])
        self.assertEqual(measure(kept, TRUE, kinds=["object"], draws=0).images_in_scope, 2)
        truth = TRUE.filter(label="lantern")
        self.assertEqual(
            (truth.covered("object"), truth.labels("object")), (["a", "b"], ("lantern",))
        )

    def test_joining_and_comparing(self):
        """Parts put together are the whole again; equal is what has the same rows."""
        self.assertEqual(Findings.concat([SAID[:2], SAID[2:]]), SAID)
        self.assertEqual(Annotations.concat([TRUE[:1], TRUE[1:]]), TRUE)
        self.assertNotEqual(SAID, SAID[:3])
        self.assertNotEqual(SAID, TRUE)
        self.assertEqual((len(Findings.concat([])), len(Annotations.concat([]))), (0, 0))

    def test_row_ids(self):
        """An id stays with its content in any order; a duplicate is numbered."""
        twice = Findings.concat([SAID, SAID[:1]])
        self.assertEqual(twice.row_ids()[4], f"{SAID.row_ids()[0]}-2")
        self.assertEqual(SAID[[2, 1, 0, 3]].row_ids()[2], SAID.row_ids()[0])


class OtherLibraries(unittest.TestCase):
    def test_polars_in_and_arrow_out(self):
        """A polars frame is measured as it is; polars and Arrow read our tables without a detour."""
        polars = pl.DataFrame(SAID)
        self.assertEqual(polars["label"].to_list(), ["lantern", "stool", "stool", ""])
        self.assertEqual(Findings.from_frame(polars), SAID)
        self.assertEqual(pa.table(TRUE).num_rows, 2)
        got = measure(polars, pl.DataFrame(TRUE), draws=0).pooled
        self.assertEqual((got.true_positives, got.misses), (1, 0))
        with self.assertRaisesRegex(TableError, "not a table"):
            Findings.from_frame([1, 2])

    def test_details_and_own_columns(self):
        """Details go through a frame as JSON, or as columns; own columns come back as attributes."""
        more = Details(attributes={"age": 3}, points={"eye": (1.0, 2.0)})
        rich = Findings(
            **{
                **{n: getattr(SAID, n) for n in ("image", "kind", "label", "confidence", "box")},
                "details": (more, None, None, None),
            }
        )
        frame = rich.frame(details="json")
        self.assertEqual(json.loads(frame.loc[0, "details"])["points"], {"eye": [1.0, 2.0]})
        self.assertEqual(Findings.from_frame(frame), rich)
        self.assertEqual(rich.frame(details="columns").loc[0, "eye_x"], 1.0)
        self.assertNotIn("details", rich.frame().columns)
        own = Annotations.from_frame(TRUE.frame().assign(lamp=["oil", None]))
        self.assertEqual(own.frame(details="columns").loc[0, "lamp"], "oil")
        self.assertEqual(Annotations.from_frame(own.frame(details="columns")), own)
        with self.assertRaisesRegex(TableError, "row 0.*JSON"):
            Findings.from_frame(
                pd.DataFrame({"image": ["a"], "kind": ["face"], "label": ["f"], "details": ["{"]})
            )

    def test_notebook(self):
        """The first ten rows as a table, names escaped, and how many more there are."""
        many = Findings.concat([findings_of([("<b>", "label", "x", 0.5, None)])] * 12)
        shown = many._repr_html_()
        self.assertIn("&lt;b&gt;", shown)
        self.assertIn("2 more rows", shown)
