"""Trusting a description: no code without consent, no key over a line that others can read."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from dotledger import gather
from dotledger.errors import ConnectError, DescriptionError
from dotledger.sending.batch_api import prepare_sending
from dotledger.sending.policies.send_plan import make_plan
from dotledger.sending.trial_call import try_call
from dotledger.services.description_trust import check_trust, facts_of
from dotledger.testing import FakeTransport
from tests.sending.helpers import ANSWER, description, picture

CALL = ('sources = ["env:BELL_KEY"]', 'sources = ["env:NONE", "call:bell_keys:find"]')


class Trust(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.dict(os.environ, {"DOTLEDGER_STATE": str(self.home / "s")}))
        self.enterContext(mock.patch("sys.path", [str(self.home), *__import__("sys").path]))
        self.code = self.home / "bell_keys.py"
        self.code.write_text("raise SystemExit('ran')")

    def test_dry_runs_nothing(self):
        """Looking at what would be sent imports no module, reads no variable, and names both."""
        plan = make_plan(description(CALL), gather({"a": picture()}))
        with mock.patch.dict(os.environ, {"NONE": "a-key-in-the-environment"}):
            trial = try_call(plan, picture(), dry=True)
        self.assertTrue(trial.well)
        self.assertEqual(trial.code, ["bell_keys:find"])
        self.assertIn("not read; would come from env:NONE, call:bell_keys:find", trial.key)
        self.assertEqual(trial.goes_to, ["http://127.0.0.1:1/north"])

    def test_consent(self):
        """Code needs consent once, and again when its text changes; the caller's own key needs none."""
        service = description(CALL)
        with self.assertRaisesRegex(ConnectError, "bell_keys:find.*allow_code=True"):
            prepare_sending({"a": picture()}, service, self.home / "l")
        trial = try_call(make_plan(service, gather({"a": picture()})), picture())
        self.assertIn("names code to run", trial.problem)
        prepare_sending({"a": picture()}, service, self.home / "l", key="k")
        self.code.write_text("def find(): return 'the-key'")
        prepare_sending({"a": picture()}, service, self.home / "l", allow_code=True)
        prepare_sending({"a": picture()}, service, self.home / "l")
        self.code.write_text("def find(): return 'another'")
        with self.assertRaises(ConnectError):
            prepare_sending({"a": picture()}, service, self.home / "l")

    def test_plain_http(self):
        """A key goes over plain http to this machine only, unless the description says so."""
        for host in ("127.0.0.1:1", "localhost", "[::1]:80", "127.9.9.9"):
            check_trust(description(("127.0.0.1:1", host)))
        for host in ("bell.example", "127.0.0.1.example", "localhost.example", "10.0.0.1:80"):
            with self.assertRaisesRegex(DescriptionError, "plain http to another machine"):
                check_trust(description(("127.0.0.1:1", host)))
        meant = ("[connect]", "[connect]\nplain_http = true")
        check_trust(description(("127.0.0.1:1", "bell.example"), meant))
        check_trust(description(("http://127.0.0.1:1", "https://bell.example")))
        open_one = 'place = "header"\nname = "X-Key"\nsources = ["env:BELL_KEY"]'
        check_trust(description(("127.0.0.1:1", "bell.example"), (open_one, 'place = "none"')))

    def test_addresses(self):
        """No name or password in an address, no other scheme, also by way of a setting."""
        for change, sign in (
            (("127.0.0.1:1", "me:pw@127.0.0.1:1"), "name or password"),
            (("http://127.0.0.1:1", "ftp://bell.example"), "not an address"),
            (("http://127.0.0.1:1", "http://"), "not an address"),
        ):
            with self.assertRaisesRegex(DescriptionError, sign) as caught:
                check_trust(description(change))
            self.assertNotIn("pw@", str(caught.exception))
        service = description(("127.0.0.1:1/{region}", "{region}"))
        with self.assertRaisesRegex(DescriptionError, "name or password"):
            check_trust(service.with_settings({"region": "a:b@c.example"}))

    def test_a_token_address(self):
        """The secret of a token goes to its own address, which is looked at too."""
        service = description(
            ('place = "header"\nname = "X-Key"', 'place = "token"'),
            ("[[call]]", '[connect.token]\naddress = "http://far.example/t"\n[[call]]'),
        )
        self.assertIn("http://far.example/t", facts_of(service).addresses)
        transport = FakeTransport([ANSWER])
        with self.assertRaisesRegex(DescriptionError, "far.example"):
            prepare_sending(
                {"a": picture()}, service, self.home / "l", key="i:s", transport=transport
            )
