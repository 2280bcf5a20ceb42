"""Small images and a small service for tests of sending."""

import io
import json
import re
import struct
import tempfile
import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from PIL import Image, ImageDraw

from dotledger import Ledger, send
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.services.service_description import parse_description
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
    if form == "JPEG":  # pictures that are told apart by what is sent of them: by their density
        options["dpi"] = (number % 60_000 + 1, number // 60_000 + 1)
    image.save(buffer, form, **options)
    return buffer.getvalue()


def pictures(count):
    """`count` different images in memory, by name."""
    return {f"p-{number}.jpg": picture(number) for number in range(count)}


def failures_of(where):
    """What the newest batch of a ledger did not find out."""
    with Ledger(where, create=False) as ledger:
        return ledger.failures()


def number_of(request):
    """The number of the picture in a raw request."""
    return number_in(request.body)


def number_in(body):
    """The number of the picture in the body of a request."""
    across, down = struct.unpack(">HH", re.search(rb"JFIF\0...(.{4})", body, re.DOTALL)[1])
    return across - 1 + 60_000 * (down - 1)


class Handler(BaseHTTPRequestHandler):
    """A quiet handler; subclasses answer in `asked`, and `seen` is a list of each test's own."""

    protocol_version = "HTTP/1.1"
    seen = ()

    def do_POST(self):
        self.asked()

    def do_GET(self):
        self.asked()

    def do_PUT(self):
        self.asked()

    def do_DELETE(self):
        self.asked()

    def body(self):
        return self.rfile.read(int(self.headers.get("Content-Length", 0)))

    def reply(self, content=b"{}", length=None, **headers):
        """Answer with bytes, or anything else as JSON; a length of its own may promise more."""
        data = content if isinstance(content, bytes) else json.dumps(content).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(data) if length is None else length))
        for name, value in {"Content_Type": "application/json", **headers}.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, *args):
        pass


def served(test, handler):
    """Run a server while a test lasts; return its port and the handler's class, with its own `seen`."""
    own = type("Own", (handler,), {"seen": []})
    server = ThreadingHTTPServer(("127.0.0.1", 0), own)
    server.handle_error = lambda *_: None
    threading.Thread(target=server.serve_forever, daemon=True).start()
    test.addCleanup(server.server_close)
    test.addCleanup(server.shutdown)
    return server.server_port, own


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
        return self.enterContext(LedgerStore(self.path))
