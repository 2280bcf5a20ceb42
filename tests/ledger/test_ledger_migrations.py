"""Ledgers of earlier versions: upgraded in place, copied first, every answer bit for bit."""

import contextlib
import gzip
import os
import random
import signal
import sqlite3
import subprocess
import sys
import unittest
from collections import Counter
from contextlib import closing
from pathlib import Path

from dotledger import findings_of, send
from dotledger.api.rereading import reread
from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import find_batch, outcome_counts
from dotledger.ledger.ledger_migrations import upgrade
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import call_figures
from dotledger.testing import FakeTransport
from tests.sending.helpers import ANSWER, InFolder, description, picture, pictures

OLD = sorted((Path(__file__).parent.parent / "data").glob("ledger-*.sqlite.gz"))


class Kept(InFolder):
    def old(self, file):
        for left in self.folder.glob("l.ledger*"):  # SQLite's log of another ledger is read, too
            left.unlink()
        self.path.write_bytes(gzip.decompress(file.read_bytes()))
        return int(file.name.split("-")[1].split(".")[0])

    def rows(self, path, query):
        with closing(sqlite3.connect(path)) as connection:
            return connection.execute(query).fetchall()


class Upgrading(Kept):
    def test_every_earlier_version(self):
        """Each kept ledger of an earlier version is refused with the command, upgraded, and works."""
        self.assertEqual([self.old(file) for file in OLD], list(range(1, schema.VERSION)))
        for file in OLD:
            version = self.old(file)
            with self.assertRaisesRegex(LedgerError, "dotledger doctor --upgrade --ledger"):
                LedgerStore(self.path)
            query = "SELECT id, batch, call, started, status, answer FROM calls ORDER BY id"
            before = self.rows(self.path, query)
            found, now, copy = upgrade(str(self.path))
            self.assertEqual((found, now), (version, schema.VERSION))
            self.assertEqual(self.rows(self.path, query), before)
            self.assertEqual(self.rows(copy, query), before)
            self.assertEqual(upgrade(str(self.path)), (now, now, None))
            known = "SELECT type, name, tbl_name, sql LIKE '%WITHOUT ROWID%' FROM sqlite_master WHERE type = 'index' OR type = 'table'"
            fresh = self.path.with_name(f"fresh-{version}")
            LedgerStore(fresh).close()
            ours, new = (set(self.rows(one, known)) for one in (self.path, fresh))
            self.assertEqual(
                {one for one in ours if "autoindex" not in one[1]},
                {one for one in new if "autoindex" not in one[1]},
            )
            with self.subTest(version=version), LedgerStore(self.path) as ledger:
                self.works(ledger)

    def works(self, ledger):
        """Views, rereading and sending go on where the earlier version ended."""
        batch = find_batch(ledger, batch=1)
        counts = outcome_counts(ledger, batch)
        self.assertEqual([sum(row.values()) for row in counts.values()], [7, 7])
        self.assertEqual(counts["label"]["refused"], 1)
        self.assertGreater(call_figures(ledger, batch).calls, 0)
        result = reread(ledger, batch, description(), now=2e9)
        self.assertEqual(result.answers, 5)
        self.assertEqual(outcome_counts(ledger, batch)["label"]["unread"], 1, "tags are a text")
        transport = FakeTransport([ANSWER])
        images = {**pictures(6), "small.jpg": picture(9, (4, 4))}
        send(images, description(), ledger=ledger, key="k", transport=transport, again="failed")
        self.assertEqual(len(transport.requests), 1, "the one that was refused with 400")
        self.assertEqual(len(findings_of(ledger, batch=1, kinds=["label"]).image.used()), 5)

    def test_nothing_is_half_done(self):
        """A copy that is in the way, or a step that fails, leaves the ledger as it was."""
        self.old(OLD[0])
        before = self.path.read_bytes()
        copy = self.path.with_name("l.ledger.version-1")
        copy.write_text("mine")
        with self.assertRaisesRegex(LedgerError, "the copy.*it is no ledger.*Move it away"):
            upgrade(str(self.path))
        copy.unlink()
        with closing(sqlite3.connect(self.path)) as connection:
            connection.execute("ALTER TABLE calls ADD COLUMN requests INTEGER")
        with self.assertRaises(LedgerError):
            upgrade(str(self.path))
        self.assertEqual(self.rows(self.path, "SELECT value FROM about"), [("1",)])
        self.assertEqual(len(before) > 0, True)

    @unittest.skipUnless(hasattr(os, "fork"), "no processes can be forked here")
    def test_killed_at_any_moment(self):
        """An upgrade that was killed goes on by itself at the next try, with a whole copy of what was."""
        query = "SELECT id, batch, call, started, status, answer FROM calls ORDER BY id"
        rng, left = random.Random(6), Counter()
        for number in range(40):
            file = OLD[number % len(OLD)]
            version = self.old(file)
            before = self.rows(self.path, query)
            child = os.fork()
            if not child:
                signal.signal(signal.SIGALRM, signal.SIG_DFL)
                signal.setitimer(signal.ITIMER_REAL, rng.uniform(0.001, 0.12))
                with contextlib.suppress(BaseException):
                    upgrade(str(self.path))
                os._exit(0)
            killed = os.WIFSIGNALED(os.waitpid(child, 0)[1])
            rng.random()  # the child's own draw is lost with it
            left["killed" if killed else "ended"] += 1
            upgrade(str(self.path))
            self.assertEqual(self.rows(self.path, query), before, number)
            copy = self.path.with_name(f"l.ledger.version-{version}")
            self.assertEqual(self.rows(copy, query), before, number)
            self.assertEqual(self.rows(copy, "SELECT value FROM about"), [(str(version),)])
            self.assertEqual(list(self.folder.glob("*.part")), [])
        self.assertGreater(left["killed"], 5, left)

    def test_a_half_copy_of_an_earlier_version(self):
        """A half copy is known as one and made anew; a whole one of another state stays, beside."""
        self.old(OLD[2])
        whole = self.path.read_bytes()
        copy = self.path.with_name("l.ledger.version-3")
        for half in (whole[: len(whole) // 2], whole[:5000], b"SQLite format 3\0" + bytes(5000)):
            self.old(OLD[2])
            copy.write_bytes(half)
            self.assertEqual(upgrade(str(self.path))[2], copy)
            self.assertEqual(self.rows(copy, "SELECT value FROM about"), [("3",)])
        self.old(OLD[2])
        copy.write_bytes(whole)
        with closing(sqlite3.connect(self.path)) as connection, connection:
            connection.execute("DELETE FROM outcomes")
        self.assertEqual(upgrade(str(self.path))[2].name, "l.ledger.version-3.again-2")
        self.assertEqual(copy.read_bytes(), whole)

    def test_the_command(self):
        """The command says what it did and where the copy is; a newer ledger is refused."""
        self.old(OLD[0])

        def run(*words):
            return subprocess.run(
                [sys.executable, "-m", "dotledger", *words, "--ledger", "l.ledger"],
                cwd=self.folder, capture_output=True, text=True, check=False,
            )  # fmt: skip

        self.assertIn("dotledger doctor --upgrade --ledger", run("batches").stderr)
        done = run("doctor", "--upgrade")
        self.assertEqual(
            done.stdout.splitlines(),
            [
                f"l.ledger: version 1 is now version {schema.VERSION}.",
                "The ledger as it was: l.ledger.version-1",
            ],
        )
        self.assertIn("already", run("doctor", "--upgrade").stdout)
        self.assertEqual(run("batches").returncode, 0)
        with closing(sqlite3.connect(self.path)) as connection, connection:
            connection.execute("UPDATE about SET value = '99'")
        self.assertIn("pip install --upgrade dot-ledger", run("doctor", "--upgrade").stderr)
