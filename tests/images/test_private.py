"""What a file says beside its picture stays here; the picture stays what it is."""

import io
import unittest
import zlib

import numpy as np
from PIL import Image, ImageCms
from PIL.PngImagePlugin import PngInfo

from dotledger.errors import GatherError
from dotledger.images.facts import read_facts
from dotledger.images.gather import gather
from dotledger.images.metadata import with_packet
from dotledger.images.prepare import Demands, prepare
from dotledger.images.private import without_private

DEMANDS = Demands(formats=("jpeg", "png", "webp"))
PLACE, SERIAL = "LanternBay", "SN-00417"


def photo(kind, orientation=1, **more):
    """A picture with a place, a serial number, a colour profile, and an orientation."""
    exif = Image.Exif()
    exif[0x0112] = orientation
    exif[0x010E] = PLACE
    exif.get_ifd(0x8825)[29] = "2031:05:01"
    exif.get_ifd(0x8769)[0xA431] = SERIAL
    rng = np.random.default_rng(2)
    image = Image.fromarray(rng.integers(0, 255, (24, 40, 3), dtype=np.uint8))
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    held = io.BytesIO()
    image.save(held, kind, exif=exif, icc_profile=profile, **more)
    return held.getvalue()


def sent(data, demands=DEMANDS):
    return prepare(data, read_facts(data), demands)


class Private(unittest.TestCase):
    def test_cut_out(self):
        """Place and serial number are gone; pixels, profile and orientation are there, and it is said."""
        text = PngInfo()
        text.add_text("Comment", PLACE)
        text.add_itxt("XML:com.adobe.xmp", PLACE)
        for kind, more in (("JPEG", {}), ("PNG", {"pnginfo": text}), ("WEBP", {"lossless": True})):
            for orientation in (1, 6):
                data = photo(kind, orientation, **more)
                if kind == "JPEG":
                    data = with_packet(data, PLACE.encode())
                made = sent(data)
                for private in (PLACE, SERIAL):
                    self.assertIn(private.encode(), data)
                    self.assertNotIn(private.encode(), made.data, (kind, orientation))
                old, new = (Image.open(io.BytesIO(one)) for one in (data, made.data))
                np.testing.assert_array_equal(np.asarray(old), np.asarray(new))
                self.assertEqual(old.info["icc_profile"], new.info["icc_profile"])
                self.assertEqual(new.getexif().get(0x0112, 1), orientation)
                self.assertEqual(dict(new.getexif()).keys() - {0x0112}, set())
                self.assertEqual(read_facts(made.data).orientation, made.turned)
                self.assertRegex(made.steps[0], "^place, camera and the like cut out$")
                self.assertEqual(sent(made.data).data, made.data, "nothing is left to cut")
                self.assertEqual(sent(made.data).steps, ())

    def test_only_where_it_is_safe(self):
        """Kept where the description asks for it; a file without anything, or oddly built, is the same object."""
        data = photo("JPEG")
        self.assertIs(sent(data, Demands(keep_metadata=True)).data, data)
        held = io.BytesIO()
        Image.new("RGB", (9, 9)).save(held, "JPEG")
        plain = held.getvalue()
        self.assertIs(without_private(plain, "jpeg", 1), plain)
        exif = Image.Exif()
        exif[0x0112] = 6
        for kind in ("JPEG", "PNG", "WEBP"):  # how it is turned tells nothing of anybody
            held, noted, text = io.BytesIO(), io.BytesIO(), PngInfo()
            text.add_text("Comment", PLACE)
            Image.new("RGB", (9, 5)).save(held, kind, exif=exif)
            turned = held.getvalue()
            self.assertIs(without_private(turned, kind.lower(), 6), turned)
            # Only what is written beside goes, and the rest stays byte for byte.
            if kind == "JPEG":
                noted.write(with_packet(turned, PLACE.encode()))
            elif kind == "PNG":
                exif[0x011A] = 72.0  # longer than the shortest: it is kept, not made anew
                Image.new("RGB", (9, 5)).save(noted, kind, exif=exif, pnginfo=text)
                held.seek(0)
                Image.new("RGB", (9, 5)).save(held, kind, exif=exif)
                turned = held.getvalue()
            if kind != "WEBP":
                self.assertEqual(without_private(noted.getvalue(), kind.lower(), 6), turned)
        for odd in (
            b"\xff\xd8",
            b"\xff\xd8\xff\xe1\x00",
            data[:40],
            plain[:2] + b"\xff\xe1\xff\xff",
        ):
            self.assertIs(without_private(odd, "jpeg", 1), odd)
        self.assertIs(without_private(data, "tiff", 1), data)
        behind = without_private(photo("PNG") + b"something behind the end", "png", 1)
        self.assertNotIn(PLACE.encode(), behind)
        self.assertTrue(behind.endswith(b"something behind the end"))
        note = b"tEXtNote\0" + PLACE.encode()
        chunk = (len(note) - 4).to_bytes(4, "big") + note + zlib.crc32(note).to_bytes(4, "big")
        png = photo("PNG")
        self.assertNotIn(PLACE.encode(), without_private(png[:33] + chunk + png[33:], "png", 1))


