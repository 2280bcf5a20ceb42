"""Reading a ledger: findings and what reading noticed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from sqlalchemy import Select, select

from dotledger.core.kinds import ANSWERED
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.json_codec import from_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Batch
from dotledger.ledger.bulk_columns import columns_of, number, parts_of, text
from dotledger.ledger.ledger_records import FINDING_COLUMNS
from dotledger.ledger.ledger_store import LedgerStore

__all__ = [
    "findings_in_parts",
    "findings_without_answer",
    "have_details",
    "load_findings",
    "notes_of",
    "reading_notes",
]

_IMAGES_AT_ONCE = 5_000
_IN_AN_IMAGE = 10
"""Findings, about."""


def notes_of(ledger: LedgerStore, batch: Batch) -> list[tuple[str, str, str]]:
    """Return (image, reason, value) of everything a reading set aside or noticed.

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


def reading_notes(ledger: LedgerStore, batch: Batch) -> Iterator[tuple[int, str, str]]:
    """Yield (position, reason, value) of the same."""
    t = schema.notes
    query = select(t.c.position, t.c.reason, t.c.value).where(t.c.reading == batch.reading)
    yield from ledger.rows(query.order_by(t.c.id))


def findings_without_answer(ledger: LedgerStore, batch: Batch) -> Iterator[tuple[object, ...]]:
    """Yield position and `FINDING_COLUMNS` of findings whose raw answer was removed.

    Such an answer came together with that of an image that was removed; see
    `dotledger.ledger.data_removal`.
    """
    f, o, c = schema.findings, schema.outcomes, schema.calls
    here = (o.c.position == f.c.position) & (o.c.kind == f.c.kind) & (o.c.batch == batch.id)
    query = (
        select(f.c.position, *(f.c[name] for name in FINDING_COLUMNS))
        .join(o, here)
        .join(c, c.c.id == o.c.call)
        .where(f.c.reading == batch.reading, o.c.outcome.in_(ANSWERED), c.c.answer.is_(None))
        .order_by(f.c.id)
    )
    yield from ledger.rows(query)


def load_findings(
    ledger: LedgerStore, batch: Batch, *, kinds: Sequence[str] | None = None
) -> Findings:
    """Return the findings of a batch's reading, with a blank row where nothing was found.

    Rows are in the order of the batch, then of the answer. Images without an answer (failed,
    refused, pending) have no row.

    Parameters
    ----------
    kinds : sequence of str, optional
        Those wanted; None for all.
    """
    wanted = tuple(batch.kinds if kinds is None else (k for k in batch.kinds if k in kinds))
    with ThreadPoolExecutor(3) as pool:  # where they are many, each waits for another process
        found = pool.submit(_found, ledger, batch, wanted)
        answered = pool.submit(_answered, ledger, batch, wanted)
        items = pool.submit(_items, ledger, batch)
    return _assembled(wanted, found.result(), answered.result(), items.result())


def findings_in_parts(
    ledger: LedgerStore, batch: Batch, *, kinds: Sequence[str] | None = None
) -> Iterator[Findings]:
    """Yield the same rows in the same order, of some thousand images at a time.

    Parameters
    ----------
    kinds : sequence of str, optional
        Those wanted; None for all.

    Yields
    ------
    Findings
        Without an origin; each of other images.
    """
    wanted = tuple(batch.kinds if kinds is None else (k for k in batch.kinds if k in kinds))
    edges = [*range(0, max(batch.images, 1), _IMAGES_AT_ONCE), batch.images]
    t, o, i = schema.findings, schema.outcomes, schema.items
    streams = zip(
        parts_of(ledger, _of_findings(batch, wanted), _FOUND, by=t.c.position, edges=edges),
        parts_of(ledger, _of_outcomes(batch, wanted), _ANSWERED, by=o.c.position, edges=edges),
        parts_of(ledger, _of_items(batch), _ITEMS, by=i.c.position, edges=edges),
        strict=True,
    )
    for found, answered, items in streams:
        yield _assembled(wanted, found, answered, items)


def have_details(ledger: LedgerStore, batch: Batch) -> bool:
    """Tell whether any finding has more than its columns: attributes, points and similar.

    Returns
    -------
    bool
        False for a batch without findings.
    """
    t = schema.findings
    query = select(t.c.id).where(t.c.reading == batch.reading, t.c.details.is_not(None)).limit(1)
    with ledger.reading() as connection:
        return connection.execute(query).first() is not None


