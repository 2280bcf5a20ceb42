"""What services say is wrong: their words, which setting they are about, and whether it is the key."""

import json
import unittest

from dotledger import send
from dotledger.errors import ArgumentError
from dotledger.images.image_gathering import Gathered
from dotledger.reading.error_messages import refuses_key, said_by, with_setting
from dotledger.sending.policies.send_plan import make_plan
from dotledger.sending.trial_call import try_call
from dotledger.testing import FakeTransport
from tests.sending.helpers import (
    ANSWER,
    Handler,
    InFolder,
    description,
    failures_of,
    picture,
    pictures,
    served,
)

NOTHING = Gathered(items=(), problems=(), source="")


class Words(unittest.TestCase):
    def test_own_words(self):
        for document, said in (
            ({"error": {"code": 400, "message": "No model evening-9."}}, "400: No model evening-9"),
            ({"error": "invalid_model", "error_description": "Unknown"}, "invalid_model: Unknown"),
            ({"errors": [{"title": "Bad", "detail": "Too small"}]}, "Bad: Too small"),
            ({"title": "Forbidden", "detail": "Not here.", "status": 403}, "Forbidden: Not here"),
            ({"fault": {"text": "a\n b\x1b"}}, "a b\\x1b"),
            ({"message": "gone"}, "gone"),
            ({"error": None, "message": "gone"}, "gone"),
            (["such", "a", "thing"], "such; a; thing"),
            ({"a": [1]}, "{'a': [1]}"),
            ({}, "{}"),
        ):
            with self.subTest(document):
                self.assertEqual(said_by(document), said)

    def test_the_setting(self):
        settings = {"region": "north", "model": "evening-9", "most": "5", "wait": "55", "host": ""}
        for text, told in (
            ("no such model: evening-9", "setting model = 'evening-9'"),
            ("north is unknown", "setting region = 'north'"),
            ("this region is closed", "setting region = 'north'"),
            ("northern lights", ""),
            ("5 is too many", ""),
            ("evening-99 is new", ""),
            ("at most 5 MB", ""),
            ("wait 55 seconds", ""),
            ("unknown parameter 'most'", "setting most = '5'"),
            ("the model room is full", ""),
            ("the model is not known", "setting model = 'evening-9'"),
        ):
            with self.subTest(text):
                self.assertEqual(with_setting(text, settings), f"{text} ({told})" if told else text)

    def test_the_key(self):
        """Whatever the words; and never for an image, a parameter or a field that lacks."""
        for text in ("invalid api key", "INVALID_API_KEY", "401: Unauthorized", "The access token expired",
                     "Your credentials were not accepted", "unknown key", "bad_key: this key is not known",
                     "Signature is invalid", "key not found", "authentication failed", "no such key",
                     "licence key expired"):  # fmt: skip
            self.assertTrue(refuses_key(text), text)
        for text in ("missing key: 'image'", "invalid key \"thresold\"", "unknown model", "image is not valid",
                     "bad request", "keyword unknown", "the monkey was not found", "no faces found",
                     "token limit", "landmark key points missing", "invalid image",
                     "could not fetch the image: 401 Unauthorized", "the URL answered: authorization failed",
                     "credentials for the bucket are missing"):  # fmt: skip
            self.assertFalse(refuses_key(text), text)


