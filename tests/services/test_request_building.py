"""From a description and images to the bytes of one request."""

import base64
import email
import json
import unittest
from urllib.parse import parse_qs, urlsplit

from dotledger.errors import DescriptionError
from dotledger.services.message_rules import Payload
from dotledger.services.redaction import Key, Secrets
from dotledger.services.request_building import RequestBuilder
from dotledger.services.service_description import parse_description

START = """
service = "bell"
[connect]
address = "http://{host}/v1/"
settings = { host = "bell.example", model = "evening-2" }
"""
IMAGES = [
    Payload(data=b"first", address="http://images.example/1.jpg"),
    Payload(data=b"second\xff", media_type="image/png", file_name="image.png", address="s3://2"),
]


def built(call, payloads=IMAGES[:1], kinds=("label", "object"), key=None, connect=""):
    """The request of a call described by a few lines of TOML."""
    if connect:
        sources = "" if '"none"' in connect else '\nsources = ["env:BELL_KEY"]'
        connect = f"[connect.key]\n{connect}{sources}\n"
    text = START + connect + f'[[call]]\nname = "look"\nkinds = ["label", "object", "face"]\n{call}'
    rules = 'each = "a[]"\nalways = "x"\nbox = { at = "b", form = "points" }\n'
    text += "".join(f'\n[[read]]\nkind = "{k}"\n{rules}' for k in ("label", "object", "face"))
    described = parse_description(text)
    return RequestBuilder(described, described.call[0], kinds).build(payloads, key)


