"""Images at their limits: shrunk to one pixel, not shrunk at all."""

import io
import unittest

from PIL import Image

from dotledger.images.facts import read_facts
from dotledger.images.prepare import Demands, prepare


def encoded(width, height):
    buffer = io.BytesIO()
    Image.new("RGB", (width, height), "navy").save(buffer, "PNG")
    return buffer.getvalue()


class Shrinking(unittest.TestCase):
    def sent(self, width, height, **demands):
        data = encoded(width, height)
        return prepare(data, read_facts(data), Demands(formats=("png",), colours=("rgb",), **demands))  # fmt: skip

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
