"""Files of findings and annotations: there and back, and what bad ones say."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from dotledger import Findings, measure, read_annotations, read_findings, write_table
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.csv_columns import guard, unguard
from dotledger.formats.tables.origin_files import origin_file
from dotledger.safe_files import whole_file
from tests.core.measurement.test_measure import annotations_of, findings_of

ODD = [
    "lantern",
    "=1+1",
    "'=x",
    "<script>",
    "a,b",
    'quo"te',
    "../../x",
    "two\nlines",
    "x" * 10_000,
    "ß雪",
]


class InFolder(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def written(self, text, name="t.csv"):
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return path


class Origins(InFolder):
    """What was cut stays with the file, and a measure of it says so."""

    def setUp(self):
        super().setUp()
        rows = [("a", "object", "lantern", c, (0, 0, 2, 2)) for c in (0.9, 0.4, 0.2)]
        table = replace(
            findings_of([*rows, ("b", "face", "face", 0.3, (0, 0, 2, 2))]),
            origin=Origin(service="flint", floor=0.1, words={"likely": 0.35}),
        )
        self.truth = annotations_of([("a", "object", "lantern", (0, 0, 2, 2), False)])
        self.path = write_table(table.cut({"object": "likely", "face": 0.5}), self.folder / "f.csv")

    def test_what_was_cut_travels_beside_the_file(self):
        """Service, floor, words, threshold and counts come back, and the table stays plain CSV."""
        back = read_findings(self.path)
        self.assertEqual(
            (back.origin.service, back.origin.floor, back.origin.words["likely"]),
            ("flint", 0.1, 0.35),
        )
        self.assertEqual(
            back.origin.cut, (({"object": 0.35, "face": 0.5}, {"object": 1, "face": 1}),)
        )
        self.assertEqual(len(self.path.read_text().splitlines()), 1 + 2 + 1)  # b keeps a blank row
        notes = measure(back, self.truth, threshold="likely", draws=0).notes
        self.assertTrue(any("object 0.35" in n and "2 removed" in n for n in notes), notes)
        with self.assertRaisesRegex(ArgumentError, "below the service's floor"):
            measure(back, self.truth, threshold=0.05, draws=0)

    def test_a_changed_file_and_a_stale_origin(self):
        """An edited file is named so; a table without origin removes the one of its forerunner."""
        with self.path.open("a") as file:
            file.write("c,object,lantern,0.8,0,0,1,1\n")
        notes = measure(read_findings(self.path), self.truth, draws=0).notes
        self.assertTrue(any("changed after" in n for n in notes), notes)
        write_table(findings_of([("a", "label", "x", 0.5, None)]), self.path)
        self.assertIsNone(read_findings(self.path).origin)

    def test_a_file_of_that_name_is_never_lost(self):
        """Something else under the origin's name is kept, and the findings are not written."""
        origin_file(self.folder / "g.csv").write_text("my notes")
        with self.assertRaises(ArgumentError):
            write_table(findings_of([]), self.folder / "g.csv")
        self.assertFalse((self.folder / "g.csv").exists())
        origin_file(self.folder / "h.csv").write_text('{"origin": 3, "sha256": ""}')
        self.written("image,kind,label\n", "h.csv")
        with self.assertRaisesRegex(TableError, "h.csv.origin.json"):
            read_findings(self.folder / "h.csv")


class Numbers(InFolder):
    def test_the_last_bits_are_written(self):
        """0.1 + 0.2 is not 0.3, and comes back bit for bit, as a third does; 0.5 is as short as it can be."""
        rows = [("a", "label", "x", c, None) for c in (0.1 + 0.2, 1 / 3, 0.5)]
        path = write_table(findings_of(rows), self.folder / "n.csv")
        self.assertIn("x,0.30000000000000004,", path.read_text())
        self.assertIn("x,0.5,", path.read_text())
        self.assertEqual(read_findings(path).confidence.tolist(), [0.1 + 0.2, 1 / 3, 0.5])

    def test_strongest_of_each_image(self):
        """Asserted findings first, equal ones by row; an image that loses all stays answered."""
        rows = [
            ("a", "label", "x", 0.2, None),
            ("a", "label", "y", 0.9, None),
            ("b", "label", "z", None, None),
            ("a", "face", "f", 0.9, None),
            ("b", "label", "w", 1.0, None),
        ]
        kept = findings_of(rows).strongest(1)
        self.assertEqual(
            [*zip(kept.image.values(), kept.label.values())], [("a", "y"), ("b", "z"), ("a", "")]
        )
        self.assertIn("1 strongest", kept.origin.lines()[0])
        self.assertEqual(
            findings_of(rows).by_confidence().label.values().tolist(), ["z", "w", "y", "f", "x"]
        )


