"""What is logged: waits, retries and stops, with nothing secret; problem details; a service's end, once."""

import json
import os
import subprocess
import sys

from dotledger.testing import Response
from tests.sending.calls.test_multi_step_calls import Methods, Stepped
from tests.sending.helpers import ANSWER, TEXT, InFolder, failures_of, picture, pictures


def reply(status, document, **headers):
    named = {name.replace("_", "-"): value for name, value in headers.items()}
    return Response(status=status, headers=named, body=json.dumps(document).encode())


class Logged(InFolder):
    def test_attempts(self):
        """Every attempt that was not the last, with its reason; the key in none of them."""
        replies = [reply(503, {"why": "k-secret is busy"}), reply(429, {}, retry_after="0"), ANSWER]
        with self.assertLogs("dotledger", "INFO") as logged:
            self.send(pictures(1), replies)
        text = "\n".join(logged.output)
        self.assertRegex(text, r"attempt 1: status 503.*again after")
        self.assertRegex(text, r"attempt 2: status 429.*everybody waits")
        self.assertNotIn("k-secret", text)

    def test_problem_details(self):
        """RFC 9457: title and detail, in its example, also where it is sent as plain JSON."""
        problem = {"type": "https://example.com/probs/out-of-credit", "title": "You do not have enough credit.",
                   "detail": "Your current balance is 30, but that costs 50.", "instance": "/account/12345/msgs/abc", "balance": 30}  # fmt: skip
        words = "status 422: You do not have enough credit: Your current balance is 30, but that costs 50"
        for kind in ("application/problem+json", "application/json"):
            self.path = self.folder / f"{len(kind)}.ledger"
            self.send(pictures(1), [reply(422, problem, content_type=kind)])
            self.assertIn(words, str(failures_of(self.path)[0]))

    def test_the_end_of_a_service(self):
        """A service that is deprecated, or says when it ends, is told of once."""
        ending = reply(
            200, ANSWER, deprecation="@1688169599", sunset="Sun, 30 Jun 2030 23:59:59 GMT"
        )
        with self.assertLogs("dotledger", "WARNING") as logged:
            self.send(pictures(5), [ending])
        self.assertEqual(len(logged.output), 1)
        self.assertIn(
            "bell will not be there for ever (deprecation: @1688169599, sunset: Sun, 30 Jun 2030",
            logged.output[0],
        )


class Busy(Methods):
    def post(self):
        self.body()
        self.seen.append(1)
        if len(self.seen) > 1:
            return self.reply(ANSWER)
        self.send_response(503)
        self.send_header("Content-Length", "0")
        self.end_headers()
        return None


class OnTheScreen(Stepped):
    def test_verbose(self):
        """``-v`` tells of retries on stderr, with the time; without it nobody is bothered."""
        for words, told in ((["-v"], True), ([], False)):
            service, _ = self.serving(Busy)
            address = service.connect.address.partition("/{")[0]
            (self.folder / "bell.toml").write_text(TEXT.replace("http://127.0.0.1:1", address))
            (self.folder / "a.jpg").write_bytes(picture(len(words)))
            done = subprocess.run(
                [sys.executable, "-m", "dotledger", *words, "send", "a.jpg", "--service", "bell.toml", "--ledger", "l.ledger"],
                cwd=self.folder, env={**os.environ, "BELL_KEY": "k-secret"}, capture_output=True, text=True, check=False,
            )  # fmt: skip
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual("attempt 1: status 503" in done.stderr, told, done.stderr)
            self.assertNotIn("attempt", done.stdout)
