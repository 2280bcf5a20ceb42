"""The attacks in small: broken HTTP, hostile answers; in large by ``python -m benchmarks faults``."""

import threading
import time
import unittest
from unittest import mock

from dotledger.sending.calls.http_transport import HttpTransport
from dotledger.sending.policies.retrying import seconds_until
from dotledger.testing import NoAnswer, Request
from tests.campaigns import (
    answer_addresses,
    faulty_server,
    hostile_answers,
    rough_machines,
    strangers_files,
)
from tests.campaigns.faulty_server import FAULTS, FaultyServer
from tests.sending.helpers import ANSWER, InFolder, description, number_of, pictures


class Transport(unittest.TestCase):
    def setUp(self):
        hostile_answers.bombs()  # made once, before anything is timed
        self.server = FaultyServer()
        self.addCleanup(self.server.close)
        self.transport = HttpTransport(timeout=0.5, most=1 << 20)

    def ask(self, name, number, transport=None):
        address = f"http://127.0.0.1:{self.server.port}/{list(FAULTS).index(name)}"
        request = Request(method="POST", address=address, body=str(number).encode())
        return (transport or self.transport).send(request)

    def test_in_any_order(self):
        """Whatever came over a connection before, an answer goes to its own request, in time."""
        self.assertEqual(faulty_server.attack(150, seed=3), (150, {}))

    def test_interim_answers(self):
        """Early hints and other 1xx are passed over; 101 is no answer; endless ones end in time."""
        for name in ("early hints", "continue"):
            for number in range(1, 6):
                self.assertEqual(self.ask(name, number).body, b'{"for": %d}' % number)
        self.assertEqual(self.ask("switching", 9).status, 101)
        began = time.monotonic()
        with self.assertRaises(NoAnswer):
            self.ask("endless 100s", 1)
        self.assertLess(time.monotonic() - began, 2)

    def test_unasked_answers(self):
        """A second answer is never taken for the next one's, whether it comes at once or later."""
        for name in ("twice", "twice, the second later", "half an answer more"):
            transport = HttpTransport(timeout=0.5)
            for number in range(1, 12):
                try:
                    said = self.ask(name, number, transport).body
                except NoAnswer:
                    continue  # noticed; it would be asked again
                self.assertEqual(said, b'{"for": %d}' % number)
                until = time.monotonic() + 5  # its second answer is on its way by then
                while name == "twice, the second later" and number not in self.server.sent_twice:
                    self.assertLess(time.monotonic(), until)
                    time.sleep(0.01)
                time.sleep(0.02)
            self.server.sent_twice.clear()

    def test_one_deadline(self):
        """One byte at a time, or no end at all: the whole answer has one deadline and one size."""
        for name, sign in (("a byte at a time", "in time"), ("endless body", None)):
            began = time.monotonic()
            if sign is None:
                self.assertIn("longer than 1,048,576 bytes", self.ask(name, 1).fault)
            else:
                with self.assertRaisesRegex(NoAnswer, sign):
                    self.ask(name, 1)
            self.assertLess(time.monotonic() - began, 2)

    def test_bombs(self):
        """What unpacks to more than is kept is cut there, and says so; the rest is kept as it came."""
        for name, sign in (
            ("bomb, gzip", "when unpacked"),
            ("bomb, deflate", "when unpacked"),
            ("gzip cut", "breaks off"),
            ("other squeezing", "cannot be undone"),
        ):
            response = self.ask(name, 1)
            self.assertIn(sign, response.fault)
            self.assertLessEqual(len(response.body), 1 << 20)


