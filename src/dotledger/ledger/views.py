"""Reading a ledger: batches, outcomes, findings, usage, raw answers."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import orjson
from msgspec import Struct
from msgspec.structs import replace
from sqlalchemy import exists, func, select

from dotledger.core.tables.coded import Coded
from dotledger.core.tables.details import Details
from dotledger.core.tables.findings import Findings
from dotledger.errors import LedgerError
from dotledger.ledger import schema
from dotledger.ledger.store import Ledger, decompress, in_parts

__all__ = [
    "OUTCOMES",
    "Batch",
    "KeptAnswer",
    "Sent",
    "StoredAnswer",
    "answered_shas",
    "batches",
    "failures",
    "find_batch",
    "kept_answers",
    "kept_sizes",
    "load_findings",
    "notes_of",
    "outcome_counts",
    "raw_answers",
    "readings",
    "sent_images",
    "stored_answers",
]

OUTCOMES = ("found", "empty", "unread", "failed", "refused", "pending")
"""Every outcome, in the order shown."""


class Batch(Struct, frozen=True, kw_only=True):
    """One batch as the ledger knows it.

    Times are ISO 8601 in UTC; `ended` is empty while it is being sent or after a crash.
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


def batches(ledger: Ledger) -> list[Batch]:
    """Return every batch, oldest first."""
    table, readings = schema.batches, schema.readings
    newest = (
        select(readings.c.batch, func.max(readings.c.id).label("reading"))
        .group_by(readings.c.batch)
        .subquery()
    )
    query = select(table, newest.c.reading).join(newest, newest.c.batch == table.c.id)
    with ledger.reading() as connection:
        return [_batch(row) for row in connection.execute(query.order_by(table.c.id))]


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
    )


def find_batch(
    ledger: Ledger,
    *,
    batch: int | None = None,
    service: str | None = None,
    reading: int | None = None,
) -> Batch:
    """Return a batch by number, or the newest (of a service), with its newest or a given reading.

    Raises
    ------
    LedgerError
        If there is none; the message lists those there are.
    """
    known = batches(ledger)
    fitting = [b for b in known if batch in (None, b.id) and service in (None, b.service)]
    if fitting:
        return _with_reading(ledger, fitting[-1], reading)
    wanted = (
        f"batch {batch}"
        if batch is not None
        else f"a batch of {service!r}"
        if service
        else "a batch"
    )
    raise LedgerError(
        f"the ledger does not hold {wanted}",
        place=ledger.where,
        allowed=[f"{b.id} ({b.service})" for b in known],
    )


def readings(ledger: Ledger, batch: Batch) -> list[tuple[int, str, str]]:
    """Return (number, when, about) of a batch's readings, oldest first."""
    t = schema.readings
    query = select(t.c.id, t.c.made, t.c.about).where(t.c.batch == batch.id).order_by(t.c.id)
    with ledger.reading() as connection:
        return [(key, made, about) for key, made, about in connection.execute(query)]


def _with_reading(ledger: Ledger, batch: Batch, reading: int | None) -> Batch:
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


def notes_of(ledger: Ledger, batch: Batch) -> list[tuple[str, str, str]]:
    """Return (image, reason, value) of everything a reading set aside or noticed."""
    t, items = schema.notes, schema.items
    query = (
        select(items.c.name, t.c.reason, t.c.value)
        .join(items, (items.c.batch == batch.id) & (items.c.position == t.c.position))
        .where(t.c.reading == batch.reading)
        .order_by(t.c.id)
    )
    with ledger.reading() as connection:
        return [(name, reason, value) for name, reason, value in connection.execute(query)]


def outcome_counts(ledger: Ledger, batch: Batch) -> dict[str, dict[str, int]]:
    """Return how many images have each outcome, by kind and outcome; all of `OUTCOMES`."""
    table = schema.outcomes
    query = (
        select(table.c.kind, table.c.outcome, func.count())
        .where(table.c.batch == batch.id)
        .group_by(table.c.kind, table.c.outcome)
    )
    counts = {kind: dict.fromkeys(OUTCOMES, 0) for kind in batch.kinds}
    with ledger.reading() as connection:
        for kind, outcome, count in connection.execute(query):
            counts[kind][outcome] = count
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


def sent_images(ledger: Ledger, batch: Batch) -> list[Sent]:
    """Return the images of a batch in its order."""
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
        .where(items.c.batch == batch.id)
        .order_by(items.c.position)
    )
    with ledger.reading() as connection:
        return [
            Sent(position=p, name=n, path=path, sha=sha or "", width=w, height=h)
            for p, n, path, sha, w, h in connection.execute(query)
        ]