class Bodies(unittest.TestCase):
    def test_raw(self):
        """The file's bytes as they are, with options in query and headers, settings filled in."""
        request = built(
            'path = "/look"\nmethod = "PUT"\nquery = { model = "{model}", q = "a b&c" }\n'
            'headers = { Accept = "application/json", "X-Model" = "{model}" }'
        )
        self.assertEqual((request.method, request.body, request.images), ("PUT", b"first", 1))
        parts = urlsplit(request.address)
        self.assertEqual((parts.netloc, parts.path), ("bell.example", "/v1/look"))
        self.assertEqual(parse_qs(parts.query), {"model": ["evening-2"], "q": ["a b&c"]})
        self.assertEqual(request.headers["X-Model"], "evening-2")
        self.assertEqual(request.headers["Content-Type"], "image/jpeg")

    def test_multipart(self):
        """A form with the image as a file, read back by the standard library."""
        request = built(
            'path = "/look"\nbody = "multipart"\nimage_field = "picture"\nform = { lang = "en" }',
            IMAGES[1:],
        )
        head = f"Content-Type: {request.headers['Content-Type']}\r\n\r\n".encode()
        parts = {
            part.get_param("name", header="content-disposition"): part
            for part in email.message_from_bytes(head + request.body).get_payload()
        }
        self.assertEqual(parts["lang"].get_payload(), "en")
        picture = parts["picture"]
        self.assertEqual(picture.get_filename(), "image.png")
        self.assertEqual(picture.get_content_type(), "image/png")
        self.assertEqual(picture.get_payload(decode=True), b"second\xff")

    def test_json(self):
        """Base64 at a place in a document, beside fields sent as they are."""
        request = built(
            'path = "/look"\nbody = "json"\nimage_field = "input.image"\n'
            'fields = { input = { model = "{model}", most = 5 }, tags = ["a", "{model}"] }'
        )
        self.assertEqual(
            json.loads(request.body),
            {
                "input": {
                    "model": "evening-2",
                    "most": 5,
                    "image": base64.b64encode(b"first").decode(),
                },
                "tags": ["a", "evening-2"],
            },
        )
        self.assertEqual(request.headers["Content-Type"], "application/json")

    def test_several_images(self):
        """A list with one entry for each image, its number and bytes where the entry says."""
        request = built(
            'path = "/look"\nbody = "json"\nimages = 4\nimage_field = "all"\n'
            'each = { nr = "{id}", file = { content = "{image}" }, want = 3 }',
            IMAGES,
        )
        entries = json.loads(request.body)["all"]
        self.assertEqual([entry["nr"] for entry in entries], ["0", "1"])
        self.assertEqual([entry["want"] for entry in entries], [3, 3])
        self.assertEqual(base64.b64decode(entries[1]["file"]["content"]), b"second\xff")
        self.assertEqual(request.images, 2)

    def test_addresses(self):
        """The service fetches the image itself: its address in the query or the document."""
        got = built('path = "/look"\nmethod = "GET"\nbody = "address"\nimage_field = "url"')
        self.assertEqual(
            parse_qs(urlsplit(got.address).query), {"url": ["http://images.example/1.jpg"]}
        )
        self.assertEqual((got.body, "Content-Type" in got.headers), (b"", False))
        posted = built('path = "/look"\nbody = "address"\nimage_field = "url"')
        self.assertEqual(json.loads(posted.body), {"url": "http://images.example/1.jpg"})

    def test_which_kinds(self):
        """The service is told the kinds in its own words, joined or as a list, each once."""
        words = 'words = { label = "tags", object = "tags", face = "people" }'
        for place, more, seen in (
            ("query", "", lambda r: parse_qs(urlsplit(r.address).query)["want"]),
            ("json", "separate = true", lambda r: json.loads(r.body)["want"]),
            ("form", 'join = "+"', lambda r: [r.body.decode().partition("want")[2].split()[1]]),
        ):
            body = {"query": "", "json": 'body = "json"', "form": 'body = "multipart"'}[place]
            image = 'image_field = "i"' if body else ""
            ask = f'[call.ask]\nplace = "{place}"\nname = "want"\n{words}\n{more}'
            call = f'path = "/look"\n{body}\n{image}\n{ask}'
            both = seen(built(call, kinds=("label", "face")))
            self.assertEqual(
                both,
                {"query": ["tags,people"], "json": ["tags", "people"], "form": ["tags+people"]}[
                    place
                ],
            )
            if place == "query":
                self.assertEqual(seen(built(call, kinds=("label", "object"))), ["tags"])

    def test_where_the_key_goes(self):
        """In a header or the query after its prefix, as Basic (RFC 7617) or Bearer (RFC 6750)."""
        for place, header, query in (
            ('place = "header"\nname = "X-Key"\nprefix = "Key "', {"X-Key": "Key user:pass"}, {}),
            ('place = "query"\nname = "k"\nprefix = "v1-"', {}, {"k": ["v1-user:pass"]}),
            ('place = "basic"', {"Authorization": "Basic dXNlcjpwYXNz"}, {}),
            ('place = "bearer"', {"Authorization": "Bearer user:pass"}, {}),
            ('place = "none"', {}, {}),
        ):
            key = None if "none" in place else Key("user:pass", "test")
            request = built('path = "/x"', key=key, connect=place)
            more = {n: v for n, v in request.headers.items() if n != "Content-Type"}
            self.assertEqual((more, parse_qs(urlsplit(request.address).query)), (header, query))

    def test_headers_that_cannot_be(self):
        """A header with a line break or other letters is refused when the call is made ready."""
        for value in ("two\\nlines", "größe"):
            with self.assertRaisesRegex(DescriptionError, "bell, headers.*no header can carry"):
                built(f'path = "/x"\nheaders = {{ A = "{value}" }}')


class Covering(unittest.TestCase):
    def test_every_form_of_a_key(self):
        """A key is covered plain, in base64 and in both ways of writing it in an address."""
        key = Key("open sesame/1", "test")
        coded = base64.b64encode(b"open sesame/1")
        answer = b"open sesame/1 " + coded + b" open%20sesame%2F1 open+sesame%2F1 open"
        mask = "•••".encode()
        self.assertEqual(Secrets(key).cover(answer), b" ".join([mask] * 4) + b" open")

    def test_what_is_left_alone(self):
        """Without a key, or with one so short that it may stand there by chance, nothing changes."""
        answer = b'{"label": "open"}'
        for key in (None, Key("open", "test"), Key("another long key", "test")):
            self.assertIs(Secrets(key).cover(answer), answer)

    def test_shown_without_the_body(self):
        """A request's repr shows neither address nor headers."""
        request = built('path = "/look"\nquery = { q = "hush" }')
        self.assertEqual(repr(request), "<Request POST, 1 images, 5 bytes>")
