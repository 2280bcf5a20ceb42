"""Ground truth in many forms: each read, each refused where it should be, and round trips."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from dotledger import (
    measure,
    read_annotations,
    read_findings,
    read_image_facts,
    read_review,
    write_annotations,
)
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError, DescriptionError, TableError
from dotledger.formats.annotations.annotation_files import load_annotations
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.core.questions.test_questions import with_details


class InFolder(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def written(self, name, text):
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text if isinstance(text, str) else json.dumps(text), encoding="utf-8")
        return path

    def rows(self, table):
        return [
            (i, k, n, tuple(np.round(b, 6).tolist()) if b[0] == b[0] else None, bool(g))
            for i, k, n, b, g in zip(
                table.image.values(), table.kind.values(), table.label.values(), table.box, table.ignore
            )
        ]  # fmt: skip


class Columns(InFolder):
    def test_other_peoples_tables(self):
        """Named columns, centre and size in percent, and a constant kind: by option and by file."""
        path = self.written(
            "t.csv", "file,class,mx,my,w,h,W,H,lamp\na.jpg,red,50,50,20,10,200,100,oil\n"
        )
        option = "image=file,label=class,cx=mx,cy=my,width=w,height=h,image_width=W,image_height=H,form=centre+size,unit=percent,always.kind=object"
        file = self.written(
            "c.toml",
            'form = "centre+size"\nunit = "percent"\nalways = {kind = "object"}\n[columns]\nimage = "file"\n'
            'label = "class"\ncx = "mx"\ncy = "my"\nwidth = "w"\nheight = "h"\nimage_width = "W"\nimage_height = "H"\n',
        )
        for columns in (option, file):
            table = read_annotations(path, columns=columns)
            self.assertEqual(
                self.rows(table), [("a.jpg", "object", "red", (80, 45, 120, 55), False)]
            )
            self.assertEqual(table.details[0].attributes["lamp"], "oil")

    def test_findings_in_fractions(self):
        """Sizes may come from a table of images; confidences in percent."""
        path = self.written(
            "f.jsonl",
            '{"image":"a","kind":"object","label":"x","p":87.5,"l":0.1,"t":0.2,"width":0.5,"height":0.5}\n',
        )
        facts = {"a": {"width": 100, "height": 200}}
        columns = "x0=l,y0=t,confidence=p,form=corner+size,unit=fraction,scale=percent"
        found = read_findings(path, columns=columns, images=facts)
        self.assertEqual(found.box.tolist(), [[10.0, 40.0, 60.0, 140.0]])
        self.assertEqual(found.confidence.tolist(), [0.875])
        with self.assertRaisesRegex(TableError, "line 1, column image.*needs the size"):
            read_findings(path, columns=columns)

    def test_parquet(self):
        """Parquet tables are mapped alike, their other columns kept."""
        import pandas as pd

        rows = {"file": ["a", "b"], "sort": ["x", ""], "l": [1.0, None], "t": [2.0, None], "r": [3.0, None], "b": [4.0, None], "lamp": ["oil", None]}  # fmt: skip
        pd.DataFrame(rows).to_parquet(self.folder / "t.parquet")
        columns = "image=file,label=sort,x0=l,y0=t,x1=r,y1=b,always.kind=object"
        table = read_annotations(self.folder / "t.parquet", columns=columns)
        self.assertEqual(self.rows(table)[0], ("a", "object", "x", (1, 2, 3, 4), False))
        self.assertEqual(dict(table.details[0].attributes), {"lamp": "oil"})

    def test_bad(self):
        """Unknown words are refused with the nearest; a column that is not there is named."""
        path = self.written("t.csv", "image,kind,label\na,label,x\n")
        for columns, sign in (
            ("lable=x", "did you mean 'label'"),
            ("form=corner", "corner"),
            ("image", "cannot be read"),
            ("image=", "OURS=THEIRS"),
            ("image=datei", "no column 'datei'"),
        ):
            with self.assertRaisesRegex((ArgumentError, DescriptionError, TableError), sign):
                read_annotations(path, columns=columns)
        with self.assertRaisesRegex(TableError, "more than once"):
            read_annotations(self.written("d.csv", "image,image,kind,label\na,b,label,x\n"))

    def test_boxes_and_their_images(self):
        """Where sizes are known boxes are clipped, and those outside are listed with the reason."""
        path = self.written(
            "t.csv", "image,kind,label,x0,y0,x1,y1\na,object,x,-5,0,5,5\na,object,x,50,0,60,5\n"
        )
        loaded = load_annotations(path, images={"a": {"width": 20, "height": 20}})
        self.assertEqual((loaded.report.clipped, len(loaded.report.refused)), (1, 1))
        self.assertIn("box outside the image (1)", " ".join(loaded.report.lines()))
        self.assertEqual(self.rows(loaded.annotations)[0][3], (0, 0, 5, 5))

    def test_image_facts(self):
        """Sizes are numbers, other columns stay; an image that occurs twice is refused."""
        facts = read_image_facts(
            self.written("i.csv", "image,width,height,light\na,10,20,dusk\nb,,,\n")
        )
        self.assertEqual(facts, {"a": {"width": 10.0, "height": 20.0, "light": "dusk"}, "b": {}})
        for text, sign in (("image\na\na\n", "twice"), ("image,width\na,0\n", "no size of an image"), ("image,width\na,1e160\n", "no size of an image"), ("image,width\na,1e-300\n", "no size of an image"), ("name\na\n", "no column 'image'")):  # fmt: skip
            with self.assertRaisesRegex(TableError, sign):
                read_image_facts(self.written("i.csv", text))
        import pandas as pd

        path = self.folder / "i.parquet"
        pd.DataFrame(
            {
                "image": ["a", "b"],
                "width": [10, None],
                "height": [20, None],
                "light": ["dusk", None],
            }
        ).to_parquet(path)
        self.assertEqual(read_image_facts(path), facts)
        for columns, sign in (
            ({"name": ["a"]}, "no column 'image'"),
            ({"image": ["a", "a"]}, "row 2.*listed twice"),
            ({"image": ["a"], "width": [0]}, "no size of an image"),
            ({"image": ["a"], "width": ["wide"]}, "numbers holds others"),
        ):
            pd.DataFrame(columns).to_parquet(path)
            with self.assertRaisesRegex(TableError, sign):
                read_image_facts(path)


LAMPS = {
    "pictures": [
        {"no": 1, "file": "a.jpg", "w": 100, "h": 50},
        {"no": 2, "file": "b.jpg", "w": 100, "h": 50},
    ],
    "sorts": [{"id": 7, "name": "lantern"}],
    "marks": [
        {"picture": 1, "sort": 7, "at": [10, 10, 20, 20], "crowd": 0, "by": "R."},
        {"picture": 1, "sort": 7, "at": [90, 40, 20, 20], "crowd": 1},
        {"picture": 1, "sort": 9, "at": [0, 0, 5, 5]},
        {"picture": 3, "sort": 7, "at": [0, 0, 5, 5]},
        {"picture": 1, "sort": 7, "at": [200, 0, 5, 5]},
    ],
}

LAMP_FORM = """
annotations = "lamp counts"
[images]
each = "pictures[]"
id = "no"
name = "file"
width = "w"
height = "h"
[[read]]
kind = "object"
each = "marks[]"
image = "picture"
label = "sort"
lookup = { table = "sorts[]", id = "id", name = "name" }
box = { at = "at", form = "corner+size", order = ["x0", "y0", "width", "height"] }
ignore = "crowd"
attributes = { by = { at = "by" } }
"""

XML = """<scene><name>{name}</name><thing><is>stool</is><frame left="1" top="2" right="{right}" bottom="9"/></thing></scene>"""

XML_FORM = """
annotations = "scenes"
form = "xml"
one_image_each = true
[[read]]
kind = "object"
each = "scene.thing[]"
label = "is"
box = { at = "frame", fields = { x0 = "_left", y0 = "_top", x1 = "_right", y1 = "_bottom" } }
"""


class Imports(InFolder):
    def test_side_tables_and_report(self):
        """Images and labels joined by id; what cannot be kept is refused with its reason."""
        path, form = self.written("l.json", LAMPS), self.written("l.toml", LAMP_FORM)
        loaded = load_annotations(path, description=form)
        self.assertEqual(
            self.rows(loaded.annotations),
            [
                ("a.jpg", "object", "lantern", (10, 10, 30, 30), False),
                ("a.jpg", "object", "lantern", (90, 40, 100, 50), True),
                ("a.jpg", "object", "", None, True),
                ("b.jpg", "", "", None, False),
            ],
        )
        report = loaded.report
        self.assertEqual(
            (report.images, report.empty_images, report.ignored, report.clipped), (2, 1, 1, 1)
        )
        reasons = [reason for _, reason, _ in report.refused]
        self.assertEqual(
            reasons,
            [
                "label's id is not in the side table",
                "image's id is not in the side table",
                "outside the image",
            ],
        )
        self.assertIn("2 images (1 of them empty)", report.lines()[0])
        self.assertEqual(loaded.annotations.details[0].attributes, {"by": "R."})
        self.assertEqual(loaded.annotations.images["a.jpg"], {"width": 100, "height": 50})

    def test_one_file_per_image(self):
        """A folder of XML files, each named like its image; sizes come from the images."""
        for name, right in (("p1", 8), ("p2", 80)):
            self.written(f"xml/{name}.xml", XML.format(name=name, right=right))
        (self.folder / "photos").mkdir()
        Image.new("RGB", (40, 30)).save(self.folder / "photos" / "p1.png")
        form = self.written("x.toml", XML_FORM)
        loaded = load_annotations(
            self.folder / "xml", description=form, images=self.folder / "photos"
        )
        self.assertEqual(
            self.rows(loaded.annotations),
            [
                ("p1.png", "object", "stool", (1, 2, 8, 9), False),
                ("p2", "object", "stool", (1, 2, 80, 9), False),
            ],
        )
        self.assertEqual(loaded.report.missing, ("p2",))
        self.assertEqual(loaded.annotations.images["p1.png"], {"width": 40, "height": 30})

    def test_names_are_no_paths(self):
        """A name that leads out of the image folder is text: nothing is read there."""
        (self.folder / "photos").mkdir()
        for place in ("photos/inside.png", "secret.png"):
            Image.new("RGB", (40, 30)).save(self.folder / place)
        for name in ("../secret.png", str(self.folder / "secret.png")):
            page_of = page({"type": "Annotation", "motivation": "assessing", "target": name})
            table = self.written("t.csv", f"image,kind,label\n{name},label,x\n")
            for path in (self.written("w.jsonld", page_of), table):
                found = load_annotations(path, images=self.folder / "photos").annotations
                self.assertEqual((found.image.used(), dict(found.images)), ([name], {}))

    def test_bad(self):
        """Broken files, misspelt forms and forms that find nothing are refused clearly."""
        form = self.written("l.toml", LAMP_FORM)
        with self.assertRaisesRegex(TableError, "breaks off or is not JSON"):
            load_annotations(self.written("t.json", '{"marks": ['), description=form)
        with self.assertRaisesRegex(TableError, "nothing stands where"):
            load_annotations(self.written("t.json", "{}"), description=form)
        with self.assertRaisesRegex(DescriptionError, "line 10.*did you mean 'label'"):
            bad = LAMP_FORM.replace('[[read]]\nkind = "object"', '[[read]]\nlable = "x"')
            load_annotations(self.written("t.json", LAMPS), description=self.written("b.toml", bad))
        bomb = '<!DOCTYPE a [<!ENTITY b "bb"><!ENTITY c "&b;&b;">]><scene>&c;</scene>'
        xml = self.written("x.toml", XML_FORM)
        with self.assertRaisesRegex(TableError, "not XML"):
            load_annotations(self.written("t.xml", bomb), description=xml)


def page(*items):
    return {
        "@context": "http://www.w3.org/ns/anno.jsonld",
        "type": "AnnotationPage",
        "items": items,
    }


class WebAnnotations(InFolder):
    def test_selectors(self):
        """Pixels, percent, a fragment in the address, SVG polygon and path; tags as labels."""

        def item(target, **more):
            return {
                "type": "Annotation",
                "body": {"type": "TextualBody", "purpose": "tagging", "value": "x"},
                "target": target,
                **more,
            }

        def svg(shape):
            return {
                "source": "b",
                "selector": {"type": "SvgSelector", "value": f"<svg>{shape}</svg>"},
            }

        items = [
            item("a%20b.jpg#xywh=10,20,30,40"),
            item({"source": "b", "selector": {"type": "FragmentSelector", "value": "xywh=percent:10,10,50,50"}}),
            item(svg('<polygon points="1,1 9,1 5,8"/>'), motivation="questioning"),
            item(svg('<path d="M 1 1 H 9 v 4 l -4 3 Z"/>')),
            item("c", body="dusk"),
            item(svg('<circle r="4"/>')),
            item(svg('<path d="M0 0 L 3 M4 4"/>')),
            item(svg('<path d="M0 0 C 1 1 2 2 3 3"/>')),
            item(svg('<polygon points="10% 1 5,8 9,9"/>')),
            item(svg('<rect x="3" y="2" width="10" height="20"/>')),
            {"type": "Annotation", "motivation": "assessing", "target": "d"},
        ]  # fmt: skip
        path = self.written("w.jsonld", page(*items))
        loaded = load_annotations(path, images={"b": {"width": 200, "height": 100}})
        self.assertEqual(
            self.rows(loaded.annotations),
            [
                ("a b.jpg", "object", "x", (10, 20, 40, 60), False),
                ("b", "object", "x", (20, 10, 120, 60), False),
                ("b", "object", "x", (1, 1, 9, 8), True),
                ("b", "object", "x", (1, 1, 9, 8), False),
                ("c", "label", "dusk", None, False),
                ("b", "object", "x", (3, 2, 13, 22), False),
                ("b", "object", "", None, True),
                ("d", "", "", None, False),
            ],
        )
        self.assertEqual(
            [r for _, r, _ in loaded.report.refused], ["SVG selector without a polygon"] * 4
        )

    def test_bad(self):
        """JSON that is something else asks for an import description."""
        with self.assertRaisesRegex(TableError, "import description"):
            load_annotations(self.written("t.json", {"marks": []}))
        with self.assertRaisesRegex(TableError, "no target"):
            load_annotations(self.written("t.jsonld", {"type": "Annotation"}))
        with self.assertRaisesRegex(TableError, "no known format"):
            load_annotations(self.written("t.xyz", ""))


def pictured(folder):
    """Write an upright PNG, a turned JPEG and an annotated table of both and a third."""
    folder.mkdir()
    Image.new("RGB", (80, 60), "navy").save(folder / "a.png")
    turned = Image.new("RGB", (80, 60), "navy")
    exif = Image.Exif()
    exif[0x0112] = 6
    turned.save(folder / "b.jpg", exif=exif)
    Image.new("RGB", (80, 60), "navy").save(folder / "c.jpg")
    table = annotations_of(
        [
            ("a.png", "object", "<moon> & 'lamp'", (10, 20, 40, 50), False),
            ("a.png", "face", "face", (1, 2, 3, 4), True),
            ("b.jpg", "object", "lantern", (5, 10, 30, 60), False),
            ("c.jpg", "object", "", None, False),
        ]
    )
    outline = Details(polygon=((5.0, 10.0), (30.0, 10.0), (20.0, 60.0)))
    return with_details(table, [None, None, outline, None])


class Regions(InFolder):
    def test_round_trip_inside_the_images(self):
        """Regions come back as written, a turned image's too; pixels and other XMP stay."""
        table = pictured(self.folder / "in")
        written = write_annotations(table, self.folder / "out", images=self.folder / "in")
        self.assertEqual([p.name for p in written.files], ["a.png", "b.jpg", "c.jpg"])
        back = load_annotations(self.folder / "out").annotations
        self.assertEqual(
            [(i, n, b) for i, _, n, b, _ in self.rows(back)],
            [(i, n, b) for i, _, n, b, _ in self.rows(table)],
        )
        self.assertEqual(back.ignore.tolist(), table.ignore.tolist())
        np.testing.assert_allclose(back.details[2].polygon, table.details[2].polygon)
        for name in ("a.png", "b.jpg"):
            with Image.open(self.folder / "in" / name) as old, Image.open(self.folder / "out" / name) as new:  # fmt: skip
                np.testing.assert_array_equal(np.asarray(old), np.asarray(new))
                self.assertIn("xmp", " ".join(map(str, new.info)).lower())
        again = write_annotations(back, self.folder / "twice", images=self.folder / "out")
        self.assertEqual(self.rows(read_annotations(self.folder / "twice")), self.rows(back))
        self.assertEqual(len(again.files), 3)

    def test_the_standards_own_forms(self):
        """Relative rectangles, circles and polygons, values as attributes or elements."""
        packet = """<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description xmlns:e="http://iptc.org/std/Iptc4xmpExt/2008-02-29/" xmlns:dc="http://purl.org/dc/elements/1.1/" dc:rights="R.">
<e:ImageRegion><rdf:Bag>
<rdf:li><rdf:Description><e:RegionBoundary e:rbShape="rectangle" e:rbUnit="relative" e:rbX="0.5" e:rbY="0.5" e:rbW="0.25" e:rbH="0.5"/>
<e:Name><rdf:Alt><rdf:li xml:lang="x-default">basket</rdf:li></rdf:Alt></e:Name></rdf:Description></rdf:li>
<rdf:li rdf:parseType="Resource"><e:Name>lantern</e:Name><e:RegionBoundary rdf:parseType="Resource"><e:rbShape>circle</e:rbShape>
<e:rbUnit>relative</e:rbUnit><e:rbX>0.5</e:rbX><e:rbY>0.5</e:rbY><e:rbRx>0.1</e:rbRx></e:RegionBoundary></rdf:li>
<rdf:li rdf:parseType="Resource"><e:Name>odd</e:Name><e:RegionBoundary e:rbShape="star" e:rbUnit="pixel"/></rdf:li>
<rdf:li rdf:parseType="Resource"><e:rId>r5</e:rId><e:RegionBoundary e:rbShape="rectangle" e:rbUnit="relative" e:rbX="0" e:rbY="0" e:rbW="0.5" e:rbH="0.5"/></rdf:li>
</rdf:Bag></e:ImageRegion></rdf:Description></rdf:RDF></x:xmpmeta>"""
        from dotledger.images.image_metadata import with_packet

        Image.new("RGB", (80, 60)).save(self.folder / "a.jpg")
        data = with_packet((self.folder / "a.jpg").read_bytes(), packet.encode())
        (self.folder / "a.jpg").write_bytes(data)
        loaded = load_annotations(self.folder / "a.jpg")
        self.assertEqual(
            self.rows(loaded.annotations),
            [("a.jpg", "object", "basket", (40, 30, 60, 60), False), ("a.jpg", "object", "lantern", (32, 22, 48, 38), False), ("a.jpg", "object", "", None, True)],
        )  # fmt: skip
        self.assertIn("star", loaded.report.refused[0][1])
        self.assertEqual(loaded.report.refused[1][1:], ("region without a name", "r5"))
        self.assertEqual(loaded.annotations.not_covered(), {"object": 1})
        write_annotations(loaded.annotations, self.folder / "out", images=self.folder)
        self.assertIn(b"R.", (self.folder / "out" / "a.jpg").read_bytes())

    def test_other_formats_are_read_and_folders_without_regions_refused(self):
        """WebP and TIFF give their regions, no copy of them is written; zero rows are no answer."""
        from dotledger.images.image_metadata import read_packet

        table = pictured(self.folder / "in")
        write_annotations(table, self.folder / "out", images=self.folder / "in")
        packet = read_packet((self.folder / "out" / "a.png").read_bytes())
        (self.folder / "more").mkdir()
        for name in ("a.webp", "a.tiff"):
            Image.new("RGB", (80, 60)).save(
                self.folder / "more" / name, xmp=packet, tiffinfo={700: packet}
            )
        back = load_annotations(self.folder / "more").annotations
        self.assertEqual(
            {(i, b) for i, _, _, b, _ in self.rows(back)},
            {(n, b) for n in ("a.tiff", "a.webp") for b in ((10, 20, 40, 50), (1, 2, 3, 4))},
        )
        Image.new("RGB", (80, 60)).save(self.folder / "more" / "b.png")
        both = annotations_of(
            [(n, "object", "x", (1, 2, 3, 4), False) for n in ("a.webp", "b.png")]
        )
        written = write_annotations(both, self.folder / "two", images=self.folder / "more")
        self.assertEqual(
            ([p.name for p in written.files], [n for n, _ in written.left_out]),
            (["b.png"], ["a.webp"]),
        )
        with self.assertRaisesRegex(TableError, "no image holds image regions.*3 images"):
            load_annotations(self.folder / "in")

    def test_bad(self):
        """Missing images, names that lead out of the folder and the folder itself are refused."""
        table = pictured(self.folder / "in")
        with self.assertRaisesRegex(ArgumentError, "folder of the images"):
            write_annotations(table, self.folder / "out")
        with self.assertRaisesRegex(TableError, "replace"):
            write_annotations(table, self.folder / "in", images=self.folder / "in")
        outside = annotations_of([("../x.jpg", "object", "", None, False)])
        with self.assertRaisesRegex(TableError, "not in the folder"):
            write_annotations(outside, self.folder / "out", images=self.folder / "in")
        self.assertFalse((self.folder / "out").exists())


