"""Images at their limits: shrunk to one pixel, not shrunk at all."""

import io
import unittest
import zlib

from PIL import Image

from dotledger.images.image_facts import read_facts
from dotledger.images.image_metadata import read_packet, with_packet
from dotledger.images.image_preparation import Demands, prepare
from dotledger.images.image_prints import _small


def encoded(width, height):
    buffer = io.BytesIO()
    Image.new("RGB", (width, height), "navy").save(buffer, "PNG")
    return buffer.getvalue()


class Shrinking(unittest.TestCase):
    def sent(self, width, height, **demands):
        data = encoded(width, height)
        return prepare(
            data, read_facts(data), Demands(formats=("png",), colours=("rgb",), **demands)
        )

    def test_never_to_nothing(self):
        """A line of pixels stays one, however much shorter it becomes."""
        for size in ((1000, 4), (4, 1000)):
            made = self.sent(*size, max_side=100)
            self.assertEqual(sorted((made.width, made.height)), [1, 100])

    def test_exactly_as_large_as_is_taken(self):
        """An image of just the greatest side goes as it is, byte for byte."""
        made = self.sent(100, 40, max_side=100)
        self.assertEqual((made.data, made.steps), (encoded(100, 40), ()))
        self.assertEqual(self.sent(101, 40, max_side=100).width, 100)

    def test_exactly_as_many_bytes_as_are_taken(self):
        """A file that becomes PNG of just the most bytes goes whole; with one less it is shrunk."""
        buffer = io.BytesIO()
        noise = bytes(n * n % 251 for n in range(90 * 80 * 3))
        Image.frombytes("RGB", (90, 80), noise).save(buffer, "BMP")
        data = buffer.getvalue()

        def sent(most):
            return prepare(
                data, read_facts(data), Demands(formats=("png",), colours=("rgb",), max_bytes=most)
            )

        whole = sent(10**6)
        self.assertEqual(sent(len(whole.data)).width, 90)
        self.assertLess(sent(len(whole.data) - 1).width, 90)
        either = Demands(formats=("png", "jpeg"), colours=("rgb",), max_bytes=len(whole.data))
        self.assertEqual(prepare(data, read_facts(data), either).format, "png")

    def test_laid_on_white(self):
        """What shows through is white behind, half of it half white."""
        buffer = io.BytesIO()
        clear = Image.new("RGBA", (2, 1), (0, 0, 0, 0))
        clear.putpixel((1, 0), (0, 0, 0, 128))
        clear.save(buffer, "PNG")
        data = buffer.getvalue()
        made = prepare(data, read_facts(data), Demands(formats=("png",), colours=("rgb",)))
        pixels = list(Image.open(io.BytesIO(made.data)).get_flattened_data())
        self.assertEqual((pixels[0], abs(pixels[1][0] - 127) < 2), ((255, 255, 255), True))

    def test_the_end_of_a_file(self):
        """A PNG's end may have some bytes behind it; further away it is no end."""
        data = encoded(4, 4)
        end = len(data) - data.rfind(b"IEND")
        self.assertTrue(read_facts(data + bytes(64 - end)).ends_well)
        self.assertFalse(read_facts(data + bytes(65 - end)).ends_well)


class Prints(unittest.TestCase):
    def test_looked_at_small(self):
        """At most 512 pixels a side, at least two; a small image as it is."""
        for size, seen in (((1024, 600), (512, 300)), ((100, 40), (100, 40)), ((1000, 1), (512, 2))):  # fmt: skip
            self.assertEqual(_small(encoded(*size)).size, seen)


class Packets(unittest.TestCase):
    def test_other_text_is_no_packet(self):
        """Only a text chunk under the name of the standard: not another's, not another sort of chunk."""
        data = encoded(4, 4)
        for kind, body in ((b"iTXt", b"Comment\0\0\0\0\0<x/>"), (b"iTXt", b"XML:com.adobe.xmpx\0\0\0\0<x/>"), (b"tEXt", b"XML:com.adobe.xmp\0\0\0\0\0<x/>")):  # fmt: skip
            chunk = (
                len(body).to_bytes(4, "big")
                + kind
                + body
                + zlib.crc32(kind + body).to_bytes(4, "big")
            )
            self.assertIsNone(read_packet(data[:33] + chunk + data[33:]))
        self.assertEqual(read_packet(with_packet(data, b"<x/>")), b"<x/>")
        note = b"Comment\0\0\0\0\0about the lantern"
        chunk = (
            len(note).to_bytes(4, "big")
            + b"iTXt"
            + note
            + zlib.crc32(b"iTXt" + note).to_bytes(4, "big")
        )
        self.assertIn(b"about the lantern", with_packet(data[:33] + chunk + data[33:], b"<x/>"))
