"""Answers written in other ways than as plain JSON, over HTTP: squeezed, in lines, XML, text in text."""

import json
import zlib
from unittest import mock

import brotli
import zstandard

from dotledger import findings_of, open_service, send
from dotledger.api.rereading import reread
from dotledger.errors import AnswerError, DescriptionError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.reading.answer_documents import document_reader
from dotledger.sending.calls.http_transport import HttpTransport
from dotledger.services.message_rules import Request
from tests.sending.calls.test_multi_step_calls import Methods, Stepped
from tests.sending.helpers import ANSWER, failures_of, picture, pictures

XML = b"""<?xml version="1.0"?>
<result><tags><tag name="night"/></tags>
<thing sure="0.9"><name>bell</name><x0>1</x0><y0>1</y0><x1>5</x1><y1>5</y1></thing></result>"""
IN_XML = (
    ('each = "tags[]"\nlabel = "name"', 'each = "result.tags.tag[]"\nlabel = "_name"'),
    ('each = "things[]"', 'each = "result.thing[]"'), ('at = "sure"', 'at = "_sure"'),
    ('box = { at = "box", order = ["x0", "y0", "x1", "y1"] }', 'box = { at = "@", fields = { x0 = "x0", y0 = "y0", x1 = "x1", y1 = "y1" } }'),
    ("[[read]]", '[envelope]\nwritten = "xml"\n[[read]]'),
)  # fmt: skip


def saying(body, **headers):
    """A handler that answers every question with these bytes."""

    class Saying(Methods):
        def post(self):
            self.body()
            self.seen.append(self.headers.get("Accept-Encoding"))
            self.reply(body, **headers)

    return Saying


