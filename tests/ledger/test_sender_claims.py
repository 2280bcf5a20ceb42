"""Claims: one sender at a time, and what was put aside is found by the next."""

import os
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from sqlalchemy.exc import OperationalError

from dotledger import findings_of, send
from dotledger.errors import LedgerError
from dotledger.ledger import sender_claims as claims
from dotledger.ledger.batch_queries import failures, find_batch
from dotledger.ledger.ledger_records import BatchOpening, CallRecord, ImageRecord
from dotledger.ledger.sender_claims import (
    FileClaim,
    WaitingAnswer,
    claim_path,
    is_of_a_dead_process,
)
from dotledger.testing import FakeTransport, answer
from tests.campaigns import senders
from tests.sending.helpers import ANSWER, InFolder, description, number_of, picture, pictures

OPENING = BatchOpening(
    key="k", service="bell", fingerprint="f" * 16, kinds=("label",), settings={}, description="{}",
    source="x", floor=None, currency="", names=["a"], paths=["a"],
)  # fmt: skip


def waiting(number, data=b"{}"):
    call = CallRecord(
        call="look", started=number, seconds=0.5, attempts=1, status=200, sent_bytes=1, images=1,
        price=0.01, reason="", media_type="application/json", answer=data,
    )  # fmt: skip
    image = ImageRecord(f"{number:064}", 9, "jpeg", 4, 4, 1)
    return WaitingAnswer(call=call, images=[image], answered=True)


class Claims(InFolder):
    def claim(self):
        return FileClaim(claim_path(self.path, OPENING.fingerprint), OPENING)

    def test_one_at_a_time(self):
        """A claim is held against this process and others, whatever any clock says, until given back."""
        first = self.claim()
        with mock.patch("time.time", return_value=1e12), self.assertRaises(BlockingIOError):
            self.claim()
        first.release(empty=True)
        self.assertEqual(os.listdir(self.folder), [])
        self.claim().release(empty=True)

    def test_a_dead_process(self):
        """The system gives a claim back when its process dies, and what it put aside is found."""
        code = (
            "import os; from tests.ledger.test_sender_claims import *\n"
            f"c = FileClaim(Path({str(claim_path(self.path, OPENING.fingerprint))!r}), OPENING)\n"
            "[c.put_aside(waiting(n)) for n in range(5)]; os._exit(9)"
        )
        subprocess.run([sys.executable, "-c", code], check=False, cwd=Path.cwd())
        claim = self.claim()
        self.assertEqual([a.call.started for _, a in claim.set_aside()], [0, 1, 2, 3, 4])
        claim.release(empty=False)

    def test_a_cut_record(self):
        """What a killed process did not finish writing is left out; the rest is found."""
        claim = self.claim()
        for number in range(3):
            claim.put_aside(waiting(number))
        end = claim._parts[0].end
        claim.release(empty=False)
        path = claim_path(self.path, OPENING.fingerprint)
        data = path.read_bytes()
        for cut in (end - 1, end - 40):
            path.write_bytes(data[:cut] + bytes(len(data) - cut))
            again = self.claim()
            self.assertEqual(len(list(again.set_aside())), 2)
            again.release(empty=False)

    def test_two_files_take_turns(self):
        """However many answers pass through, the files stay small, and none waited for is lost."""
        with mock.patch.object(claims, "_LONG", 100_000), mock.patch.object(claims, "_ROOM", 1000):
            claim = self.claim()
            places = []
            for number in range(200):
                places.append(claim.put_aside(waiting(number, b"x" * 10_000)))
                if len(places) == 5:
                    claim.committed(places[:4])
                    places = places[4:]
            sizes = [file.stat().st_size for file in self.folder.iterdir()]
            self.assertLess(max(sizes), 400_000)
            claim.release(empty=False)
            again = self.claim()
            kept = {a.call.started for _, a in again.set_aside()}
            self.assertLessEqual({195, 196, 197, 198, 199}, kept)
            again.release(empty=False)

    def test_another_machine(self):
        """A sender elsewhere counts as long as its file is renewed by the file server's clock."""
        with mock.patch("socket.gethostname", return_value="far"):
            self.claim().release(empty=False)
        with self.assertRaisesRegex(LedgerError, "another machine.*on far.*in a minute"):
            self.claim()
        path = claim_path(self.path, OPENING.fingerprint)
        old = path.stat().st_mtime - 61
        os.utime(path, (old, old))
        self.claim().release(empty=True)

    def test_a_file_that_went(self):
        """A claim whose file was removed or replaced is no longer held."""
        claim = self.claim()
        self.assertTrue(claim.held())
        claim.path.rename(self.folder / "other")
        self.assertFalse(claim.held())
        self.claim().release(empty=True)
        claim.release(empty=True)

    def test_long_names(self):
        """A ledger whose own name is as long as names may be has a claim all the same."""
        claim = FileClaim(claim_path(self.folder / ("é" * 120), "f" * 16), OPENING)
        claim.release(empty=True)


