"""Tokens by any exchange, each with a service that checks what it is given."""

import json
import tempfile
import unittest
from pathlib import Path
from urllib.parse import parse_qs

from joserfc import jwt
from joserfc.jwk import ECKey, RSAKey

from dotledger.errors import DescriptionError, KeyRefused
from dotledger.sending.calls.oauth_tokens import TokenSource
from dotledger.services.credentials import find_key
from dotledger.services.description_trust import facts_of
from dotledger.services.redaction import Secrets
from dotledger.services.service_description import parse_description
from dotledger.testing import FakeClock, FakeTransport, answer

HEAD = """schema = 1
service = "quay"
[connect]
address = "https://quay.example"
[connect.key]
place = "token"
sources = [SOURCE]
[connect.token]
address = "https://quay.example/token"
"""
CALL = """
[[call]]
name = "look"
kinds = ["label"]
path = "/"
[[read]]
kind = "label"
each = "tags[]"
label = "name"
"""
EXCHANGE = """fields = { grant_type = "urn:ietf:params:oauth:grant-type:jwt-bearer", assertion = "{assertion}" }
[connect.token.assertion]
algorithm = "ALGORITHM"
key_id_at = "private_key_id"
claims = { iss = "{client_email}", aud = "https://quay.example/token", scope = "look" }
"""
NOW = 1_900_000_000


