"""The batch of a running program: it grows with every image, one for each day and service.

A program that is started ten times a day would otherwise leave ten batches, and the newest, with
three images in it, would hide the one that somebody reviews. Workers of one program write into the
same batch: each image gets its place when it is written, inside the transaction.
"""

from __future__ import annotations

import hashlib
import threading
import uuid
from collections.abc import Callable
from itertools import count
from typing import Literal

from sqlalchemy import func, select

from dotledger.errors import LedgerError
from dotledger.images.image_gathering import Item
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import REMOVED
from dotledger.ledger.ledger_records import BatchOpening, ItemRecord, timestamp
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.ledger_writing import BatchWriter
from dotledger.sending.batch.write_behind import WrittenBehind
from dotledger.sending.policies.send_plan import Plan

__all__ = ["BatchPer", "GrowingBatch"]

BatchPer = Literal["day", "session"]
_SOURCE = "a running program"


class GrowingBatch:
    """Where a running program's images are written.

    Parameters
    ----------
    ledger : LedgerStore
        Open for writing.
    plan : Plan
        What is asked; another plan has a batch of its own.
    wall : callable
        Seconds since 1970; a day ends at midnight UTC.
    per : {"day", "session"}
        What shares a batch: all sessions of a day, or one session.
    before : bool
        Each image is written before `put` returns; else soon behind it.
    """

    def __init__(
        self,
        ledger: LedgerStore,
        plan: Plan,
        wall: Callable[[], float],
        *,
        per: BatchPer = "day",
        before: bool = False,
    ) -> None:
        self._ledger, self._plan, self._wall = ledger, plan, wall
        self._per, self._before = per, before
        self._lock = threading.Lock()
        self._open()

    def check(self) -> None:
        """Raise LedgerError while what came could not be written; see `WrittenBehind`."""
        if self._behind is not None:
            self._behind.check()

    def flush(self, sha: str | None = None) -> None:
        """Wait until everything is written, or nothing about these bytes is still to be."""
        if self._behind is not None:
            self._behind.flush(sha)

    def put(self, item: Item, record: ItemRecord) -> None:
        """Write an image's result now, or leave that to the writer thread."""
        # What is pending has no outcome yet: the same bytes may be asked about again.
        settled = ItemRecord(
            position=0,
            image=record.image,
            sent=record.sent,
            outcomes=[one for one in record.outcomes if one.outcome != "pending"],
            found=record.found,
            notes=record.notes,
            answered=record.answered,
            asked=record.asked,
        )
        with self._lock:
            if self._per == "day" and self._day != self._today():
                self._begin_another_day()
            self._empty = False
            if self._behind is not None:
                self._behind.put(settled, item.name, item.known_as)
            else:
                self._writer.write_one(settled, item.name, item.known_as)

    def close(self) -> None:
        """Write the rest; raises LedgerError if it cannot be written."""
        with self._lock:
            self._close()

    def _begin_another_day(self) -> None:
        """Close yesterday's batch once all of it is written; until then it goes on growing.

        A ledger that cannot be written just now must not cost the image that is about to be put.
        """
        if self._behind is not None:
            try:
                self._behind.flush()
            except LedgerError:
                return
        self._close()
        self._open()

    def _today(self) -> str:
        return timestamp(self._wall())[:10]

    def _open(self) -> None:
        self._day, self._empty = self._today(), True
        self._writer = BatchWriter(self._ledger, self._opening(), self._wall())
        self._behind = None if self._before else WrittenBehind(self._writer)

    def _close(self) -> None:
        if self._behind is not None:
            self._behind.close()
        self._writer.close(self._wall(), "", idle=self._empty)

    def _opening(self) -> BatchOpening:
        plan, description = self._plan, self._plan.description
        return BatchOpening(
            key=self._day_key() if self._per == "day" else uuid.uuid4().hex,
            service=description.service,
            fingerprint=plan.fingerprint,
            kinds=plan.kinds,
            settings=description.connect.settings,
            description=description.to_json(),
            source=_SOURCE,
            floor=description.floor,
            currency=description.price.currency,
            names=[],
            paths=[],
            round=plan.round,
            identities={name: known[0] for name, known in plan.identities.items()},
        )

    def _day_key(self) -> str:
        """Return the key of today's batch, or of the next one that may still grow."""
        facts = (_SOURCE, self._day, self._plan.fingerprint, *self._plan.kinds, self._plan.round)
        for number in count():
            key = hashlib.sha256("\n".join((*facts, str(number))).encode()).hexdigest()
            if self._may_grow(key):
                return key
        raise AssertionError

    def _may_grow(self, key: str) -> bool:
        """Tell whether what is added to a batch is seen.

        Of a batch that was read again the newer reading is shown, which would lack it; one that was
        removed stays empty.
        """
        b, r = schema.batches, schema.readings
        query = select(b.c.source, func.count(r.c.id)).join(r, r.c.batch == b.c.id)
        query = query.where(b.c.key == key).group_by(b.c.source)
        with self._ledger.reading() as connection:
            found = connection.execute(query).first()
        return found is None or (found[0] != REMOVED and found[1] == 1)