class Colours(unittest.TestCase):
    def test_into_srgb(self):
        """A profile whose red is blue: what is encoded anew has the colour that was seen, and says so."""
        profile = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
        red, blue = (profile.index(name) + 4 for name in (b"rXYZ", b"bXYZ"))
        profile[red : red + 8], profile[blue : blue + 8] = profile[blue : blue + 8], profile[red : red + 8]  # fmt: skip
        swapped = bytes(profile).replace("sRGB".encode("utf-16-be"), "Swap".encode("utf-16-be")).replace(b"sRGB", b"Swap")  # fmt: skip
        for odd, colour in ((swapped, (0, 0, 255)), (b"no profile", (255, 0, 0)), (None, (255, 0, 0))):  # fmt: skip
            held = io.BytesIO()
            Image.new("RGB", (90, 60), (255, 0, 0)).save(held, "PNG", icc_profile=odd)
            made = sent(held.getvalue(), Demands(max_side=30))
            seen = Image.open(io.BytesIO(made.data)).convert("RGB").getpixel((9, 9))
            self.assertLess(
                max(abs(a - b) for a, b in zip(seen, colour)), 4, (seen, odd and odd[:9])
            )
            self.assertEqual(
                any("converted to sRGB" in step for step in made.steps), odd is swapped
            )
            self.assertNotIn("icc_profile", Image.open(io.BytesIO(made.data)).info)
            self.assertEqual(sent(held.getvalue()).data, held.getvalue(), "as it is")


class Large(unittest.TestCase):
    def test_shrunk_from_fewer_pixels(self):
        """A JPEG decoded in fewer pixels becomes the same picture, and is said to be shrunk as much."""
        rng = np.random.default_rng(4)
        smooth = Image.fromarray(rng.integers(0, 255, (4, 6, 3), dtype=np.uint8))
        smooth = smooth.resize((1200, 800), Image.Resampling.BICUBIC)
        made = {}
        for kind, more in (("JPEG", {"quality": 95}), ("PNG", {})):
            held = io.BytesIO()
            smooth.save(held, kind, **more)
            made[kind] = sent(held.getvalue(), Demands(max_side=150))
        jpeg, png = (
            np.asarray(Image.open(io.BytesIO(made[k].data)), dtype=float) for k in ("JPEG", "PNG")
        )
        self.assertLess(np.abs(jpeg - png).mean(), 3)
        self.assertIn("shrunk to 150 x 100 (12%)", made["JPEG"].steps)
        self.assertEqual(made["JPEG"].steps, made["PNG"].steps)


class Pictures(unittest.TestCase):
    def test_what_a_program_holds(self):
        """Pillow images and arrays go out as PNG with the same pixels; what is no picture is named."""
        rng = np.random.default_rng(3)
        arrays = {
            "grey": rng.integers(0, 255, (9, 12), dtype=np.uint8),
            "one": rng.integers(0, 255, (9, 12, 1), dtype=np.uint8),
            "colour": rng.integers(0, 255, (9, 12, 3), dtype=np.uint8)[:, ::-1],
            "clear": rng.integers(0, 255, (9, 12, 4), dtype=np.uint8),
        }
        given = {
            **arrays,
            "pillow": Image.fromarray(arrays["colour"]).convert("CMYK").convert("HSV"),
        }
        for item in gather(given).items:
            back = np.asarray(Image.open(io.BytesIO(item.read())))
            if item.name in arrays:
                np.testing.assert_array_equal(back, arrays[item.name].squeeze())
            self.assertEqual(back.shape[:2], (9, 12))
        for odd in (
            arrays["colour"] / 255,
            arrays["colour"].transpose(2, 0, 1),
            np.zeros((0, 4), np.uint8),
        ):
            with self.assertRaisesRegex(
                GatherError, "odd: this array is no picture.*channels last"
            ):
                gather({"odd": odd})
        with self.assertRaisesRegex(
            GatherError, "odd: neither bytes, a binary stream nor a picture; got 'int'"
        ):
            gather({"odd": 3})