class RoundTrip(InFolder):
    def test_every_format(self):
        """Odd labels, missing boxes and details come back as they went."""
        n = len(ODD)
        table = Findings.from_columns(
            image=[f"i{k}.jpg" for k in range(n)],
            kind=["object"] * n,
            label=ODD,
            confidence=[None, *np.linspace(0, 1, n - 1)],
            x0=[None, *[0.1] * (n - 1)],
            y0=[None, *[0.2] * (n - 1)],
            x1=[None, *[1 / 3 + 1] * (n - 1)],
            y1=[None, *[4] * (n - 1)],
            details=[
                Details(attributes={"age": 3}, points={"eye": (1.0, 2.0)}, parents=("p",)),
                *[None] * (n - 1),
            ],
        )
        for suffix in (".csv", ".jsonl", ".parquet"):
            back = read_findings(write_table(table, self.folder / f"t{suffix}"))
            self.assertEqual(back.label.values().tolist(), ODD, suffix)
            np.testing.assert_array_equal(back.box, table.box)
            np.testing.assert_array_equal(back.confidence, table.confidence)
            if suffix != ".csv":
                self.assertEqual(back.details[0], table.details[0])
        back = read_findings(write_table(table, self.folder / "d.csv", details=True))
        self.assertEqual(back.details[0], table.details[0])
        self.assertEqual(back, table)

    def test_annotations(self):
        """Ignore flags and blank rows survive every format."""
        table = annotations_of(
            [("a", "object", "x", (0, 0, 1, 1), True), ("b", "face", "", None, False)]
        )
        for suffix in (".csv", ".jsonl", ".parquet"):
            back = read_annotations(write_table(table, self.folder / f"t{suffix}"))
            self.assertEqual(back.ignore.tolist(), [True, False])
            self.assertEqual(back.blank.tolist(), [False, True])

    def test_empty(self):
        """A file with a header only is an empty table."""
        for suffix in (".csv", ".parquet", ".jsonl"):
            self.assertEqual(
                len(read_findings(write_table(Findings.empty(), self.folder / f"t{suffix}"))), 0
            )

    def test_guard(self):
        """Only what a spreadsheet would take for a formula is guarded."""
        for text in ODD:
            self.assertEqual(unguard(guard(text)), text)
        self.assertEqual(guard("=1"), "'=1")


