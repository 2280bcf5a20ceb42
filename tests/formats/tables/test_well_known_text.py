"""Tables whose boxes are polygons, as well-known text."""

import tempfile
import unittest
from pathlib import Path

import pandas as pd

from dotledger import read_annotations, read_findings
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.well_known_text import outer_rings

SHAPE = "image=file,label=class,outline=geometry,always.kind=object"


class Outlines(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def written(self, name, rows, **more):
        frame = pd.DataFrame(rows, columns=["file", "class", "geometry", *more.pop("own", ())])
        path = self.home / name
        {"csv": frame.to_csv, "parquet": frame.to_parquet}[name.rpartition(".")[2]](
            path, index=False
        )
        return path

    def test_the_standard_s_own_examples(self):
        """Simple Features 1.2.1, 7.2.6: a polygon, one with a hole, several, an empty one."""
        texts = (
            "POLYGON ((10 10, 10 20, 20 20, 20 15, 10 10))",
            "POLYGON ((35 10, 45 45, 15 40, 10 20, 35 10), (20 30, 35 35, 30 20, 20 30))",
            "MULTIPOLYGON (((10 10, 10 20, 20 20, 20 15, 10 10)), ((60 60, 70 70, 80 60, 60 60)))",
            "POLYGON Z ((10 10 3, 10 20 3, 20 20 3, 20 15 4, 10 10 3))",
            "MultiPolygon Z EMPTY",
            "",
        )
        rings = outer_rings(texts, str)
        self.assertEqual([len(one) for one in rings], [1, 1, 2, 1, 0, 0])
        self.assertEqual(rings[0], rings[3])
        self.assertEqual(rings[0][0], ((10, 10), (10, 20), (20, 20), (20, 15)))
        self.assertEqual(rings[1][0][1], (45, 45))
        for wrong in (
            "POINT (1 2)",
            "POLYGON ((1 2, 3 4))",
            "POLYGON ((1 2, x 4, 5 6, 1 2))",
            7,
            "POLYGON",
            "POLYGON ((1 2, 3 4, 5 1, 1 2)",
            "POLYGON ((1 2, 3 4, 5 1, 1 2)))",
            "POLYGON ((1 2, 3 4, 5 1))",
        ):
            with self.assertRaisesRegex(TableError, "well-known text"):
                outer_rings([wrong], str)

    def test_annotations(self):
        """Boxes around outlines, which are kept; other columns are attributes; blank rows stay."""
        rows = [
            ("a.jpg", "kite", "POLYGON ((10 10, 10 20, 20 20, 20 15, 10 10))", "dusk"),
            (
                "a.jpg",
                "kite",
                "MULTIPOLYGON (((0 0, 0 5, 5 5, 0 0)), ((6 6, 9 9, 8 6, 6 6)))",
                "day",
            ),
            ("b.jpg", "", None, None),
        ]
        for name in ("t.csv", "t.parquet"):
            found = read_annotations(self.written(name, rows, own=["light"]), columns=SHAPE)
            frame = found.frame()
            boxes = frame[["x0", "y0", "x1", "y1"]].to_numpy().tolist()
            self.assertEqual(boxes[:2], [[10, 10, 20, 20], [0, 0, 9, 9]])
            self.assertEqual(len(found.details[0].polygon), 4)
            self.assertEqual(found.details[1].polygon, ())
            self.assertEqual(found.details[0].attributes, {"light": "dusk"})
            self.assertTrue(found.blank[2])

    def test_findings_in_shares_of_the_image(self):
        """The outline is brought to pixels as its box is."""
        path = self.written(
            "f.csv", [("a.jpg", "kite", "POLYGON ((0.1 0.2, 0.5 0.2, 0.5 0.6, 0.1 0.2))")]
        )
        shape = f"{SHAPE},unit=fraction"
        found = read_findings(path, columns=shape, images={"a.jpg": {"width": 200, "height": 100}})
        self.assertEqual(found.box.round(9).tolist(), [[20, 20, 100, 60]])
        points = [tuple(round(c, 9) for c in point) for point in found.details[0].polygon]
        self.assertEqual(points, [(20, 20), (100, 20), (100, 60)])

    def test_wrong_ones(self):
        """The cell, the column, and a shape that contradicts itself are named."""
        path = self.written("w.csv", [("a.jpg", "kite", "POLYGON ((1 2, 3 4))")])
        with self.assertRaisesRegex(TableError, "geometry.*not a polygon|not a polygon.*"):
            read_annotations(path, columns=SHAPE)
        with self.assertRaisesRegex(TableError, "no column 'shape'"):
            read_annotations(path, columns=SHAPE.replace("geometry", "shape"))
        with self.assertRaisesRegex(ArgumentError, "takes the place"):
            read_annotations(path, columns=f"{SHAPE},form=corner+size")
