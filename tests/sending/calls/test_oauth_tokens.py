"""Tokens: fetched once, renewed before they die, never shown."""

import tempfile
import unittest
from pathlib import Path

from dotledger import send
from dotledger.errors import KeyRefused
from dotledger.sending.calls.oauth_tokens import TokenSource
from dotledger.services.redaction import Key, Secrets
from dotledger.services.service_description import parse_description
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import description_text
from dotledger.testing import FakeClock, FakeTransport, NoAnswer, answer


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