def failures(ledger: Ledger, batch: Batch) -> list[tuple[str, str, str, str]]:
    """Return (image, kind, outcome, reason) of all that is unread, failed or refused, in order."""
    table, items = schema.outcomes, schema.items
    query = (
        select(items.c.name, table.c.kind, table.c.outcome, table.c.reason)
        .join(items, (items.c.batch == table.c.batch) & (items.c.position == table.c.position))
        .where(table.c.batch == batch.id, table.c.outcome.in_(("unread", "failed", "refused")))
        .order_by(table.c.position, table.c.kind)
    )
    with ledger.reading() as connection:
        return [(n, k, o, r) for n, k, o, r in connection.execute(query)]


def unread_images(ledger: Ledger, batch: Batch) -> int:
    """Return how many images have an answer, paid for and kept, that some kind is not read from."""
    t = schema.outcomes
    query = select(func.count(t.c.position.distinct())).where(
        t.c.batch == batch.id, t.c.outcome == "unread"
    )
    with ledger.reading() as connection:
        return int(connection.scalar(query) or 0)


def load_findings(ledger: Ledger, batch: Batch, *, kinds: Sequence[str] | None = None) -> Findings:
    """Return the findings of a batch's reading, with a blank row where nothing was found.

    Rows are in the order of the batch, then of the answer. Images without an answer (failed,
    refused, pending) have no row.
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


def raw_answers(
    ledger: Ledger, batch: Batch, positions: Sequence[int]
) -> Iterator[tuple[int, str, bytes]]:
    """Yield (position, call name, answer as received) for images of a batch."""
    outcomes, calls = schema.outcomes, schema.calls
    query = (
        select(outcomes.c.position, calls.c.id, calls.c.call, calls.c.answer)
        .join(calls, calls.c.id == outcomes.c.call)
        .where(outcomes.c.batch == batch.id, outcomes.c.position.in_(positions))
        .distinct()
        .order_by(outcomes.c.position, calls.c.id)
    )
    with ledger.reading() as connection:
        for position, _, call, answer in connection.execute(query):
            if answer is not None:
                yield position, call, decompress(answer)


class StoredAnswer(Struct, frozen=True, kw_only=True):
    """The call that answered one image, and the image's place among the call's images."""

    call_id: int
    place: int
    images: int
    answer: bytes
    fingerprint: str = ""


def answered_shas(ledger: Ledger, fingerprints: Sequence[str], call_name: str) -> set[str]:
    """Return the SHA-256 of every image that a call has answered under one of some settings."""
    t = schema.answers
    query = select(t.c.sha).where(t.c.fingerprint.in_(fingerprints), t.c.call_name == call_name)
    with ledger.reading() as connection:
        return set(connection.scalars(query))


def stored_answers(
    ledger: Ledger, fingerprints: Sequence[str], call_name: str, shas: Sequence[str]
) -> dict[str, StoredAnswer]:
    """Return what is stored for images (by SHA-256) under one of some settings."""
    t, calls = schema.answers, schema.calls
    columns = (t.c.sha, t.c.call, t.c.place, calls.c.images, calls.c.answer, t.c.fingerprint)
    query = select(*columns).join(calls, calls.c.id == t.c.call)
    found = {}
    with ledger.reading() as connection:
        for part in in_parts(shas):
            these = query.where(
                t.c.fingerprint.in_(fingerprints), t.c.call_name == call_name, t.c.sha.in_(part)
            )
            for sha, call_id, place, images, answer, known_as in connection.execute(these):
                found[sha] = StoredAnswer(
                    call_id=call_id,
                    place=place,
                    images=images,
                    answer=decompress(answer),
                    fingerprint=known_as,
                )
    return found


class KeptAnswer(Struct, frozen=True, kw_only=True):
    """A raw answer with what is needed to read it again for one image of a batch.

    `width`, `height` are the upright original's; `sent_width`, `sent_height`, `turned` those of
    what was sent. `place` is the image's place among the `images` of the call.
    """

    position: int
    name: str
    call: str
    call_id: int
    place: int
    images: int
    width: int
    height: int
    sent_width: int
    sent_height: int
    turned: int
    answer: bytes


def kept_answers(ledger: Ledger, batch: Batch) -> Iterator[KeptAnswer]:
    """Yield every raw answer that belongs to a batch, image by image, one at a time in memory.

    Answers that could not be read while sending are among them.
    """
    with ledger.reading() as connection:
        for query in (_read_answers(batch), _unread_answers(batch)):
            for row in connection.execution_options(yield_per=200).execute(query):
                *facts, answer = row
                if answer is not None:
                    yield KeptAnswer(
                        **dict(zip(_KEPT, facts, strict=True)), answer=decompress(answer)
                    )


def _read_answers(batch: Batch) -> Any:
    t, calls, answers = schema.items, schema.calls, schema.answers
    known = (
        (answers.c.fingerprint == batch.fingerprint)
        & answers.c.call_name.in_(_call_names(batch))  # with it, the index finds each image's row
        & (answers.c.sha == t.c.sha)
    )
    return (
        _kept_columns(answers.c.place)
        .join(answers, known)
        .join(calls, calls.c.id == answers.c.call)
        .where(t.c.batch == batch.id)
        .order_by(t.c.position)
    )


def _call_names(batch: Batch) -> list[str]:
    """Return the names of the calls that the kept description has."""
    return [str(call["name"]) for call in orjson.loads(batch.description).get("call", [])]


def _unread_answers(batch: Batch) -> Any:
    t, calls = schema.items, schema.calls
    broken, places = _broken_calls(batch), _places_in_calls(batch)
    return (
        _kept_columns(places.c.place)
        .join(broken, broken.c.position == t.c.position)
        .join(calls, calls.c.id == broken.c.call)
        .join(places, (places.c.call == calls.c.id) & (places.c.sha == t.c.sha))
        .where(
            t.c.batch == batch.id,
            calls.c.images == places.c.images,
            calls.c.status.between(200, 299),
            ~_known_answer(batch, t.c.sha, calls.c.call),
        )
        .order_by(t.c.position)
    )


def _known_answer(batch: Batch, sha: Any, name: Any) -> Any:
    answers = schema.answers
    return exists().where(
        answers.c.fingerprint == batch.fingerprint,
        answers.c.call_name == name,
        answers.c.sha == sha,
    )


def _kept_columns(place: Any) -> Any:
    """Return a query of `_KEPT` and the answer, from images and what was sent of them."""
    t, images, calls = schema.items, schema.images, schema.calls
    named = (t.c.position, t.c.name, calls.c.call, calls.c.id, place, calls.c.images)
    sizes = (images.c.width, images.c.height, t.c.sent_width, t.c.sent_height, t.c.turned)
    query = select(*named, *sizes, calls.c.answer)
    return query.select_from(t).join(images, images.c.sha == t.c.sha)


_KEPT = (
    "position", "name", "call", "call_id", "place", "images", "width", "height",
    "sent_width", "sent_height", "turned",
)  # fmt: skip


def _broken_calls(batch: Batch) -> Any:
    """Return a subquery of the calls whose answers were not accepted, by position."""
    t = schema.outcomes
    return (
        select(t.c.position, t.c.call)
        .where(
            t.c.batch == batch.id,
            t.c.outcome.in_(("failed", "unread")),
            t.c.call.is_not(None),
        )
        .distinct()
        .subquery()
    )


def _places_in_calls(batch: Batch) -> Any:
    """Return a subquery of the place of each image in its call, and how many images are known.

    Images go out in the order of the batch; the same bytes under another name take no place.
    """
    t, items = schema.outcomes, schema.items
    first = func.min(t.c.position)
    return (
        select(
            t.c.call,
            items.c.sha,
            (func.row_number().over(partition_by=t.c.call, order_by=first) - 1).label("place"),
            func.count().over(partition_by=t.c.call).label("images"),
        )
        .join(items, (items.c.batch == t.c.batch) & (items.c.position == t.c.position))
        .where(t.c.batch == batch.id, t.c.call.is_not(None))
        .group_by(t.c.call, items.c.sha)
        .subquery()
    )


def kept_sizes(ledger: Ledger, batch: Batch) -> dict[str, dict[str, float]]:
    """Return by image name the upright size, the size sent and the orientation."""
    t, images = schema.items, schema.images
    query = (
        select(
            t.c.name,
            images.c.width,
            images.c.height,
            t.c.sent_width,
            t.c.sent_height,
            images.c.orientation,
        )
        .join(images, images.c.sha == t.c.sha)
        .where(t.c.batch == batch.id, t.c.sent_width.is_not(None))
    )
    names = ("width", "height", "sent_width", "sent_height", "orientation")
    with ledger.reading() as connection:
        return {
            name: dict(zip(names, sizes, strict=True)) for name, *sizes in connection.execute(query)
        }