class Answers(InFolder):
    def test_hostile_answers(self):
        """Whatever an answer holds, the batch goes on, the answer is kept, findings keep their shape."""
        self.assertEqual(hostile_answers.attack(1500, seed=5), (1500, {}))

    def test_hostile_addresses(self):
        """An address in an answer that cannot or must not be followed costs its own image, no more."""
        self.assertEqual(answer_addresses.attack(25, seed=3), (25, {}))

    def test_an_error_of_ours(self):
        """No exception between an answer and its row: what goes wrong costs one image, not its answer."""
        from dotledger.services import answer_reading as reading

        real = reading.RuleReader.read

        def failing(rule, top, frame, working, into):
            if top.value.get("spoil"):
                raise MemoryError("no room")
            real(rule, top, frame, working, into)

        replies = lambda r: {**ANSWER, "spoil": number_of(r) == 2}  # noqa: E731
        with mock.patch.object(reading.RuleReader, "read", failing):
            sent, _ = self.send(pictures(6), replies)
        self.assertEqual((sent.outcomes["label"]["found"], sent.unread), (5, 1))
        with self.ledger().reading() as connection:
            kept = connection.exec_driver_sql("SELECT COUNT(*) FROM calls WHERE answer NOT NULL")
            self.assertEqual(kept.scalar(), 6)

    def test_waits_that_are_none(self):
        """A wait in other digits, without end or with a bad date is none; the pace decides."""
        for text in ("²", "٣", "9" * 400, "-1", "soon", "Mon, 99 Foo 9999", "", "1e9", "nan"):
            self.assertIsNone(seconds_until(text, 0.0), text)
        self.assertEqual(seconds_until(" 7 ", 0.0), 7.0)

    def test_a_token_that_is_odd(self):
        """A token's answer may hold anything; its life is then the usual one, or the key refused."""
        from dotledger.errors import KeyRefused
        from dotledger.sending.calls.oauth_tokens import TokenSource
        from dotledger.services.redaction import Key, Secrets
        from dotledger.testing import FakeClock, FakeTransport, Response

        service = description(
            ('place = "header"\nname = "X-Key"', 'place = "token"'),
            ("[[call]]", '[connect.token]\naddress = "http://127.0.0.1:1/t"\n[[call]]'),
        )

        def source(body):
            transport = FakeTransport(lambda _: Response(status=200, body=body))
            return TokenSource(service, Key("i:s", "t"), transport, FakeClock(), Secrets())

        for life in (b'"x"', b"-5", b"[]", b"true", b"1e300", b"99999999999999999999"):
            body = b'{"access_token": "t", "expires_in": ' + life + b"}"
            self.assertEqual(source(body).current().reveal(), "t")
        for body in (
            b"",
            b"[]",
            b"[" * 3000,
            b'{"access_token": "a\\nb"}',
            b'{"access_token": null}',
            b'{"access_token": "t", "expires_in": 1e400}',
        ):
            with self.assertRaises(KeyRefused):
                source(body).current()


class Machines(unittest.TestCase):
    def test_tls(self):
        """Of servers that speak TLS oddly only the right one is answered, and gets the key."""
        tries = len(rough_machines.TLS_WAYS)
        self.assertEqual(rough_machines.tls_attack(tries), (tries, {}))

    def test_clocks_that_jump(self):
        """A wall's clock that jumps by years changes no outcome."""
        self.assertEqual(rough_machines.clock_attack(3, seed=2), (3, {}))

    def test_a_disk_that_fills(self):
        """Where a disk fills in the middle of a batch, what was paid for is found again, and paid once."""
        tries, wrong = rough_machines.disk_attack(2, seed=3)
        if not tries:
            self.skipTest("no small disk can be made here")
        self.assertEqual(wrong, {})

    def test_a_growing_file(self):
        """Readers of strangers' files take time that grows with the file: a square would be a hundred times."""
        for name in ("XML, namespaces", "rules", "a pattern on a line", "JPEG, segments"):
            # A busy neighbour may be there for one size and not for the other; a square stays one.
            tries = (max(strangers_files.growth(name, decades=1)[2]) for _ in range(8))
            self.assertTrue(any(step < 60 for step in tries), name)


class Together(InFolder):
    def test_threads_and_a_claim(self):
        """Two batches with the same images from two threads: each image is asked for once."""
        asked = []

        def reply(request):
            asked.append(number_of(request))
            time.sleep(0.005)
            return ANSWER

        def go(names):
            self.send({f"{names}-{n}": data for n, data in pictures(40).items()}, reply)

        threads = [threading.Thread(target=go, args=(names,)) for names in "ab"]
        with self.assertLogs("dotledger") as logged:
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(sorted(asked), list(range(40)))
        self.assertRegex(logged.output[0], "waiting: process [0-9]+ on .* sends to bell")

    def test_who_is_waited_for(self):
        """Who has just taken a turn writes down who it is a moment later; that is waited for."""
        going, done = threading.Event(), threading.Event()

        def reply(_):
            going.set()
            done.wait(20)
            return ANSWER

        first = threading.Thread(target=self.send, args=(pictures(1), reply))
        first.start()
        self.assertTrue(going.wait(20))
        later = ["another process", "another process", "process 7 on a-host"]
        with (
            mock.patch("dotledger.sending.batch.batch_sending.who_has", side_effect=later),
            self.assertLogs("dotledger") as logged,
        ):
            threading.Timer(0.3, done.set).start()
            sent, _ = self.send(pictures(2), [ANSWER])
        first.join()
        self.assertIn("waiting: process 7 on a-host sends to bell", logged.output[0])
        self.assertEqual((sent.outcomes["label"]["found"], sent.calls), (2, 1))
