"""Reading a ledger: batches, their images and outcomes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace
from sqlalchemy import ColumnElement, func, select

from dotledger.core.kinds import DELETED, LOST, OUTCOMES
from dotledger.errors import LedgerError
from dotledger.json_codec import AsData
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.ledger_store import LedgerStore, in_parts

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "OUTCOMES",
    "REMOVED",
    "Batch",
    "Batches",
    "Sent",
    "batch_of_key",
    "batches",
    "failures",
    "find_batch",
    "image_records",
    "kept_sizes",
    "left_out",
    "outcome_counts",
    "outcomes_of",
    "readings",
    "sent_images",
]


REMOVED = f"({DELETED})"
"""Where the images of a batch came from, once the batch was removed."""


class Batch(AsData, Struct, frozen=True, kw_only=True):
    """One batch as the ledger knows it.

    `round` names a deliberate asking again; empty for the first. Times are ISO 8601 in UTC;
    `ended` is empty while it is being sent or after a crash.
    """

    id: int
    service: str
    fingerprint: str
    kinds: tuple[str, ...]
    settings: dict[str, str]
    description: str
    source: str
    images: int
    floor: float | None
    currency: str
    started: str
    ended: str
    stopped_because: str
    reading: int
    round: str = ""


class Batches(list[Batch]):
    """Batches in order; a table in a notebook."""

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each batch."""
        import pandas as pd

        names = ("id", "service", "kinds", "images", "started", "ended", "round")
        rows = [[getattr(one, name) for name in names] for one in self]
        frame = pd.DataFrame(rows, columns=["batch", *names[1:]])
        return frame.assign(kinds=[", ".join(one.kinds) for one in self])

    def _repr_html_(self) -> str:
        """Show the table in a notebook."""
        return self.frame().to_html(index=False, escape=True)


def batches(ledger: LedgerStore) -> Batches:
    """Return every batch, oldest first.

    Returns
    -------
    Batches
        A list; empty for a new ledger.
    """
    table, readings = schema.batches, schema.readings
    newest = (
        select(readings.c.batch, func.max(readings.c.id).label("reading"))
        .group_by(readings.c.batch)
        .subquery()
    )
    query = select(table, newest.c.reading).join(newest, newest.c.batch == table.c.id)
    with ledger.reading() as connection:
        return Batches(_batch(row) for row in connection.execute(query.order_by(table.c.id)))


def _batch(row: Any) -> Batch:
    return Batch(
        id=row.id,
        service=row.service,
        fingerprint=row.fingerprint,
        kinds=tuple(row.kinds),
        settings=dict(row.settings),
        description=row.description,
        source=row.source,
        images=row.images,
        floor=row.floor,
        currency=row.currency,
        started=row.started,
        ended=row.ended or "",
        stopped_because=row.stopped_because or "",
        reading=row.reading,
        round=row.round or "",
    )


def find_batch(
    ledger: LedgerStore,
    *,
    batch: int | None = None,
    service: str | None = None,
    reading: int | None = None,
    round: str | None = None,
) -> Batch:
    """Return a batch by number, or the newest of a service, with its newest or a given reading.

    Parameters
    ----------
    service : str, optional
        Its service; may be left out where the ledger knows only one.
    reading : int, optional
        Number of a reading of it.

    Raises
    ------
    LedgerError
        If there is none, or batches of several services and none of these is named; the message
        lists those there are.
    """
    known = batches(ledger)
    fitting = [
        b
        for b in known
        if batch in (None, b.id) and service in (None, b.service) and round in (None, b.round)
        # One that was emptied does not hide the one before it.
        if batch is not None or b.source != REMOVED
    ]
    services = sorted({one.service for one in fitting})
    if batch is None and len(services) > 1:
        # Two services do not answer alike: the newest is no answer to "which".
        raise LedgerError(
            "the ledger holds batches of several services",
            place=ledger.where,
            allowed=services,
            next_step="Name the service, or the number of a batch.",
        )
    if fitting:
        return _with_reading(ledger, fitting[-1], reading)
    wanted = (
        f"batch {batch}"
        if batch is not None
        else f"a batch of {service!r}"
        if service
        else "a batch"
    ) + (f" of the round {round!r}" if round else "")
    raise LedgerError(
        f"the ledger does not hold {wanted}",
        place=ledger.where,
        allowed=[f"{b.id} ({b.service}{f', {b.round}' if b.round else ''})" for b in known],
    )


