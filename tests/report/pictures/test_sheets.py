"""Boxes on images: where the lines are, in which colour, and what is left out."""

import io
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image

from dotledger import draw
from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.findings import Findings
from dotledger.errors import GatherError
from dotledger.files import safe_file_name
from dotledger.report.pictures.marks import TONES, Mark, draw_marks
from dotledger.report.pictures.sheets import Pictured, contact_sheet, picture_marks


def grey(size=(300, 200), **options):
    buffer = io.BytesIO()
    Image.new("RGB", size, (90, 90, 90)).save(buffer, "PNG", **options)
    return buffer.getvalue()


def found(*rows):
    """Findings from rows of image, label, confidence and box."""
    images, labels, confidences, boxes = zip(*rows)
    x0, y0, x1, y1 = np.array(boxes, dtype=float).T
    return Findings.from_columns(
        image=list(images), kind=["object"] * len(rows), label=list(labels),
        confidence=list(confidences), x0=x0, y0=y0, x1=x1, y1=y1,
    )  # fmt: skip


def true(*rows):
    images, labels, boxes = zip(*rows)
    x0, y0, x1, y1 = np.array(boxes, dtype=float).T
    return Annotations.from_columns(
        image=list(images), kind=["object"] * len(rows), label=list(labels),
        x0=x0, y0=y0, x1=x1, y1=y1, ignore=[False] * len(rows),
    )  # fmt: skip


def has(image, colour, place, reach=3):
    """Whether a pixel near a place has a colour."""
    x, y = place
    part = np.asarray(image)[max(0, y - reach) : y + reach + 1, max(0, x - reach) : x + reach + 1]
    return bool((part == colour).all(axis=-1).any())


class Marks(unittest.TestCase):
    def test_lines_are_where_the_box_is(self):
        """The outline runs along the box, scaled with the image; its inside is left alone."""
        image = Image.open(io.BytesIO(grey()))
        for scale in (1.0, 0.5):
            mark = Mark(
                box=(80 / scale, 60 / scale, 200 / scale, 140 / scale), text="", tone="wrong"
            )
            drawn = draw_marks(image, [mark], scale=scale)
            for place in ((80, 100), (200, 100), (140, 60), (140, 140)):
                self.assertTrue(has(drawn, TONES["wrong"], place), place)
            self.assertEqual(drawn.getpixel((140, 100)), (90, 90, 90))
        self.assertEqual(image.getpixel((80, 100)), (90, 90, 90), "drawn on a copy")

    def test_writing_is_harmless_and_apart(self):
        """Odd and very long labels are drawn; the writing of equal boxes stands apart."""
        image = Image.open(io.BytesIO(grey()))
        box = (100, 90, 180, 150)
        marks = [Mark(box=box, text=t, tone="right") for t in ("lamp\n\x00" * 9, "x" * 10_000)]
        drawn = np.asarray(draw_marks(image, marks, footer="a footer " * 40))
        self.assertEqual(drawn.shape[1], 300)
        self.assertGreater(drawn.shape[0], 230, "the footer is wrapped below the image")
        rows = (drawn[:200] == TONES["right"]).all(axis=-1).sum(axis=1)
        self.assertGreater((rows > 60).sum(), 20, "two tags, one above the other")

    def test_equal_labels_equal_colours(self):
        """Without ground truth a label has its own colour, whatever the confidence."""
        image = Image.open(io.BytesIO(grey()))
        one, two = (
            np.asarray(
                draw_marks(
                    image, [Mark(box=(80, 60, 200, 140), text=f"stool {sure}", label="stool")]
                )
            )
            for sure in ("0.91", "0.12")
        )
        np.testing.assert_array_equal(one[100, 70:90], two[100, 70:90])


class Judged(unittest.TestCase):
    def test_what_becomes_of_each(self):
        """Right, wrong and missed have a colour each, and are counted for the sheet."""
        findings = found(
            ("a", "lamp", 0.9, (10, 10, 60, 60)),
            ("a", "lamp", 0.8, (100, 10, 150, 60)),
            ("b", "lamp", 0.7, (10, 10, 60, 60)),
        )
        annotations = true(("a", "lamp", (10, 10, 60, 62)), ("a", "lamp", (200, 10, 240, 60)))
        marks = picture_marks(findings, annotations)
        tones = sorted((mark.tone, mark.dashed) for mark in marks["a"][0])
        self.assertEqual(tones, [("missed", True), ("right", False), ("wrong", False)])
        self.assertEqual(marks["a"][2], "1 right, 1 wrong, 1 missed")
        self.assertEqual(picture_marks(findings, None)["a"][2], "2 found")

    def test_pictures_and_sheet(self):
        """One upright PNG for each image that is there, under harmless names, and one sheet."""
        exif = Image.Exif()
        exif[0x0112] = 6
        images = {
            "../x/turned.png": grey(exif=exif),
            "broken.png": grey()[:60],
            "a/b.png": grey(),
            "a--b.png": grey(),
        }
        rows = [(name, "lamp", 0.9, (10, 10, 60, 60)) for name in (*images, "gone.png")]
        with tempfile.TemporaryDirectory() as folder:
            drawn = draw(found(*rows), images, folder)
            self.assertEqual(drawn.not_found, ("gone.png",))
            names = sorted(path.name for path in drawn.pictures)
            self.assertEqual(names, ["a--b.png-2.png", "a--b.png.png", "x--turned.png.png"])
            self.assertEqual({path.parent for path in drawn.pictures}, {Path(folder)})
            with Image.open(Path(folder) / "x--turned.png.png") as upright:
                self.assertEqual(upright.size, (200, 300))
            with Image.open(drawn.sheet) as sheet:
                self.assertEqual(sheet.width, 1600)
            with self.assertRaises(GatherError):
                draw(found(("other", "lamp", 0.9, (1, 1, 9, 9))), images, folder)

    def test_a_sheet_of_what_cannot_be_read(self):
        """An image that is gone or broken has a cell that says so."""

        def gone():
            raise OSError("gone")

        pictures = [
            Pictured(name=str(n), read=read, marks=(), footer="", summary="")
            for n, read in enumerate((gone, lambda: b"broken", grey))
        ]
        sheet = contact_sheet(pictures, title="three", columns=3, width=600)
        self.assertTrue(has(sheet, (90, 90, 90), (450, 120)))
        self.assertFalse(has(sheet, (90, 90, 90), (100, 120)))
        self.assertEqual(contact_sheet([], title="none").height, 68)

    def test_file_names(self):
        """A name that would leave the folder, or is empty, becomes a harmless one."""
        for name, safe in (
            ("../../x", "x"),
            ("a b:c", "a-b-c"),
            ("...", "image"),
            ("ä.png", "ä.png"),
        ):
            self.assertEqual(safe_file_name(name), safe)
        for letter in "yé漢":
            long, other = (safe_file_name(letter * 500 + end) for end in "ab")
            self.assertLess(len(long.encode()), 200)
            self.assertNotEqual(long, other)