class NoPlace(InFolder):
    def test_nowhere_to_keep_it(self):
        """Where no ledger can be, nothing is sent, whatever its name is."""
        (self.folder / "file").write_text("x")
        (self.folder / "sub").mkdir()
        for where in (
            ":memory:", "", " ", "sqlite://", "sqlite:///:memory:", "sqlite:///a?mode=memory",
            self.folder / "file" / "l", self.folder / ("n" * 300), self.folder / "sub", "a\0b",
        ):  # fmt: skip
            transport = FakeTransport([ANSWER])
            with self.assertRaises(LedgerError, msg=where) as caught:
                send(pictures(3), description(), ledger=where, key="k", transport=transport)
            self.assertEqual(transport.requests, [], where)
            self.assertTrue(caught.exception.next_step or caught.exception.allowed, where)

    def test_names_are_taken_as_they_are(self):
        """Question marks, percent signs and similar are part of a file's name."""
        for name in ("my?ledger", "my%41ledger", "file:x", "a b#c", "größe"):
            path = self.folder / name
            send(
                pictures(2), description(), ledger=path, key="k", transport=FakeTransport([ANSWER])
            )
            self.assertEqual(len(findings_of(path).image.used()), 2)
        self.assertEqual(sorted(os.listdir(self.folder)), sorted(
            ["my?ledger", "my%41ledger", "file:x", "a b#c", "größe"]
        ))  # fmt: skip

    def test_a_ledger_that_goes(self):
        """A file replaced or removed midway stops the batch; what came is kept or named."""
        for way in ("removed", "replaced"):
            seen = []

            lock = threading.Lock()

            def reply(request, way=way, seen=seen, lock=lock):
                seen.append(number_of(request))
                moved = self.folder / f"moved-{way}"
                with lock:
                    due = len(seen) >= 20 and not moved.exists() and self.path.stat().st_size
                    if due:  # there is something in it: it is open by now, or is being opened
                        self.path.rename(moved)
                    if due and way == "replaced":
                        self.path.write_bytes(b"")
                time.sleep(0.01)
                return ANSWER

            with self.assertRaisesRegex(LedgerError, "removed or replaced.*answers? wait in") as e:
                self.send(pictures(200), reply)
            self.assertLess(len(seen), 200)
            self.assertEqual(e.exception.lost, [])
            self.path.unlink(missing_ok=True)
            (self.folder / f"moved-{way}").rename(self.path)
            _, transport = self.send(pictures(200), [ANSWER])
            self.assertEqual(len(transport.requests), 200 - len(seen))
            self.path.unlink()

    def test_errors_of_a_file_that_went(self):
        """Whatever SQLite says of a file that is gone, it is said that it is gone."""
        self.send(pictures(1), [ANSWER])
        for said in ("disk I/O error", "unable to open database file", "no such table: calls"):
            ledger = self.ledger()
            self.path.rename(self.folder / "moved")
            with self.assertRaisesRegex(LedgerError, "removed or replaced"), ledger.reading():
                raise OperationalError("", {}, sqlite3.OperationalError(said))
            (self.folder / "moved").rename(self.path)
            with self.assertRaisesRegex(LedgerError, "(?!.*removed)"), ledger.reading():
                raise OperationalError("", {}, sqlite3.OperationalError(said))

    def test_rows_that_are_refused(self):
        """Text that a database refuses is stored safely; a row it still refuses costs its own image."""
        odd = {"tags": [{"name": "a\0b"}], "things": []}
        replies = lambda r: answer(ANSWER) if number_of(r) else _raw(odd)  # noqa: E731
        sent, _ = self.send(pictures(5), replies)
        self.assertEqual((sent.failed, sent.outcomes["label"]["found"]), (0, 5))
        labels = findings_of(self.path).label.used()
        self.assertIn(r"a\x00b", labels)
        with mock.patch("dotledger.sending.batch.send_log.finding_row", _too_large):
            other = {f"q-{n}": picture(n + 100) for n in range(5)}
            sent, transport = self.send(other, [ANSWER])
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["failed"]), (5, 5))
        ledger = self.ledger()
        self.assertRegex(failures(ledger, find_batch(ledger))[0][3], "cannot be kept")
        _, transport = self.send(other, [ANSWER], again="failed")
        self.assertEqual(transport.requests, [], "the answers are there")


