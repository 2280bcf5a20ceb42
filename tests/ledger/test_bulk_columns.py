"""Whole columns out of a ledger: the same by ADBC, in parts, and row by row; also while another writes."""

import random
import threading
from unittest import mock

import pandas as pd

from dotledger import Findings, findings_of, read_findings, send
from dotledger.errors import LedgerError
from dotledger.formats.tables.partitioned_files import write_in_parts
from dotledger.ledger import bulk_columns as bulk
from dotledger.ledger import finding_queries as findings
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.finding_queries import load_findings
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger_findings import findings_by_parts
from dotledger.testing import FakeTransport, Response
from tests.sending.helpers import InFolder, description, pictures

EYES = (
    'confidence = { at = "sure" }',
    'confidence = { at = "sure" }\nattributes = { colour = { at = "colour" } }',
)
NAMES = ("bell", "größer", "a, b", "", "x" * 200, "'; DROP TABLE", "\u05d0")


def answers(seed):
    """Answers that hold nothing, or some things with and without confidence and attributes."""
    rng = random.Random(seed)

    def one(_):
        things = [
            {"name": rng.choice([n for n in NAMES if n]), "sure": rng.choice([None, 0.25, 0.9]), "box": [1, 1, rng.uniform(2, 20), 9], "colour": rng.choice([None, "red"])}
            for _ in range(rng.choice((0, 0, 1, 4)))
        ]  # fmt: skip
        return {"tags": [{"name": "night"}] * rng.choice((0, 1)), "things": things}

    return one


def ordered(found):
    frame = found.frame(details="json")
    return frame.sort_values(list(frame.columns), ignore_index=True)


class Columns(InFolder):
    def loaded(self, ledger, **options):
        return load_findings(ledger, find_batch(ledger), **options)

    def test_three_ways(self):
        """By rows, by a process apart, and without its packages: equal, in the same order, names as they come."""
        for seed in (3,):
            self.path = self.folder / f"{seed}.ledger"
            images = {**pictures(30), "late/é.jpg": pictures(31)["p-30.jpg"]}
            self.send(images, answers(seed), description(EYES))
            with LedgerStore(self.path) as ledger:
                for kinds in (None, ("object",)):
                    ways = [self.loaded(ledger, kinds=kinds)]
                    with mock.patch.object(bulk, "_ENOUGH", 1):
                        ways.append(self.loaded(ledger, kinds=kinds))
                    with mock.patch.object(bulk, "_ENOUGH", 1), mock.patch.object(bulk, "find_spec", return_value=None):  # fmt: skip
                        ways.append(self.loaded(ledger, kinds=kinds))
                    for other in ways[1:]:
                        self.assertEqual(ways[0], other)
                        self.assertEqual(ways[0].image.names, other.image.names)
                        self.assertEqual(ways[0].label.names, other.label.names)
            first = findings_of(self.path)
            self.assertEqual(len(first.image.used()), 31, "what holds nothing has blank rows")
            self.assertEqual(
                first.image.values().tolist(), sorted(first.image.values(), key=list(images).index)
            )

    def test_in_parts(self):
        """Some images at a time, by rows or by a process apart: together the same, as one file too."""
        images = {**pictures(30), "late/é.jpg": pictures(31)["p-30.jpg"]}
        self.send(images, answers(5), description(EYES))
        whole = findings_of(self.path, threshold=0.5)
        with mock.patch.object(findings, "_IMAGES_AT_ONCE", 7):
            for least in (1, 99):  # parts from which on another process reads them
                with mock.patch.object(bulk, "_ENOUGH_PARTS", least):
                    with findings_by_parts(self.path, threshold=0.5) as (given, details):
                        parts = list(given)
                    self.assertEqual([len(one.image.used()) for one in parts], [7, 7, 7, 7, 3])
                    rows = write_in_parts(parts, self.folder / "p.parquet", details=details)
                    back = read_findings(self.folder / "p.parquet")
                    self.assertEqual(rows, len(whole))
                    # What a threshold left blank stands at the end, here of each part.
                    pd.testing.assert_frame_equal(ordered(back), ordered(whole))
                    self.assertEqual(back.origin.cut, whole.origin.cut)
            with findings_by_parts(self.path, kinds=["label"]) as (parts, _):
                self.assertEqual(
                    Findings.concat(list(parts)), findings_of(self.path, kinds=["label"])
                )

    def test_a_reader_that_fails(self):
        """What the other process cannot read is an error in our words, and no part is taken for all."""
        self.send(pictures(9), answers(5), description(EYES))
        self.enterContext(mock.patch.object(bulk, "sys", executable="/bin/false"))
        self.enterContext(mock.patch.object(bulk, "_ENOUGH_PARTS", 1))
        self.enterContext(mock.patch.object(findings, "_IMAGES_AT_ONCE", 2))
        said = self.assertRaisesRegex(LedgerError, "process that reads the ledger's columns")
        with findings_by_parts(self.path) as (parts, _), said:
            list(parts)

    def test_parts_are_really_read(self):
        """Many rows are asked for in several parts, which together are all rows."""
        self.send(pictures(40), answers(1), description(EYES))
        asked = []
        real = bulk._apart

        def counted(ledger, parts, kinds):
            asked.append(len(parts))
            return real(ledger, parts, kinds)

        with LedgerStore(self.path) as ledger, mock.patch.object(bulk, "_ENOUGH", 1), mock.patch("os.cpu_count", return_value=4), mock.patch.object(bulk, "_apart", counted):  # fmt: skip
            first = self.loaded(ledger)
        self.assertEqual(max(asked), 4)
        self.assertEqual(first, findings_of(self.path))

    def test_nothing_there(self):
        """A batch without any answer is a table without rows."""
        sent = send(
            pictures(2),
            description(),
            ledger=self.path,
            key="k",
            transport=FakeTransport([Response(status=422, headers={}, body=b"{}")]),
        )
        self.assertEqual(sent.outcomes["label"]["failed"], 2)
        with LedgerStore(self.path) as ledger:
            empty = self.loaded(ledger)
        self.assertIsInstance(empty, Findings)
        self.assertEqual((len(empty), empty.box.shape), (0, (0, 4)))

    def test_while_another_writes(self):
        """Reading waits for whoever opens, writes or closes the file; it never falls back or fails."""
        self.send(pictures(20), answers(2), description(EYES))
        stop = threading.Event()

        def write():
            number = 0
            while not stop.is_set():
                with LedgerStore(self.path) as ledger, ledger.writing() as connection:
                    connection.exec_driver_sql("UPDATE batches SET source = ?", (str(number),))
                number += 1
                stop.wait(0.002)  # who never lets go keeps a reader out for as long as it likes

        writer = threading.Thread(target=write)
        writer.start()
        try:
            with mock.patch.object(bulk, "_ENOUGH", 1), mock.patch.object(bulk, "_by_rows", side_effect=AssertionError):  # fmt: skip
                for _ in range(2):
                    with LedgerStore(self.path) as ledger:
                        self.assertGreater(len(self.loaded(ledger)), 20)
        finally:
            stop.set()
            writer.join()