class NotCovered(InFolder):
    """A refused annotation leaves its image open for its kind: it is not empty."""

    def test_it_is_left_out_of_measuring_and_survives_every_form(self):
        """The right finding of a refused annotation is not wrong; all forms keep that."""
        item = {"type": "Annotation", "target": "a.png#xywh=pixel:1,1,x", "body": "lantern"}
        empty = {"type": "Annotation", "motivation": "assessing", "target": "b.png"}
        loaded = load_annotations(
            self.written(
                "w.jsonld",
                {
                    "@context": "http://www.w3.org/ns/anno.jsonld",
                    "type": "AnnotationPage",
                    "items": [item, empty],
                },
            )
        )
        self.assertTrue(
            any("not covered" in line and "object 1" in line for line in loaded.report.lines())
        )
        said = findings_of(
            [(n, "object", "lantern", 0.9, (1, 1, 9, 9)) for n in ("a.png", "b.png")]
        )
        whole = {"object": ("lantern",)}
        (self.folder / "in").mkdir()
        for name in ("a.png", "b.png"):
            Image.new("RGB", (80, 60)).save(self.folder / "in" / name)
        for name in ("", "t.csv", "t.jsonl", "t.parquet", "t.jsonld", "folder"):
            with self.subTest(name):
                table = loaded.annotations
                if name:
                    write_annotations(table, self.folder / name, images=self.folder / "in")
                    table = read_annotations(self.folder / name)
                self.assertEqual(table.covered("object"), ["b.png"])
                found = measure(said, replace(table, vocabulary=whole), kinds=["object"], draws=0)
                self.assertEqual(
                    (found.pooled.false_positives, found.kinds["object"].images_in_scope), (1, 1)
                )
                self.assertTrue(any("not covered" in note for note in found.notes))