class Written(Stepped):
    def found(self, service):
        sent = send(pictures(1), service, ledger=self.path, key="k-secret")
        self.assertEqual(sent.outcomes["object"]["found"], 1, failures_of(self.path))
        table = findings_of(self.path)
        self.assertEqual(sorted(table.label.used()), ["bell", "night"])
        self.assertEqual(table.filter(kind="object").box.tolist(), [[1, 1, 5, 5]])
        with LedgerStore(self.path) as ledger:  # the kept bytes are read in the same way
            self.assertEqual(reread(ledger, find_batch(ledger), service, now=2e9).differences, [])

    def test_xml(self):
        """Elements, attributes and a list of one are read by the same rules."""
        service, _ = self.serving(saying(XML, Content_Type="application/xml"), *IN_XML)
        self.found(service)

    def test_lines(self):
        """A document in each line: they are one list."""
        lines = b"\n".join(
            json.dumps(one).encode() for one in (ANSWER["tags"][0], ANSWER["things"][0])
        )
        changes = (
            ('each = "tags[]"\n', 'each = "[]"\nkeep_if = "!sure"\n'),
            ('each = "things[]"\n', 'each = "[]"\nkeep_if = "sure"\n'),
            ("[[read]]", '[envelope]\nwritten = "lines"\n[[read]]'),
        )
        service, _ = self.serving(saying(lines + b"\n\n"), *changes)
        self.found(service)

    def test_text_in_text(self):
        """JSON that stands as text, also in each part of a list, takes the text's place."""
        whole = {"out": [{"body": json.dumps(ANSWER)}]}
        changes = (
            ('each = "tags[]"', 'each = "out[].body.tags[]"'),
            ('each = "things[]"', 'each = "out[].body.things[]"'),
            ("[[read]]", '[envelope]\ntexts = ["out[].body"]\n[[read]]'),
        )
        service, _ = self.serving(saying(whole), *changes)
        self.found(service)

    def test_squeezed(self):
        """Every coding that is asked for is undone, and gzip also where nothing says so."""
        plain = json.dumps(ANSWER).encode()
        gzip = zlib.compressobj(wbits=31)
        for name, body in (("gzip", gzip.compress(plain) + gzip.flush()), ("deflate", zlib.compress(plain)), ("br", brotli.compress(plain)),
                           ("zstd", zstandard.ZstdCompressor().compress(plain))):  # fmt: skip
            with self.subTest(name):
                service, own = self.serving(saying(body, Content_Encoding=name))
                with open_service(service, key="k") as bell:
                    self.assertEqual(bell.look(picture(1)).outcome, "found")
                self.assertIn(name, own.seen[0])
        service, _ = self.serving(saying(zlib.compress(plain, wbits=31)))
        with open_service(service, key="k") as bell:
            self.assertEqual(bell.look(picture(1)).outcome, "found")

    def test_not_written_so(self):
        """What is not as described fails, and the reason says what came."""
        for changes, words in ((IN_XML, "not XML but application/json"), ((("[[read]]", '[envelope]\nwritten = "lines"\n[[read]]'),), "lines of JSON")):  # fmt: skip
            service, _ = self.serving(saying(b"{oops"), *changes)
            with open_service(service, key="k", attempts=1) as bell:
                self.assertIn(words, bell.look(picture(1)).reasons["label"])
        with self.assertRaisesRegex(AnswerError, "text inside is not JSON"):
            document_reader(texts=["a"])(b'{"a": "x"}')
        with self.assertRaisesRegex(AnswerError, "not XML"):
            document_reader("xml")(b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>')
        for wrong in ('texts = ["a["]', 'written = "yaml"', 'texts = [""]'):
            with self.assertRaises(DescriptionError):
                self.serving(Methods, ("[[read]]", f"[envelope]\n{wrong}\n[[read]]"))


class Squeezed(Stepped):
    def came(self, body, coding, most=1000):
        service, _ = self.serving(saying(body, Content_Encoding=coding))
        way = HttpTransport(most=most)
        return way.send(Request(method="POST", address=service.filled(service.connect.address)))

    def test_no_further_than_allowed(self):
        """What unpacks to more than is taken is cut, however small it came."""
        for coding, squeeze in (("br", brotli.compress), ("zstd", zstandard.ZstdCompressor().compress)):  # fmt: skip
            with self.subTest(coding):
                came = self.came(squeeze(b"a" * 10**7), coding)
                self.assertEqual(came.body, b"a" * 1000)
                self.assertIn("longer than 1,000 bytes when unpacked", came.fault)
                self.assertEqual(self.came(squeeze(b"a" * 1000), coding).fault, "")
                self.assertTrue(self.came(b"no such thing", coding).fault)
                self.assertTrue(self.came(squeeze(bytes(range(256)) * 3)[:-9], coding).fault)

    def test_named_if_missing(self):
        """Where the package is missing it is named, and not asked for."""
        with mock.patch.dict("sys.modules", {"brotli": None, "zstandard": None}):
            for coding, words in (("br", "Brotli, and brotli is not installed"), ("zstd", "zstandard")):  # fmt: skip
                self.assertIn(words, self.came(b"x", coding).fault)
        with mock.patch("importlib.util.find_spec", return_value=None):
            service, own = self.serving(saying(ANSWER))
            with open_service(service, key="k") as bell:
                bell.look(picture(1))
        self.assertEqual(own.seen, ["gzip, deflate"])


class WithoutWords(Stepped):
    def test_a_job_told_in_the_head(self):
        """202 with nothing but an address in its head, asked until it is done."""

        class Quiet(Methods):  # fmt: skip
            def post(self):
                self.seen.append("POST")
                self.said(202, Location="/jobs/7")

            def get(self):
                self.seen.append(self.path)
                self.said(202) if len(self.seen) < 3 else self.reply(ANSWER)

            def said(self, status, **headers):
                self.send_response(status)
                for name, value in {"Content-Length": "0", **headers}.items():
                    self.send_header(name, value)
                self.end_headers()

        job = 'path = "/look"\n[call.job]\nheader = "Location"\nevery = 0.02\n'
        service, own = self.serving(Quiet, ('path = "/look"\n', job))
        with open_service(service, key="k") as bell:
            self.assertEqual(bell.look(picture(1)).outcome, "found")
        self.assertEqual(own.seen, ["POST", "/jobs/7", "/jobs/7"])
