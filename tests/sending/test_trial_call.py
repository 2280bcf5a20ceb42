"""Trying a service: each usual mistake gets its next step, and no key is shown."""

import unittest

from dotledger.images.image_gathering import Gathered
from dotledger.sending.policies.send_plan import make_plan
from dotledger.sending.trial_call import try_call
from dotledger.testing import FakeTransport, NoAnswer, Response, answer
from tests.sending.helpers import ANSWER, description, picture

KEY = "k-secret-of-the-bell"


def tried(*replies, service=None, **options):
    plan = make_plan(service or description(), Gathered(items=(), problems=(), source=""))
    options = {"key": KEY, "transport": FakeTransport(list(replies) or [ANSWER]), **options}
    return try_call(plan, picture(), **options)


class Trying(unittest.TestCase):
    def test_a_good_call(self):
        """What was sent, what came back and how it is read stand side by side."""
        trial = tried()
        self.assertTrue(trial.well)
        self.assertEqual(trial.request[0], "POST http://127.0.0.1:1/north/look")
        self.assertIn("X-Key: •••", trial.request)
        self.assertEqual((trial.status, trial.content_type), (200, "application/json"))
        self.assertIn('"box": [1, 1, 5, 5]', trial.answer)
        self.assertEqual([f.label for f in trial.readings[0].found], ["night", "bell"])

    def test_each_mistake(self):
        """Status, silence and answers of another shape each lead to a plain next step."""
        page = Response(status=200, headers={"content-type": "text/html"}, body=b"<html>sign in")
        for reply, sign in (
            (answer({}, 401), "sent and not accepted"),
            (answer({}, 403), "another region or project"),
            (answer({}, 404), "region, project and version"),
            (answer({}, 405), "path and method"),
            (answer({}, 415), "content type"),
            (answer({}, 413), "limits.max_bytes"),
            (answer({}, 407), "proxy wants a name"),
            (answer({}, 429), "limits.per_second"),
            (answer({}, 302), "sends us elsewhere"),
            (answer({}, 500), "try again later"),
            (answer({}, 418), "service's own words"),
            (NoAnswer("no such host", trouble="unreachable", cause="host"), "region and address"),
            (
                NoAnswer("no connection in time", trouble="unreachable", cause="time"),
                "connect.timeout",
            ),
            (NoAnswer("no answer in time", trouble="timeout", cause="time"), "connect.timeout"),
            (
                NoAnswer(
                    "the certificate is not accepted", trouble="unreachable", cause="certificate"
                ),
                "SSL_CERT_FILE",
            ),
            (
                NoAnswer("the proxy cannot be reached", trouble="unreachable", cause="proxy"),
                "HTTPS_PROXY",
            ),
            (NoAnswer("a header holds what no header can", cause="header"), "line break"),
            (NoAnswer("the connection was reset"), "http or https"),
            (page, "sign-in page"),
            (Response(status=200, body=b"odd"), "no content type, not JSON"),
            (answer([1]), "optional = true"),
            (answer({"other": 1}), "optional = true"),
            (answer({"tags": [], "things": []}), "paths of the"),
        ):
            trial = tried(reply)
            self.assertRegex(" ".join(trial.next_steps), sign, str(reply))

    def test_unread(self):
        """An answer that holds none of the places of a kind is a problem, whatever else is read."""
        trial = tried(answer({"tags": [{"name": "night"}], "thinqs": []}))
        self.assertFalse(trial.well)
        self.assertRegex(trial.problem, "not read .object: no part of the answer is at things")
        self.assertEqual([f.label for f in trial.readings[0].found], ["night"])

    def test_a_key_that_comes_back(self):
        """A key that the service repeats in its answer is covered there too."""
        trial = tried(answer({"wrong": f"unknown key {KEY}"}, 401))
        self.assertIn("unknown key •••", trial.answer)
        self.assertNotIn(KEY, str(trial.request) + trial.answer + trial.problem)

    def test_no_key(self):
        """Without a key the places are named; a dry trial shows the request all the same."""
        trial = tried(key=None)
        self.assertRegex(trial.key, "not found; looked at env:BELL_KEY")
        self.assertIn("env:BELL_KEY", trial.next_steps[0])
        transport = FakeTransport([ANSWER])
        dry = tried(key=None, dry=True, transport=transport)
        self.assertTrue(dry.request)
        self.assertEqual(transport.requests, [])
