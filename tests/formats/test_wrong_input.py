"""Files and arguments that are wrong in ways nobody means: one error each, with place and reason."""

import csv
import json
import os
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd

from dotledger import measure
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError, DescriptionError, InputError, TableError
from dotledger.formats.annotations.annotation_files import load_annotations, write_annotations
from dotledger.formats.label_name_files import read_names
from dotledger.formats.tables.findings_files import read_findings, write_table
from dotledger.reading.answer_paths import Level, compile_path
from dotledger.services.service_description import parse_description
from tests.campaigns import strangers_files
from tests.sending.helpers import TEXT, description

HEAD = "image,kind,label,confidence,x0,y0,x1,y1"
ROW = "i,object,l,0.9,0,0,5,5"
LINE = '{"image":"i","kind":"object","label":"l","confidence":0.9,"x0":0,"y0":0,"x1":5,"y1":5,'
FRAME = {"image": ["i"], "kind": ["object"], "label": ["l"], "confidence": [0.9],
         "x0": [0.0], "y0": [0.0], "x1": [5.0], "y1": [5.0]}  # fmt: skip


class Files(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def file(self, name, content):
        path = self.home / name
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return path

    def test_details(self):
        """Details that are no JSON, or of another form, are named by line and column."""
        for cell in ("not json", "[1]", '{"attributes": 5}', '{"points": {"a": 7}}', "{" * 3000):
            with self.assertRaisesRegex(TableError, "line 2, column details"):
                quoted = cell.replace('"', '""')
                read_findings(self.file("d.csv", f'{HEAD},details\n{ROW},"{quoted}"\n'))
            with self.assertRaisesRegex(TableError, "line 1, column details"):
                read_findings(self.file("d.jsonl", f'{LINE}"details":{json.dumps(cell)}}}\n'))
        for parts in ({"points": {"a": [None, 1]}}, {"polygon": [[1, None]]}):
            path = self.file("d.jsonl", f'{LINE}"details":{json.dumps(parts)}}}\n')
            self.assertEqual(read_findings(path).details[0].points, {})

    def test_tables(self):
        """Depth, lists in cells, cells without end, repeated columns: an error, and soon."""
        deep = LINE + '"more":' + "[" * 400 + "]" * 400 + "}\n"
        self.assertEqual(len(read_findings(self.file("e.jsonl", deep))), 1)
        for name, content in (
            ("a.jsonl", LINE.replace("0.9", "[" * 1000 + "]" * 1000) + '"a":1}\n'),
            ("e.jsonl", deep.replace("[" * 400, "[" * 4000)),
            ("a.csv", f"{HEAD}\ni,object,{'x' * 11_000_000},0.9,0,0,5,5\n"),
            ("b.csv", f"{HEAD},label\n{ROW},m\n"),
        ):
            with self.assertRaisesRegex(TableError, "line [12]"):
                read_findings(self.file(name, content))
        listed = pd.DataFrame({**FRAME, "confidence": [[0.5, 0.6]]})
        listed.to_parquet(self.home / "l.parquet")
        with self.assertRaises(TableError):
            read_findings(self.home / "l.parquet")
        wide = ",".join(f"c{n}" for n in range(100_000))
        began = time.monotonic()
        path = self.file("w.csv", f"{HEAD},{wide}\n{ROW}{',1' * 100_000}\n")
        self.assertEqual(len(read_findings(path)), 1)
        self.assertLess(time.monotonic() - began, 10)

    def test_pipes(self):
        """No reader waits for a pipe."""
        for name in ("p.csv", "p.jsonl", "p.parquet", "p.jsonld", "p.toml"):
            os.mkfifo(self.home / name)
            with self.assertRaises(InputError):
                read = read_names if name.endswith("toml") else read_findings
                (load_annotations if name.endswith("ld") else read)(self.home / name)

    def test_toml_and_names(self):
        """Sections of another type, brackets and digits without end are errors with a place."""
        for text in ("names = 5", "services = {a = 5}", "[broader]\na = 5", "a = " + "[" * 3000):
            with self.assertRaisesRegex(TableError, "n.toml"):
                read_names(self.file("n.toml", text))
        for text in ("a = " + "[" * 3000, "a = " + "9" * 5000):
            with self.assertRaisesRegex(DescriptionError, "not TOML"):
                parse_description(text)
        with self.assertRaises(DescriptionError):
            parse_description(TEXT.replace("per_1000 = 10.0", "per_1000 = " + "9" * 400))
        with self.assertRaisesRegex(DescriptionError, "not text"):
            description().with_settings({"region": b"x"})

    def test_xml(self):
        """Unknown encodings and depth are errors that name the file."""
        how = self.file("i.toml", 'annotations = "x"\nform = "xml"\none_image_each = true\n[[read]]\n'
                        'kind = "object"\neach = "a[]"\nlabel = "n"\n'
                        'box = { at = "b", order = ["x0", "y0", "x1", "y1"] }\n')  # fmt: skip
        for content in (b'<?xml version="1.0" encoding="utf-99"?><a/>', b"<a>" * 5000):
            with self.assertRaisesRegex(TableError, "x.xml"):
                load_annotations(self.file("x.xml", content), description=str(how))

    def test_nothing_is_fetched(self):
        """Reading a file opens no socket and no other file, whatever it names."""
        for context in ('"http://127.0.0.1:1/c"', '["file:///etc/passwd"]', '{"@import": "x"}'):
            path = self.file("s.jsonld", f'{{"@context": {context}, "@id": "a"}}')
            with (
                mock.patch("socket.socket", side_effect=AssertionError("a socket")),
                self.assertRaisesRegex(TableError, "no address is opened"),
            ):
                read_names(path)
        for name, content in (
            ("s.ttl", '@prefix : <http://127.0.0.1:1/> . <> <http://www.w3.org/2002/07/owl#imports> '
             '<http://127.0.0.1:1/o> ; :a "b" .'),
            ("s.rdf", '<!DOCTYPE r [<!ENTITY e SYSTEM "file:///etc/passwd">]><rdf:RDF xmlns:rdf="http:'
             '//www.w3.org/1999/02/22-rdf-syntax-ns#"/>'),
        ):  # fmt: skip
            with (
                mock.patch("socket.socket", side_effect=AssertionError("a socket")),
                mock.patch("urllib.request.urlopen", side_effect=AssertionError("an address")),
            ):
                try:
                    read_names(self.file(name, content))
                except TableError as error:
                    self.assertNotIn("AssertionError", repr(error.__cause__))

    def test_vocabularies(self):
        """SKOS and CSVW of any kind are read, or refused in our words; nothing is fetched."""
        with self.assertNoLogs("dotledger"):
            self.assertEqual(strangers_files.vocabularies_attack(60, seed=2), (60, {}))

    def test_one_bad_image(self):
        """One image with broken XMP is listed; the others of its folder are read."""
        from dotledger.images.image_metadata import with_packet
        from tests.sending.helpers import picture

        (self.home / "a.jpg").write_bytes(with_packet(picture(1), b"<x:xmpmeta"))
        (self.home / "plain").mkdir()
        (self.home / "plain" / "b.jpg").write_bytes(picture(2))
        table = Annotations.from_frame(
            pd.DataFrame({"image": ["b.jpg"], "kind": ["object"], "label": [""]})
        )
        write_annotations(table, self.home / "read", images=self.home / "plain")
        (self.home / "read" / "b.jpg").rename(self.home / "b.jpg")
        loaded = load_annotations(self.home)
        self.assertEqual(loaded.annotations.image.used(), ["b.jpg"])
        self.assertEqual([name for name, *_ in loaded.report.refused], ["a.jpg"])

    def test_column_names(self):
        """A column's name is guarded like a cell, also behind a line break, and comes back."""
        base = {**FRAME, "ignore": [False]}
        del base["confidence"]
        for name in ("=1+1", "\n=1+1", "\t@x", " -2"):
            table = Annotations.from_frame(pd.DataFrame({**base, name: ["=2"]}))
            path = write_table(table, self.home / "c.csv")
            header, row = csv.reader(path.read_text().splitlines(keepends=True))
            self.assertEqual((header[-1][0], row[-1]), ("'", "'=2"))
            again = load_annotations(path).annotations
            self.assertEqual(
                {n.strip(): v for n, v in again.details[0].attributes.items()}, {name.strip(): "=2"}
            )


class Arguments(unittest.TestCase):
    def test_numbers(self):
        """Every number of `measure` is checked at the door, whatever type it has."""
        found = Findings.from_frame(pd.DataFrame(FRAME))
        truth = pd.DataFrame(FRAME).drop(columns="confidence")
        for bad in (
            {"overlap": None}, {"overlap": "0.5"}, {"overlap": [0.5, None]}, {"overlap": float("nan")},
            {"draws": -1}, {"draws": 1.5}, {"draws": 2**31}, {"draws": True}, {"draws": "9"},
            {"seed": -1}, {"seed": None}, {"seed": 2**80},
            {"threshold": float("nan")}, {"threshold": [0.5, 7]}, {"threshold": b"x"},
        ):  # fmt: skip
            with self.assertRaises(ArgumentError, msg=bad) as caught:
                measure(found, truth, **{"overlap": 0.5, **bad})
            self.assertEqual(caught.exception.exit_status, 2)
        result = measure(found, truth, overlap=0.5, threshold=pd.Series([0.5, 0.95]), draws=0)
        self.assertEqual(len(result.kinds["object"].points), 2)

    def test_swapped(self):
        """Findings and annotations given in each other's place are refused, in every form."""
        found = pd.DataFrame(FRAME)
        truth = found.drop(columns="confidence").assign(ignore=False)
        with self.assertRaisesRegex(ArgumentError, "swapped"):
            measure(Annotations.from_frame(truth), Findings.from_frame(found))
        with self.assertRaisesRegex(TableError, "look like annotations.*swapped"):
            measure(truth, found)
        with tempfile.TemporaryDirectory() as folder:
            for name in ("t.csv", "t.jsonl", "t.parquet"):
                path = Path(folder) / name
                write_table(Annotations.from_frame(truth), path)
                with self.assertRaisesRegex(TableError, f"{name}: these look like annotations"):
                    read_findings(path)
                write_table(Findings.from_frame(found), path)
                with self.assertRaisesRegex(TableError, f"{name}: these look like findings"):
                    load_annotations(path)

    def test_columns_that_are_nearly_ours(self):
        """A misspelt column, or a score beside no confidence, is named and not left out in silence."""
        found = pd.DataFrame(FRAME)
        for theirs, ours in (
            ("confidnce", "confidence"),
            ("score", "confidence"),
            ("lable", "label"),
            ("Kind", "kind"),
        ):
            with self.assertRaisesRegex(TableError, f"'{theirs}' is nearly '{ours}'"):
                Findings.from_frame(found.rename(columns={ours: theirs}))
        Findings.from_frame(found.assign(score=0.3, mood="calm", x=1))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "f.csv"
            found.rename(columns={"confidence": "score"}).to_csv(path, index=False)
            with self.assertRaisesRegex(TableError, "columns=.*confidence.*score"):
                read_findings(path)
            self.assertEqual(
                read_findings(path, columns="confidence=score").confidence.tolist(), [0.9]
            )
        without = found.drop(columns="confidence")
        result = measure(without, without.assign(ignore=False), draws=0)
        self.assertTrue(any("passes every threshold" in note for note in result.notes))

    def test_frames(self):
        """Missing values of pandas, infinite numbers as text, a name that occurs twice."""
        for column, value, wanted in (
            ("ignore", pd.NA, None), ("confidence", pd.NA, None), ("label", pd.NA, None),
            ("x1", "inf", "must be finite"), ("x1", "-inf", "must be finite"),
        ):  # fmt: skip
            frame = pd.DataFrame({**FRAME, "ignore": [False], column: [value]})
            make = Annotations if column == "ignore" else Findings
            if wanted:
                with self.assertRaisesRegex(TableError, wanted):
                    Findings.from_frame(pd.concat([frame, pd.DataFrame({"image": ["j"], "kind": [
                        "object"], "label": ["l"], column: [""]})]))  # fmt: skip
            else:
                self.assertEqual(len(make.from_frame(frame)), 1)
        twice = pd.DataFrame([[*(v[0] for v in FRAME.values()), 0.1]], columns=[*FRAME, "label"])
        with self.assertRaisesRegex(TableError, "2 columns of this name"):
            Findings.from_frame(twice)

    def test_short_floats(self):
        """A confidence of 0.9 in 32 bits passes a threshold of 0.9, as it does in pandas."""
        for kind in (np.float32, np.float16):
            frame = pd.DataFrame({**FRAME, "confidence": np.array([0.9], kind)})
            self.assertEqual(Findings.from_frame(frame).confidence.tolist(), [0.9])

    def test_boxes_over_the_edge(self):
        """Python clips boxes to the image as the command line does, where sizes are known."""
        found = pd.DataFrame({**FRAME, "x1": [50.0], "y1": [50.0]})
        truth = Annotations.from_frame(pd.DataFrame(FRAME).drop(columns="confidence"))
        self.assertEqual(measure(found, truth, overlap=0.5, draws=0).pooled.recall, 0)
        sized = truth.with_images({"i": {"width": 5, "height": 5}})
        self.assertEqual(measure(found, sized, overlap=0.5, draws=0).pooled.recall, 1)

    def test_expressions(self):
        """An expression that would take for ever to compile or to search is refused at once."""
        for text in (
            "(" * 3000 + "a" + ")" * 3000,
            "a||" * 3000 + "a",
            "[@,@][]" + "|[@,@][]" * 30,
        ):
            began = time.monotonic()
            with self.assertRaisesRegex(DescriptionError, "not a path"):
                compile_path(text)
            self.assertLess(time.monotonic() - began, 2)
        self.assertEqual(compile_path("[a, b]")(Level({"a": 1, "b": 2}, "", 0, None)), [1, 2])
