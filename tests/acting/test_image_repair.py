"""Damaged images: a copy holds what can be decoded, says what is lost, and passes."""

import io
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image, ImageFile
from PIL.PngImagePlugin import PngInfo

from dotledger import repair_images
from dotledger.errors import ArgumentError
from dotledger.images.image_facts import read_facts
from dotledger.images.image_preparation import Demands, prepare
from tests.cli.test_messages import called
from tests.sending.helpers import TEXT

STEPS = np.add.outer(np.arange(120), np.arange(160))[:, :, None] * [1, 0.7, 0.4] % 256
BASE = Image.fromarray(STEPS.astype(np.uint8))


def encoded(form, picture=BASE, **options):
    held = io.BytesIO()
    picture.save(held, form, **options)
    return held.getvalue()


def with_text():
    text = PngInfo()
    text.add_text("note", "x" * 40)
    whole = encoded("PNG", pnginfo=text)
    at = whole.index(b"tEXt") + 4 + 45
    return whole[:at] + b"\0\0\0\0" + whole[at + 4 :]


def part(data, share):
    return data[: int(len(data) * share)]


class Repairing(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def repair(self, name, data, **options):
        path = self.folder / "images" / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(data)
        return repair_images(path.parent, self.folder / "whole", replace=True, **options)

    def test_what_is_kept(self):
        """Of each kind of damage: the size, the part that is there pixel by pixel, and what is said."""
        draw = np.random.default_rng(1)
        noisy = Image.fromarray(draw.integers(0, 256, (120, 160, 3), np.uint8))
        grey = Image.fromarray(draw.integers(0, 256, (120, 160), np.uint8))
        for name, data, original, least, most in (
            ("half.jpg", part(encoded("JPEG", grey, quality=90), 0.5), grey, 0.35, 0.6),
            ("lead.jpg", b"\r\n\r\n" + encoded("JPEG"), BASE, 1, 1),
            ("text.png", with_text(), BASE, 1, 1),
            ("half.png", part(encoded("PNG", noisy), 0.5), noisy, 0.35, 0.6),
            ("half.bmp", part(encoded("BMP"), 0.5), None, 0.4, 0.6),
            ("half.tif", part(encoded("TIFF"), 0.5), BASE, 0.3, 0.6),
        ):
            with self.subTest(name):
                one = next(one for one in self.repair(name, data) if one.name == name)
                self.assertTrue(least <= one.kept <= most, one)
                self.assertEqual(one.problem, "")
                said = "rows kept" in " ".join(one.done)
                self.assertEqual(said, one.kept < 1)
                copy = Path(one.path).read_bytes()
                prepare(copy, read_facts(copy), Demands())
                if original is None:  # its rows are stored from the last to the first
                    continue
                rows = int(one.kept * 120) - 16
                got, wanted = (
                    np.asarray(picture.convert("RGB")).astype(int)[:rows]
                    for picture in (Image.open(one.path), original)
                )
                self.assertLess(np.abs(got - wanted).mean(), 30 if name.endswith("jpg") else 0.5)

    def test_what_passes_gets_no_copy(self):
        """Whole images, odd colours and what is too small: nothing is written, no folder is made."""
        self.assertEqual(self.repair("whole.jpg", encoded("JPEG")), [])
        self.assertEqual(self.repair("cmyk.jpg", encoded("JPEG", BASE.convert("CMYK"))), [])
        deep = Image.fromarray(np.asarray(BASE.convert("L")).astype(np.uint16) * 257)
        self.assertEqual(self.repair("deep.png", encoded("PNG", deep)), [])
        small = {"demands": Demands(min_side=500)}
        self.assertEqual(self.repair("small.jpg", encoded("JPEG"), **small), [])
        self.assertFalse((self.folder / "whole").exists())

    def test_advice(self):
        """The way to repair is told where an image is damaged, not where one is only too small."""
        (self.folder / "images").mkdir()
        (self.folder / "bell.toml").write_text(TEXT)
        words = [
            "forecast",
            str(self.folder / "images"),
            "--service",
            str(self.folder / "bell.toml"),
        ]
        words += ["--ledger", str(self.folder / "none")]
        for name, data, told in (
            ("small.jpg", encoded("JPEG", BASE.resize((4, 4))), False),
            ("half.png", part(encoded("PNG"), 0.5), True),
        ):
            (self.folder / "images" / name).write_bytes(data)
            status, out, err = called(*words)
            self.assertEqual(status, 0, err)
            self.assertEqual("Damaged: 1 image. --repair FOLDER" in out, told, out)

    def test_what_cannot_be_saved(self):
        """No picture at all, an empty file, a copy that the service refuses too: each with its reason."""
        [one] = self.repair("text.jpg", b"hello there" * 30)
        self.assertIsNone(one.path)
        self.assertRegex(one.problem, "no picture can be decoded")
        [_, one] = self.repair("a-void.jpg", b"")[::-1]
        self.assertIsNone(one.path)
        self.assertFalse((self.folder / "whole").exists())

    def test_nothing_else_is_touched(self):
        """Originals stay; their own folder is refused; other decoding stays strict."""
        data = part(encoded("PNG"), 0.5)
        [one] = self.repair("half.png", data)
        self.assertEqual((self.folder / "images/half.png").read_bytes(), data)
        self.assertNotEqual(one.path, str(self.folder / "images/half.png"))
        with self.assertRaisesRegex(ArgumentError, "read by the same command"):
            repair_images(self.folder / "images", self.folder / "images", replace=True)
        with self.assertRaisesRegex(ArgumentError, "not empty"):
            repair_images(self.folder / "images", self.folder / "whole")
        self.assertFalse(ImageFile.LOAD_TRUNCATED_IMAGES)


if __name__ == "__main__":
    unittest.main()