class BadFiles(InFolder):
    HEADER = "image,kind,label,confidence,x0,y0,x1,y1\n"

    def refused(self, text, sign, name="t.csv"):
        with self.assertRaisesRegex(TableError, sign):
            read_findings(self.written(text, name))

    def test_messages_name_the_line(self):
        """Each broken row is named by file, line and column."""
        good = "a,object,x,0.5,0,0,1,1\n"
        self.refused(self.HEADER + good + "a,object,x,0.5,0,0,1\n", "line 3: the row has 7 cells")
        self.refused(self.HEADER + good + "a,object,x,nan,0,0,1,1\n", "line 3, column confidence")
        self.refused(self.HEADER + good * 2 + "a,object,x,high,0,0,1,1\n", "line 4.*'high'")
        self.refused(self.HEADER + good + "a,object,x,87,0,0,1,1\n", "line 3.*0 to 1")
        self.refused(self.HEADER + good + "a,thing,x,,0,0,1,1\n", "unknown kind.*label, object")
        self.refused(self.HEADER + good + "a,object,x,0.5,9,0,1,1\n", "x0 < x1")
        self.refused(self.HEADER + good + ",object,x,0.5,0,0,1,1\n", "line 3.*needs a name")
        self.refused(
            self.HEADER + '"two\nlines",object,x,0.5,0,0,1,1\n' + "a,object,x,inf,0,0,1,1\n",
            "line 4",
        )

    def test_all_bad_rows_are_named(self):
        """Rows that break the same rule are named together, the first twenty of them."""
        good = "a,object,x,0.5,0,0,1,1\n"
        for bad in (
            "a,object,x,1.5,0,0,1,1\n",
            "a,object,x,high,0,0,1,1\n",
            "a,object,x,,0,,1,1\n",
        ):
            self.refused(
                self.HEADER + bad + good + bad * 2,
                r"line 2, .*\(3 such rows: line 2, line 4, line 5\)",
            )
            self.refused(self.HEADER + bad * 25, r"25 such rows: line 2, .*line 21, \.\.\.\)")
        self.refused(self.HEADER + good + "a,object,x,1.5,0,0,1,1\n", "out of range; got 1.5")

    def test_semicolons_and_tabs(self):
        """Tables as spreadsheets write them are read; decimal commas are refused, not guessed."""
        plain = self.HEADER + '"a,b",object,x,0.5,0,0,1,1\n'
        expected = read_findings(self.written(plain)).frame()
        self.assertEqual(expected.image.tolist(), ["a,b"])
        for sign in (";", "\t"):
            text = self.HEADER.replace(",", sign) + sign.join(
                ["a,b", "object", "x", "0.5", *"0011"]
            )
            for start in ("", "\ufeff"):
                got = read_findings(self.written(start + text)).frame()
                self.assertTrue(expected.equals(got), sign)
            self.refused(text.replace("0.5", "0,5"), "got '0,5'.*with a decimal point")
        self.refused("image;kind;lable\na;object;x\n", "'lable'.*label")

    def test_files_that_are_no_tables(self):
        """Wrong encoding, truncated quotes, missing columns, endings and files are told apart."""
        self.refused(b"image,kind,label\n\xff\xfe,object,x\n", "not UTF-8")
        self.refused(self.HEADER + '"broken', "breaks off")
        self.refused("image,label\n", "no column 'kind'")
        self.refused("", "t.txt.*allowed: .csv", "t.txt")
        self.refused('{"image": 1}\n', "must be text", "t.jsonl")
        self.refused('{"image": "a"\n', "line 1.*not JSON", "t.jsonl")
        self.refused(b"PAR1", "Parquet", "t.parquet")
        with self.assertRaisesRegex(TableError, "cannot be read"):
            read_findings(self.folder / "none.csv")

    def test_flags(self):
        """The ignore column takes yes and no in the usual spellings, and nothing else."""
        header = "image,kind,label,x0,y0,x1,y1,ignore\n"
        words = ("TRUE", "0", "yes", "")
        rows = "".join(f"a,object,x,0,0,1,{i + 1},{word}\n" for i, word in enumerate(words))
        self.assertEqual(
            read_annotations(self.written(header + rows)).ignore.tolist(),
            [True, False, True, False],
        )
        with self.assertRaisesRegex(TableError, "line 2, column ignore.*'maybe'"):
            read_annotations(self.written(header + "a,object,x,0,0,1,1,maybe\n"))

    def test_repeats(self):
        """A row of annotations that occurs twice is refused with both lines."""
        header = "image,kind,label,x0,y0,x1,y1,ignore\n"
        rows = "a,object,x,0,0,1,1,\nb,object,x,0,0,1,1,\na,object,x,0,0,1,1,\n"
        with self.assertRaisesRegex(TableError, "line 4.*the first is .*line 2"):
            read_annotations(self.written(header + rows))

    def test_one_bad_row_of_many(self):
        """The last of 100,000 rows is named by its line; nothing is read as if it were not there."""
        rows = "image,kind,label,confidence,x0,y0,x1,y1\n" + "a,object,x,0.5,0,0,1,1\n" * 99_999
        with self.assertRaisesRegex(TableError, "line 100001, column confidence.*1.5"):
            read_findings(self.written(rows + "a,object,x,1.5,0,0,1,1\n"))


class WholeFile(InFolder):
    def test_nothing_half_written(self):
        """If writing fails, the old file stays and no draft is left."""
        path = self.written("old")
        with self.assertRaises(RuntimeError), whole_file(path) as draft:
            draft.write_text("half")
            raise RuntimeError
        self.assertEqual([p.read_text() for p in self.folder.iterdir()], ["old"])
