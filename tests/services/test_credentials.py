"""Keys: where they are found, and that they are never shown."""

import pickle
import tempfile
import types
import unittest
from pathlib import Path
from unittest import mock

from dotledger.errors import ConnectError, KeyNotFound
from dotledger.services.credentials import Key, find_key, find_signer
from tests.sending.helpers import description


def with_sources(*sources):
    listed = ", ".join(f'"{source}"' for source in sources)
    return description(('sources = ["env:BELL_KEY"]', f"sources = [{listed}]"))


class Finding(unittest.TestCase):
    def test_sources_in_order(self):
        """The first source that has a key wins: environment, file, keyring, callable."""
        with tempfile.TemporaryDirectory() as home:
            (Path(home) / "k").write_text("from file\nsecond line\n")
            service = with_sources("env:NO_SUCH", f"file:{home}/none", f"file:{home}/k")
            self.assertEqual(find_key(service, environment={}).reveal(), "from file")
            self.assertEqual(find_key(service, environment={"NO_SUCH": " e "}).reveal(), "e")
        with mock.patch("keyring.get_password", return_value="ring") as asked:
            self.assertEqual(find_key(with_sources("keyring:bell/me")).reveal(), "ring")
            asked.assert_called_once_with("bell", "me")
        self.assertEqual(
            find_key(with_sources("call:platform:system")).source, "call:platform:system"
        )
        self.assertEqual(
            find_key(with_sources("env:NO_SUCH"), given=lambda: "mine").reveal(), "mine"
        )

    def test_every_place_looked_at_is_named(self):
        """Without a key the message lists each place and why there is none."""
        with self.assertRaisesRegex(KeyNotFound, "env:A .not set.; file:/none .No such file"):
            find_key(with_sources("env:A", "file:/none"), environment={})
        with self.assertRaisesRegex(KeyNotFound, "call:os:kill .it failed: TypeError"):
            find_key(with_sources("call:os:kill"), environment={})
        with self.assertRaisesRegex(ConnectError, "call:no.such:thing.*PYTHONPATH"):
            find_key(with_sources("call:no.such:thing"))

    def test_what_can_be_no_key(self):
        """White space around a key goes; an empty or broken one is refused and not shown."""
        self.assertEqual(find_key(description(), given=lambda: " pasted\n").reveal(), "pasted")
        for text in ("", " \n", "two\nlines", "k-sécret"):
            with self.assertRaises(KeyNotFound) as caught:
                find_key(description(), given=text)
            self.assertNotIn(text.strip() or "'", str(caught.exception))
        query = description(('place = "header"', 'place = "query"'))
        self.assertEqual(find_key(query, given="sécret").reveal(), "sécret")

    def test_signers(self):
        """A signed service names its function; others have none."""
        signed = description(
            (
                'place = "header"\nname = "X-Key"\nsources = ["env:BELL_KEY"]',
                'place = "signed"\nsources = ["call:fake_signer:sign"]',
            )
        )
        module = types.ModuleType("fake_signer")
        module.sign = lambda _: {"X": "1"}
        with mock.patch.dict("sys.modules", fake_signer=module):
            self.assertIs(find_signer(signed), module.sign)
        self.assertIsNone(find_signer(description()))

    def test_never_shown(self):
        """A key has no repr, no str and no pickle that shows it."""
        key = Key("k-secret", "here")
        self.assertNotIn("k-secret", f"{key} {key!r}")
        with self.assertRaises(TypeError):
            pickle.dumps(key)
