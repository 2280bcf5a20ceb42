"""A ledger for a team: the same on a PostgreSQL server, with several senders at once."""

import os
import subprocess
import tempfile
import threading
import time
import unittest
from importlib.util import find_spec
from unittest import mock

from sqlalchemy import inspect

from dotledger import findings_of, forget, send
from dotledger.api.rereading import reread
from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.answer_queries import raw_answers
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_migrations import upgrade
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import call_figures
from dotledger.testing import FakeTransport, answer
from tests.campaigns import senders
from tests.campaigns.crews import PROGRAMS, Server
from tests.sending.helpers import ANSWER, description, number_of, picture, pictures


@unittest.skipUnless((PROGRAMS / "initdb").exists(), "no PostgreSQL server here")
@unittest.skipUnless(find_spec("psycopg"), "psycopg is not installed")
class PostgreSQL(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        try:
            cls.server = Server(cls.enterClassContext(tempfile.TemporaryDirectory()))
        except (OSError, LookupError, subprocess.CalledProcessError) as error:
            raise unittest.SkipTest(f"PostgreSQL cannot be started here: {error}") from error
        cls.addClassCleanup(cls.server.stop)
        state = cls.enterClassContext(tempfile.TemporaryDirectory())
        cls.enterClassContext(mock.patch.dict(os.environ, {"DOTLEDGER_STATE": state}))

    def send(self, images, replies, ledger=None, **options):
        transport = FakeTransport(replies)
        options = {"ledger": ledger or self.server.address, "key": "k", **options}
        return send(images, description(), transport=transport, **options), transport

    def test_the_same_as_a_file(self):
        """Sent in part, resumed, failed ones again, read again: as in a ledger that is a file."""
        said = []
        with tempfile.TemporaryDirectory() as folder:
            for where in (self.server.address, f"{folder}/l"):
                wrong = lambda r: answer({}, 400) if number_of(r) == 3 else answer(ANSWER)  # noqa: E731
                self.send(pictures(9), wrong, where, at_most=5)
                rest, transport = self.send(pictures(9), wrong, where)
                self.assertEqual((rest.resumed, len(transport.requests)), (True, 4))
                again, _ = self.send(pictures(9), [ANSWER], where, again="failed")
                with LedgerStore(where) as ledger:
                    batch = find_batch(ledger, batch=again.batch)
                    raw = list(raw_answers(ledger, batch, range(9)))
                    anew = reread(ledger, batch, description(), now=2e9)
                    figures = call_figures(ledger, batch)
                found = findings_of(where, batch=again.batch)
                rows = sorted(zip(found.image.values(), found.label.values(), map(str, found.box)))
                said.append(
                    (again.outcomes, raw, anew.same, figures.calls, round(figures.money, 9), rows)
                )
        self.assertEqual(said[0], said[1])

    def test_removed_for_good(self):
        """Rows, answers and statistics hold nothing of it."""
        named = {f"gone-{n}.jpg": picture(70 + n, (37, 23)) for n in range(3)}
        sent, _ = self.send(named, [ANSWER])
        done = forget(self.server.address, "gone-1.jpg", act=True)
        self.assertEqual((done.clean, done.ledger.images, done.ledger.answers), (True, 1, 1))
        with LedgerStore(self.server.address) as ledger, ledger.reading() as connection:
            values = "coalesce(most_common_vals::text, '') || coalesce(histogram_bounds::text, '')"
            held = f"SELECT count(*) FROM pg_stats WHERE position('gone-1.jpg' in {values}) > 0"
            self.assertEqual(connection.exec_driver_sql(held).scalar(), 0)
        left = set(findings_of(self.server.address, batch=sent.batch).image.values())
        self.assertEqual(left, {"gone-0.jpg", "gone-2.jpg"})

    def test_an_earlier_version(self):
        """A ledger as version 6 had it on a server is upgraded in place; what was paid is known."""
        images = {f"up-{n}": picture(n, (52, 31)) for n in range(4)}
        self.send(dict(list(images.items())[:3]), [ANSWER])
        with LedgerStore(self.server.address) as ledger, ledger.writing() as connection:
            for statement in (
                "DROP TABLE looks",
                "ALTER TABLE answer_keys DROP CONSTRAINT answer_keys_pkey",
                "ALTER TABLE answer_keys ADD CONSTRAINT one_answer UNIQUE (fingerprint, call_name, sha)",
                "DROP INDEX calls_by_batch",
                "CREATE INDEX calls_by_batch ON calls (batch, started, status, images, price)",
                "UPDATE about SET value = '6' WHERE name = 'version'",
            ):
                connection.exec_driver_sql(statement)
        with self.assertRaisesRegex(LedgerError, "dotledger doctor --upgrade --ledger"):
            LedgerStore(self.server.address)
        self.assertEqual(upgrade(self.server.address), (6, schema.VERSION, None))
        _, transport = self.send(images, [ANSWER])
        self.assertEqual(len(transport.requests), 1)
        with LedgerStore(self.server.address) as ledger, ledger.reading() as connection:
            keys = inspect(connection).get_pk_constraint("answer_keys")["constrained_columns"]
        self.assertEqual(keys, ["fingerprint", "call_name", "sha"])

    def test_several_senders(self):
        """Three sendings at once with images in common: nothing lost, each answer once."""
        results = []

        def go(first):
            images = {f"s-{n}": picture(n, (40, 30)) for n in range(first, first + 60)}
            slow = lambda _: time.sleep(0.003) or ANSWER  # noqa: E731
            results.append(self.send(images, slow)[0])

        threads = [threading.Thread(target=go, args=(first,)) for first in (0, 30, 50)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([r.outcomes["label"]["found"] for r in results], [60] * 3)
        batches = tuple(r.batch for r in results)
        with LedgerStore(self.server.address) as ledger, ledger.reading() as connection:
            rows = connection.exec_driver_sql(
                f"SELECT count(*), count(DISTINCT a.sha) FROM answer_keys a JOIN calls c ON c.id = a.call WHERE a.fingerprint NOT LIKE 'wire-%%' AND c.batch IN {batches}"
            ).one()
        self.assertEqual(tuple(rows), (110, 110))

    def test_what_its_rows_cannot_hold(self):
        """NUL in labels, reasons and content types, a row it refuses: every answer is kept all the same."""
        odd = {"tags": [{"name": "a\0b"}], "things": [{"name": "\0", "sure": "\0"}]}
        images = {f"n-{n}": picture(n, (36, 30)) for n in range(6)}
        reply = lambda r: answer(odd, **{"content-type": "a\0b"})  # noqa: E731
        sent, _ = self.send(images, reply)
        self.assertEqual((sent.outcomes["label"]["found"], sent.pending), (6, 0))
        self.assertIn(r"a\x00b", findings_of(self.server.address, batch=sent.batch).label.used())
        other = {f"o-{n}": picture(n, (37, 30)) for n in range(4)}
        with mock.patch("dotledger.ledger.ledger_records.storable", lambda text: text):
            sent, _ = self.send(other, reply)
        _, transport = self.send(other, [ANSWER], again="failed")
        self.assertEqual(transport.requests, [], "their answers are there")

    def test_processes(self):
        """Several processes at once on one server: each image is paid for once."""
        starts, wrong = senders.send_at_once(1, processes=4, ledger=self.server.address)
        self.assertEqual((starts, wrong), (1, {}))

    def test_a_server_that_goes_away(self):
        """When the server goes, the sending ends with the reason; what was committed is not sent again."""
        images = {f"g-{n}": picture(n, (50, 30)) for n in range(200)}
        seen = []

        def reply(request):
            seen.append(number_of(request))
            if len(seen) == 60:
                self.server.stop()
            time.sleep(0.01)
            return ANSWER

        with self.assertRaises(LedgerError):
            self.send(images, reply)
        self.assertLess(len(seen), 200)
        self.server.start()
        with LedgerStore(self.server.address) as ledger, ledger.reading() as connection:
            kept = connection.exec_driver_sql(
                "SELECT count(*) FROM outcome_rows o JOIN items i ON i.batch = o.batch AND i.position = o.position WHERE i.name LIKE 'g-%%' AND o.kind = 'label'"
            ).scalar()
        rest, transport = self.send(images, [ANSWER])
        self.assertEqual(rest.outcomes["label"]["found"], 200)
        self.assertLess(kept, len(set(seen)))
        self.assertEqual(len(transport.requests), 200 - len(set(seen)), "what came was kept here")
