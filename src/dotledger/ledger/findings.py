"""Reading a ledger: findings and what reading noticed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import orjson
from sqlalchemy import select

from dotledger.core.tables.coded import Coded
from dotledger.core.tables.details import Details
from dotledger.core.tables.findings import Findings
from dotledger.ledger import schema
from dotledger.ledger.batches import Batch, sent_images
from dotledger.ledger.store import Ledger

__all__ = ["load_findings", "notes_of"]


def notes_of(ledger: Ledger, batch: Batch) -> list[tuple[str, str, str]]:
    """Return (image, reason, value) of everything a reading set aside or noticed.

    Parameters
    ----------
    ledger : Ledger
        Open.
    batch : Batch
        With the reading wanted.

    Returns
    -------
    list of tuple of str
        In the order of the batch.
    """
    t, items = schema.notes, schema.items
    query = (
        select(items.c.name, t.c.reason, t.c.value)
        .join(items, (items.c.batch == batch.id) & (items.c.position == t.c.position))
        .where(t.c.reading == batch.reading)
        .order_by(t.c.id)
    )
    with ledger.reading() as connection:
        return [(name, reason, value) for name, reason, value in connection.execute(query)]


def load_findings(ledger: Ledger, batch: Batch, *, kinds: Sequence[str] | None = None) -> Findings:
    """Return the findings of a batch's reading, with a blank row where nothing was found.

    Rows are in the order of the batch, then of the answer. Images without an answer (failed,
    refused, pending) have no row.

    Parameters
    ----------
    ledger : Ledger
        Open.
    batch : Batch
        With the reading wanted.
    kinds : sequence of str, optional
        Those wanted; None for all.

    Returns
    -------
    Findings
        Without an origin.
    """
    wanted = tuple(batch.kinds if kinds is None else (k for k in batch.kinds if k in kinds))
    names = {sent.position: sent.name for sent in sent_images(ledger, batch)}
    rows = list(_found_rows(ledger, batch, wanted))
    blank = _answered(ledger, batch, wanted) - {(row[0], row[2]) for row in rows}
    rows += [
        (position, 0, kind, "", None, None, None, None, None, None) for position, kind in blank
    ]
    rows.sort(key=lambda row: (row[0], row[1], row[2]))
    columns = list(zip(*rows, strict=True)) or [()] * 10
    box = np.array([columns[5], columns[6], columns[7], columns[8]], dtype=np.float64)
    details = tuple(map(_details, columns[9]))
    return Findings(
        image=Coded.of([names[position] for position in columns[0]]),
        kind=Coded.of(list(columns[2])),
        label=Coded.of(list(columns[3])),
        confidence=np.array(columns[4], dtype=np.float64),
        box=box.T.reshape(-1, 4),
        details=details if any(details) else None,
    )


def _found_rows(ledger: Ledger, batch: Batch, kinds: tuple[str, ...]) -> Iterator[tuple[Any, ...]]:
    t = schema.findings
    query = (
        select(
            t.c.position, t.c.id, t.c.kind, t.c.label, t.c.confidence,
            t.c.x0, t.c.y0, t.c.x1, t.c.y1, t.c.details,
        )
        .where(t.c.reading == batch.reading, t.c.kind.in_(kinds))
    )  # fmt: skip
    with ledger.reading() as connection:
        yield from map(tuple, connection.execute(query))


def _answered(ledger: Ledger, batch: Batch, kinds: tuple[str, ...]) -> set[tuple[int, str]]:
    """Return (position, kind) of everything that was answered while sending."""
    t = schema.outcomes
    query = select(t.c.position, t.c.kind).where(
        t.c.batch == batch.id, t.c.outcome.in_(("found", "empty")), t.c.kind.in_(kinds)
    )
    with ledger.reading() as connection:
        return {(position, kind) for position, kind in connection.execute(query)}


def _details(text: str | None) -> Details | None:
    """Return what a row has beside its columns; a note in its place if that is damaged."""
    if not text:
        return None
    try:
        return Details.from_dict(orjson.loads(text))
    except ValueError as error:
        return Details(notes=(f"details in the ledger are damaged ({error})",))
