"""Writing batches: one sender at a time, every answer once."""

import threading
import time

from dotledger import Ledger, send
from dotledger.ledger.batches import find_batch, sent_images
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

    def test_images_are_recorded(self):
        """Name, upright size and what was done to each image stand in the ledger."""
        self.send({"a.png": picture(3, form="PNG")}, [ANSWER])
        ledger = self.ledger()
        [one] = sent_images(ledger, find_batch(ledger))
        self.assertEqual((one.name, one.width, one.height), ("a.png", 24, 16))
