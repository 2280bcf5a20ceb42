"""Calls of several steps over HTTP: jobs that outlive a kill, parts, images brought first."""

import gzip
import json
import os
import signal
import subprocess
import sys
import time
from unittest import mock
from urllib.parse import parse_qs, urlsplit

from msgspec.structs import replace

from dotledger import findings_of, open_service, send
from dotledger.api.rereading import reread
from dotledger.errors import DescriptionError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import usage
from dotledger.sending.calls import multi_step_calls as steps
from dotledger.testing import FakeTransport
from tests.sending.helpers import (
    ANSWER,
    TEXT,
    Handler,
    InFolder,
    description,
    failures_of,
    picture,
    pictures,
    served,
)

JOB = """path = "/look"
[call.job]
id = "job.id"
path = "/jobs/{id}"
state = "job.state"
done = ["done"]
failed = ["failed"]
reason = "job.why"
every = 0.05
longest = 5
"""


class Methods(Handler):
    """Answers each method in a function of its name."""

    def asked(self):
        getattr(self, self.command.lower())()


class Worked(Methods):
    """Accepts images as jobs; `jobs` are polled `needed` times before they are done."""

    jobs, needed, fails, done_at_once, speechless = {}, 2, False, False, False

    def post(self):
        self.seen.append(("POST", self.path, len(self.body()), self.headers.get("X-Key")))
        if self.done_at_once:
            return self.reply({"job": {"id": "j", "state": "done"}, **ANSWER})
        name = f"j{len(self.seen)}"
        self.jobs[name] = 0
        return self.reply({"job": {"id": name, "state": "working"}})

    def get(self):
        self.seen.append(("GET", self.path, 0, self.headers.get("X-Key")))
        name = self.path.rpartition("/")[2]
        self.jobs[name] += 1
        if self.jobs[name] < self.needed:
            return self.reply({"job": {"id": name, "state": "working"}})
        if self.fails:
            return self.reply({"job": {"id": name, "state": "failed", "why": "no light"}})
        if self.speechless:
            return self.reply({"sorry": "come back later"})
        return self.reply({"job": {"id": name, "state": "done"}, **ANSWER})


class Stepped(InFolder):
    def serving(self, handler, *changes, **facts):
        port, own = served(self, handler)
        for name, value in facts.items():
            setattr(own, name, value)
        return description(("127.0.0.1:1/", f"127.0.0.1:{port}/"), *changes), own

    def sent(self, service, count=1, **options):
        return send(pictures(count), service, ledger=self.path, key="k-secret", **options)

    def posts(self, own):
        return [one for one in own.seen if one[0] == "POST"]


