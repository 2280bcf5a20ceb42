"""XMP packets in JPEG and PNG files."""

import io
import struct
import unittest
import zlib

import numpy as np
from PIL import Image

from dotledger.errors import ImageError
from dotledger.images.image_metadata import read_packet, with_packet

PACKET = b"<x:xmpmeta xmlns:x='adobe:ns:meta/'/>"


def encoded(form, **more):
    buffer = io.BytesIO()
    Image.linear_gradient("L").save(buffer, form, **more)
    return buffer.getvalue()


class Packets(unittest.TestCase):
    def test_in_and_out(self):
        """A packet goes in, replaces an older one, and the image stays what it was."""
        for form in ("JPEG", "PNG"):
            data = encoded(form)
            self.assertIsNone(read_packet(data))
            once = with_packet(data, b"<old/>")
            twice = with_packet(once, PACKET)
            self.assertEqual(read_packet(twice), PACKET)
            self.assertNotIn(b"<old/>", twice)
            self.assertEqual(len(twice) - len(once), len(PACKET) - len(b"<old/>"))
            before, after = (np.asarray(Image.open(io.BytesIO(d))) for d in (data, twice))
            np.testing.assert_array_equal(before, after)

    def test_another_reader_finds_it(self):
        """Pillow reads the packet that was written, and we read Pillow's."""
        for form in ("JPEG", "PNG"):
            with Image.open(io.BytesIO(with_packet(encoded(form), PACKET))) as image:
                found = image.info.get("xmp", image.info.get("XML:com.adobe.xmp"))
                self.assertEqual(found if isinstance(found, bytes) else found.encode(), PACKET)
        self.assertEqual(read_packet(encoded("JPEG", xmp=PACKET)), PACKET)

    def test_after_exif(self):
        """In JPEG the packet comes after EXIF, which must be first."""
        exif = Image.Exif()
        exif[0x0112] = 6
        data = with_packet(encoded("JPEG", exif=exif), PACKET)
        self.assertLess(data.index(b"Exif\x00\x00"), data.index(PACKET))
        with Image.open(io.BytesIO(data)) as image:
            self.assertEqual(image.getexif()[0x0112], 6)

    def test_compressed(self):
        """PNG may hold the packet compressed."""
        data = encoded("PNG")
        body = b"iTXtXML:com.adobe.xmp\x00\x01\x00\x00\x00" + zlib.compress(PACKET)
        chunk = struct.pack(">I", len(body) - 4) + body + struct.pack(">I", zlib.crc32(body))
        self.assertEqual(read_packet(data[:33] + chunk + data[33:]), PACKET)

    def test_refused(self):
        """What is no image, a file that breaks off and a packet too large are refused."""
        self.assertIsNone(read_packet(encoded("GIF")))
        with self.assertRaisesRegex(ImageError, "JPEG and PNG"):
            with_packet(encoded("GIF"), PACKET)
        with self.assertRaisesRegex(ImageError, "not an image"):
            read_packet(b"hello")
        with self.assertRaisesRegex(ImageError, "not an image"):
            read_packet(with_packet(encoded("JPEG"), PACKET * 100)[:200])
        with self.assertRaisesRegex(ImageError, "too large"):
            with_packet(encoded("JPEG"), b"x" * 70_000)

    def test_the_largest_packet(self):
        """A JPEG segment holds 65,502 bytes next to its name (XMP part 3, 1.1.3); no more."""
        largest = 65_502 - len(b"http://ns.adobe.com/xap/1.0/\0")
        packet = b"<x/>".ljust(largest)
        self.assertEqual(read_packet(with_packet(encoded("JPEG"), packet)), packet)
        with self.assertRaisesRegex(ImageError, f"{largest + 1} bytes"):
            with_packet(encoded("JPEG"), packet + b" ")


class Compressed(unittest.TestCase):
    def test_text_of_both_sorts(self):
        """A packet in a PNG is found squeezed and plain; the flag says which, not the bytes."""
        for flag, body in ((0, PACKET), (1, zlib.compress(PACKET))):
            text = b"XML:com.adobe.xmp\x00" + bytes([flag, 0]) + b"\x00\x00" + body
            chunk = struct.pack(">I", len(text)) + b"iTXt" + text
            chunk += struct.pack(">I", zlib.crc32(b"iTXt" + text))
            data = encoded("PNG")
            end = data.rindex(b"IEND") - 4
            self.assertEqual(read_packet(data[:end] + chunk + data[end:]), PACKET)

    def test_other_text(self):
        """Text under another name is no packet, whatever it holds."""
        text = b"Comment\x00\x00\x00\x00\x00" + PACKET
        chunk = struct.pack(">I", len(text)) + b"iTXt" + text
        chunk += struct.pack(">I", zlib.crc32(b"iTXt" + text))
        data = encoded("PNG")
        end = data.rindex(b"IEND") - 4
        self.assertIsNone(read_packet(data[:end] + chunk + data[end:]))


class Order(unittest.TestCase):
    def test_after_what_comes_first(self):
        """In a JPEG the packet stands behind JFIF and EXIF, and before the picture's tables."""
        exif = Image.Exif()
        exif[0x010E] = "an evening walk"
        data = with_packet(encoded("JPEG", exif=exif), PACKET)
        places = [data.index(mark) for mark in (b"Exif\x00\x00", PACKET, b"\xff\xdb")]
        self.assertEqual(places, sorted(places))
        if b"JFIF" in data:
            self.assertLess(data.index(b"JFIF"), data.index(PACKET))