def _assembled(
    wanted: tuple[str, ...], found: list[Any], answered: list[Any], items: list[Any]
) -> Findings:
    """Return rows in the order of the batch, then of the answer; blank ones where nothing is."""
    position, row, kind, label, *numbers, details = found
    answered_at, answered_kind = answered
    known, names = items
    blank_at, blank_kind = _blanks(wanted, answered_at, answered_kind, position, kind)
    count = len(blank_at)
    at = np.concatenate([position, blank_at])
    of_kind = np.concatenate([kind.onto(wanted), blank_kind])
    alphabet = np.argsort(np.argsort(np.array(wanted, dtype=object)))
    ranks = alphabet[of_kind] if wanted else of_kind
    order = np.lexsort((ranks, np.concatenate([row, np.zeros(count, dtype=np.int64)]), at))
    none = np.full((len(numbers), count), np.nan)
    sure, *box = np.concatenate([np.array(numbers), none], axis=1)[:, order]
    parsed = _in_order(details, count, order)
    return Findings(
        image=_by_appearance(_names(known, names, at[order])),
        kind=_by_appearance(Coded(of_kind[order], wanted)),
        label=_by_appearance(_with_blanks(label, count).take(order)),
        confidence=sure,
        box=np.array(box).T.reshape(-1, 4),
        details=parsed if any(parsed) else None,
    )


_FOUND = ("whole", "whole", "name", "name", *["number"] * 5, "text")
_ANSWERED = _ITEMS = ("whole", "name")


def _of_findings(batch: Batch, kinds: tuple[str, ...]) -> Select[Any]:
    """Ask for what was found: position, row, kind, label, five numbers, details."""
    t = schema.findings
    numbers = [number(t.c[name]) for name in ("confidence", "x0", "y0", "x1", "y1")]
    query = select(t.c.position, t.c.id, t.c.kind, t.c.label, *numbers, text(t.c.details))
    return query.where(t.c.reading == batch.reading, t.c.kind.in_(kinds))


def _of_outcomes(batch: Batch, kinds: tuple[str, ...]) -> Select[Any]:
    """Ask for position and kind of everything that was answered while sending."""
    t = schema.outcomes
    answered = t.c.outcome.in_(ANSWERED)
    return select(t.c.position, t.c.kind).where(
        t.c.batch == batch.id, answered, t.c.kind.in_(kinds)
    )


def _of_items(batch: Batch) -> Select[Any]:
    """Ask for position and name of every image of a batch."""
    t = schema.items
    return select(t.c.position, t.c.name).where(t.c.batch == batch.id)


def _found(ledger: LedgerStore, batch: Batch, kinds: tuple[str, ...]) -> list[Any]:
    t = schema.findings
    mine = t.c.reading == batch.reading
    query = _of_findings(batch, kinds)
    return columns_of(ledger, query, _FOUND, by=t.c.position, among=mine, each=_IN_AN_IMAGE)


def _answered(ledger: LedgerStore, batch: Batch, kinds: tuple[str, ...]) -> list[Any]:
    t = schema.outcomes
    mine = t.c.batch == batch.id
    return columns_of(ledger, _of_outcomes(batch, kinds), _ANSWERED, by=t.c.position, among=mine)


def _items(ledger: LedgerStore, batch: Batch) -> list[Any]:
    t = schema.items
    mine = t.c.batch == batch.id
    return columns_of(ledger, _of_items(batch), _ITEMS, by=t.c.position, among=mine)


def _blanks(
    kinds: tuple[str, ...], answered_at: Any, answered: Coded, position: Any, kind: Coded
) -> tuple[Any, Any]:
    """Return position and kind (by its place in `kinds`) of what was answered and holds nothing."""
    width = max(len(kinds), 1)
    every = answered_at * width + answered.onto(kinds)
    left = np.setdiff1d(every, position * width + kind.onto(kinds))
    return left // width, (left % width).astype(np.intp)


def _names(known: Any, names: Coded, positions: Any) -> Coded:
    """Return the names of images by their positions."""
    order = np.argsort(known)
    places = np.searchsorted(known[order], positions)
    return Coded(names.codes[order][places] if len(positions) else names.codes[:0], names.names)


def _with_blanks(label: Coded, count: int) -> Coded:
    """Return labels with so many empty ones behind them."""
    names = label.names if "" in label.names else (*label.names, "")
    empty = np.full(count, names.index(""), dtype=np.intp)
    return Coded(np.concatenate([label.codes, empty]), names)


def _by_appearance(coded: Coded) -> Coded:
    """Return names in the order in which rows use them, and only those."""
    used, first = np.unique(coded.codes, return_index=True)
    order = np.argsort(first)
    onto = np.zeros(max(len(coded.names), 1), dtype=np.intp)
    onto[used[order]] = np.arange(len(used))
    return Coded(onto[coded.codes], tuple(coded.names[place] for place in used[order]))


def _in_order(details: list[str], blanks: int, order: Any) -> tuple[Details | None, ...]:
    if not any(details):
        return ()
    spelt = [*details, *[""] * blanks]
    return tuple(_details(spelt[place]) for place in order.tolist())


def _details(text: str | None) -> Details | None:
    """Return what a row has next to its columns; a note in its place if that is damaged."""
    if not text:
        return None
    try:
        return Details.from_dict(from_json(text))
    except ValueError as error:
        return Details(notes=(f"details in the ledger are damaged ({error})",))
