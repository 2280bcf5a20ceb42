"""What a file says next to its picture stays here; the picture stays what it is."""

import io
import unittest
import warnings
import zlib

import numpy as np
from PIL import Image, ImageCms, ImageOps
from PIL.PngImagePlugin import PngInfo

from dotledger.errors import GatherError, ImageError
from dotledger.images.image_facts import read_facts
from dotledger.images.image_gathering import gather
from dotledger.images.image_metadata import with_packet
from dotledger.images.image_preparation import Demands, decode_upright, prepare
from dotledger.images.image_segments import png_chunk
from dotledger.images.metadata_removal import without_metadata
from tests.campaigns import hidden_metadata

DEMANDS = Demands(formats=("jpeg", "png", "webp", "tiff"))
PROFILE = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
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


def plain(kind, **more):
    """A small picture with nothing next to it."""
    held = io.BytesIO()
    Image.new("RGB", (16, 9), (200, 90, 30)).save(held, kind, **more)
    return held.getvalue()


def riffed(kind, body):
    return kind + len(body).to_bytes(4, "little") + body + bytes(len(body) % 2)


def riff(chunks):
    return b"RIFF" + (4 + len(chunks)).to_bytes(4, "little") + b"WEBP" + chunks


def sent(data, demands=DEMANDS):
    return prepare(data, read_facts(data), demands)


