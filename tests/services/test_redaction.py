"""What is secret is covered in every writing, and stands in no variable that a traceback lists."""

import base64
import traceback
import unittest

from dotledger.errors import ConnectError, KeyNotFound
from dotledger.services.credentials import find_key
from dotledger.services.message_rules import Payload
from dotledger.services.redaction import MASK, Key, Secrets
from dotledger.services.request_building import RequestBuilder
from tests.campaigns import leaks
from tests.sending.helpers import description


class Covering(unittest.TestCase):
    def test_every_writing(self):
        """Plain, JSON-escaped, percent-escaped, in HTML and base64; whole and each half."""
        secrets = Secrets(Key("bell-client-01:a/b&c\"d'efghij", "test"))
        half = "a/b&c\"d'efghij"
        for text in (
            half,
            "bell-client-01",
            "bell-client-01:" + half,
            "".join(f"\\u{ord(c):04X}" for c in half),
            "".join(f"%{ord(c):02X}" for c in half),
            base64.b64encode(half.encode()).decode().rstrip("="),
            half.replace("&", "&amp;").replace('"', "&quot;").replace("'", "&#x27;"),
            half.replace("/", "\\/").replace('"', '\\"'),
        ):
            data = f"before {text} after".encode()
            covered = secrets.cover(data)
            self.assertIn(MASK.encode(), covered, text)
            self.assertNotIn(text.encode(), covered)
            self.assertTrue(covered.startswith(b"before ") and covered.endswith(b" after"))

    def test_what_stays(self):
        """An answer without a secret is the same object, escapes and all; so is one with a short one."""
        answer = b'{"a": "\\u0041 %41 \\/", "short": "bell"}'
        self.assertIs(Secrets(Key("another-long-key", "t"), Key("bell", "t")).cover(answer), answer)

    def test_leaks(self):
        """Printed, logged, kept, raised with variables: no way of repeating a key brings it there."""
        tries, wrong = leaks.attack(places=("query", "token", "signed"))
        self.assertEqual((tries, wrong), (75, {}))


class Variables(unittest.TestCase):
    def hidden(self, call, *errors):
        """Assert that an error of ours shows no key, whatever a traceback lists."""
        try:
            call()
        except errors as error:
            trace = traceback.TracebackException.from_exception(error, capture_locals=True)
            own = [f for f in trace.stack if "tests" not in f.filename]
            self.assertTrue(own)
            self.assertNotIn("hush-hush", "".join(map(str, (own, [f.locals for f in own]))))
        else:
            self.fail("no error")

    def test_in_no_variable(self):
        """A key that cannot be one, a signer that fails, a body that cannot be made."""
        self.hidden(lambda: find_key(description(), given="hush-hush\n2"), KeyNotFound)
        self.hidden(
            lambda: find_key(description(), environment={"BELL_KEY": "hush-hush-é"}), KeyNotFound
        )
        service = description(('place = "header"\nname = "X-Key"', 'place = "query"\nname = "k"'))

        def failing(_):
            raise ValueError("hush-hush")

        builder = RequestBuilder(service, service.call[0], ["label"], signer=failing)
        self.hidden(
            lambda: builder.build([Payload(data=b"x")], Key("hush-hush", "t")), ConnectError
        )
