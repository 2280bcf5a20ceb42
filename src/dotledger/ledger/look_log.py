"""The looks of a watch, as they stand in the ledger: written once, never changed."""

from __future__ import annotations

from typing import Any

from msgspec import Struct
from sqlalchemy import insert, select

from dotledger.errors import LedgerError
from dotledger.json_codec import from_json, to_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Batch
from dotledger.ledger.ledger_records import timestamp
from dotledger.ledger.ledger_store import LedgerStore

__all__ = ["LookRecord", "add_look", "looks_since"]


class LookRecord(Struct, frozen=True, kw_only=True):
    """One look: which reading of which batch, under which settings, and what was judged.

    `number` counts all looks of the watch from 1, whatever their settings; `result` is the JSON
    text of the judgement; `made` is ISO 8601 in UTC.
    """

    number: int
    since_reading: int
    batch: int
    reading: int
    settings: str
    planned: int
    made: str
    result: dict[str, object]

    def is_of(self, since: Batch, batch: Batch, settings: str) -> bool:
        """Tell whether it is a look at these readings, under these settings."""
        of = (self.since_reading, self.batch, self.reading, self.settings)
        return of == (since.reading, batch.id, batch.reading, settings)


def looks_since(ledger: LedgerStore, since: Batch) -> list[LookRecord]:
    """Return the looks of a watch, oldest first.

    Returns
    -------
    list of LookRecord
        Of every reading and setting; empty before the first look.
    """
    t = schema.looks
    with ledger.reading() as connection:
        rows = connection.execute(select(t).where(t.c.since == since.id).order_by(t.c.id)).all()
    return [_record(number, row) for number, row in enumerate(rows, 1)]


def _record(number: int, row: Any) -> LookRecord:
    return LookRecord(
        number=number,
        since_reading=row.since_reading,
        batch=row.batch,
        reading=row.reading,
        settings=row.settings,
        planned=row.planned,
        made=row.made,
        result=from_json(row.result),
    )


def add_look(
    ledger: LedgerStore,
    since: Batch,
    batch: Batch,
    *,
    settings: str,
    planned: int,
    now: float,
    result: dict[str, object],
) -> LookRecord:
    """Write a look, unless somebody else has written the same one meanwhile.

    Parameters
    ----------
    since, batch : Batch
        The first round and the one judged, each with its reading.
    now : float
        Seconds since 1970.

    Returns
    -------
    LookRecord
        As it stands in the ledger.

    Raises
    ------
    LedgerError
        If all planned looks have been made meanwhile, or it cannot be written.
    """
    t = schema.looks
    of = {
        "since": since.id,
        "since_reading": since.reading,
        "batch": batch.id,
        "reading": batch.reading,
        "settings": settings,
    }
    text = to_json(result).decode()
    row = {**of, "planned": planned, "made": timestamp(now), "result": text}
    with ledger.writing() as connection:
        every = select(t.c.id).where(t.c.since == since.id).order_by(t.c.id)
        numbered = list(enumerate(connection.execute(every), 1))
        same = select(t).where(*(t.c[name] == value for name, value in of.items()))
        if there := connection.execute(same).first():
            return _record(next(n for n, (id_,) in numbered if id_ == there.id), there)
        if len(numbered) >= planned:
            raise LedgerError(
                f"all {planned} planned looks of this watch have been made",
                place=ledger.where,
                next_step="Begin a new watch: name a later round: `since=ROUND`.",
            )
        added = connection.execute(insert(t).returning(t), [row]).one()
    return _record(len(numbered) + 1, added)