class Exchanges(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def source(self, rules, source, reply):
        """Return where calls get their token from, and the secrets it notes."""
        text = HEAD.replace("SOURCE", json.dumps(source)) + rules + CALL
        described = parse_description(text)
        key, secrets = find_key(described, environment={"QUAY": "walker:s3cret"}), Secrets()
        transport = FakeTransport(reply)
        return TokenSource(described, key, transport, FakeClock(), secrets, lambda: NOW), secrets

    def key_file(self, kind, **changes):
        private = kind.generate_key(2048 if kind is RSAKey else "P-256", private=True)
        held = {
            "private_key": private.as_pem(private=True).decode(),
            "private_key_id": "key-7",
            "client_email": "walker@quay.example",
            **changes,
        }
        path = self.home / "keys.json"
        path.write_text(json.dumps(held, indent=2))
        return f"file:{path}", private

    def test_a_signed_assertion(self):
        """The service reads who asks and until when, and checks the signature; both algorithms."""
        for algorithm, kind in (("RS256", RSAKey), ("ES256", ECKey)):
            source, private = self.key_file(kind)
            public = kind.import_key(private.as_pem(private=False))
            asked = []

            def reply(request, public=public, algorithm=algorithm, asked=asked):
                form = {k: v[0] for k, v in parse_qs(request.body.decode()).items()}
                asked.append((form, jwt.decode(form["assertion"], public, algorithms=[algorithm])))
                self.assertNotIn("Authorization", request.headers)
                return answer({"access_token": "good", "expires_in": 600})

            rules = EXCHANGE.replace("ALGORITHM", algorithm)
            tokens, secrets = self.source(rules, source, reply)
            self.assertEqual(tokens.current().reveal(), "good")
            [(form, told)] = asked
            self.assertEqual(form["grant_type"], "urn:ietf:params:oauth:grant-type:jwt-bearer")
            self.assertEqual(told.header, {"alg": algorithm, "typ": "JWT", "kid": "key-7"})
            self.assertEqual(
                told.claims,
                {"iss": "walker@quay.example", "aud": "https://quay.example/token",
                 "scope": "look", "iat": NOW, "exp": NOW + 3600},
            )  # fmt: skip
            self.assertNotIn(form["assertion"], secrets.text(f"it said {form['assertion']}"))

    def test_an_address_in_the_key_file(self):
        """The file itself says where; a claim repeats it; nothing goes out over a plain line."""
        rules = EXCHANGE.replace("ALGORITHM", "ES256").replace(
            'aud = "https://quay.example/token"', 'aud = "{token_uri}"'
        )
        head = HEAD.replace('address = "https://quay.example/token"', 'address_at = "token_uri"')
        for address, told in (
            ("https://keys.example/t", ""),
            ("http://127.0.0.1:8/t", ""),
            ("http://keys.example/t", "no address that a signed statement may go to"),
            (7, "no text 'token_uri'"),
        ):
            with self.subTest(address):
                source, private = self.key_file(ECKey, token_uri=address)
                described = parse_description(
                    head.replace("SOURCE", json.dumps(source)) + rules + CALL
                )
                asked = []
                way = FakeTransport(
                    lambda r, asked=asked: asked.append(r) or answer({"access_token": "a"})
                )
                tokens = TokenSource(
                    described, find_key(described), way, FakeClock(), Secrets(), lambda: NOW
                )
                if told:
                    self.assertRaisesRegex(KeyRefused, told, tokens.current)
                    self.assertEqual(asked, [])
                    continue
                tokens.current()
                self.assertEqual(asked[0].address, address)
                form = parse_qs(asked[0].body.decode())
                public = ECKey.import_key(private.as_pem(private=False))
                claims = jwt.decode(form["assertion"][0], public, algorithms=["ES256"]).claims
                self.assertEqual(claims["aud"], address)
                self.assertIn("Tokens from: token_uri in the key file", facts_of(described).lines())

    def test_a_key_for_a_token_in_json(self):
        """A key is exchanged for a token with a life, at places of the service's own."""
        rules = 'body = "json"\nfields = { api_key = "{secret}", who = "{client}" }\nat = "data.jwt"\nlife = "data.ttl"\n'
        asked = []

        def reply(request):
            asked.append((request.headers["Content-Type"], json.loads(request.body)))
            return answer({"data": {"jwt": f"t{len(asked)}", "ttl": 100}}, 201)

        tokens, _ = self.source(rules, "env:QUAY", reply)
        self.assertEqual(tokens.current().reveal(), "t1")
        tokens._clock.now = 71
        self.assertEqual(tokens.current().reveal(), "t2")
        self.assertEqual(asked[0], ("application/json", {"api_key": "s3cret", "who": "walker"}))

    def test_a_refresh_token(self):
        """A refresh token is a secret like any other; one value comes out of a file of several."""
        path = self.home / "kept.json"
        path.write_text(json.dumps({"refresh": "r-1", "client": "walker"}))
        rules = 'fields = { grant_type = "refresh_token", refresh_token = "{key}", client_id = "walker" }\n'
        seen = []
        tokens, _ = self.source(
            rules,
            f"file:{path}#refresh",
            lambda request: (
                seen.append(parse_qs(request.body.decode())) or answer({"access_token": "a"})
            ),
        )
        tokens.current()
        self.assertEqual(seen[0]["refresh_token"], ["r-1"])

    def test_wrong_ones(self):
        """Each wrong file, key and exchange is said by name, and never shows the key."""
        rsa = EXCHANGE.replace("ALGORITHM", "RS256")
        refuse = lambda _: answer({"error": "invalid_grant"}, 400)  # noqa: E731
        for file, told in (
            (lambda: self.key_file(RSAKey)[0], "invalid_grant"),
            (lambda: self.key_file(ECKey)[0], "cannot sign with RS256"),
            (lambda: self.key_file(RSAKey, client_email=7)[0], "no text 'client_email'"),
            (lambda: self.key_file(RSAKey, private_key="no key")[0], "cannot sign"),
            (lambda: "env:QUAY", "needs a key file in JSON"),
        ):
            with self.subTest(told=told):
                tokens, _ = self.source(rsa, file(), refuse)
                with self.assertRaisesRegex(KeyRefused, told) as caught:
                    tokens.current()
                self.assertNotIn("PRIVATE", str(caught.exception))
                self.assertNotIn("s3cret", str(caught.exception))
        for rules, told in (
            ('fields = { a = "{keys}" }\n', "did you mean 'key'"),
            ('fields = { a = "{assertion}" }\n', "an assertion goes with a field"),
            ('body = "json"\n', "needs fields"),
            ("fields = { a = '{key}' }\nat = 'a['\n", "not a path"),
        ):
            text = HEAD.replace("SOURCE", '"env:QUAY"') + rules + CALL
            with self.subTest(told=told), self.assertRaisesRegex(DescriptionError, told):
                parse_description(text)