def _raw(document):
    import json

    from dotledger.testing import Response

    return Response(status=200, headers={}, body=json.dumps(document).encode())


def _too_large(kind, label, confidence, box, details):
    return (kind, label, 2**70, *(box or [None] * 4), details)


class Processes(unittest.TestCase):
    def test_eight_at_once(self):
        """Eight processes on a new ledger and on an old one, two batches with the same images."""
        for old in (False, True):
            self.assertEqual(senders.send_at_once(1, old=old), (1, {}))

    def test_whose_file_it_is(self):
        """A file of a process that is gone is told from one of a process that is here."""
        with tempfile.TemporaryDirectory() as home:
            for name, ends in (("gone", "import os; os._exit(0)"), ("here", "input()")):
                code = (
                    "import sys; from pathlib import Path; from dotledger.ledger.sender_claims import FileClaim;"
                    "from tests.ledger.test_sender_claims import OPENING;"
                    f"claim = FileClaim(Path({home!r}) / {name!r}, OPENING); print('held', flush=True); {ends}"
                )
                process = subprocess.Popen(
                    [sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE
                )
                self.assertEqual(process.stdout.readline(), b"held\n")
                if name == "gone":
                    process.communicate(timeout=60)
                self.assertIs(is_of_a_dead_process(Path(home) / name), name == "gone")
            process.communicate(b"\n", timeout=60)
            self.assertFalse(is_of_a_dead_process(Path(home) / "nothing"))

    def test_stopped_and_woken(self):
        """A sender that was stopped keeps its turn, however long; another one waits for it."""
        with tempfile.TemporaryDirectory() as home:
            place = senders.Place(home, 40, pause=0.05)
            self.addCleanup(place.close)
            first = place.start()
            while len(place.server.answered) < 4 and first.poll() is None:
                time.sleep(0.01)
            first.send_signal(signal.SIGSTOP)
            second = place.start()
            self.assertIn(f"waiting: process {first.pid} on", second.stderr.readline())
            first.send_signal(signal.SIGCONT)
            for process in (first, second):
                process.communicate(timeout=60)
            self.assertEqual((second.returncode, first.returncode), (0, 0))
            asked = [number for number, _ in place.server.answered]
            self.assertEqual(sorted(asked), list(range(40)))

    def test_kills(self):
        """Killed senders lose nothing that had come a fifth of a second before, and double nothing."""
        kills, wrong, _ = senders.kill_senders(4, images=400)
        self.assertEqual((kills, wrong), (4, {}))
