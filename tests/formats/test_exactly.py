"""Files at their limits: own columns that are not there, intervals in tables, concepts without a name."""

import tempfile
import unittest
from pathlib import Path

import pandas as pd

from dotledger import Findings, measure, read_annotations, read_findings
from dotledger.errors import DescriptionError, TableError
from dotledger.formats.label_name_files import read_names
from dotledger.formats.tables.geometry_columns import Shape
from dotledger.formats.tables.partitioned_files import write_in_parts
from dotledger.services.service_description import read_description
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.sending.helpers import TEXT

SKOS = """@prefix skos: <http://www.w3.org/2004/02/skos/core#> .
<urn:a> skos:prefLabel "lantern" ; skos:broader <urn:nameless>, <urn:b> .
<urn:nameless> skos:broader <urn:b> .
<urn:b> skos:prefLabel "light" .
"""


class Files(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def file(self, name, text):
        path = self.home / name
        path.write_text(text)
        return path

    def test_concepts_without_a_name(self):
        """A concept that has no preferred label is above nothing and below nothing."""
        names = read_names(self.file("n.ttl", SKOS))
        self.assertEqual(names.broader, {"lantern": ("light",)})

    def test_units_of_a_foreign_table(self):
        """The full side of an image, in every unit that a table may count in."""
        for unit, full in (("fraction", 1), ("percent", 100), ("thousandths", 1000)):
            path = self.file(
                "t.csv", f"image,kind,label,x0,y0,x1,y1\na.jpg,object,x,0,0,{full},{full / 2}\n"
            )
            shape = Shape(unit=unit)
            found = read_findings(
                path, columns=shape, images={"a.jpg": {"width": 200, "height": 100}}
            )
            self.assertEqual(found.box.tolist(), [[0, 0, 200, 50]], unit)

    def test_names_that_are_not_there(self):
        """The system's own reason, or that it is no text."""
        with self.assertRaisesRegex(TableError, "gone.csv: the file cannot be read .No such file"):
            read_names(self.home / "gone.csv")
        (self.home / "odd.csv").write_bytes(b"label,becomes\n\xff,x\n")
        with self.assertRaisesRegex(TableError, "not text in UTF-8"):
            read_names(self.home / "odd.csv")

    def test_own_columns(self):
        """Columns of one's own stay with annotations from Parquet; findings have none, nor what has none."""
        frame = pd.DataFrame({"image": ["a"], "kind": ["label"], "label": ["x"]})
        for more, kept in (({}, None), ({"weather": ["rain"]}, "rain")):
            frame.assign(**more).to_parquet(self.home / "t.parquet")
            true = read_annotations(self.home / "t.parquet")
            own = None if true.details is None else true.details[0].attributes["weather"]
            self.assertEqual(own, kept)
            frame.assign(confidence=0.5, **more).to_parquet(self.home / "f.parquet")
            found = read_findings(self.home / "f.parquet")
            self.assertIsNone(found.details)

    def test_a_description_as_large_as_is_taken(self):
        """Four megabytes of comments are read; one byte more is too much."""
        fill = (4 << 20) - len(TEXT.encode())
        self.assertEqual(read_description(self.file("d.toml", TEXT + "#" * fill)).service, "bell")
        with self.assertRaisesRegex(DescriptionError, "4,194,304|4 MB|large"):
            read_description(self.file("e.toml", TEXT + "#" * (fill + 1)))

    def test_the_line_of_the_third_section(self):
        """A mistake in the third [[read]] is named there, and not in the first."""
        text = TEXT + '[[read]]\nkind = "label"\neach = "more[]"\nlabl = "x"\n'
        line = text[: text.index("labl")].count("\n") + 1
        with self.assertRaisesRegex(DescriptionError, f"line {line}, read.2.*labl"):
            read_description(self.file("d.toml", text))


class InParts(unittest.TestCase):
    def test_one_file(self):
        """Parts of one table become its file; what was cut from each adds up, and none is invented."""
        rows = [("a", "object", "x", 0.9, (0, 0, 9, 9)), ("a", "label", "y", 0.2, None)]
        more = [("b", "object", "x", 0.1, (0, 0, 9, 9)), ("b", "label", "y", 0.3, None)]
        with tempfile.TemporaryDirectory() as home:
            path = Path(home) / "f.parquet"
            parts = [findings_of(rows), findings_of(more)]
            self.assertEqual(write_in_parts(parts, path, details=False), 4)
            self.assertEqual(read_findings(path), Findings.concat(parts))
            cut = [one.cut(0.5) for one in parts]
            write_in_parts(cut, path, details=False)
            self.assertEqual(read_findings(path).origin.cut, ((0.5, {"object": 1, "label": 2}),))
            apart = [findings_of(some).cut(0.5) for some in (more[:1], rows[1:], more[:1])]
            write_in_parts(apart, path, details=False)
            self.assertEqual(read_findings(path).origin.cut, ((0.5, {"object": 2, "label": 1}),))
            mixed = [cut[0], findings_of(more), cut[1]]
            write_in_parts(mixed, path, details=True)
            self.assertEqual(read_findings(path).origin.cut, ((0.5, {"object": 1, "label": 2}),))


class Imports(unittest.TestCase):
    def test_sizes_that_are_none(self):
        """A width of nothing, or less, is not known; the annotation stays."""
        from dotledger.formats.annotations.import_descriptions import _size
        from dotledger.reading.answer_paths import Level, compile_path

        for value, wanted in ((0, None), (-3, None), ("", None), (1, 1), ("640", 640)):
            level = Level({"w": value}, "", 0, None)
            self.assertEqual(_size(compile_path("w"), level), wanted)
        self.assertIsNone(_size(None, Level({}, "", 0, None)))

    def test_yes_and_no(self):
        """What is not there, or nothing, is no; words and numbers say what they say."""
        from dotledger.formats.annotations.import_descriptions import _truth
        from dotledger.reading.answer_paths import Level, compile_path

        for record, wanted in (({}, False), ({"w": None}, False), ({"w": "No "}, False), ({"w": 0}, False), ({"w": "1"}, True), ({"w": 2}, True)):  # fmt: skip
            self.assertIs(_truth(compile_path("w"), Level(record, "", 0, None)), wanted, record)


class Tables(unittest.TestCase):
    def test_intervals_have_columns(self):
        """The table of results has the ends of each interval, with numbers in them."""
        from dotledger.formats.tables.result_files import write_everything

        found = findings_of(
            [(f"i{n}", "object", "x", 0.9, (0, 0, 9, 9 + n % 2 * 20)) for n in range(9)]
        )
        true = annotations_of([(f"i{n}", "object", "x", (0, 0, 9, 9), False) for n in range(9)])
        with tempfile.TemporaryDirectory() as home:
            write_everything(measure(found, true, draws=100), home)
            table = pd.read_csv(Path(home) / "pooled.csv")
        row = table[table["kind"] == "object"].iloc[0]
        self.assertTrue(0 < row["precision_low"] < row["precision"] < row["precision_high"] < 1)
