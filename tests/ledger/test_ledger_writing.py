"""Writing batches: one sender at a time, every answer once."""

import threading
import time

from sqlalchemy import select

from dotledger import send
from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import find_batch, sent_images
from dotledger.ledger.ledger_records import BatchOpening, ItemRecord, OutcomeRecord
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.ledger_writing import BatchWriter
from dotledger.testing import FakeTransport
from tests.sending.helpers import ANSWER, InFolder, description, picture


class Writing(InFolder):
    def test_two_senders(self):
        """Two sendings into one ledger at once: every answer once, none lost."""
        results = []

        def go(first):
            images = {f"p-{n}.jpg": picture(n) for n in range(first, first + 40)}
            results.append(
                send(
                    images,
                    description(),
                    ledger=self.path,
                    key="k",
                    transport=FakeTransport(lambda _: time.sleep(0.004) or ANSWER),
                )
            )

        LedgerStore(self.path).close()
        threads = [threading.Thread(target=go, args=(first,)) for first in (0, 20)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([r.outcomes["label"]["found"] for r in results], [40, 40])
        ledger = self.ledger()
        with ledger.reading() as connection:
            rows = connection.exec_driver_sql(
                "SELECT COUNT(*), COUNT(DISTINCT sha) FROM answers"
            ).one()
        self.assertEqual(tuple(rows), (60, 60))

    def test_images_are_recorded(self):
        """Name, upright size and what was done to each image stand in the ledger."""
        self.send({"a.png": picture(3, form="PNG")}, [ANSWER])
        ledger = self.ledger()
        [one] = sent_images(ledger, find_batch(ledger))
        self.assertEqual((one.name, one.width, one.height), ("a.png", 24, 16))

    def test_what_is_left_of_many(self):
        """A batch of several blocks that was cut off with gaps: just what is missing is left."""
        names = [f"p-{n:05}.png" for n in range(20_000)]
        opening = BatchOpening(
            **dict.fromkeys(("key", "service", "fingerprint", "description", "source"), "x"),
            currency="",
            floor=None,
            kinds=("label", "face"),
            settings={},
            names=names,
            paths=names,
        )
        writer = BatchWriter(self.ledger(), opening, 0.0)
        writer.add_items()
        gaps = {5: (), 9_000: ("face",), 19_999: ()}
        done = [
            ItemRecord(
                position=place,
                outcomes=[
                    OutcomeRecord(kind=kind, outcome="empty")
                    for kind in gaps.get(place, opening.kinds)
                ],
            )
            for place in range(20_000)
        ]
        writer.write(done)
        # A kind that was read later on, and not asked for, stands in for none that is missing.
        other = OutcomeRecord(kind="text", outcome="empty")
        writer.write([ItemRecord(position=place, outcomes=[other]) for place in (1, 2)])
        settled = writer.settled_kinds(opening.kinds)
        missing = {p for p in range(20_000) if len(settled.get(p, ())) < 2}
        self.assertEqual(missing, set(gaps))
        self.assertEqual((settled[9_000], len(settled)), ({"face": ""}, 19_998))

    def test_a_damaged_file_is_said(self):
        """A page of the database is overwritten: our error, with what to do."""
        self.send({f"p-{n}.png": picture(n, form="PNG") for n in range(30)}, [ANSWER] * 30)
        ledger = self.ledger()
        ledger.close()
        data = bytearray(self.path.read_bytes())
        data[4096:] = bytes(len(data) - 4096)
        self.path.write_bytes(data)
        with self.assertRaisesRegex(LedgerError, "damaged"):
            list(self.ledger().rows(select(schema.outcomes)))
