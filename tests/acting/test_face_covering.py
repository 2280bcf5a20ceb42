"""Covering: what is hidden stays hidden, everything else stays as it was."""

import io
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image, ImageCms

from dotledger import cover
from dotledger.acting.face_covering import open_boxes
from dotledger.errors import ArgumentError, ImageError
from dotledger.standins.demo_scenes import RECIPES, draw_scene, truth
from tests.core.measurement.test_measure import annotations_of, findings_of


def encoded(image, form="PNG", **options):
    buffer = io.BytesIO()
    image.save(buffer, form, **options)
    return buffer.getvalue()


def noise(size=(120, 90), mode="RGB", seed=0):
    shape = (size[1], size[0], *((len(mode),) if len(mode) > 1 else ()))
    return Image.fromarray(np.random.default_rng(seed).integers(0, 256, shape, dtype=np.uint8))


def faces(*boxes, image="a"):
    return findings_of(
        [(image, "face", "face", 0.9, box) for box in boxes] or [(image, "face", "", None, None)]
    )


def pixels(data):
    return np.asarray(Image.open(io.BytesIO(data)))


def correlation(one, other):
    one, other = (np.asarray(x.convert("L"), dtype=float).ravel() for x in (one, other))
    return float(np.corrcoef(one, other)[0, 1]) if one.std() and other.std() else 0.0


