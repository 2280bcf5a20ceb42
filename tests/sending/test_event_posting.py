"""Posting verdicts: signed by the standard, tried again, kept until taken, each once."""

import base64
import hashlib
import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from dotledger import decide, post_verdicts
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.errors import ArgumentError, LedgerError
from dotledger.sending.event_outbox import Outbox
from dotledger.sending.event_posting import verdict_events
from dotledger.services.message_signatures import signature_of
from dotledger.testing import FakeTransport, NoAnswer, Response
from tests.core.measurement.test_measure import findings_of
from tests.forked import dotledger
from tests.sending.helpers import Handler, served

DESK = "https://desk.example/in"
SECRET = "a secret of the desk"


def decisions(*changes):
    rows = [("a.jpg", "unsafe", "smoke", 0.9, None), ("b.jpg", "unsafe", "", None, None), *changes]
    smoke = Condition(kind="unsafe", labels=("smoke",), confidence=0.5)
    return decide(
        findings_of(rows), Rules(rules=(Rule(name="smoke", verdict="block", when=smoke),))
    )


class Desk(Handler):
    """Takes verdicts and remembers them."""

    def asked(self):
        self.seen.append(json.loads(self.body()))
        self.reply({})


class Posting(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.box = self.folder / "out.jsonl"
        self.slept = []

    def post(self, replies, what=None, address=DESK, **options):
        transport = FakeTransport(replies)
        done = post_verdicts(
            what or decisions(), address, outbox=self.box, transport=transport,
            sleep=self.slept.append, wall=lambda: 1_618_884_473.5, random=lambda: 0.5, **options,
        )  # fmt: skip
        return done, [json.loads(request.body) for request in transport.requests], transport

    def test_each_once(self):
        """Strictest first; posted again only where a verdict changed, or an image is new."""
        done, sent, transport = self.post([{}])
        self.assertEqual((done.new, done.taken, done.left), (2, 2, 0))
        self.assertEqual(
            [(one["image"], one["verdict"]) for one in sent],
            [("a.jpg", "block"), ("b.jpg", "pass")],
        )
        self.assertEqual(transport.requests[0].headers["Idempotency-Key"], f'"{sent[0]["id"]}"')
        self.assertNotIn("Signature", transport.requests[0].headers)
        self.assertEqual(self.post([{}])[:2], (done_of(new=0, taken=0), []))
        _, sent, _ = self.post([{}], decisions(("b.jpg", "unsafe", "smoke", 0.7, None)))
        self.assertEqual([(one["image"], one["verdict"]) for one in sent], [("b.jpg", "block")])

    def test_a_verdict_that_changes_back(self):
        """Is posted again, under an id of its own: or the receiver would keep the other one."""
        worse = decisions(("b.jpg", "unsafe", "smoke", 0.7, None))
        ids = []
        for what in (decisions(), worse, worse, decisions()):
            _, sent, _ = self.post([{}], what)
            ids.append([(one["image"], one["verdict"]) for one in sent])
            ids[-1] += [one["id"] for one in sent]
        self.assertEqual([len(one) for one in ids], [4, 2, 0, 2])
        self.assertEqual(ids[3][0], ("b.jpg", "pass"))
        self.assertNotIn(ids[3][1], ids[0])

    def test_kept_until_taken(self):
        """A receiver that is down keeps nothing from being posted later, in order."""
        down = [NoAnswer("nobody there", trouble="unreachable")] * 20
        done, sent, _ = self.post(down)
        self.assertEqual((done.taken, done.left), (0, 2))
        self.assertIn("nobody there", done.stopped)
        done, sent, _ = self.post([Response(status=503), Response(status=500), {}], decisions())
        self.assertEqual((done.new, done.taken, done.left, len(sent)), (0, 2, 0, 4))
        self.assertEqual(sent[0], sent[2])
        self.assertGreater(min(self.slept), 0)

    def test_wait_asked_for(self):
        """The time that the receiver asks for is waited."""
        self.post([Response(status=429, headers={"retry-after": "7"}), {}])
        self.assertGreaterEqual(self.slept[0], 7)

    def test_one_that_is_refused(self):
        """It is said and stays; the others go on. An address that is gone stops all."""
        refuse = lambda r: Response(status=422) if b"a.jpg" in r.body else {}  # noqa: E731
        done, _, _ = self.post(refuse)
        self.assertEqual((done.taken, done.left), (1, 1))
        self.assertEqual(done.refused, (("a.jpg", "status 422"),))
        for status in (401, 404, 410, 302):
            self.box.unlink()
            done, sent, _ = self.post([Response(status=status)])
            self.assertEqual((done.taken, len(sent)), (0, 1), status)
            self.assertTrue(done.stopped)

    def test_signed(self):
        """By RFC 9421: its own example as a fixed point, and ours checked as a receiver would."""
        shared = base64.b64decode(
            "uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ=="
        )
        values = {
            "date": "Tue, 20 Apr 2021 02:07:55 GMT",
            "@authority": "example.com",
            "content-type": "application/json",
        }
        parameters = ';created=1618884473;keyid="test-shared-secret"'
        self.assertEqual(
            signature_of(values, parameters, shared), "pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8="
        )
        _, _, transport = self.post([{}], secret=SECRET)
        request = transport.requests[0]
        digest = base64.b64encode(hashlib.sha256(request.body).digest()).decode()
        self.assertEqual(request.headers["Content-Digest"], f"sha-256=:{digest}:")
        said = request.headers["Signature-Input"].partition("=")[2]
        listed, _, more = said.partition(")")
        names = [name.strip('"') for name in listed.strip("(").split()]
        parts = {"@method": "POST", "@target-uri": DESK, "content-digest": f"sha-256=:{digest}:"}
        expected = signature_of({name: parts[name] for name in names}, more, SECRET.encode())
        self.assertEqual(request.headers["Signature"], f"sig=:{expected}:")
        self.assertIn("created=1618884473", more)
        self.assertNotIn(SECRET, str(dict(request.headers)))

    def test_two_at_once_and_a_kill(self):
        """One process at a time; a line that a killed one began is dropped, what it took is known."""
        with Outbox(self.box) as box:
            box.add(verdict_events(decisions()))
            with self.assertRaisesRegex(LedgerError, "another process.*Wait"):
                self.post([{}])
        program = (
            "import os, sys; from pathlib import Path; from dotledger.sending.event_outbox import Outbox\n"
            f"box = Outbox(Path({str(self.box)!r})); box.take(box.pending[0]['id'], 'now')\n"
            'os.write(box._file, b\'{"taken": "cut o\'); os._exit(9)'
        )
        paths = os.pathsep.join(sys.path)
        env = {**os.environ, "PYTHONPATH": paths}
        subprocess.run([sys.executable, "-c", program], check=False, env=env, timeout=600)
        done, sent, _ = self.post([{}])
        self.assertEqual(([one["image"] for one in sent], done.left), (["b.jpg"], 0))

    def test_refused(self):
        """A plain line to another machine, a password in the address, a short secret, another file."""
        for options, words in (
            ({"address": "http://desk.example/in"}, "plain line.*http://desk.example.*https"),
            ({"address": "https://me:pw@desk.example"}, "no address to post to"),
            ({"address": "desk"}, "no address to post to"),
            ({"secret": "short"}, "too short.*5 characters"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words) as caught:
                self.post([{}], **options)
            self.assertNotIn("pw", str(caught.exception))
        self.box.write_text("image,verdict\na,block\n")
        with self.assertRaisesRegex(ArgumentError, "no outbox.*line 1|line 1: no outbox"):
            self.post([{}])

    def test_command(self):
        """From findings to a receiver over HTTP; what is not taken ends with status 3 and is kept."""
        found = self.folder / "found.jsonl"
        found.write_text(
            '{"image": "a.jpg", "kind": "unsafe", "label": "smoke", "confidence": 0.9}\n'
            '{"image": "b.jpg", "kind": "unsafe", "label": ""}\n'
        )
        rules = self.folder / "rules.toml"
        rules.write_text(
            'rules_file = 1\n[[rule]]\nname = "smoke"\nverdict = "block"\n'
            'kind = "unsafe"\nlabel = "smoke"\nconfidence = 0.5\n'
        )
        port, desk = served(self, Desk)
        words = ["screen", rules, "--findings", found, "--outbox", self.box, "--post"]
        gone = dotledger(*words, "http://127.0.0.1:9/in")
        self.assertEqual(gone.returncode, 3, gone.stderr)
        self.assertIn("2 verdicts kept in", gone.stderr)
        done = dotledger(
            *words,
            f"http://127.0.0.1:{port}/in?token=hidden",
            "--secret",
            "env:DESK",
            env={"DESK": SECRET},
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("2 verdicts taken by", done.stderr)
        self.assertNotIn("hidden", done.stderr)
        self.assertEqual([one["image"] for one in desk.seen], ["a.jpg", "b.jpg"])
        alone = dotledger("screen", rules, "--findings", found, "--secret", "env:DESK")
        self.assertIn("--secret goes with --post", alone.stderr)


def done_of(**facts):
    from dotledger.sending.event_posting import Posted

    return Posted(**{"refused": (), "left": 0, "stopped": "", **facts})


if __name__ == "__main__":
    unittest.main()