class AcceptedJobs(Stepped):
    def test_until_done(self):
        """Asked once, asked for until it is done; one call is paid; read, kept, and read again."""
        service, own = self.serving(Worked, ('path = "/look"\n', JOB), jobs={}, needed=3)
        sent = self.sent(service, 2)
        self.assertEqual((len(self.posts(own)), len(own.seen)), (2, 8))
        self.assertEqual(sorted(findings_of(self.path).label.used()), ["bell", "night"])
        with LedgerStore(self.path) as ledger:
            self.assertEqual([month.calls for month in usage(ledger)], [2])
            batch = find_batch(ledger)
            self.assertEqual(len(reread(ledger, batch, service, now=2e9).differences), 0)
        self.assertEqual({key for *_, key in own.seen}, {"k-secret"})
        self.assertEqual(sent.calls, 2)

    LINES = (
        ("[limits]", '[envelope]\nwritten = "lines"\n[limits]'),
        ('each = "tags[]"\nlabel = "name"', 'each = "[]"\nlabel = "tag"\nkeep_if = "tag"'),
        ('each = "things[]"\nlabel = "name"', 'each = "[]"\nlabel = "thing"\nkeep_if = "thing"'),
    )

    def test_lines_of_json(self):
        """A job whose polls and end are lines: it waits, whatever the description says of states."""

        class Lined(Methods):
            polls = 0

            def post(self):
                self.seen.append(("POST", self.path, len(self.body()), ""))
                self.reply(json.dumps({"id": "j", "state": "queued"}, indent=1).encode())

            def get(self):
                self.seen.append(("GET", self.path, 0, ""))
                type(self).polls += 1
                lines = [{"id": "j", "state": "queued"}, {"id": "j", "state": "running"}]
                if self.polls > 2:
                    lines += [{"tag": "night"}, {"thing": "bell", "sure": 0.9, "box": [1, 1, 5, 5]}]
                    lines += [{"id": "j", "state": "done"}]
                self.reply(
                    "\n".join(
                        map(json.dumps, lines[: self.polls] if self.polls < 3 else lines)
                    ).encode()
                )

        job = 'path = "/look"\n[call.job]\nid = "id"\npath = "/jobs/{id}"\nevery = 0.05\n'
        for told in ('state = "state"\ndone = ["done"]\n', ""):
            self.path.unlink(missing_ok=True)
            with self.subTest(told):
                service, own = self.serving(
                    Lined, ('path = "/look"\n', job + told), *self.LINES, polls=0
                )
                sent = self.sent(service)
                self.assertEqual((sent.failed, sent.pending, sent.unread), (0, 0, 0))
                self.assertEqual(sorted(findings_of(self.path).label.used()), ["bell", "night"])
                self.assertEqual([one[0] for one in own.seen], ["POST", "GET", "GET", "GET"])
        # A path to the state that is none: pending and said, never empty.
        self.path.unlink()
        wrong = job + 'state = "status"\ndone = ["done"]\nlongest = 1\n'
        service, _ = self.serving(Lined, ('path = "/look"\n', wrong), *self.LINES, polls=0)
        sent = self.sent(service)
        self.assertEqual((sent.pending, sent.calls), (2, 0))
        self.assertIn("no word at 'status'", sent.stopped_because + str(failures_of(self.path)))

    def test_done_at_once_failed_and_too_long(self):
        """An answer that is there already is taken; a failed job says why; a slow one stays pending."""
        service, own = self.serving(Worked, ('path = "/look"\n', JOB), jobs={}, done_at_once=True)
        self.sent(service)
        self.assertEqual(len(own.seen), 1)
        service, own = self.serving(Worked, ('path = "/look"\n', JOB), jobs={}, fails=True)
        with open_service(service, key="k-secret") as bell:
            seen = bell.look(picture(5))
        self.assertEqual(
            (seen.outcome, seen.reasons["label"]), ("failed", "the job failed (no light)")
        )
        service, own = self.serving(
            Worked,
            ('path = "/look"\n', JOB.replace("longest = 5", "longest = 0.2")),
            jobs={},
            needed=10**6,
        )
        self.path = self.folder / "speechless.ledger"
        said, own_said = self.serving(Worked, ('path = "/look"\n', JOB), jobs={}, speechless=True)
        with open_service(said, key="k-secret") as bell:
            seen = bell.look(picture(6))
        self.assertEqual(seen.outcome, "pending", "what is not understood is never an answer")
        self.assertEqual(len(self.posts(own_said)), 1)
        self.assertLess(len(own_said.seen), 10, "it is not asked for ever")
        self.path = self.folder / "slow.ledger"
        self.sent(service)
        own.needed = 0
        self.sent(service)
        self.assertEqual(len(self.posts(own)), 1, "the job is asked for again, not paid again")
        with LedgerStore(self.path) as ledger:
            self.assertEqual([month.calls for month in usage(ledger)], [1])
        self.assertEqual(findings_of(self.path).label.used(), ["night", "bell"])

    def test_killed(self):
        """A sender is killed while a job is under way; the next one goes on with the same job."""
        service, own = self.serving(
            Worked,
            ('path = "/look"\n', JOB.replace("longest = 5", "longest = 60")),
            jobs={},
            needed=10**6,
        )
        toml = TEXT.replace("127.0.0.1:1/", f"{urlsplit(service.connect.address).netloc}/").replace(
            'path = "/look"\n', JOB.replace("longest = 5", "longest = 60")
        )
        (self.folder / "bell.toml").write_text(toml)
        (self.folder / "in").mkdir()
        (self.folder / "in" / "a.jpg").write_bytes(picture(1))
        words = [sys.executable, "-m", "dotledger", "send", "in", "--service", "bell.toml", "--ledger", "l.ledger"]  # fmt: skip
        environment = {**os.environ, "BELL_KEY": "k-secret"}
        process = subprocess.Popen(
            words,
            cwd=self.folder,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        deadline = time.monotonic() + 60
        while len(own.seen) < 4 and time.monotonic() < deadline:
            time.sleep(0.02)
        process.send_signal(signal.SIGKILL)
        process.communicate()
        self.assertGreaterEqual(len(own.seen), 4, "it was waiting")
        own.needed = 0
        done = subprocess.run(
            words,
            cwd=self.folder,
            env=environment,
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(len(self.posts(own)), 1)
        self.assertEqual(findings_of(self.folder / "l.ledger").label.used(), ["night", "bell"])
        with LedgerStore(self.folder / "l.ledger") as ledger:
            self.assertEqual(
                [month.calls for month in usage(ledger)], [1], "paid, and counted, once"
            )

    def test_elsewhere_and_retry_after(self):
        """The address in a header, the result at an address, the wait that the service asks for."""

        class Header(Methods):
            def post(self):
                self.body()
                self.seen.append(("POST", time.monotonic()))
                self.send_response(202)
                self.send_header("Location", f"http://127.0.0.1:{self.server.server_port}/watch/7")
                self.send_header("Content-Length", "2")
                self.end_headers()
                self.wfile.write(b"{}")

            def get(self):
                self.seen.append(("GET", time.monotonic(), self.path))
                if self.path == "/result":
                    return self.reply(ANSWER)
                if len(self.seen) == 2:
                    return self.reply({"state": "busy"}, Retry_After="1")
                return self.reply(
                    {"state": "ready", "at": f"http://127.0.0.1:{self.server.server_port}/result"}
                )

        job = '[call.job]\nheader = "Location"\nstate = "state"\ndone = ["ready"]\nresult = "at"\nevery = 0.01\n'
        service, own = self.serving(Header, ('path = "/look"\n', f'path = "/look"\n{job}'))
        self.sent(service)
        self.assertEqual([one[0] for one in own.seen], ["POST", "GET", "GET", "GET"])
        self.assertGreaterEqual(own.seen[2][1] - own.seen[1][1], 0.95)
        self.assertEqual(findings_of(self.path).label.used(), ["night", "bell"])


class Lost(Stepped):
    """Jobs that were accepted, and whose answers cannot be got the first time."""

    def job(self, trouble, good_from):
        class Trouble(Methods):
            def post(self):
                self.body()
                self.seen.append("POST")
                self.reply({"job": {"id": "7", "state": "working"}})

            def get(self):
                self.seen.append("GET")
                if self.seen.count("GET") >= good_from:
                    return self.reply({"job": {"state": "done"}, **ANSWER})
                if trouble == "cut gzip":
                    return self.reply(gzip.compress(b"{}")[:-9], Content_Encoding="gzip")
                if trouble == "expired link" and self.path != "/result":
                    return self.reply({"job": {"state": "done", "at": "/result"}})
                self.send_response(410 if trouble == "expired link" else 400)
                self.send_header("Content-Length", "0")
                return self.end_headers()

        return Trouble

    def test_paid_once(self):
        """A poll, a result link or a result that fails is asked for again, and not paid again."""
        job = f'{JOB}result = "job.at"\n'
        for trouble, good_from in (("refused poll", 3), ("expired link", 6), ("cut gzip", 3)):
            with self.subTest(trouble):
                self.path = self.folder / f"{trouble}.ledger"
                service, own = self.serving(self.job(trouble, good_from), ('path = "/look"\n', job))
                first = self.sent(service)
                self.assertEqual((first.failed, first.calls), (2, 1))
                self.assertRegex(failures_of(self.path)[0][3], "costs nothing, the job is kept")
                self.assertEqual(self.sent(service).calls, 0)
                while self.sent(service, again="failed").failed:
                    self.assertEqual(own.seen.count("POST"), 1)
                self.assertEqual(own.seen.count("POST"), 1)
                self.assertEqual(findings_of(self.path).label.used(), ["night", "bell"])
                with LedgerStore(self.path) as ledger:
                    self.assertEqual([month.calls for month in usage(ledger)], [1])

    def test_given_up(self):
        """After three runs without success the job is given up, which is said before it is paid again."""
        service, own = self.serving(self.job("refused poll", 10**6), ('path = "/look"\n', JOB))
        for again in ((), "failed", "failed"):
            sent = self.sent(service, again=again)
        self.assertEqual((own.seen.count("POST"), sent.failed), (1, 2))
        self.assertRegex(failures_of(self.path)[0][3], "given up after 3 runs.*paid again")
        self.assertEqual(self.sent(service, again="failed").calls, 1)
        self.assertEqual(own.seen.count("POST"), 2)
        self.sent(service, again="anew")
        self.assertEqual(own.seen.count("POST"), 3, "asked anew on purpose")

    def test_a_wait_that_is_too_long(self):
        """A service that asks to wait for an hour is not waited for longer than the description says."""

        class Slow(Methods):
            def post(self):
                self.body()
                self.reply({"job": {"id": "7", "state": "working"}}, Retry_After="3600")

            def get(self):
                self.reply({"job": {"id": "7", "state": "working"}}, Retry_After="3600")

        service, _ = self.serving(
            Slow, ('path = "/look"\n', JOB.replace("longest = 5", "longest = 0.3"))
        )
        began = time.monotonic()
        self.assertEqual(self.sent(service).pending, 2)
        self.assertLess(time.monotonic() - began, 100)

    def test_an_upload_that_has_run_out(self):
        """What a service no longer has of an image is brought again, once."""

        class Store(Methods):
            gone = 1

            def post(self):
                self.body()
                self.seen.append(self.path.rpartition("/")[2])
                if self.seen[-1] == "files":
                    return self.reply({"file": {"id": "9"}})
                if self.seen.count("look") <= self.gone:
                    self.send_response(410)
                    self.send_header("Content-Length", "0")
                    return self.end_headers()
                return self.reply(ANSWER)

        bring = BroughtFirst.BRING.replace('remove = "/files/{id}"\n', "")
        for gone, failed in ((1, 0), (4, 2)):
            service, own = self.serving(Store, ('path = "/look"\n', bring), gone=gone)
            self.path = self.folder / f"gone-{gone}.ledger"
            self.assertEqual(self.sent(service).failed, failed)
            self.assertEqual(own.seen, ["files", "look", "files", "look"])


class InParts(Stepped):
    MORE = 'path = "/look"\n[call.more]\nnext = "next"\n'

    def parts(self, number, circle=False):
        class Parts(Handler):
            def asked(self):
                self.body()
                self.seen.append((self.command, self.path))
                query = parse_qs(urlsplit(self.path).query)
                at = int(query.get("page", ["0"])[0])
                answer = {
                    "tags": [{"name": f"tag {at}"}],
                    "things": ANSWER["things"] if at == number - 1 else [],
                }
                if at < number - 1 or circle:
                    answer["next"] = str(0 if circle and at else at + 1)
                self.reply(answer)

        return Parts

    def test_together(self):
        """Three parts are one answer: read together, paid once, read again the same."""
        service, own = self.serving(
            self.parts(3), ('path = "/look"\n', f'{self.MORE}query = "page"\n')
        )
        sent = self.sent(service)
        self.assertEqual([one[0] for one in own.seen], ["POST", "GET", "GET"])
        self.assertEqual(
            sorted(findings_of(self.path).label.used()), ["bell", "tag 0", "tag 1", "tag 2"]
        )
        self.assertEqual(sent.calls, 1)
        with LedgerStore(self.path) as ledger:
            result = reread(ledger, find_batch(ledger), service, now=2e9)
            self.assertEqual((result.answers, len(result.differences)), (1, 0))

    def test_all_together(self):
        """What is kept of an answer is limited for all its parts together, not for each."""
        with mock.patch.object(steps, "MOST_BYTES", 200):
            service, own = self.serving(
                self.parts(50), ('path = "/look"\n', f'{self.MORE}query = "page"\n')
            )
            self.assertEqual(self.sent(service).failed, 2)
        self.assertRegex(
            failures_of(self.path)[0][3], "its parts together are longer than 200 bytes"
        )
        self.assertLess(len(own.seen), 12)

    def test_without_end(self):
        """Parts that lead in a circle, or are too many, are a failure that says so."""
        for facts, words in (({"circle": True}, "circle"), ({}, "more than 2 parts")):
            more = f'{self.MORE}query = "page"\nmost = {2 if not facts else 50}\n'
            service, own = self.serving(self.parts(5, **facts), ('path = "/look"\n', more))
            with open_service(service, key="k-secret") as bell:
                self.assertIn(words, bell.look(picture(3)).reasons["label"])
            self.assertLess(len(own.seen), 8)


class BroughtFirst(Stepped):
    def store(self, outside=False, broken=False):
        class Store(Methods):
            def post(self):
                body = self.body()
                self.seen.append(("POST", self.path, body, self.headers.get("X-Key")))
                if self.path.endswith("/files"):
                    goal = (
                        {"to": f"http://localhost:{self.server.server_port}/put/9?sig=abc"}
                        if outside
                        else {}
                    )
                    return self.reply({"file": {"id": "f 9"}, **goal})
                if broken:
                    self.send_response(400)
                    self.send_header("Content-Length", "0")
                    self.end_headers()
                    return None
                return self.reply(ANSWER)

            def put(self):
                self.seen.append(("PUT", self.path, self.body(), self.headers.get("X-Key")))
                self.reply(b"")  # as stores do

            def delete(self):
                self.seen.append(("DELETE", self.path, b"", self.headers.get("X-Key")))
                self.reply(b"gone")

        return Store

    BRING = 'path = "/look"\nbody = "address"\nimage_field = "picture"\n[call.bring]\npath = "/files"\nid = "file.id"\nremove = "/files/{id}"\n'

    def test_bring_ask_remove(self):
        """The bytes go first, the question holds the id, the file goes again; with the key each time."""
        service, own = self.serving(self.store(), ('path = "/look"\n', self.BRING))
        self.sent(service)
        self.assertEqual(
            [one[:2] for one in own.seen],
            [("POST", "/north/files"), ("POST", "/north/look"), ("DELETE", "/north/files/f%209")],
        )
        self.assertEqual(own.seen[0][2], picture(0))
        self.assertEqual(json.loads(own.seen[1][2]), {"picture": "f 9"})
        self.assertEqual({one[3] for one in own.seen}, {"k-secret"})
        self.assertEqual(findings_of(self.path).label.used(), ["night", "bell"])

    def test_handed_out_address(self):
        """An address that the service hands out gets the image, and no key, since it is elsewhere."""
        service, own = self.serving(
            self.store(outside=True), ('path = "/look"\n', f'{self.BRING}to = "to"\n')
        )
        refused = self.sent(service)
        self.assertEqual((refused.failed, [one for one in own.seen if one[0] == "PUT"]), (2, []))
        self.assertIn("leads to localhost:", failures_of(self.path)[0][3])
        port = urlsplit(service.connect.address).port
        connect = replace(service.connect, hosts=(f"localhost:{port}",))
        service = replace(service, connect=connect)
        own.seen.clear()
        self.sent(service, again="failed")
        put = next(one for one in own.seen if one[0] == "PUT")
        self.assertEqual(put[1:], ("/put/9?sig=abc", picture(0), None))
        self.assertEqual(own.seen[0][2], b"")

    def test_removed_after_a_failure(self):
        """What was brought is removed also when the question is refused."""
        service, own = self.serving(self.store(broken=True), ('path = "/look"\n', self.BRING))
        with open_service(service, key="k-secret") as bell:
            self.assertEqual(bell.look(picture(2)).outcome, "failed")
        self.assertEqual(own.seen[-1][0], "DELETE")


class Descriptions(InFolder):
    def test_contradictions(self):
        """What can never be meant is refused when the description is read."""
        for text, words in (
            ('[call.job]\nid = "a"\n', "'id' with 'path'"), ('[call.job]\nid = "a"\npath = "/x"\n', "needs {id}"),
            ('[call.job]\naddress = "a"\ndone = ["x"]\n', "'state', which is missing"), ('[call.bring]\npath = "/f"\nid = "i"\n', "a body of 'address'"),
            ('[call.more]\nnxt = "a"\n', "did you mean"), ('[call.job]\naddress = "a["\n', "address"), ('parts = { a = 1 }\n', "multipart"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(DescriptionError, words):
                description(('path = "/look"\n', f'path = "/look"\n{text}'))

    def test_a_local_path_is_never_sent(self):
        """A service that fetches images itself is not told where they lie on this machine."""
        service = description(
            ('path = "/look"\n', 'path = "/look"\nbody = "address"\nimage_field = "url"\n')
        )
        (self.folder / "a.jpg").write_bytes(picture(1))
        transport = FakeTransport([ANSWER])
        send(self.folder / "a.jpg", service, ledger=self.path, key="k", transport=transport)
        self.assertEqual(len(transport.requests), 0)
        self.assertIn("has no address", failures_of(self.path)[0][3])

    def test_settings_as_numbers_and_typed_parts(self):
        """A setting goes in as a number, a flag or a list; a part of a form may be JSON."""
        more = 'path = "/look"\nbody = "multipart"\nimage_field = "file"\nparts = { options = { most = { setting = "most", as = "number" }, deep = { setting = "deep", as = "flag" }, of = { setting = "of", as = "list" } } }\n'
        service = description(
            ('path = "/look"\n', more),
            (
                'settings = { region = "north" }',
                'settings = { region = "north", most = "3", deep = "no", of = "a, b" }',
            ),
        )
        transport = FakeTransport([ANSWER])
        send({"a.jpg": picture(1)}, service, ledger=self.path, key="k", transport=transport)
        body = transport.requests[0].body
        self.assertIn(b'{"most":3,"deep":false,"of":["a","b"]}', body)
        self.assertIn(b"application/json", body)
        with self.assertRaisesRegex(DescriptionError, "is no number"):
            send(
                {"a.jpg": picture(1)},
                service,
                ledger=self.path,
                key="k",
                transport=transport,
                settings={"most": "many"},
            )