def readings(ledger: LedgerStore, batch: Batch) -> list[tuple[int, str, str]]:
    """Return (number, when, about) of a batch's readings, oldest first.

    Returns
    -------
    list of tuple of int, str and str
        At least one, once something was answered.
    """
    t = schema.readings
    query = select(t.c.id, t.c.made, t.c.about).where(t.c.batch == batch.id).order_by(t.c.id)
    with ledger.reading() as connection:
        return [(key, made, about) for key, made, about in connection.execute(query)]


def _with_reading(ledger: LedgerStore, batch: Batch, reading: int | None) -> Batch:
    if reading is None:
        return batch
    known = [key for key, _, _ in readings(ledger, batch)]
    if reading not in known:
        raise LedgerError(
            f"batch {batch.id} has no such reading",
            place=ledger.where,
            got=reading,
            allowed=map(str, known),
        )
    return replace(batch, reading=reading)


_COUNTED_AT_ONCE = 10_000


def outcome_counts(ledger: LedgerStore, batch: Batch) -> dict[str, dict[str, int]]:
    """Return how many images have each outcome, by kind and outcome; all of `OUTCOMES`.

    Returns
    -------
    dict of str to dict of str to int
        0 where there is none.
    """
    table = schema.outcomes
    counts = {kind: dict.fromkeys(OUTCOMES, 0) for kind in batch.kinds}
    with ledger.reading() as connection:
        # Grouping sorts, and what does not fit the processor's cache is sorted in twice the time.
        for start in range(0, batch.images, _COUNTED_AT_ONCE):
            block = table.c.position.between(start, start + _COUNTED_AT_ONCE - 1)
            query = (
                select(table.c.kind, table.c.outcome, func.count())
                .where(table.c.batch == batch.id, block)
                .group_by(table.c.kind, table.c.outcome)
            )
            for kind, outcome, count in connection.execute(query):
                counts[kind][outcome] += count
    for row in counts.values():
        row["pending"] = batch.images - sum(row.values())
    return counts


class Sent(Struct, frozen=True, kw_only=True):
    """One image of a batch: its name, where its file is, its upright size if it was read."""

    position: int
    name: str
    path: str
    sha: str
    width: int | None
    height: int | None


def sent_images(ledger: LedgerStore, batch: Batch) -> list[Sent]:
    """Return the images of a batch in its order, but for those that were removed from the ledger.

    Returns
    -------
    list of Sent
        Refused ones too, without a size.
    """
    items, images = schema.items, schema.images
    query = (
        select(
            items.c.position,
            items.c.name,
            items.c.path,
            items.c.sha,
            images.c.width,
            images.c.height,
        )
        .join(images, images.c.sha == items.c.sha, isouter=True)
        .where(items.c.batch == batch.id, ~_is_removed())
        .order_by(items.c.position)
    )
    with ledger.reading() as connection:
        return [
            Sent(position=p, name=n, path=path, sha=sha or "", width=w, height=h)
            for p, n, path, sha, w, h in connection.execute(query)
        ]


def batch_of_key(ledger: LedgerStore, key: str) -> int | None:
    """Return the number of the batch that is known by a key; None if there is none."""
    query = select(schema.batches.c.id).where(schema.batches.c.key == key)
    with ledger.reading() as connection:
        found = connection.execute(query).scalar()
    return None if found is None else int(found)


def image_records(ledger: LedgerStore, shas: Sequence[str]) -> dict[str, tuple[Any, ...]]:
    """Return what the ledger knows of files, by SHA-256: columns of ``image_files`` in order."""
    t = schema.images
    found: dict[str, tuple[Any, ...]] = {}
    with ledger.reading() as connection:
        for part in in_parts(shas):
            for row in connection.execute(select(t).where(t.c.sha.in_(part))):
                found[row.sha] = tuple(row)
    return found