class RoundTrips(InFolder):
    def test_every_form_gives_back_what_it_got(self):
        """Tables and Web Annotations keep rows, doubts, own columns or outlines."""
        table = pictured(self.folder / "in")
        for name in ("t.csv", "t.jsonl", "t.parquet", "t.jsonld"):
            with self.subTest(name):
                write_annotations(table, self.folder / name)
                back = read_annotations(self.folder / name)
                self.assertEqual(
                    [(i, n, b, g) for i, _, n, b, g in self.rows(back)],
                    [(i, n, b, g) for i, _, n, b, g in self.rows(table)],
                )
        own = self.written(
            "own.csv", "image,kind,label,x0,y0,x1,y1,ignore,lamp\na,object,x,0,0,1,1,,oil\n"
        )
        for name in ("o.csv", "o.jsonl", "o.parquet"):
            write_annotations(read_annotations(own), self.folder / name)
            back = read_annotations(self.folder / name)
            self.assertEqual(dict(back.details[0].attributes), {"lamp": "oil"}, name)

    def test_review(self):
        """A filled review becomes annotations; a word that is not known is named by its line."""
        head = "image,kind,label,confidence,x0,y0,x1,y1,review\n"
        path = self.written(
            "r.csv", head + "a,object,x,0.5,0,0,9,9,confirmed\na,object,y,0.5,0,0,8,8,wrong\n"
        )
        self.assertEqual(
            self.rows(read_review(path).annotations), [("a", "object", "x", (0, 0, 9, 9), False)]
        )
        looked_for = read_review(path, vocabulary={"object": ["y", "x"]}).annotations
        self.assertEqual(looked_for.vocabulary, {"object": ("y", "x")})
        with self.assertRaisesRegex(TableError, "a person can edit.*allowed: .csv, .jsonl"):
            read_review(self.written("r.parquet", ""))
        with self.assertRaisesRegex(TableError, "line 2, column review.*'fine'"):
            read_review(self.written("r.csv", head + "a,object,x,0.5,0,0,9,9,fine\n"))
        with self.assertRaisesRegex(TableError, "no column 'review'"):
            read_review(self.written("r.csv", "image,kind,label\na,label,x\n"))


class Guide(unittest.TestCase):
    def test_the_guides_files_are_valid(self):
        """The TOML blocks of the measuring guide are a columns file and an import description."""
        from dotledger.formats.annotations.import_descriptions import load_import
        from dotledger.formats.tables.geometry_columns import read_shape

        guide = Path(__file__).parents[3] / "docs" / "measuring.md"
        blocks = [b.partition("```")[0] for b in guide.read_text().split("```toml\n")[1:]]
        self.assertEqual(len(blocks), 2)
        with tempfile.TemporaryDirectory() as home:
            files = [Path(home) / f"{i}.toml" for i in range(2)]
            for file, block in zip(files, blocks):
                file.write_text(block)
            self.assertEqual(read_shape(files[0]).unit, "fraction")
            self.assertEqual(load_import(files[1]).read[0].ignore, "crowd")
