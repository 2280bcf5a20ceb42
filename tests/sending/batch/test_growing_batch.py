"""The batch of a running program: one for a day, whoever writes, each image under its own name."""

import unittest
from unittest import mock

from dotledger import Ledger, findings_of, open_service
from dotledger.api.rereading import reread
from dotledger.errors import LedgerError
from dotledger.ledger.batch_queries import find_batch, sent_images
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.sending.batch.growing_batch import GrowingBatch
from dotledger.testing import FakeTransport
from tests.sending.helpers import ANSWER, InFolder, description, picture

DAY = 86_400.0


class Growing(InFolder):
    def setUp(self):
        super().setUp()
        self.now = [20_000 * DAY]
        self.bell = self.enterContext(
            open_service(description(), key="k", transport=FakeTransport([ANSWER]))
        )

    def batch(self, **options):
        ledger = self.enterContext(LedgerStore(self.path))
        return GrowingBatch(ledger, self.bell._plan, lambda: self.now[0], before=True, **options)

    def put(self, batch, number, name="up.jpg"):
        item = self.bell._item(picture(number), name)
        batch.put(item, self.bell._worker.look(item, None))

    def batches(self):
        with Ledger(self.path) as ledger:
            return ledger.batches()

    def test_two_programs_and_a_later_start(self):
        """They write into one batch in turn; no image takes another's place or name."""
        one, other = self.batch(), self.batch()
        for number, batch in enumerate((one, other, other, one)):
            self.put(batch, number)
        self.put(other, 9, "up.jpg (5)")
        one.close()
        other.close()
        later = self.batch()
        self.put(later, 5)
        later.close()
        [batch] = self.batches()
        self.assertEqual((batch.images, bool(batch.ended)), (6, True))
        names = ["up.jpg", *(f"up.jpg ({n})" for n in (2, 3, 4, 5, 6))]
        self.assertEqual(findings_of(self.path).image.used(), names)
        with LedgerStore(self.path) as ledger:
            shas = [one.sha for one in sent_images(ledger, find_batch(ledger))]
        self.assertEqual(len(set(shas)), 6)

    def test_what_shares_a_batch(self):
        """Neither another day, nor other questions, nor a session of its own."""
        one = self.batch()
        self.put(one, 1)
        self.now[0] += DAY
        self.put(one, 2)
        own = self.batch(per="session")
        self.put(own, 3)
        self.bell._plan = open_service(
            description(), key="k", kinds="label", transport=FakeTransport([ANSWER])
        )._plan
        self.put(self.batch(), 4)
        self.assertEqual([one.images for one in self.batches()], [1, 1, 1, 1])

    def test_a_day_ends_while_the_ledger_fails(self):
        """The image that is put then is kept, in yesterday's batch, and written when it can be."""
        ledger = self.enterContext(LedgerStore(self.path))
        one = GrowingBatch(ledger, self.bell._plan, lambda: self.now[0])
        broken = mock.patch(
            "dotledger.ledger.ledger_writing.BatchWriter._write_findings",
            side_effect=LedgerError("full"),
        )
        with broken:
            self.put(one, 1)
            with self.assertRaises(LedgerError):
                one.flush()
            self.now[0] += DAY
            self.put(one, 2)
        one.close()
        self.assertEqual([batch.images for batch in self.batches()], [2])

    def test_a_batch_that_was_read_again(self):
        """Its newer reading would not show what is added: the next start has a batch of its own."""
        one = self.batch()
        self.put(one, 1)
        one.close()
        with LedgerStore(self.path) as ledger:
            other = description(('label = "name"', 'always = "dusk"'))
            reread(ledger, find_batch(ledger), other, now=self.now[0])
        two = self.batch()
        self.put(two, 2)
        two.close()
        self.assertEqual([one.images for one in self.batches()], [1, 1])
        self.assertEqual(len(findings_of(self.path)), 2)

    def test_a_writing_that_fails(self):
        """What was rolled back takes no place and no name when it is tried again."""
        one = self.batch()
        self.put(one, 1)
        broken = mock.patch(
            "dotledger.ledger.ledger_writing.BatchWriter._write_findings",
            side_effect=LedgerError("full"),
        )
        with broken, self.assertRaises(LedgerError):
            self.put(one, 2)
        self.put(one, 2)
        names = findings_of(self.path).image.used()
        self.assertEqual(names, ["up.jpg", "up.jpg (2)"])
        self.assertEqual(self.batches()[0].images, 2)


if __name__ == "__main__":
    unittest.main()
