"""What goes wrong in the world: misbehaving services, kills, Ctrl-C, a full disk."""

import hashlib
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from itertools import product
from pathlib import Path

from dotledger import send
from dotledger.ledger.batch_queries import failures, find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import description_of, running
from dotledger.standins.service_misbehaviour import parse_trouble
from tests.campaigns import killed_jobs, rough_machines
from tests.forked import started
from tests.sending.helpers import ANSWER, TEXT, Handler, picture, served

COMMAND = [sys.executable, "-c", "from dotledger.cli import run; run()"]


class Misbehaviour(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.scenes = {s.name: s.data for s in map(draw_scene, RECIPES[:8])}

    def sent(self, name, trouble, **options):
        """Send eight scenes to a misbehaving service; return outcomes, reasons and the service."""
        with tempfile.TemporaryDirectory() as home, running(name, parse_trouble(trouble)) as up:
            key = options.pop("key", up.service.key)
            sent = send(
                self.scenes, description_of(up), ledger=Path(home) / "l", key=key, **options
            )
            with LedgerStore(Path(home) / "l") as ledger:
                reasons = {r for *_, r in failures(ledger, find_batch(ledger, batch=sent.batch))}
        return sent, reasons, up.service.maker

    def test_troubles_that_pass(self):
        """Errors, cuts, broken and strange answers, waits and slowness end with every image found."""
        troubles = ("error=3", "cut=3", "truncated=3", "garbled=4", "typed=4", "busy=4", "rate=4,wait=1", "slow=0.2", "shuffled=1")  # fmt: skip
        every = list(product(("flint", "marl", "chalk"), troubles))
        with ThreadPoolExecutor(9) as pool:  # they mostly wait
            came = list(pool.map(lambda one: self.sent(*one), every))
        for (name, trouble), (sent, reasons, _) in zip(every, came, strict=True):
            with self.subTest(service=name, trouble=trouble):
                self.assertEqual((sent.failed, sent.pending, reasons), (0, 0, set()))
                self.assertEqual(sent.outcomes["label"]["found"], 8)

    def test_a_limit_is_not_flooded(self):
        """When the service says wait, everybody waits: few refusals, not one for every image."""
        sent, _, maker = self.sent("flint", "rate=4,wait=1")
        self.assertEqual(sent.outcomes["label"]["found"], 8)
        self.assertLessEqual(maker.refused, 8)

    def test_a_token_that_dies(self):
        """A token that expires after two calls is renewed; the batch goes on."""
        sent, _, _ = self.sent("marl", "expiring=2")
        self.assertEqual((sent.outcomes["label"]["found"], sent.failed), (8, 0))

    def test_refused_images_and_missing_ones(self):
        """A service that refuses small or large images, or leaves one out, is quoted for each."""
        sent, reasons, _ = self.sent("flint", "smallest=600")
        self.assertEqual(sent.outcomes["label"]["failed"], 8)
        self.assertRegex(reasons.pop(), "status 400.*smaller than 600")
        sent, reasons, _ = self.sent("marl", "largest=20000")
        self.assertRegex(next(iter(reasons)), "status 400.*larger than 20000 bytes")
        sent, reasons, _ = self.sent("chalk", "missing=1")
        self.assertEqual(
            (reasons, sent.outcomes["label"]["failed"]),
            ({"the answer does not hold this image; its ids: 0, 1, 2"}, 2),
        )

    def test_a_wrong_key(self):
        """A wrong key stops the batch after one call, for each way of giving a key."""
        for name in ("flint", "marl", "chalk"):
            sent, _, maker = self.sent(name, "", key="wrong:key")
            self.assertEqual((sent.failed, sent.outcomes["label"]["pending"]), (0, 8), name)
            self.assertTrue(sent.stopped_because)
            self.assertLessEqual(maker.calls, 1)


class Counting(Handler):
    """Answers after a moment, and remembers what it was sent."""

    pause = 0.02
    padding = ""

    def asked(self):
        self.seen.append(hashlib.sha256(self.body()).hexdigest())
        time.sleep(self.pause)
        self.reply({**ANSWER, "more": self.padding} if self.padding else ANSWER)


class Processes(unittest.TestCase):
    alone = True  # how quickly a process stops is measured beside how quickly one starts

    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        port, self.handler = served(self, Counting)
        text = TEXT.replace("127.0.0.1:1/", f"127.0.0.1:{port}/")
        (self.home / "bell.toml").write_text(text)
        (self.home / "images").mkdir()
        self.words = ["send", "images", "--service", "bell.toml", "--ledger", "l.ledger"]

    def images(self, count):
        for number in range(count):
            (self.home / "images" / f"p-{number:04}.jpg").write_bytes(picture(number))

    def start(self, *words, **options):
        return subprocess.Popen(
            [*COMMAND, *(words or self.words)],
            cwd=self.home,
            env={**os.environ, "BELL_KEY": "k"},
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            **options,
        )

    def forked(self):
        """The same, without loading everything again, and without its output."""
        return started(*self.words, cwd=self.home, env={"BELL_KEY": "k"})

    def committed(self):
        """SHA-256 of every image with a committed answer."""
        import sqlite3

        if not (self.home / "l.ledger").exists():
            return []
        with closing(sqlite3.connect(self.home / "l.ledger")) as connection:
            try:
                return [sha for (sha,) in connection.execute("SELECT sha FROM answers")]
            except sqlite3.OperationalError:
                return []

    def wait_for(self, process, count, more_than):
        """Wait while the process lives, 20 seconds at most."""
        deadline = time.monotonic() + 20
        while count() <= more_than and process.is_alive() and time.monotonic() < deadline:
            time.sleep(0.01)

    def test_fifty_kills(self):
        """After 50 kills at random moments no committed answer is lost, doubled or paid again.

        The moments count from the first call, and every other time from the first commit:
        a slow machine gets that far too. Two senders of 25 kills each, with ledgers of their own.
        """
        other = type(self)("test_fifty_kills")
        self.addCleanup(other.doCleanups)
        other.setUp()
        with ThreadPoolExecutor(2) as pool:
            for done in [pool.submit(one.killed, seed) for one, seed in ((self, 11), (other, 12))]:
                done.result()

    def killed(self, seed):
        """Kill 25 senders one after the other, then let one end; look at what is there each time."""
        self.images(400)
        rng, before = random.Random(seed), set()
        for number in range(25):
            start = len(self.handler.seen)
            process = self.forked()
            self.wait_for(process, lambda: len(self.handler.seen), start)
            if number % 2:
                self.wait_for(process, lambda: len(self.committed()), len(before))
            time.sleep(rng.uniform(0, 0.2))
            process.kill()
            process.wait()
            answered = self.committed()
            self.assertEqual(len(answered), len(set(answered)))
            self.assertLessEqual(before, set(answered))
            self.assertFalse(before & set(self.handler.seen[start:]))
            before = set(answered)
        self.assertGreater(len(before), 25)
        out, err = self.start().communicate()
        self.assertIn("label", out, err)
        self.assertEqual(len(set(self.committed())), 400)
        with LedgerStore(self.home / "l.ledger") as ledger, ledger.reading() as connection:
            rows = connection.exec_driver_sql(
                "SELECT kind, outcome, COUNT(*) FROM outcomes GROUP BY 1, 2"
            ).all()
            found = connection.exec_driver_sql("SELECT COUNT(*) FROM findings").scalar()
        self.assertEqual(
            sorted(map(tuple, rows)), [("label", "found", 400), ("object", "found", 400)]
        )
        self.assertEqual(found, 800)
        extra = Counter(self.handler.seen).most_common(1)[0][1]
        self.assertLessEqual(extra, 25)

    def test_ctrl_c(self):
        """Ctrl-C lets calls in flight finish, commits, names the resuming command, and is quick."""
        self.handler.pause = 0.3
        self.images(200)
        process = self.start()
        while len(self.handler.seen) < 12 and process.poll() is None:
            time.sleep(0.02)
        began = time.monotonic()
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=20)
        took = time.monotonic() - began
        began = time.monotonic()
        self.start("batches", "--ledger", "l.ledger").communicate()
        plain = time.monotonic() - began
        # An interpreter that starts and prints a table, on this machine at this hour.
        self.assertLess(took, 0.3 + 0.5 + plain)
        self.assertEqual(process.returncode, 3)
        self.assertIn("Stopped: interrupted", out)
        self.assertIn("To go on: dotledger send images --service bell.toml --ledger l.ledger", err)
        self.assertEqual(set(self.committed()), set(self.handler.seen))
        made = len(self.handler.seen)
        self.handler.pause = 0
        self.start().communicate()
        self.assertEqual((len(self.handler.seen), made > 11), (200, True))

    def test_ended_at_once(self):
        """Ctrl-C, or the system's end, while the ledger is being made keeps what the first call brings."""
        self.handler.pause = 0.3
        self.images(20)
        for number in (signal.SIGINT, signal.SIGTERM):
            before = len(self.handler.seen)
            process = self.start()
            while len(self.handler.seen) == before and process.poll() is None:
                time.sleep(0.005)
            process.send_signal(number)
            out, err = process.communicate(timeout=20)
            self.assertIn("Stopped: interrupted", out, err)
            self.assertEqual(set(self.committed()), set(self.handler.seen))

    def test_jobs_and_kills(self):
        """Senders of jobs are killed: what was accepted is asked for again, never anew, and read right."""
        kills, wrong, _ = killed_jobs.attack(6, seed=4, images=40)
        self.assertEqual((kills, wrong), (6, {}))

    def test_a_stopped_sender(self):
        """Who shares a file with a sender that is stopped waits, says for whom, and pays for nothing twice."""
        self.assertEqual(rough_machines.stop_attack(1, seed=4, images=30), (1, {}))

    def test_ended_with_the_last_answer(self):
        """Being ended before the end is never status 0, also where every answer is there by then."""
        self.handler.pause = 0.4
        self.images(1)
        for number in (signal.SIGINT, signal.SIGTERM):
            (self.home / "l.ledger").unlink(missing_ok=True)
            before = len(self.handler.seen)
            process = self.start()
            while len(self.handler.seen) == before and process.poll() is None:
                time.sleep(0.005)
            process.send_signal(number)
            out, err = process.communicate(timeout=20)
            self.assertEqual((process.returncode, len(self.committed())), (3, 1), out + err)

    def test_a_full_disk(self):
        """When the disk is full the message says so; after making room nothing committed is lost."""
        import resource

        self.images(300)
        self.handler.padding = "".join(
            random.Random(1).choices("abcdefghijklmnop0123456789", k=20_000)
        )

        def disk_of(size):
            def limit():
                signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
                resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))

            return self.start(preexec_fn=limit)

        process = disk_of(200_000)
        _, err = process.communicate(timeout=60)
        self.assertEqual((process.returncode, self.handler.seen), (2, []), err)
        self.assertRegex(err, "disk is full.*Nothing was sent")
        process = disk_of(1_500_000)
        out, err = process.communicate(timeout=60)
        self.assertIn(process.returncode, (2, 3), err)
        self.assertRegex(out + err, "disk.* full|cannot be kept next to the ledger")
        sent = len(self.handler.seen)
        self.assertTrue(20 < sent < 300, sent)
        _, err = self.start().communicate()
        asked_again = len(self.handler.seen) - len(set(self.handler.seen))
        self.assertLessEqual(asked_again, 8, "no more than the calls under way, twice")
        self.assertEqual(len(set(self.committed())), 300)

    def test_two_processes(self):
        """The same batch twice at once: one sends, the other says who does, and finds it done."""
        self.images(120)
        self.handler.pause = 0.5
        first = self.start()
        while len(self.committed()) < 5 and first.poll() is None:
            time.sleep(0.02)
        second = self.start()
        said = second.stderr.readline()
        self.assertRegex(said, f"waiting: process {first.pid} on .* sends to bell with this")
        self.handler.pause = 0
        first.communicate()
        out, _ = second.communicate()
        self.assertIn("Nothing sent: the ledger holds every answer already.", out)
        self.assertEqual(Counter(self.handler.seen).most_common(1)[0][1], 1)

    def test_without_assertions(self):
        """Sending works the same under ``python -O``."""
        self.images(3)
        done = subprocess.run(
            [sys.executable, "-O", *COMMAND[1:], *self.words, "--json"],
            cwd=self.home,
            env={**os.environ, "BELL_KEY": "k"},
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(json.loads(done.stdout)["outcomes"]["object"]["found"], 3, done.stderr)
