"""Croissant: what other people describe is read, what is written another reader of the format reads."""

import hashlib
import json
import tempfile
import unittest
import warnings
import zipfile
from pathlib import Path

import numpy as np
import pandas as pd
from pandas.testing import assert_frame_equal

import dotledger
from dotledger.core.kinds import KINDS
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.annotations.annotation_files import load_annotations
from dotledger.formats.croissant.croissant_records import _along
from tests.forked import dotledger as command
from tests.walk import walk_in

CONFORMS = "http://mlcommons.org/croissant/1.0"
CONTEXT = {
    "@language": "en", "@vocab": "https://schema.org/", "column": "cr:column", "conformsTo": "dct:conformsTo", "cr": "http://mlcommons.org/croissant/",
    "data": {"@id": "cr:data", "@type": "@json"}, "dataType": {"@id": "cr:dataType", "@type": "@vocab"}, "dct": "http://purl.org/dc/terms/",
    "extract": "cr:extract", "field": "cr:field", "fileObject": "cr:fileObject", "fileProperty": "cr:fileProperty", "fileSet": "cr:fileSet",
    "format": "cr:format", "includes": "cr:includes", "jsonPath": "cr:jsonPath", "key": "cr:key", "recordSet": "cr:recordSet",
    "references": "cr:references", "regex": "cr:regex", "repeated": "cr:repeated", "sc": "https://schema.org/", "source": "cr:source",
    "subField": "cr:subField", "transform": "cr:transform",
}  # fmt: skip


def field(id, types, source, extract, **more):
    """A field as the format's own examples write it."""
    inside = {name: more.pop(name) for name in ("format", "transform") if name in more}
    where = "fileSet" if source.endswith("s") else "fileObject"
    return {
        "@type": "cr:Field",
        "@id": id,
        "name": id,
        "dataType": types,
        "source": {where: {"@id": source}, "extract": extract, **inside},
        **more,
    }


def described(distribution, *record_sets):
    """A whole description."""
    return {"@context": CONTEXT, "@type": "sc:Dataset", "name": "walk", "conformsTo": CONFORMS, "url": "https://walk.invalid/", "distribution": distribution, "recordSet": list(record_sets)}  # fmt: skip


def records(id, *fields, **more):
    """A record set."""
    return {"@type": "cr:RecordSet", "@id": id, "name": id, "field": list(fields), **more}


def table(name, data):
    """A CSV file of the description, with its digest."""
    return {
        "@type": "cr:FileObject",
        "@id": name,
        "name": name,
        "contentUrl": name,
        "encodingFormat": "text/csv",
        "sha256": hashlib.sha256(data.encode()).hexdigest(),
    }


