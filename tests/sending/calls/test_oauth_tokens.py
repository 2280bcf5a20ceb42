"""Tokens: fetched once, renewed before they die, never shown."""

import tempfile
import unittest
from pathlib import Path

from dotledger import open_service, send
from dotledger.errors import KeyRefused
from dotledger.sending.calls.oauth_tokens import TokenSource
from dotledger.services.redaction import Key, Secrets
from dotledger.services.service_description import parse_description
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import description_text
from dotledger.testing import FakeClock, FakeTransport, NoAnswer, answer
from tests.sending.helpers import ANSWER, InFolder, description, picture


class Tokens(unittest.TestCase):
    def source(self, replies, clock):
        marl = parse_description(description_text("marl"))
        transport = FakeTransport(replies)
        return TokenSource(marl, Key("id:secret", "test"), transport, clock, Secrets()), transport

    def test_renewed_before_it_dies(self):
        """A token of 100 seconds is renewed 30 seconds early, and once when told."""
        clock = FakeClock()
        source, transport = self.source(
            lambda _: answer({"access_token": f"t{len(transport.requests)}", "expires_in": 100}),
            clock,
        )
        first = source.current()
        clock.now = 69
        self.assertIs(source.current(), first)
        clock.now = 70
        self.assertEqual(source.current().reveal(), "t2")
        source.renew(first)
        self.assertEqual(len(transport.requests), 2)
        source.renew(source.current())
        self.assertEqual((source.current().reveal(), len(transport.requests)), ("t3", 3))
        self.assertIn(b"grant_type=client_credentials", transport.requests[0].body)

    def test_a_lifetime_as_text(self):
        """A number of seconds that is written as text counts like one."""
        for life, renewed in (
            ("100", True),
            (" 100 ", True),
            ("soon", False),
            ("", False),
            (True, False),
        ):
            clock = FakeClock()
            source, transport = self.source(
                [answer({"access_token": "t", "expires_in": life})], clock
            )
            source.current()
            clock.now = 75
            source.current()
            self.assertEqual(len(transport.requests), 2 if renewed else 1, life)

    def test_a_renewal_that_fails_once(self):
        """A token address that is silent for a moment does not end the batch."""
        marl = parse_description(description_text("marl"))
        said, asked = iter(["ok", "cut", "ok"]), []

        def reply(request):
            if b"grant_type" in request.body:
                return NoAnswer("cut") if next(said) == "cut" else answer({"access_token": "t"})
            asked.append(request)
            return answer({}, 401) if len(asked) == 1 else answer({"a": 1})

        with tempfile.TemporaryDirectory() as home:
            images = {"a.jpg": draw_scene(RECIPES[0]).data}
            options = {"key": "id:secret", "kinds": "label", "transport": FakeTransport(reply)}
            sent = send(images, marl, ledger=Path(home) / "l", **options)
        self.assertEqual((sent.pending, sent.stopped_because, len(asked)), (0, "", 2))

    def test_refused(self):
        """A refusal names the status, never the secret."""
        source, _ = self.source([answer({"error": "invalid_client"}, 401)], FakeClock())
        with self.assertRaisesRegex(KeyRefused, "status 401 invalid_client") as caught:
            source.current()
        self.assertNotIn("secret'", str(caught.exception))


ONE = description(("at_once = 4", "at_once = 1"))


class FromCode(InFolder):
    """Keys that code gives, of which each is good for two calls only."""

    def code(self, most=99):
        """Return a function that gives the next key, and a service that takes each twice."""
        given, taken = [], []

        def key():
            if len(given) == most:
                raise ValueError("s3cret")
            given.append(f"token-{len(given) + 1}")
            return given[-1]

        def reply(request):
            said = next(v for v in request.headers.values() if "token-" in v)
            taken.append(said.rpartition("token-")[2])
            return answer({}, 401) if taken.count(taken[-1]) > 2 else ANSWER

        return key, reply, given

    def test_a_batch(self):
        """It goes on with the next key each time one ends."""
        key, reply, given = self.code()
        images = {f"{n}.png": picture(n) for n in range(1, 6)}
        sent, _ = self.send(images, reply, ONE, key=key)
        self.assertEqual((sent.pending, sent.stopped_because, len(given)), (0, "", 3))

    def test_a_running_program(self):
        """An open service asks for the next key, and is never left pending."""
        key, reply, given = self.code()
        bell = self.enterContext(
            open_service(description(), key=key, transport=FakeTransport(reply))
        )
        self.assertEqual({bell.look(picture(n)).outcome for n in range(1, 6)}, {"found"})
        self.assertEqual(len(given), 3)

    def test_code_that_fails(self):
        """The batch stops and says so by the error's type; what the error says is not shown."""
        key, reply, _ = self.code(most=1)
        images = {f"{n}.png": picture(n) for n in range(1, 5)}
        sent, _ = self.send(images, reply, ONE, key=key)
        self.assertIn("the code that gives the key failed: ValueError", sent.stopped_because)
        self.assertNotIn("s3cret", sent.stopped_because)
        self.assertEqual(sent.pending, 4, "two images, each of two kinds")