def _is_removed() -> ColumnElement[bool]:
    """Tell whether an item is the empty place of an image that was removed."""
    items = schema.items
    return (items.c.path == "") & items.c.sha.is_(None) & items.c.name.like("(deleted %)")


def outcomes_of(ledger: LedgerStore, batch: Batch) -> dict[str, dict[str, str]]:
    """Return by image and kind the outcome; kinds that are not settled yet are pending.

    Returns
    -------
    dict of str to dict of str to str
        Every image of the batch, in its order, but for those that were removed from the ledger.
    """
    table, items = schema.outcomes, schema.items
    query = (
        select(items.c.name, table.c.kind, table.c.outcome)
        .join(table, (table.c.batch == items.c.batch) & (table.c.position == items.c.position))
        .where(items.c.batch == batch.id, ~_is_removed())
    )
    mine = items.c.batch == batch.id
    names = select(items.c.name).where(mine, ~_is_removed()).order_by(items.c.position)
    with ledger.reading() as connection:
        found = {
            name: dict.fromkeys(batch.kinds, "pending")
            for name in connection.execute(names).scalars()
        }
        for name, kind, outcome in connection.execute(query):
            found[name][kind] = outcome
    return found


def failures(ledger: LedgerStore, batch: Batch) -> list[tuple[str, str, str, str]]:
    """Return (image, kind, outcome, reason) of all that is unread, failed or refused, in order."""
    table, items = schema.outcomes, schema.items
    query = (
        select(items.c.name, table.c.kind, table.c.outcome, table.c.reason)
        .join(items, (items.c.batch == table.c.batch) & (items.c.position == table.c.position))
        .where(table.c.batch == batch.id, table.c.outcome.in_(LOST))
        .order_by(table.c.position, table.c.kind)
    )
    with ledger.reading() as connection:
        return [(n, k, o, r) for n, k, o, r in connection.execute(query)]


def unread_images(ledger: LedgerStore, batch: Batch) -> int:
    """Return how many images have an answer, paid for and kept, that some kind is not read from."""
    t = schema.outcomes
    query = select(func.count(t.c.position.distinct())).where(
        t.c.batch == batch.id, t.c.outcome == "unread"
    )
    with ledger.reading() as connection:
        return int(connection.scalar(query) or 0)


def left_out(ledger: LedgerStore, batch: Batch) -> dict[str, int]:
    """Return for how many images no call was made, since what it waits for was not found.

    Returns
    -------
    dict of str to int
        By kind; empty if no call waits for another.
    """
    t = schema.outcomes
    query = (
        select(t.c.kind, func.count())
        .where(t.c.batch == batch.id, t.c.outcome == "empty", t.c.call.is_(None))
        .group_by(t.c.kind)
    )
    with ledger.reading() as connection:
        return {str(kind): int(count) for kind, count in connection.execute(query)}


def kept_sizes(ledger: LedgerStore, batch: Batch) -> dict[str, dict[str, float]]:
    """Return by image name the upright size, and the size and orientation of what was sent.

    Returns
    -------
    dict of str to dict of str to float
        In pixels; refused images are left out.
    """
    t, images = schema.items, schema.images
    query = (
        select(
            t.c.name,
            images.c.width,
            images.c.height,
            t.c.sent_width,
            t.c.sent_height,
            # Of what was sent: an image that was made smaller went out upright.
            func.coalesce(t.c.turned, images.c.orientation),
        )
        .join(images, images.c.sha == t.c.sha)
        .where(t.c.batch == batch.id, t.c.sent_width.is_not(None))
    )
    names = ("width", "height", "sent_width", "sent_height", "orientation")
    with ledger.reading() as connection:
        return {
            name: dict(zip(names, sizes, strict=True)) for name, *sizes in connection.execute(query)
        }
