"""Writing batches: one sender at a time, every answer once."""

import threading
import time
from unittest import mock

from dotledger import Ledger, send
from dotledger.errors import LedgerError
from dotledger.ledger.records import BatchOpening
from dotledger.ledger.views import find_batch, sent_images
from dotledger.ledger.writing import BatchWriter
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

        Ledger(self.path).close()
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

    def test_who_is_sending(self):
        """A batch belongs to a process as long as it lives and was seen at work within a minute."""
        opening = BatchOpening(
            key="k", service="bell", fingerprint="f", kinds=("label",), settings={}, description="",
            source="x", floor=None, currency="", names=["a"], paths=["a"],
        )  # fmt: skip
        ledger = self.ledger()

        def opened(process, host, now):
            with (
                mock.patch("os.getpid", return_value=process),
                mock.patch("socket.gethostname", return_value=host),
            ):
                return BatchWriter(ledger, opening, now)

        first = opened(7, "far", 1000.0)
        with self.assertRaisesRegex(LedgerError, "another process.*7@far"):
            opened(8, "near", 1050.0)
        with mock.patch("socket.gethostname", return_value="far"):
            first.still_here(1050.0)
        with self.assertRaises(LedgerError):
            opened(8, "near", 1100.0)
        self.assertTrue(opened(8, "near", 1111.0).resumed)
        opened(1, "near", 2000.0)  # a number that somebody else's process has
        with self.assertRaises(LedgerError):
            opened(8, "near", 2059.0)
        self.assertTrue(opened(8, "near", 2061.0).resumed)
        opened(2**22 + 1, "near", 3000.0)  # a number that no process has
        self.assertTrue(opened(8, "near", 3000.0).resumed)

    def test_images_are_recorded(self):
        """Name, upright size and what was done to each image stand in the ledger."""
        self.send({"a.png": picture(3, form="PNG")}, [ANSWER])
        ledger = self.ledger()
        [one] = sent_images(ledger, find_batch(ledger))
        self.assertEqual((one.name, one.width, one.height), ("a.png", 24, 16))
