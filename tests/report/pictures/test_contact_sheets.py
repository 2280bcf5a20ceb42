"""Boxes on images: where the lines are, in which colour, and what is left out."""

import io
import random
import tempfile
import unittest
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image, ImageDraw

from dotledger import draw, picture
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError, GatherError
from dotledger.report.pictures import alphabets as fonts
from dotledger.report.pictures.alphabets import font_for, lacking
from dotledger.report.pictures.box_marks import TONES, Mark, draw_marks
from dotledger.report.pictures.box_writing import BoxWriting
from dotledger.report.pictures.contact_sheets import (
    Pictured,
    contact_sheet,
    fault_tiles,
    picture_marks,
)
from dotledger.report.pictures.label_placing import place_tags
from dotledger.safe_files import safe_file_name


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
        self.assertGreater(drawn.shape[1], 400, "what has no room is explained in the margin")
        self.assertGreater(drawn.shape[0], 230, "the footer is wrapped below the image")
        alone = draw_marks(image, marks, key=False)
        self.assertEqual(alone.size, image.size, "without a margin it is not written")

    def test_tags_cover_nothing(self):
        """For 40 random crowds: no tag covers a tag or a small box, and all stay in the picture."""
        for seed in range(40):
            rng = random.Random(seed)
            boxes = []
            for _ in range(rng.choice((1, 12, 60, 200))):
                x, y = rng.uniform(0, 780), rng.uniform(0, 580)
                boxes.append((x, y, x + rng.uniform(2, 120), y + rng.uniform(2, 120)))
            sizes = [(rng.uniform(20, 160), 18)] * len(boxes)
            placed = place_tags(boxes, sizes, [(26, 18)] * len(boxes), (900, 700))
            spots = [one.spot for one in placed if one.spot is not None]
            for n, spot in enumerate(spots):
                self.assertTrue(spot[0] >= 0 and spot[1] >= 0 and spot[2] <= 900 and spot[3] <= 700)
                for other in spots[n + 1 :]:
                    self.assertFalse(overlapping(spot, other), (seed, spot, other))
                small = 6 * (spot[2] - spot[0]) * (spot[3] - spot[1])
                for box in boxes:
                    if (box[2] - box[0]) * (box[3] - box[1]) < small:
                        self.assertFalse(overlapping(spot, box), (seed, spot, box))
            if len(boxes) <= 12:
                self.assertTrue(all(one.spot is not None for one in placed), seed)

    def test_lines_have_a_second_sign(self):
        """Right is solid; wrong, missed, ignored and unjudged are broken, each in its own way."""
        image = Image.new("RGB", (400, 300), (90, 90, 90))
        shares = {}
        for tone in ("right", "wrong", "missed", "ignored", "unjudged"):
            row = np.asarray(draw_marks(image, [Mark(box=(20, 20, 380, 280), text="", tone=tone)]))[
                18:26, 20:380
            ]
            on = (row == TONES[tone]).all(axis=-1).any(axis=0)
            shares[tone] = (round(float(on.mean()), 1), int(np.diff(on.astype(int)).clip(0).sum()))
        self.assertEqual(shares["right"][0], 1.0)
        self.assertEqual(len({runs for _, runs in shares.values()}), 5, shares)

    def test_every_alphabet(self):
        """Letters beyond ASCII are written where a font has them, and a square where none has."""
        font, shown = font_for("lamp", 20)
        self.assertEqual(shown, "lamp")
        for text in ("Łódka", "παιδί", "фонарь"):
            lost = set(lacking(text))
            font, shown = font_for(text, 20)
            if not lost:
                self.assertEqual(shown, text)
                self.assertGreater(font.getlength(shown), 30)
        self.assertEqual(lacking("\U0010fffd"), "\U0010fffd")
        self.assertNotIn("\U0010fffd", font_for("a\U0010fffd", 20)[1])

    def test_several_fonts_in_one_line(self):
        """Where no font has all letters, each is written by one that has it, on one base line."""
        own = fonts._has

        def halved(path, letter):
            kind = letter.isdigit() == ("Mono" in path)
            return own(path, letter) and (kind or letter.isspace())

        home = Path(find_spec("matplotlib").origin).parent / "mpl-data/fonts/ttf"
        files = [str(home / "DejaVuSans.ttf"), str(home / "DejaVuSansMono.ttf")]
        with (
            mock.patch.object(fonts, "_has", halved),
            mock.patch.object(fonts, "_candidates", return_value=files),
            mock.patch.object(fonts, "_font_with", fonts._font_with.__wrapped__),
        ):
            font, shown = font_for("фонарь 12", 20)
            self.assertEqual(
                (shown, [t for _, t in font.runs(shown)]), ("фонарь 12", ["фонарь ", "12"])
            )
            apart = font.getlength("фонарь ") + font.getlength("12")
            self.assertAlmostEqual(font.getlength(shown), apart)
            image = Image.new("L", (200, 40))
            fonts.write(ImageDraw.Draw(image), (0, 0), shown, font, fill=255)
            inked = np.flatnonzero(np.asarray(image).any(axis=0))
            left, top, right, bottom = font.getbbox(shown)
            self.assertTrue(left <= inked[0] and inked[-1] <= right and inked[-1] > right - 8)
            rows = np.flatnonzero(np.asarray(image).any(axis=1))
            self.assertEqual((rows[0], rows[-1] + 1), (top, bottom))
            self.assertIn("□", font_for("фонарь 1 \U0010fffd", 20)[1])

    def test_a_font_of_ones_own(self):
        """A font that is given writes plain letters too; one that is none is refused at once."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        font = Path(find_spec("matplotlib").origin).parent / "mpl-data/fonts/ttf/DejaVuSerif.ttf"
        findings, images = found(("a", "lamp", 0.9, (10, 10, 60, 60))), {"a": grey()}
        plain = draw(findings, images, home / "p").pictures[0].read_bytes()
        own = draw(findings, images, home / "o", font=font).pictures[0].read_bytes()
        again = draw(findings, images, home / "q").pictures[0].read_bytes()
        self.assertNotEqual(plain, own)
        self.assertEqual(plain, again)
        with self.assertRaisesRegex(ArgumentError, "font cannot be opened"):
            draw(findings, images, home / "r", font=home / "p" / "a.png")

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


def overlapping(a, b):
    return a[0] < b[2] - 0.1 and b[0] < a[2] - 0.1 and a[1] < b[3] - 0.1 and b[1] < a[3] - 0.1


class Judged(unittest.TestCase):
    def test_ways_of_drawing(self):
        """Next to another run, smaller, in percent, and sheets in each order."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        images = {"a": grey(), "b": grey()}
        findings = found(
            ("a", "lamp", 0.9, (10, 10, 60, 60)), ("b", "lamp", 0.8, (100, 10, 150, 60))
        )
        annotations = true(("a", "lamp", (10, 10, 60, 62)), ("b", "lamp", (200, 10, 240, 60)))
        plain = draw(findings, images, home / "p", annotations=annotations)
        wide = draw(
            findings, images, home / "w", annotations=annotations, versus=findings.cut(0.85)
        )
        with Image.open(plain.pictures[0]) as one, Image.open(wide.pictures[0]) as two:
            self.assertGreater(two.width, 2 * one.width)
        small = draw(findings, images, home / "s", side=100)
        with Image.open(small.pictures[0]) as one:
            self.assertEqual(one.width, 100)
        sizes = set()
        for sheet in ("images", "worst", "reason", "label"):
            made = draw(
                findings,
                images,
                home / sheet,
                annotations=annotations,
                sheet=sheet,
                confidence="percent",
            )
            sizes.add(made.sheet.read_bytes())
        self.assertEqual(len(sizes), 4)
        odd = draw(found(("a", "lamp \U0010fffd", 0.9, (10, 10, 60, 60))), images, home / "odd")
        self.assertEqual((odd.lacking, plain.lacking), ("\U0010fffd", ""))
        marks = picture_marks(findings, None, writing=BoxWriting(confidence="percent"))
        self.assertEqual(marks["a"][0][0].text, "lamp 90%")
        tiles = fault_tiles(
            findings, annotations, {n: (lambda d=d: d) for n, d in images.items()}, by="reason"
        )
        self.assertEqual(
            [one.heading for one in tiles], ["missed: not seen (1)", "wrong: nothing there (1)"]
        )
        self.assertIn("expected lamp", tiles[0].caption)
        facts = {"a": {"light": "dim"}, "b": {"light": "bright"}}
        by_light = draw(
            findings,
            images,
            home / "l",
            annotations=annotations.with_images(facts),
            sheet="slice:light",
        )
        self.assertNotIn(by_light.sheet.read_bytes(), sizes)
        with self.assertRaisesRegex(ArgumentError, "light"):
            draw(
                findings,
                images,
                home / "x",
                annotations=annotations.with_images(facts),
                sheet="slice:scene",
            )
        for wrong in ({"sheet": "best"}, {"sheet": "worst"}, {"side": 3}, {"confidence": "odds"}):
            with self.assertRaises(ArgumentError):
                draw(findings, images, home / "x", **wrong)

    def test_what_becomes_of_each(self):
        """Right, wrong and missed have a colour each, and are counted for the sheet."""
        findings = found(
            ("a", "lamp", 0.9, (10, 10, 60, 60)),
            ("a", "lamp", 0.8, (100, 10, 150, 60)),
            ("b", "lamp", 0.7, (10, 10, 60, 60)),
        )
        annotations = true(("a", "lamp", (10, 10, 60, 62)), ("a", "lamp", (200, 10, 240, 60)))
        marks = picture_marks(findings, annotations)
        tones = sorted((mark.tone, mark.about) for mark in marks["a"][0])
        self.assertEqual(
            tones, [("missed", "missed, not seen"), ("right", ""), ("wrong", "nothing there")]
        )
        self.assertEqual(marks["a"][2], "1 right, 1 wrong, 1 missed")
        self.assertEqual(picture_marks(findings, None)["a"][2], "2 found")

    def test_how_a_confidence_is_written(self):
        """As a share, in percent, or as the service wrote it: what it wrote, or the confidence to its last digit."""
        table = found(("a", "kite", 0.9734, (1, 1, 9, 9)), ("a", "bell", 0.5, (1, 1, 8, 8)))
        table = replace(table, details=(None, Details(own_confidence="Likely")))
        for form, wanted in (("share", ["kite 0.97", "bell 0.50"]), ("percent", ["kite 97%", "bell 50%"]), ("own", ["kite 0.9734", "bell Likely"])):  # fmt: skip
            marks, _, _ = picture_marks(table, None, writing=BoxWriting(confidence=form))["a"]
            self.assertEqual(sorted(mark.text for mark in marks), sorted(wanted))

    def test_one_picture(self):
        """For a notebook: the image's own findings, its margin, its size, and whose they are."""
        findings = found(
            ("a", "lamp", 0.9, (10, 10, 60, 60)), ("b", "lamp", 0.8, (100, 10, 150, 60))
        )
        annotations = true(("a", "lamp", (10, 10, 60, 62)), ("a", "lamp", (200, 10, 240, 60)))
        alone = picture(grey(), findings, name="a")
        self.assertEqual(alone.size, (300, 200))
        self.assertGreater(picture(grey(), findings, annotations, name="a").width, 380)
        self.assertLess(picture(grey(), findings, name="a", side=100).width, 101)
        self.assertEqual(picture(grey(), findings, name="nobody").getpixel((10, 30)), (90, 90, 90))
        with self.assertRaisesRegex(ArgumentError, "several images"):
            picture(grey(), findings)

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
