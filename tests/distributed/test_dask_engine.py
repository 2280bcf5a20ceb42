"""Measuring in parts on a cluster of processes: the same as in one table on one machine."""

import tempfile
import unittest
from pathlib import Path

import pandas as pd
from distributed import Client, LocalCluster

import dotledger
from dotledger import errors
from dotledger.distributed import dask_engine as dask
from dotledger.testing import FakeTransport
from tests.distributed.made import tables
from tests.sending.helpers import ANSWER, description, picture


class OnACluster(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.enterClassContext(_Folder(cls))
        cls.cluster = cls.enterClassContext(
            LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50)
        )
        cls.client = cls.enterClassContext(Client(cls.cluster))
        cls.found, cls.truth = tables()
        cls.parts = dask.write_parts(cls.found, cls.truth, cls.home / "parts", parts=5)
        cls.options = {
            "overlap": [0.5, 0.75],
            "threshold": [0.3, 0.6],
            "draws": 60,
            "broader": {"drum": ["stall"]},
        }
        cls.whole = dotledger.measure(cls.found, cls.truth, **cls.options)
        cls.parted = dask.measure(cls.parts, client=cls.client, **cls.options)

    def test_measures_and_intervals(self):
        """Everything a result says of itself, to the last bit; notes are those of the whole."""
        plain, parted = self.whole.to_dict(), self.parted.to_dict()
        notes, parts_notes = plain.pop("notes"), parted.pop("notes")
        self.assertEqual(parted, plain)
        self.assertEqual(set(notes) - set(parts_notes), set())
        self.assertGreater(len(plain["labels"]), 9)
        self.assertEqual(
            (self.parted.answered, self.parted.cut_away), (self.whole.answered, self.whole.cut_away)
        )

    def test_slices(self):
        """Sizes in bands, a column of images that some parts lack, one of annotations."""
        self.assertEqual(self.parted.slice_names(), self.whole.slice_names())
        for name in self.whole.slice_names():
            with self.subTest(name):
                one, other = self.whole.by(name), self.parted.by(name)
                self.assertEqual(
                    {k: m.to_dict() for k, m in other.items()},
                    {k: m.to_dict() for k, m in one.items()},
                )
        with self.assertRaisesRegex(errors.ArgumentError, "nothing to slice by"):
            self.parted.by("colour")

    def test_reasons(self):
        """Counts of every reason, and the first cases but for their rows."""
        one, other = self.whole.why(), self.parted.why()
        pd.testing.assert_frame_equal(other.shares(), one.shares())
        for side in ("wrong", "missed"):
            self.assertEqual(other.totals(side), one.totals(side))
            pd.testing.assert_frame_equal(
                other.frame(side).drop(columns="row"), one.frame(side).drop(columns="row")
            )

    def test_sweep_curve_screening_reliability(self):
        """What is made from the columns that came."""
        for each in ("all", "kind", "label"):
            pd.testing.assert_frame_equal(
                self.parted.sweep(each).table, self.whole.sweep(each).table
            )
        pd.testing.assert_frame_equal(self.parted.curve("face"), self.whole.curve("face"))
        self.assertEqual(self.parted.screening(), self.whole.screening())
        self.assertEqual(
            {k: r.to_dict() for k, r in self.parted.reliability().items()},
            {k: r.to_dict() for k, r in self.whole.reliability().items()},
        )

    def test_a_label_that_one_part_has(self):
        """What is annotated in one part only is judged in every part."""
        some = self.truth.filter(kind="object")
        parts = dask.write_parts(self.found, some, self.home / "rare", parts=40)
        whole = dotledger.measure(
            self.found, some, draws=0, threshold={"object:stall": 0.4, "object:kite": 0.9}
        )
        parted = dask.measure(
            parts, client=self.client, draws=0, threshold={"object:stall": 0.4, "object:kite": 0.9}
        )
        self.assertEqual(parted.kinds["object"].to_dict(), whole.kinds["object"].to_dict())
        self.assertEqual(parted.unjudged_kinds, whole.unjudged_kinds)

    def test_refused(self):
        """What cannot be asked, wrong pairs, one image twice, a mistyped name: said, with a place."""
        self.assertFalse(hasattr(self.parted, "confusion"))  # it needs every row in one place
        first, second = self.parts[:2]
        crossed = [(first.findings, second.annotations), (second.findings, first.annotations)]
        with self.assertRaisesRegex(errors.ScopeError, "part 1"):
            dask.measure(crossed, client=self.client, draws=0)
        with self.assertRaisesRegex(errors.TableError, "two parts"):
            dask.measure([first, first], client=self.client, draws=0)
        with self.assertRaisesRegex(errors.ArgumentError, "drun.*drum"):
            dask.measure(self.parts, client=self.client, threshold={"drun": 0.5})
        with self.assertRaisesRegex(errors.ArgumentError, "findings and annotations"):
            dask.measure([first.findings], client=self.client)
        swapped = [(first.annotations, first.findings)]
        with self.assertRaises(errors.TableError):
            dask.measure(swapped, client=self.client, draws=0)
        with self.assertRaisesRegex(errors.ArgumentError, "no Dask client|there are no parts"):
            dask.measure([], client=self.client)
        other, _ = tables(20, seed=2)
        from dataclasses import replace

        from dotledger.formats.tables.findings_files import write_table

        write_table(
            replace(other, origin=replace(other.origin, floor=0.3)), self.home / "o.parquet"
        )
        odd = [*self.parts, (str(self.home / "o.parquet"), first.annotations)]
        with self.assertRaisesRegex(errors.TableError, "one floor"):
            dask.measure(odd, client=self.client, draws=0)

    def test_folders(self):
        """Parts are found by name; one that is missing on a side is named."""
        self.assertEqual(dask.parts_in(self.home / "parts"), self.parts)
        dask.write_parts(self.found, self.truth, self.home / "gap", parts=3)
        (self.home / "gap" / "annotations" / "part-00001.parquet").unlink()
        with self.assertRaisesRegex(errors.ArgumentError, "part-00001"):
            dask.parts_in(self.home / "gap")
        with self.assertRaisesRegex(errors.ArgumentError, "not empty"):
            dask.write_parts(self.found, self.truth, self.home / "gap", parts=3)

    def test_ledgers(self):
        """Findings out of ledgers, one a part; and every ledger read again."""
        ledgers, parts = [], []
        for number in range(2):
            ledger = self.home / f"{number}.ledger"
            images = {f"{number}-{n}.jpg": picture(10 * number + n) for n in range(4)}
            dotledger.send(
                images, description(), ledger=ledger, key="k", transport=FakeTransport([ANSWER] * 4)
            )
            truth = dotledger.findings_of(ledger, kinds=["label"]).frame()
            truth = truth[["image", "kind", "label"]]
            truth.to_csv(self.home / f"{number}.csv", index=False)
            ledgers.append(ledger)
            parts.append((ledger, self.home / f"{number}.csv"))
        result = dask.measure(parts, client=self.client, kinds=["label"], draws=0)
        self.assertEqual((result.images_in_scope, result.pooled.recall), (8, 1.0))
        again = dask.reread(ledgers, client=self.client)
        self.assertEqual([(one.answers, one.differences) for one in again], [(4, []), (4, [])])


class _Folder(tempfile.TemporaryDirectory):
    def __init__(self, cls):
        super().__init__()
        cls.home = Path(self.name)


if __name__ == "__main__":
    unittest.main()