class Told(InFolder):
    """A service that says no with a status, or inside an answer of 200."""

    def sent(self, said, status=200, count=6, more="", **options):
        class Says(Handler):
            def asked(self):
                self.seen.append(self.body())
                if status == 200:
                    return self.reply(said)
                self.send_response(status)
                data = said if isinstance(said, bytes) else json.dumps(said).encode()
                self.send_header(
                    "Content-Type", "application/json" if data[:1] == b"{" else "text/plain"
                )
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                return self.wfile.write(data)

        port, own = served(self, Says)
        self.path.unlink(missing_ok=True)
        self.service = description(
            ("127.0.0.1:1/", f"127.0.0.1:{port}/"),
            ("at_once = 4", "at_once = 1"),
            ("[limits]", f"{more}\n[limits]"),
        )
        options = {"ledger": self.path, "key": "k-secret-and-long", **options}
        return send(pictures(count), self.service, **options), own.seen

    def test_a_setting(self):
        """In its own words, with the setting that it is about: by a status, by either form of 200."""
        words = {"error": {"code": "no-region", "message": "There is no region north."}}
        told = "no-region: There is no region north (setting region = 'north')"
        self.sent(words, 400)
        self.assertIn(told, failures_of(self.path)[0][3])
        self.sent(b"There is no region north.", 400)
        self.assertIn("There is no region north. (setting region", failures_of(self.path)[0][3])
        self.sent(words, more='[envelope]\nerror = "error.code"\nreason = "error.message"')
        self.assertIn("no-region: There is no region north. (setting", failures_of(self.path)[0][3])
        self.sent(words)
        self.assertIn("no-region: There is no region north", failures_of(self.path)[0][3])
        trial = try_call(make_plan(self.service, NOTHING), picture(1), key="k-secret-and-long")
        self.assertIn("There is no region north", trial.problem)
        self.sent(words, 400)
        trial = try_call(make_plan(self.service, NOTHING), picture(1), key="k-secret-and-long")
        self.assertIn(f"answered with status 400: {told}", trial.problem)

    def test_a_key(self):
        """Refused inside a 200: nothing more is sent, and nothing is found empty."""
        for said, more in (
            ({"error": {"code": "bad_key", "message": "This API key is unknown."}}, ""),
            ({"error": 17}, '[envelope]\nerror = "error"\nkey_refused = ["17"]'),
            ({"tags": [], "things": [], "error": "unauthorized"}, ""),
        ):
            with self.subTest(said):
                done, seen = self.sent(said, more=more)
                self.assertEqual((len(seen), done.pending), (1, 12))
                self.assertIn("does not accept the key (in an answer", done.stopped_because)
                trial = try_call(
                    make_plan(self.service, NOTHING), picture(1), key="k-secret-and-long"
                )
                self.assertIn("does not accept the key", trial.problem)
                self.assertIn("check that it is whole", trial.next_steps[0])

    def test_no_key_but_an_image(self):
        """An error about one image stops nobody; a key that is fine is not blamed."""
        for said in ({"error": "missing key: 'shot'"}, {"error": "image is not valid"}):
            done, seen = self.sent(said, count=2)
            self.assertEqual((len(seen), done.stopped_because), (2, ""))
        for beside in ({"error": None, "auth": "unauthorized"}, {"error": "unauthorized"}):
            done, seen = self.sent({**ANSWER, **beside}, count=2)
            self.assertEqual((len(seen), done.failed, done.stopped_because), (2, 0, ""))
        fetching = {"error": "could not fetch the image: 401 Unauthorized"}
        done, seen = self.sent(fetching, count=2)
        self.assertEqual((len(seen), done.stopped_because), (2, ""))

    def test_an_address(self):
        """What is tried with an address goes out with it; without one it is not tried."""
        service = description(
            ("127.0.0.1:1/{region}", "127.0.0.1:1"),
            ('path = "/look"\n', 'path = "/look"\nbody = "address"\nimage_field = "u"\n'),
        )
        plan = make_plan(service, NOTHING)
        asked = []
        way = FakeTransport(lambda request: asked.append(request.body) or ANSWER)
        trial = try_call(
            plan, picture(1), address="https://pics.example/1.jpg", key="k", transport=way
        )
        self.assertTrue(trial.well, trial)
        self.assertEqual(asked, [b'{"u":"https://pics.example/1.jpg"}'])
        with self.assertRaisesRegex(ArgumentError, "has no address"):
            try_call(plan, picture(1), key="k", transport=way)


if __name__ == "__main__":
    unittest.main()