class InAFolder(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def put(self, name, content):
        path = self.home / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(
            content
            if isinstance(content, bytes)
            else (content if isinstance(content, str) else json.dumps(content)).encode()
        )
        return path

    def boxes(self, rows, form="XYXY", **more):
        """Write a table of boxes with its description; return where that is."""
        text = "file_name,category,bbox\n" + "".join(
            f'{image},{label},"{box}"\n' for image, label, box in rows
        )
        self.put("boxes.csv", text)
        shape = {"format": form} if form else {}
        fields = (
            field("boxes/file_name", "sc:Text", "boxes.csv", {"column": "file_name"}),
            field("boxes/category", ["sc:Text", "cr:Label"], "boxes.csv", {"column": "category"}),
            field("boxes/bbox", "cr:BoundingBox", "boxes.csv", {"column": "bbox"}, **shape),
        )
        document = described([table("boxes.csv", text)], records("boxes", *fields))
        return self.put("set.json", {**document, **more})


class Reading(InAFolder):
    def test_as_the_examples_of_the_format(self):
        """Annotations in a zip archive, images by an expression on file names, categories by id, as the format's own example."""
        content = {
            "images": [{"id": 7, "file_name": "000007.jpg"}],
            "annotations": [{"image_id": 7, "category_id": 2, "bbox": [10, 20, 30, 40]}, {"image_id": 8, "category_id": 1, "bbox": [1, 2, 3, 4]}],
        }  # fmt: skip
        with zipfile.ZipFile(self.home / "annotations.zip", "w") as archive:
            archive.writestr("annotations/instances.json", json.dumps(content))
        for name in ("000007.jpg", "000008.jpg", "000009.jpg"):
            self.put(f"val/{name}", b"")
        self.put("val/notes.txt", "")
        named = {"regex": r"^0*(\d+)\.jpg$"}
        document = described(
            [
                {"@type": "cr:FileObject", "@id": "val.zip", "contentUrl": "https://walk.invalid/val.zip", "encodingFormat": "application/zip", "sha256": "0"},
                {"@type": "cr:FileObject", "@id": "annotations.zip", "contentUrl": "https://walk.invalid/annotations.zip", "encodingFormat": "application/zip", "sha256": "0"},
                {"@type": "cr:FileSet", "@id": "image-files", "containedIn": {"@id": "val.zip"}, "encodingFormat": "image/jpeg", "includes": "*.jpg"},
                {"@type": "cr:FileObject", "@id": "instance", "containedIn": {"@id": "annotations.zip"}, "contentUrl": "annotations/instances.json", "encodingFormat": "application/json"},
            ],
            records("categories", {"@type": "cr:Field", "@id": "categories/id", "dataType": "sc:Integer"}, {"@type": "cr:Field", "@id": "categories/name", "dataType": "sc:Text"},
                    data=[{"categories/id": 1, "categories/name": "lantern"}, {"categories/id": 2, "categories/name": "kite"}]),
            records("images", field("images/image_id", "sc:Integer", "image-files", {"fileProperty": "filename"}, transform=named),
                    field("images/image_filename", "sc:Text", "image-files", {"fileProperty": "filename"}), field("images/content", "sc:ImageObject", "image-files", {"fileProperty": "filename"}), key={"@id": "images/image_id"}),
            records("annotations", field("annotations/image_id", "sc:Integer", "instance", {"jsonPath": "$.annotations[*].image_id"}, references={"field": {"@id": "images/image_id"}}),
                    field("annotations/category_id", "sc:Integer", "instance", {"jsonPath": "$.annotations[*].category_id"}, references={"@id": "categories/id"}),
                    field("annotations/bbox", "cr:BoundingBox", "instance", {"jsonPath": "$.annotations[*].bbox"}, format="XYWH")),
        )  # fmt: skip
        with self.assertRaisesRegex(TableError, "annotations.zip is another file"):
            load_annotations(self.put("set.json", document))
        [packed] = [one for one in document["distribution"] if one["@id"] == "annotations.zip"]
        packed["sha256"] = hashlib.sha256((self.home / "annotations.zip").read_bytes()).hexdigest()
        found = load_annotations(self.put("set.json", document))
        self.assertEqual(found.report.images, 3, "the third is looked at, and empty")
        rows = found.annotations.frame().query("label != ''")
        self.assertEqual(rows[["image", "kind", "label", "x0", "y0", "x1", "y1"]].values.tolist(),
                         [["000007.jpg", "object", "kite", 10, 20, 40, 60], ["000008.jpg", "object", "lantern", 1, 2, 4, 6]])  # fmt: skip

    def test_parts_of_a_field_in_parquet(self):
        """An image a row with lists of boxes and labels: the usual form of hubs."""
        frame = pd.DataFrame({"image": [{"bytes": b"x", "path": "a.jpg"}, {"bytes": b"y", "path": "b.jpg"}], "width": [100, 200], "height": [50, 80],
                              "objects": [{"bbox": [[1.0, 2, 3, 4], [5, 6, 7, 8]], "category": ["kite", "lantern"]}, {"bbox": [], "category": []}]})  # fmt: skip
        frame.to_parquet(self.home / "train-0.parquet")
        extract = {"column": "objects"}
        parts = [
            {"@type": "cr:Field", "@id": "train/objects/bbox", "dataType": "cr:BoundingBox", "repeated": True, "source": {"fileSet": {"@id": "parquet-files"}, "extract": extract, "transform": {"jsonPath": "bbox"}, "format": "XYXY"}},
            {"@type": "cr:Field", "@id": "train/objects/category", "dataType": "sc:Text", "repeated": True, "source": {"fileSet": {"@id": "parquet-files"}, "extract": extract, "transform": {"jsonPath": "category"}}},
        ]  # fmt: skip
        document = described(
            [{"@type": "cr:FileSet", "@id": "parquet-files", "encodingFormat": "application/x-parquet", "includes": "train-*.parquet"}],
            records("train", field("train/image", "sc:ImageObject", "parquet-files", {"column": "image"}, transform={"jsonPath": "bytes"}), field("train/width", "sc:Integer", "parquet-files", {"column": "width"}),
                    field("train/height", "sc:Integer", "parquet-files", {"column": "height"}), {"@type": "cr:Field", "@id": "train/objects", "subField": parts}),
        )  # fmt: skip
        found = dotledger.read_annotations(self.put("set.json", document))
        self.assertEqual(
            found.frame()[["image", "label", "x0"]].fillna(-1).values.tolist(),
            [["a.jpg", "kite", 1], ["a.jpg", "lantern", 5], ["b.jpg", "", -1]],
        )
        self.assertEqual(dict(found.images["b.jpg"]), {"width": 200, "height": 80})
        frame.at[0, "objects"]["category"].pop()
        frame.to_parquet(self.home / "train-0.parquet")
        loaded = load_annotations(self.home / "set.json")
        self.assertEqual(
            [reason for _, reason, _ in loaded.report.refused], ["not as many labels as boxes"]
        )
        self.assertEqual(loaded.annotations.covered("object"), ["b.jpg"])

    def test_forms(self):
        """Every way to write a box, by hand: left 10, upper 20, right 40, lower 60 in an image of 100 by 200."""
        for form, numbers in (
            ("XYXY", "10 20 40 60"), ("YXYX", "[20, 10, 60, 40]"), ("XYWH", "10,20,30,40"), ("CENTER_XYWH", "25 40 30 40"),
            ("REL_XYXY", "0.1 0.1 0.4 0.3"), ("REL_XYWH", "0.1 0.1 0.3 0.2"), ("REL_YXYX", "0.1 0.1 0.3 0.4"),
        ):  # fmt: skip
            place = self.boxes([("a.jpg", "kite", numbers)], form)
            found = dotledger.read_annotations(
                place, images={"a.jpg": {"width": 100, "height": 200}}
            )
            np.testing.assert_allclose(found.box, [[10, 20, 40, 60]], err_msg=form)

    def test_what_cannot_be_kept(self):
        """It is refused with its reason, and its image is not covered: nothing wrong may come of it."""
        loaded = load_annotations(
            self.boxes(
                [
                    ("a.jpg", "kite", "1 2 3"),
                    ("b.jpg", "", "1 2 3 4"),
                    ("c.jpg", "kite", "5 5 4 4"),
                    ("", "kite", "1 2 3 4"),
                ]
            )
        )
        self.assertEqual(
            [reason for _, reason, _ in loaded.report.refused],
            ["box is not four numbers", "no label", "box no area", "the record names no image"],
        )
        self.assertEqual(loaded.annotations.covered("object"), [])
        shares = load_annotations(self.boxes([("a.jpg", "kite", "0 0 .5 .5")], "REL_XYXY"))
        self.assertIn("size is not known", shares.report.refused[0][1])

    def test_prefixes(self):
        """Keys and types may have their prefix or their whole address, as JSON-LD allows."""
        place = self.boxes([("a.jpg", "kite", "1 2 3 4")])
        plain = dotledger.read_annotations(place).frame()
        text = place.read_text()
        for name in ("recordSet", "field", "source", "extract", "column", "fileObject", "format"):
            text = text.replace(f'"{name}": ', f'"cr:{name}": ')
        for name in ("conformsTo", "distribution", "contentUrl", "encodingFormat", "sha256"):
            text = text.replace(
                f'"{name}": ', f'"{"dct" if name == "conformsTo" else "sc"}:{name}": '
            )
        place.write_text(
            text.replace('"cr:BoundingBox"', '"http://mlcommons.org/croissant/BoundingBox"')
        )
        assert_frame_equal(dotledger.read_annotations(place).frame(), plain)

    def test_names_of_fields(self):
        """Where a field has no usual name, it can be given; else the error lists the fields."""
        place = self.boxes([("a.jpg", "kite", "1 2 3 4")])
        place.write_text(
            place.read_text()
            .replace("boxes/file_name", "boxes/where")
            .replace("boxes/category", "boxes/what")
            .replace('"cr:Label"', '"sc:Text"')
        )
        with self.assertRaisesRegex(TableError, r"field for the image.*'where'.*columns=.*image"):
            dotledger.read_annotations(place)
        found = dotledger.read_annotations(place, columns="image=where,label=what")
        self.assertEqual(found.labels("object"), ("kite",))
        faces = dotledger.read_annotations(
            place, columns="image=where,always.kind=face,always.label=face"
        )
        self.assertEqual(faces.labels("face"), ("face",))
        for columns, sign in (("image=were,label=what", "given for image.*'were'.*allowed: where"), ("image=where,x0=left", "said by the description"), ("image=where,form=corner+size", "said by the description")):  # fmt: skip
            with self.assertRaisesRegex(TableError, sign):
                dotledger.read_annotations(place, columns=columns)

    def test_wrong_descriptions(self):
        """Files that are elsewhere, others than described or outside; forms that are not told; expressions that never end."""
        good = json.loads(self.boxes([("a.jpg", "kite", "1 2 3 4")]).read_text())
        secret = self.put("../secret.csv", "file_name\n")
        self.addCleanup(secret.unlink)

        def changed(change):
            document = json.loads(json.dumps(good))
            change(document, document["distribution"][0], document["recordSet"][0]["field"])
            return self.put("set.json", document)

        for change, sign in (
            (lambda d, f, _: f.update(contentUrl="https://walk.invalid/other.csv"), r"not next to it.*https://walk.invalid/other.csv.*Fetch it"),
            (lambda d, f, _: f.update(contentUrl="../secret.csv"), "not next to it"),
            (lambda d, f, _: f.update(contentUrl="/etc/passwd"), "not next to it"),
            (lambda d, f, _: f.update({"@type": "cr:FileSet", "includes": "../*.csv"}), "leads out of the folder"),
            (lambda d, f, _: f.update(sha256="0" * 64), "SHA-256 differs"),
            (lambda d, f, _: f.update(encodingFormat="application/x-tape"), "not read"),
            (lambda d, f, n: n[2]["source"].pop("format"), r"how its four numbers are written.*XYWH"),
            (lambda d, f, n: n[2]["source"].update(format="XXYY"), "got 'XXYY'"),
            (lambda d, f, n: n[0]["source"].update(transform={"regex": "(a+)+b"}), "never end"),
            (lambda d, f, n: n[0]["source"].update(transform={"regex": "("}), "not an expression"),
            (lambda d, f, n: n[0]["source"]["extract"].update(column="file"), "no such column"),
            (lambda d, f, n: n[0]["source"].update(fileObject={"@id": "boxes"}), "in several files"),
            (lambda d, f, n: n[0].update({"@id": "boxes/bbox"}), "one @id"),
            (lambda d, f, n: n.pop(), None),
            (lambda d, f, n: d.update(recordSet=[]), "no record set"),
        ):  # fmt: skip
            place = changed(change)
            if sign is None:
                self.assertEqual(dotledger.read_annotations(place).labels("label"), ("kite",))
                continue
            with self.assertRaisesRegex(TableError, sign):
                dotledger.read_annotations(place)

    def test_archives(self):
        """In a folder called like the archive, or in the archive; damaged, encrypted or without the file: said."""
        good = json.loads(self.boxes([("a.jpg", "kite", "1 2 3 4")]).read_text())
        table = (self.home / "boxes.csv").read_bytes()
        (self.home / "boxes.csv").unlink()
        packed = {
            "@type": "cr:FileObject",
            "@id": "p",
            "contentUrl": "https://walk.invalid/walk.v2.zip?download=1",
            "encodingFormat": "application/zip",
        }
        good["distribution"][0]["containedIn"] = {"@id": "p"}
        good["distribution"].append(packed)
        place = self.put("set.json", good)
        with zipfile.ZipFile(self.home / "walk.v2.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("boxes.csv", table)
        self.assertEqual(len(dotledger.read_annotations(place)), 1)
        whole = (self.home / "walk.v2.zip").read_bytes()
        flags = whole.index(b"PK\x01\x02") + 8
        locked = whole[:flags] + b"\x01" + whole[flags + 1 :]
        for wrong in (whole[:-30], b"", whole.replace(b"boxes.csv", b"other.csv"), locked, whole[:45] + b"\xff" * 9 + whole[54:]):  # fmt: skip
            self.put("walk.v2.zip", wrong)
            with self.assertRaisesRegex(TableError, "cannot be read"):
                dotledger.read_annotations(place)
        self.put("walk.v2/boxes.csv", table)
        self.assertEqual(len(dotledger.read_annotations(place)), 1, "the folder goes first")

    def test_damaged(self):
        """Any part of a description may be of a wrong type: a TableError, nothing else."""
        good = json.loads(self.boxes([("a.jpg", "kite", "1 2 3 4")]).read_text())
        files = {
            "@type": "cr:FileSet",
            "@id": "fs",
            "includes": "*.jpg",
            "encodingFormat": "image/jpeg",
        }
        good["distribution"].append(files)
        good["recordSet"].append(
            records(
                "images", field("images/filename", "sc:Text", "fs", {"fileProperty": "filename"})
            )
        )
        places = []

        def walk(node, path):
            for key in node if isinstance(node, dict) else range(len(node)):
                places.append((*path, key))
                if isinstance(node[key], dict | list):
                    walk(node[key], (*path, key))

        walk(good, ())
        tried = 0
        for path in places:
            for wrong in (None, 7, "x", "", "**", "/*", [], {}, [None], {"@id": 3}, [[]]):
                document = json.loads(json.dumps(good))
                inner = document
                for key in path[:-1]:
                    inner = inner[key]
                inner[path[-1]] = wrong
                try:
                    dotledger.read_annotations(self.put("set.json", document))
                except TableError as error:
                    self.assertIn("set.json", str(error))
                tried += 1
        self.assertGreater(tried, 500)


class Writing(InAFolder):
    def test_round_trip(self):
        """Boxes, labels, doubtful ones, details, sizes, columns of one's own, kinds nobody looked for."""
        truth = dotledger.Annotations.from_columns(
            image=["a.jpg", "a.jpg", "b.jpg", "c.jpg", "d.jpg"], kind=["object", "label", "face", "object", ""], label=["kite, red", "dusk", "face", "", ""],
            x0=[0.1, None, 1, None, None], y0=[0.2, None, 2, None, None], x1=[281.59999999999997, None, 9, None, None], y1=[9, None, 8, None, None],
            ignore=[False, False, True, True, False], details=[Details(attributes={"lit": "yes"}), None, None, None, None],
            images={"a.jpg": {"width": 300.0, "height": 50.0, "sky": "plum"}},
        )  # fmt: skip
        written = dotledger.write_annotations(truth, self.home / "set.json")
        self.assertEqual(
            [path.name for path in written.files],
            ["set.json", "set-images.csv", "set-boxes.csv", "set-labels.csv"],
        )
        again = dotledger.read_annotations(self.home / "set.json")
        order = ["image", "kind", "label"]
        both = [
            one.frame().query("label != ''").sort_values(order, ignore_index=True)
            for one in (truth, again)
        ]
        assert_frame_equal(*both)
        for kind in KINDS:
            self.assertEqual(again.covered(kind), truth.covered(kind), kind)
        self.assertEqual(dict(again.images["a.jpg"]), dict(truth.images["a.jpg"]))

    def test_another_reader(self):
        """The reader of the format's own authors takes what is written: every record, each box."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            import mlcroissant
        walk, _ = walk_in(self.home)
        done = command(
            "annotations",
            "annotations.csv",
            "--images",
            "images.csv",
            "--out",
            "set.json",
            cwd=walk,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stderr, r"Written: set.json, set-images.csv.*\n.*license, creator")
        truth = dotledger.read_annotations(walk / "annotations.csv")
        with self.assertLogs("absl", "WARNING") as logged, warnings.catch_warnings():
            warnings.simplefilter("ignore")
            opened = mlcroissant.Dataset(str(walk / "set.json"))
            theirs = {name: list(opened.records(name)) for name in ("images", "boxes", "labels")}
        self.assertNotIn("error", " ".join(logged.output).lower())
        self.assertEqual([len(rows) for rows in theirs.values()], [35, 113, 94])
        boxed = truth.frame().dropna(subset=["x0"])
        self.assertEqual(
            [one["boxes/box"] for one in theirs["boxes"]],
            boxed[["x0", "y0", "x1", "y1"]].values.tolist(),
        )
        self.assertEqual(
            [one["boxes/label"].decode() for one in theirs["boxes"]], boxed["label"].tolist()
        )
        self.assertEqual(
            {one["images/sky"] for one in theirs["images"]},
            {
                facts["sky"].encode()
                for facts in dotledger.read_image_facts(walk / "images.csv").values()
            },
        )

    def test_nothing_is_overwritten(self):
        """The tables next to a description are outputs like it; a file that has the name of one is left alone."""
        walk, _ = walk_in(self.home)
        (walk / "set-boxes.csv").write_text("mine")
        done = command("annotations", "annotations.csv", "--out", "set.json", cwd=walk)
        self.assertEqual(done.returncode, 2)
        self.assertIn("set-boxes.csv", done.stderr)
        with self.assertRaises(ArgumentError):
            dotledger.write_annotations(
                dotledger.read_annotations(walk / "annotations.csv"), walk / "set.json"
            )
        self.assertEqual(
            ((walk / "set-boxes.csv").read_text(), (walk / "set.json").exists()), ("mine", False)
        )


class Paths(unittest.TestCase):
    def test_json_paths(self):
        """Paths as RFC 9535 has them; a row that lacks the value keeps its place."""
        data = {"a": [{"b": 1}, {"c": 2}, {"b": [3, 4]}]}
        for path, wanted in (
            ("$.a[0].b", [1]),
            ("$.a[*].b", [1, None, [3, 4]]),
            ("$['a'][2]['b'][-1]", [4]),
            ("$.a[*]", data["a"]),
            ("$.z", [None]),
            ("a[0].b", [1]),
        ):
            self.assertEqual(_along(data, path), wanted, path)
        with self.assertRaisesRegex(ValueError, "not a JSONPath"):
            _along(data, "$.a[")