class Removed(unittest.TestCase):
    def test_what_stays(self):
        """Place and serial number are gone; pixels, profile and orientation are there, and it is said."""
        text = PngInfo()
        text.add_text("Comment", PLACE)
        text.add_itxt("XML:com.adobe.xmp", PLACE)
        for kind, more in (
            ("JPEG", {}),
            ("PNG", {"pnginfo": text}),
            ("WEBP", {"lossless": True}),
            ("TIFF", {}),
        ):
            for orientation in (1, 6):
                data = photo(kind, orientation, **more)
                if kind == "JPEG":
                    data = with_packet(data, PLACE.encode())
                made = sent(data)
                for private in (PLACE, SERIAL)[: 1 if kind == "TIFF" else 2]:
                    self.assertIn(private.encode(), data)
                    self.assertNotIn(private.encode(), made.data, (kind, orientation))
                old, new = (Image.open(io.BytesIO(one)) for one in (data, made.data))
                np.testing.assert_array_equal(np.asarray(old), np.asarray(new))
                upright = ImageOps.exif_transpose(Image.open(io.BytesIO(data)))
                np.testing.assert_array_equal(np.asarray(decode_upright(data)), np.asarray(upright))
                self.assertEqual(old.info["icc_profile"], new.info["icc_profile"])
                turned = (
                    1 if kind == "TIFF" else orientation
                )  # which is decoded, and written, upright
                self.assertEqual((new.getexif().get(0x0112, 1), made.turned), (turned, turned))
                self.assertEqual(read_facts(made.data).orientation, made.turned)
                said = {
                    "JPEG": "Exif, XMP",
                    "PNG": "text, Exif",
                    "WEBP": "Exif",
                    "TIFF": "all but the pixels",
                }
                self.assertEqual(
                    sorted(made.steps[0].removeprefix("metadata removed: ").split(", ")),
                    sorted(said[kind].split(", ")),
                )
                self.assertEqual(sent(made.data).data, made.data, "nothing is left to remove")
                self.assertEqual(sent(made.data).steps, ())

    def test_nothing_to_remove(self):
        """Kept where the description asks for it; a file without anything is the same object."""
        data = photo("JPEG")
        self.assertIs(sent(data, Demands(keep_metadata=True)).data, data)
        for kind in ("JPEG", "PNG", "WEBP", "GIF"):
            held = io.BytesIO()
            Image.new("RGB", (9, 9)).save(held, kind)
            self.assertIs(without_metadata(held.getvalue(), kind.lower(), 1).data, held.getvalue())
            self.assertEqual(without_metadata(held.getvalue(), kind.lower(), 1).removed, ())
        exif = Image.Exif()
        exif[0x0112] = 6
        held = io.BytesIO()
        Image.new("RGB", (9, 5)).save(held, "JPEG", exif=exif)
        cleaned = without_metadata(
            held.getvalue(), "jpeg", 6
        )  # how it is turned tells nothing of anybody
        self.assertEqual((cleaned.removed, read_facts(cleaned.data).orientation), ((), 6))

    def test_crafted(self):
        """Files made by hand, each with the marker where an earlier cut left it: it goes, and it is said."""
        mark, jpeg, png, webp = (
            hidden_metadata.MARK,
            plain("JPEG"),
            plain("PNG"),
            plain("WEBP", icc_profile=PROFILE),
        )
        segment = hidden_metadata._segment
        raw = b"Raw profile type exif\0\0" + zlib.compress(mark)
        other = plain("JPEG")[:2] + segment(0xFE, mark) + plain("JPEG")[2:]
        crafted = {
            "fill bytes before Exif": jpeg[:2]
            + segment(0xE1, b"Exif\0\0MM\0*" + mark, fill=3)
            + jpeg[2:],
            "two Exif": jpeg[:2] + 2 * segment(0xE1, b"Exif\0\0MM\0*" + mark) + jpeg[2:],
            "Exif behind the scan": jpeg[:-2] + segment(0xE1, b"Exif\0\0" + mark) + jpeg[-2:],
            "a comment": jpeg[:2] + segment(0xFE, mark) + jpeg[2:],
            "a comment behind the scan": jpeg[:-2] + segment(0xFE, mark) + jpeg[-2:],
            **{
                f"APP{n}": jpeg[:2] + segment(0xE0 + n, mark) + jpeg[2:]
                for n in (0, 2, 3, 4, 5, 7, 10, 11, 12, 13, 14, 15)
            },
            "a preview in JFIF": jpeg[:2]
            + segment(0xE0, b"JFIF\0\1\1\0\0\1\0\1\2\4" + mark)
            + jpeg[2:],
            "Adobe and more": jpeg[:2] + segment(0xEE, b"Adobe\0\x64\0\0\0\0\1" + mark) + jpeg[2:],
            "a private part between tables": jpeg.replace(
                b"\xff\xc4", segment(0xE7, mark) + b"\xff\xc4", 1
            ),
            "behind the end": jpeg + mark,
            "the other picture of several": jpeg[:2]
            + segment(0xE2, b"MPF\0" + mark)
            + jpeg[2:]
            + other,
            "a private chunk": png[:33] + png_chunk(b"prVt", mark) + png[33:],
            "a compressed text": png[:33] + png_chunk(b"zTXt", raw) + png[33:],
            "a text behind the pixels": png[:-12] + png_chunk(b"tEXt", b"a\0" + mark) + png[-12:],
            "the name of a profile": png[:33]
            + png_chunk(b"iCCP", mark + b"\0\0" + zlib.compress(PROFILE))
            + png[33:],
            "another picture": png[:33] + png_chunk(b"iDOT", mark) + png[33:],
            "PNG, behind the end": png + mark,
            "an odd chunk": riff(webp[12:] + riffed(b"JUNK", mark)),
            "XMP in WebP": plain("WEBP", xmp=mark),
            "WebP, behind the end": webp + mark,
        }
        self.assertEqual(len(crafted), 31)
        for name, data in crafted.items():
            self.assertTrue(hidden_metadata.holds(data), name)
            made = sent(data)
            self.assertFalse(hidden_metadata.holds(made.data), name)
            self.assertTrue(made.steps, name)
            self.assertTrue(hidden_metadata.same_pixels(data, made.data), name)

    def test_planted_anywhere(self):
        """Wherever a format has room next to its pixels, what is planted there is not sent, nor in a covered copy."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # Pillow's, of the odd files
            self.assertEqual(hidden_metadata.attack(400, seed=7)[:2], (400, {}))
            self.assertEqual(hidden_metadata.cover_attack(150, seed=7)[:2], (150, {}))

    def test_that_cannot_be_told_apart(self):
        """A file that its format's grammar does not explain is encoded anew, and not sent in silence."""
        jpeg = plain("JPEG")
        for odd in (
            b"\xff\xd8",
            b"\xff\xd8\xff\xe1\x00",
            jpeg[:40],
            jpeg[:2] + b"\xff\xe1\xff\xff",
        ):
            with self.assertRaisesRegex(ImageError, "does not follow the grammar"):
                without_metadata(odd, "jpeg", 1)
        at = jpeg.index(b"\xff\xdb")
        size = int.from_bytes(jpeg[at + 2 : at + 4], "big")
        longer = (
            jpeg[: at + 2]
            + (size + 9).to_bytes(2, "big")
            + jpeg[at + 4 : at + 2 + size]
            + b"LanternBa"
            + jpeg[at + 2 + size :]
        )
        with self.assertRaises(ImageError):
            without_metadata(longer, "jpeg", 1)


class Colours(unittest.TestCase):
    def test_into_srgb(self):
        """A profile whose red is blue: what is encoded anew has the colour that was seen, and says so."""
        profile = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
        red, blue = (profile.index(name) + 4 for name in (b"rXYZ", b"bXYZ"))
        profile[red : red + 8], profile[blue : blue + 8] = (
            profile[blue : blue + 8],
            profile[red : red + 8],
        )
        swapped = (
            bytes(profile)
            .replace("sRGB".encode("utf-16-be"), "Swap".encode("utf-16-be"))
            .replace(b"sRGB", b"Swap")
        )
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
            as_it_is = sent(held.getvalue()).data == held.getvalue()
            self.assertEqual(as_it_is, odd != b"no profile", "what is no profile may be anything")


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
