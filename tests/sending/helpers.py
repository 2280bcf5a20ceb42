"""Small images and a small service for tests of sending."""

import io
import re
import tempfile
import unittest
from pathlib import Path

from PIL import Image, ImageDraw

from dotledger import Ledger, send
from dotledger.services.description import parse_description
from dotledger.testing import FakeTransport

TEXT = """
service = "bell"
[connect]
address = "http://127.0.0.1:1/{region}"
settings = { region = "north" }
[connect.key]
place = "header"
name = "X-Key"
sources = ["env:BELL_KEY"]
[[call]]
name = "look"
kinds = ["label", "object"]
path = "/look"
[limits]
formats = ["jpeg"]
at_once = 4
min_side = 8
[price]
per_1000 = 10.0
currency = "EUR"
[[read]]
kind = "label"
each = "tags[]"
label = "name"
[[read]]
kind = "object"
each = "things[]"
label = "name"
confidence = { at = "sure" }
box = { at = "box", order = ["x0", "y0", "x1", "y1"] }
"""

ANSWER = {
    "tags": [{"name": "night"}],
    "things": [{"name": "bell", "sure": 0.9, "box": [1, 1, 5, 5]}],
}


def description(*changes):
    """The little service's description, with (old, new) changes to its text."""
    text = TEXT
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new, 1)
    return parse_description(text)


def picture(number=0, size=(24, 16), form="JPEG", **options):
    """A small image; different numbers give different bytes."""
    image = Image.new(options.pop("mode", "RGB"), size)
    ImageDraw.Draw(image).point((number % size[0], number // size[0] % size[1]), fill=1)
    buffer = io.BytesIO()
    if form == "JPEG":
        options["comment"] = str(number).encode()
    image.save(buffer, form, **options)
    return buffer.getvalue()


def pictures(count):
    """`count` different images in memory, by name."""
    return {f"p-{number}.jpg": picture(number) for number in range(count)}


def number_of(request):
    """The number of the picture in a raw request."""
    return int(re.search(rb"\xff\xfe..(\d+)", request.body, re.DOTALL)[1])


class InFolder(unittest.TestCase):
    """A test with a folder of its own, a ledger in it and a short way to send."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "l.ledger"

    def send(self, images, replies, service=None, **options):
        """Send through a fake transport; return what it came to and the transport."""
        transport = FakeTransport(replies)
        options = {"ledger": self.path, "key": "k-secret", "transport": transport, **options}
        return send(images, service or description(), **options), transport

    def ledger(self):
        return self.enterContext(Ledger(self.path))
