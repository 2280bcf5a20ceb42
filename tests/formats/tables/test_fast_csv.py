"""Whole columns by Arrow: the same tables as the careful readers give, or left to them."""

import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pandas as pd

from dotledger import Annotations, Findings, read_annotations, read_findings, write_table
from dotledger.core.tables.finding_details import Details
from dotledger.errors import TableError
from dotledger.formats.tables import fast_csv as quick
from dotledger.formats.tables import findings_files as tables
from tests.core.measurement.test_measure import findings_of

NAMES = ("lantern", "größer", "a, b", 'say "so"', "=1+1", "'tick", " padded ", "two\nlines", "x" * 300, "\u05d0\u05d1")  # fmt: skip


def random_table(rng, rows=60):
    """Findings with odd names, empty cells, boxes and none, details here and there."""
    listed = []
    for number in range(rows):
        box = None if rng.random() < 0.3 else (rng.uniform(0, 9), 1, rng.uniform(10, 99), 50)
        kind = rng.choice(("label", "object", "face")) if box else "label"
        label = "" if rng.random() < 0.1 and not box else rng.choice(NAMES)
        sure = None if not label or rng.random() < 0.2 else rng.random()
        listed.append(
            (f"{rng.choice('abc')}/{number % 7}.jpg", kind, label, sure, box if label else None)
        )
    found = findings_of(listed)
    details = tuple(
        Details(attributes={"note": 'a "b", c'}) if n % 9 == 0 else None for n in range(rows)
    )
    return type(found)(**{**vars(found), "details": details})


class Same(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.object(quick, "_SMALL", 0))

    def both(self, path, read=read_findings):
        """The table by whole columns, that by careful reading, and whether the first was used."""
        used = quick.quick_columns(
            path, tables.FINDING_COLUMNS if read is read_findings else tables.ANNOTATION_COLUMNS, {}, keep_own=read is not read_findings
        )  # fmt: skip
        first = read(path)
        with mock.patch.object(tables, "quick_columns", return_value=None):
            second = read(path)
        return first, second, used is not None

    def test_every_format(self):
        """Odd names, empty cells, formulas, lines in cells, details: equal to the last bit."""
        rng = random.Random(5)
        for number in range(12):
            table = random_table(rng)
            for suffix, details in ((".csv", False), (".csv", True), (".jsonl", False), (".parquet", False)):  # fmt: skip
                path = write_table(table, self.home / f"{number}{details}{suffix}", details=details)
                first, second, used = self.both(path)
                self.assertEqual(first, second, path)
                self.assertEqual(first.image.names, second.image.names)
                self.assertEqual(used, suffix != ".jsonl", "details are objects in JSON Lines")

    def test_annotations(self):
        """Those without columns of their own go by columns, the others carefully; equal both."""
        for more, quickly in (("", True), (",weather", False)):
            path = self.home / "t.csv"
            rows = [
                f"i{n}.jpg,object,x,{n},1,{n + 5},9,{'true' if n % 3 else ''}{more and ',rain'}"
                for n in range(50)
            ]
            path.write_text("\n".join([f"image,kind,label,x0,y0,x1,y1,ignore{more}", *rows]))
            first, second, used = self.both(path, read_annotations)
            self.assertIsInstance(first, Annotations)
            self.assertEqual((first, used), (second, quickly))

    def test_plain_json_lines_and_frames(self):
        """Whole numbers, fields that lack, names from a dictionary column."""
        path = self.home / "f.jsonl"
        path.write_text(
            '{"image": "a", "kind": "object", "label": "x", "confidence": 1, "x0": 1, "y0": 1, "x1": 5, "y1": 5}\n{"image": "b", "kind": "label", "label": "y"}\n'
        )
        first, second, used = self.both(path)
        self.assertEqual((first, used), (second, True))
        frame = pd.DataFrame(
            {
                "image": pd.Categorical(["a", "b"]),
                "kind": "label",
                "label": ["x", "y"],
                "confidence": [1, 0],
            }
        )
        frame.to_parquet(self.home / "f.parquet")
        first, second, used = self.both(self.home / "f.parquet")
        self.assertEqual((first, used), (second, True))
        self.assertIsInstance(first, Findings)

    def test_what_is_wrong_is_named_as_ever(self):
        """Every mistake is named by its line and cell, and read whole or not at all."""
        good = "image,kind,label,confidence,x0,y0,x1,y1\n" + "a.jpg,object,x,0.5,1,1,5,5\n" * 3
        for bad, words in (
            ("a.jpg,object,x,0.5,1,1,5\n", "line 5.*7 cells"), ("a.jpg,object,x,much,1,1,5,5\n", "line 5, column confidence.*'much'"), ("a.jpg,object,x,nan,1,1,5,5\n", "not a finite number"),
            ("a.jpg,object,x,inf,1,1,5,5\n", "not a finite number"), ("a.jpg,object,x,0.5,9,1,5,5\n", "line 5"), ("a.jpg,object,x,1.5,1,1,5,5\n", "line 5, column confidence"),
            ("a.jpg,thing,x,0.5,1,1,5,5\n", "line 5, column kind"), (",object,x,0.5,1,1,5,5\n", "line 5, column image"), ('a.jpg,object,"x"y,0.5,1,1,5,5\n', "line 5"), ("a.jpg,object,x\udcff,0.5,1,1,5,5\n", "UTF-8"),
        ):  # fmt: skip
            path = self.home / "bad.csv"
            path.write_bytes((good + bad).encode("utf-8", "surrogateescape"))
            with self.subTest(bad), self.assertRaisesRegex(TableError, words):
                read_findings(path)

    def test_spaces_and_quotes(self):
        """Numbers with spaces, a quote inside a cell, a mark at the start, no line end: read as before."""
        head = "image,kind,label,confidence,x0,y0,x1,y1\n"
        for text in (head + "a.jpg,object,x, 0.5 ,1,1,5,5\n", head + 'a.jpg,object,5" nail,0.5,1,1,5,5\n', "\ufeff" + head + "a.jpg,label,x,0.5,,,,", head, head + '\n\na.jpg,label,"x",0.5,,,,\r\n',
                     head.replace(",", ";") + "a.jpg;label;x;0.5;;;;\n", '"image",kind,label\na,label,x\n'):  # fmt: skip
            path = self.home / "odd.csv"
            path.write_text(text, encoding="utf-8")
            first, second, _ = self.both(path)
            self.assertEqual(first, second, text)

    def test_without_arrow(self):
        """Without the package everything is read carefully."""
        path = write_table(random_table(random.Random(1)), self.home / "f.csv")
        with mock.patch.dict("sys.modules", {"pyarrow": None}):
            self.assertIsNone(quick.quick_columns(path, tables.FINDING_COLUMNS, {}, keep_own=False))
            self.assertEqual(len(read_findings(path)), 60)