class Covering(unittest.TestCase):
    def test_only_what_was_found(self):
        """Pixels under the box and its margin change; all others are the same, bit for bit."""
        before = noise()
        done = cover(encoded(before), faces((20, 30, 40, 50)), margin=0.1)
        self.assertEqual((done.covered, done.boxes), (1, ((18, 28, 42, 52),)))
        after = pixels(done.data)
        self.assertTrue((after[28:52, 18:42] == (20, 20, 26)).all())
        outside = np.ones(after.shape[:2], dtype=bool)
        outside[28:52, 18:42] = False
        self.assertTrue((after[outside] == np.asarray(before)[outside]).all())

    def test_nothing_to_cover(self):
        """The very bytes come back; so they do where every finding is below the threshold."""
        data = encoded(noise(), "JPEG")
        self.assertEqual(cover(data, faces()).data, data)
        done = cover(data, faces((1, 1, 9, 9)), threshold=0.95)
        self.assertEqual((done.data, done.covered), (data, 0))
        self.assertEqual(cover(data, faces((1, 1, 9, 9)), kind="object").covered, 0)

    def test_all_faces(self):
        """Two hundred of them, at the edge, of four pixels, and reaching over the edge."""
        rng = np.random.default_rng(1)
        corners = rng.integers(0, 86, (197, 2))
        boxes = [(x, y, x + 4, y + 4) for x, y in corners.tolist()]
        boxes += [(-5, -5, 3, 3), (115, 85, 140, 99), (60, 40, 60.5, 40.5)]
        done = cover(encoded(noise()), faces(*boxes), margin=0)
        self.assertEqual(done.covered, 200)
        after = pixels(done.data)
        for x, y, *_ in boxes[:197]:
            self.assertTrue((after[y : y + 4, x : x + 4] == (20, 20, 26)).all())
        self.assertEqual(done.boxes[-1], (60, 40, 61, 41))

    def test_upright(self):
        """A box of the upright image covers the same thing in a file that is stored lying."""
        image = noise((60, 40))
        exif = Image.Exif()
        exif[0x0112] = 6
        data = encoded(image, "PNG", exif=exif)
        done = cover(data, faces((5, 10, 15, 30)), margin=0)
        upright = np.asarray(image.transpose(Image.Transpose.ROTATE_270))
        after = pixels(done.data)
        self.assertEqual(after.shape, upright.shape)
        self.assertTrue((after[10:30, 5:15] == (20, 20, 26)).all())
        self.assertTrue((after[:, 16:] == upright[:, 16:]).all())
        self.assertEqual(Image.open(io.BytesIO(done.data)).getexif().get(0x0112), 1)

    def test_modes_and_formats(self):
        """Each stays what it was: format, mode, transparency elsewhere, profile, quality."""
        for mode in ("L", "RGB", "RGBA", "LA"):
            done = cover(encoded(noise(mode=mode)), faces((20, 30, 40, 50)))
            self.assertEqual(Image.open(io.BytesIO(done.data)).mode, mode)
        profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
        data = encoded(
            noise(), "JPEG", quality=71, icc_profile=profile, dpi=(300, 300), subsampling=0
        )
        done = Image.open(io.BytesIO(cover(data, faces((20, 30, 40, 50))).data))
        was = Image.open(io.BytesIO(data))
        self.assertEqual(
            (done.format, done.info["icc_profile"], done.info["dpi"]), ("JPEG", profile, (300, 300))
        )
        self.assertEqual(done.quantization, was.quantization)
        for form in ("WEBP", "TIFF", "BMP", "GIF"):
            done = cover(encoded(noise(), form), faces((20, 30, 40, 50)))
            self.assertEqual(Image.open(io.BytesIO(done.data)).format, form)
        moving = encoded(noise(), "GIF", save_all=True, append_images=[noise(seed=1)])
        with self.assertRaisesRegex(ImageError, "2 frames"):
            cover(moving, faces((20, 30, 40, 50)))

    def test_metadata(self):
        """Only numbers of the camera's settings stay: places, names, texts and XMP go, and are named."""
        exif = Image.Exif()
        exif[0x010E], exif[0xC62F] = "A lantern walk", "S-17"
        exif.get_ifd(0x8825)[1] = "N"
        exif.get_ifd(0x8769)[0x927C], exif.get_ifd(0x8769)[0xA431] = b"note", "S-17"
        exif.get_ifd(0x8769)[0x829A] = 0.5
        packet = (
            b'<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
            b'<rdf:Description xmlns:r="r:" xmlns:e="e:" e:GPSLatitude="1,2N" r:title="walk">'
            b"<r:Regions><r:Name>Ada Ro</r:Name></r:Regions></rdf:Description></rdf:RDF></x:xmpmeta>"
        )
        data = encoded(noise(), "JPEG", exif=exif, xmp=packet)
        done = cover(data, faces((20, 30, 40, 50)))
        for word in ("place (GPS)", "maker's note", "camera's serial number", "description", "XMP"):
            self.assertIn(word, done.removed)
        for secret in (b"S-17", b"Ada Ro", b"1,2N", b"note", b"lantern walk", b'title="walk"'):
            self.assertIn(secret, data)
            self.assertNotIn(secret, done.data)
        kept = Image.open(io.BytesIO(done.data))
        self.assertEqual(float(kept.getexif().get_ifd(0x8769)[0x829A]), 0.5)
        self.assertNotIn("xmp", kept.info)

    def test_nothing_of_the_face_survives(self):
        """A covered face is less like itself than two different faces are like each other."""
        scene = draw_scene(RECIPES[1])
        picture = Image.open(io.BytesIO(scene.data)).convert("RGB")
        boxes = [thing.box for thing in scene.painted if thing.kind == "face"]
        crops = [picture.crop(tuple(map(round, box))) for box in boxes]
        different = correlation(crops[0], crops[1].resize(crops[0].size))
        for style in ("solid", "blurred", "blocks"):
            done = cover(scene.data, faces(*boxes), style=style, margin=0)
            after = Image.open(io.BytesIO(done.data)).convert("RGB")
            for box, crop in zip(boxes, crops, strict=True):
                left = correlation(crop, after.crop(tuple(map(round, box))))
                self.assertLess(left, different, style)

    def test_left_open(self):
        """Annotated faces that no cover hides are named with the share that is."""
        true = annotations_of([("a", "face", "face", (0, 0, 10, 10), False), ("a", "face", "face", (20, 0, 30, 10), False),
                               ("a", "face", "face", (50, 0, 60, 10), True)])  # fmt: skip
        self.assertEqual(open_boxes([(0, 0, 10, 10), (19, -1, 31, 11)], true, image="a"), [])
        [(label, box, share)] = open_boxes([(0, 0, 10, 10), (25, 0, 40, 10)], true, image="a")
        self.assertEqual((label, box), ("face", (20, 0, 30, 10)))
        self.assertAlmostEqual(share, 0.5)

    def test_refused(self):
        """Whose findings they are must be plain; arguments are checked; broken files too."""
        data = encoded(noise())
        both = findings_of(
            [("a", "face", "face", 0.9, (1, 1, 9, 9)), ("b", "face", "face", 0.9, (50, 50, 60, 60))]
        )
        with self.assertRaisesRegex(ArgumentError, "several images"):
            cover(data, both)
        self.assertEqual(cover(data, both, name="b", margin=0).boxes, ((50, 50, 60, 60),))
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (home / "b").write_bytes(data)
        self.assertEqual(cover(home / "b", both, margin=0).boxes, ((50, 50, 60, 60),))
        for options, why in (
            ({"style": "stripes"}, "solid"), ({"kind": "unsafe"}, "face"), ({"margin": -1}, "0 to 5"),
            ({"name": "c"}, "no image of this name"),
        ):  # fmt: skip
            with self.subTest(options=options), self.assertRaisesRegex(ArgumentError, why):
                cover(data, both, **options)
        with self.assertRaises(ImageError):
            cover(data[:200], faces((1, 1, 9, 9)))

    def test_writing(self):
        """Nothing that exists is written over."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        done = cover(encoded(noise()), faces((1, 1, 9, 9)))
        done.write(home / "new.png")
        self.assertEqual((home / "new.png").read_bytes(), done.data)
        with self.assertRaises(FileExistsError):
            done.write(home / "new.png")

    def test_truth_of_scenes(self):
        """Covered by their own truth, no face of a crowd is open."""
        scene = draw_scene(next(r for r in RECIPES if r.name == "crowd-01.jpg"))
        true = truth([scene])
        found = true.filter(kind="face").frame().drop(columns="ignore").assign(confidence=1.0)
        done = cover(scene.data, found)
        self.assertEqual(done.covered, 8)
        self.assertEqual(open_boxes(done.boxes, true, image=scene.name), [])
