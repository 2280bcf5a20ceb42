"""Writing a batch into the ledger while it is being sent."""

from __future__ import annotations

import os
import socket
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from itertools import islice
from typing import Any

from sqlalchemy import (
    Connection,
    Dialect,
    bindparam,
    delete,
    func,
    insert,
    select,
    update,
)
from sqlalchemy.sql.compiler import SQLCompiler

from dotledger.errors import LedgerError
from dotledger.json_codec import to_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.grown_names import GrownNames
from dotledger.ledger.ledger_records import (
    FINDING_COLUMNS,
    BatchOpening,
    CallRecord,
    ImageRecord,
    ItemRecord,
    OutcomeRecord,
    SentRecord,
    storable,
    timestamp,
)
from dotledger.ledger.ledger_store import (
    LedgerStore,
    RowRefused,
    compress,
    in_parts,
    insert_rows,
    run_many,
)
from dotledger.ledger.sender_claims import Waiting, WaitingAnswer

__all__ = ["BatchWriter", "ReadingWriter"]

_ITEMS_AT_ONCE = 5_000
_LOOKED_AT = 8_192
_ITEM_COLUMNS = ("batch", "position", "name", "path")
_SENT_COLUMNS = ("sha", *SentRecord._fields)
_CALL_COLUMNS = (
    "id",
    "batch",
    "call",
    "started",
    "seconds",
    "attempts",
    "status",
    "sent_bytes",
    "images",
    "price",
    "reason",
    "media_type",
    "answer",
    "requests",
    "version",
    "headers",
)
_ANSWER_COLUMNS = ("fingerprint", "call_name", "sha", "call", "place")
_OUTCOME_COLUMNS = ("batch", "position", "kind", "outcome", "reason", "call")
_FINDING_COLUMNS = ("reading", "position", *FINDING_COLUMNS)
_NOTE_COLUMNS = ("reading", "position", "reason", "value")


class BatchWriter:
    """Opens (or reopens) a batch and writes what is settled, many at a time.

    Whoever makes one holds the claim for these settings; see `dotledger.ledger.sender_claims`.

    Parameters
    ----------
    opening : BatchOpening
        Which batch; one with the same key is resumed.
    now : float
        Seconds since 1970.

    Attributes
    ----------
    resumed : bool
        Whether somebody may have written outcomes of this batch before; they are replaced.
    booked : callable or None
        Called with the connection of each transaction that writes calls, the calls, and whether
        they are ours: what senders share is counted in the same transaction, or not at all.
    adopted : list of CallRecord
        Calls of killed senders that were written while there was no `booked`.
    """

    def __init__(self, ledger: LedgerStore, opening: BatchOpening, now: float) -> None:
        self._ledger = ledger
        self._opening = opening
        self._names = GrownNames()
        self.booked: Callable[[Connection, Sequence[CallRecord], bool], None] | None = None
        self.adopted: list[CallRecord] = []
        with ledger.writing() as connection:
            row = connection.execute(
                select(
                    schema.batches.c.id, schema.batches.c.fingerprint, schema.batches.c.ended
                ).where(schema.batches.c.key.in_((opening.key, opening.earlier_key)))
            ).first()
            self.resumed = row is not None
            self._ended_before = row.ended if row is not None else None
            if row is None:
                self.batch = _insert_batch(connection, opening, now)
                self.reading = _insert_reading(connection, self.batch, now)
            else:
                self.batch = int(row.id)
                if row.fingerprint != opening.fingerprint:
                    _know_as(connection, self.batch, row.fingerprint, opening)
                self.reading = _first_reading(connection, self.batch)
                _claim(connection, self.batch, now)

    def still_here(self, now: float) -> None:
        """Write down who is at work, for people to see."""
        self._ledger.change(schema.batches, self.batch, sender=_sender(now))

    def settled(self) -> dict[int, dict[str, str]]:
        """Return the outcomes written so far: by position, then kind."""
        t = schema.outcomes
        each = func.aggregate_strings(t.c.kind + "=" + t.c.outcome, ",")
        query = select(t.c.position, each).where(t.c.batch == self.batch).group_by(t.c.position)
        # Most images have the same few outcomes: they share a dict, which nobody changes.
        shared: dict[str, dict[str, str]] = {}
        found: dict[int, dict[str, str]] = {}
        for position, text in self._ledger.rows(query):
            known = shared.get(text)
            if known is None:
                known = shared[text] = dict(one.split("=") for one in text.split(","))
            found[position] = known
        return found

    def settled_kinds(self, kinds: Sequence[str]) -> dict[int, dict[str, str]]:
        """Return the same without the outcomes.

        A batch is settled from its beginning, but for a few images that were under way when it
        was cut off: rows are counted, and read only where some are missing.
        """
        t = schema.outcomes
        whole = dict.fromkeys(kinds, "")
        found: dict[int, dict[str, str]] = {}
        for start in range(0, len(self._opening.names), _LOOKED_AT):
            stop = min(start + _LOOKED_AT, len(self._opening.names))
            block = (t.c.batch == self.batch, t.c.position >= start, t.c.position < stop)
            mine = (*block, t.c.kind.in_(kinds))
            [(rows,)] = self._ledger.rows(select(func.count()).where(*mine))
            if rows == (stop - start) * len(kinds):
                found.update(dict.fromkeys(range(start, stop), whole))
            elif rows:
                for position, kind in self._ledger.rows(
                    select(t.c.position, t.c.kind).where(*mine)
                ):
                    found[position] = {**found.get(position, {}), kind: ""}
        return found

    def add_items(self) -> None:
        """Write down which images the batch has; does nothing for a batch that is resumed."""
        names, paths = self._opening.names, self._opening.paths
        with self._ledger.reading() as connection:
            known = connection.execute(
                select(schema.items.c.position)
                .where(schema.items.c.batch == self.batch)
                .order_by(schema.items.c.position.desc())
                .limit(1)
            ).scalar()
        for start in range(0 if known is None else known + 1, len(names), _ITEMS_AT_ONCE):
            stop = min(start + _ITEMS_AT_ONCE, len(names))
            rows = [(self.batch, i, names[i], paths[i]) for i in range(start, stop)]
            with self._ledger.writing() as connection:
                # Another sender of the same batch may be writing them down too.
                insert_rows(connection, schema.items, _ITEM_COLUMNS, rows, skip_known=True)

    def write_one(self, record: ItemRecord, name: str, path: str) -> None:
        """Write one settled image of a batch that grows, as a running program's does.

        Its row goes first: whatever the database refuses of what was read, the answer is kept.
        """
        self.write_grown([(record, name, path)])

    def write_grown(self, settled: Sequence[tuple[ItemRecord, str, str]]) -> None:
        """Write several such images in one transaction: record, name and path of each.

        They are put behind the last image of the batch, whoever wrote that.
        """
        records = [record for record, _, _ in settled]
        try:
            self._write_together(records, [], settled)
        except LedgerError as error:
            self._names = GrownNames()  # what was rolled back is not there
            if not isinstance(error, RowRefused):
                raise
            with self._ledger.writing() as connection:
                self._grow(connection, settled)
            self._write_singly(records, [])

    def write(self, records: Sequence[ItemRecord], loose: Sequence[CallRecord] = ()) -> None:
        """Write settled items, their calls and findings in one transaction.

        `loose` are calls that settled nothing, kept because they may have cost money. If the
        database refuses a row, every image is written by itself, its answer before anything that
        was read out of it.
        """
        if not records and not loose:
            return
        try:
            self._write_together(records, loose)
        except RowRefused:
            self._write_singly(records, loose)

    def _grow(self, connection: Connection, grown: Sequence[tuple[ItemRecord, str, str]]) -> None:
        """Give images the next places; we hold the write lock, so nobody else takes them."""
        self._names.catch_up(connection, self.batch)
        rows = []
        for record, name, path in grown:
            record.position, own = self._names.add(name)
            rows.append((self.batch, record.position, own, path))
        insert_rows(connection, schema.items, _ITEM_COLUMNS, rows)
        connection.execute(_GROW, {"this": self.batch, "count": self._names.count})

    def _write_singly(self, records: Sequence[ItemRecord], loose: Sequence[CallRecord]) -> None:
        for call in loose:
            self._write_together([], [call])
        for record in records:
            bare = ItemRecord(position=record.position, image=record.image, sent=record.sent)
            bare.answered = record.answered
            calls = [o.call for o in record.outcomes if o.call is not None]
            self._write_together([bare], [call for call in calls if not call.id])
            try:
                self._write_together([record], [])
            except RowRefused as error:
                self._write_together([_not_kept(record, error)], [])

    def _write_together(
        self,
        records: Sequence[ItemRecord],
        loose: Sequence[CallRecord],
        grown: Sequence[tuple[ItemRecord, str, str]] = (),
    ) -> None:
        calls = {id(c): c for c in loose}
        for record in records:
            calls |= {id(o.call): o.call for o in record.outcomes if o.call is not None}
            calls |= {id(call): call for _, call, _ in record.answered}
        fresh = [call for call in calls.values() if not call.id]
        with self._ledger.writing() as connection:
            if grown:
                self._grow(connection, grown)
            ids = self._write_calls(connection, fresh)
            if self.booked is not None and fresh:
                self.booked(connection, fresh, True)
            self._write_images(connection, records)
            self._write_answers(connection, records, ids)
            self._write_outcomes(connection, records, ids)
            self._write_findings(connection, records)
        for call in fresh:
            call.id = ids[id(call)]

    def _write_calls(self, connection: Connection, fresh: list[CallRecord]) -> dict[int, int]:
        if not fresh:
            return {}
        first = _next_call(connection)
        ids = {id(call): key for key, call in enumerate(fresh, first)}
        rows = [_call_row(call, ids[id(call)], self.batch) for call in fresh]
        insert_rows(connection, schema.calls, _CALL_COLUMNS, rows)
        return ids

    def _write_images(self, connection: Connection, records: Sequence[ItemRecord]) -> None:
        images = [record.image for record in records if record.image]
        insert_rows(connection, schema.images, ImageRecord._fields, images, skip_known=True)
        sent = [(*_sent_row(record), self.batch, record.position) for record in records]
        if sent:
            names = (*_SENT_COLUMNS, "of_batch", "at_position")
            run_many(connection, _sent_change(connection.dialect), names, sent)

    def _write_answers(
        self, connection: Connection, records: Sequence[ItemRecord], ids: dict[int, int]
    ) -> None:
        """Remember who answered what; the first answer to be committed counts."""
        fingerprint = self._opening.fingerprint
        rows = [
            (fingerprint, name, record.image.sha, call.id or ids[id(call)], place)
            for record in records
            if record.image
            for name, call, place in record.answered
        ]
        rows += [
            (self._opening.identities[name], name, record.asked, call.id or ids[id(call)], place)
            for record in records
            if record.asked
            for name, call, place in record.answered
            if name in self._opening.identities
        ]
        rows += [
            (fingerprint, name, record.image.sha, call_id, place)
            for record in records
            if record.image
            for name, call_id, place in record.known
        ]
        insert_rows(connection, schema.answers, _ANSWER_COLUMNS, rows, skip_known=True)

    def _write_outcomes(
        self, connection: Connection, records: Sequence[ItemRecord], ids: dict[int, int]
    ) -> None:
        table = schema.outcomes
        if self.resumed:
            # What has no outcome yet, only an answer, keeps those of an earlier sending.
            anew = [record.position for record in records if record.outcomes]
            for part in in_parts(anew):
                connection.execute(
                    delete(table).where(table.c.batch == self.batch, table.c.position.in_(part))
                )
                self._forget_findings(connection, part)
        rows = [
            (
                self.batch,
                record.position,
                o.kind,
                o.outcome,
                storable(o.reason),
                o.call_id if o.call is None else o.call.id or ids[id(o.call)],
            )
            for record in records
            for o in record.outcomes
        ]
        insert_rows(connection, table, _OUTCOME_COLUMNS, rows)

    def _forget_findings(self, connection: Connection, positions: Sequence[int]) -> None:
        for table in (schema.findings, schema.notes):
            connection.execute(
                delete(table).where(
                    table.c.reading == self.reading, table.c.position.in_(positions)
                )
            )

    def _write_findings(self, connection: Connection, records: Sequence[ItemRecord]) -> None:
        found = [
            (self.reading, record.position, *row) for record in records for row in record.found
        ]
        insert_rows(connection, schema.findings, _FINDING_COLUMNS, found)
        noted = [
            (self.reading, record.position, storable(reason), storable(value))
            for record in records
            for reason, value in record.notes
        ]
        insert_rows(connection, schema.notes, _NOTE_COLUMNS, noted)

    def take_in(self, left: Iterator[tuple[Waiting, WaitingAnswer]], now: float) -> int:
        """Write answers that earlier senders could not; return how many were not there yet.

        Each is known again by its batch and the moment and length of its call, so that it does
        not matter where that sender was cut off.
        """
        count = 0
        for head, answer in left:
            with self._ledger.writing() as connection:
                batch = _batch_of(connection, head, now)
                if not _is_known(connection, batch, answer.call):
                    _write_answer(connection, batch, head.opening, answer)
                    if self.booked is not None:
                        self.booked(connection, [answer.call], False)
                    else:
                        self.adopted.append(answer.call)
                    count += 1
        return count

    def close(self, now: float, stopped_because: str = "", *, idle: bool = False) -> None:
        """Write down that the sending ended, and why if early.

        One that had nothing to do (`idle`) leaves the time at which an earlier one ended.
        """
        ended = (self._ended_before if idle else None) or timestamp(now)
        self._ledger.change(
            schema.batches,
            self.batch,
            ended=ended,
            stopped_because=stopped_because or None,
            sender=None,
        )


_GROW = (
    update(schema.batches)
    .where(schema.batches.c.id == bindparam("this"))
    .values(images=bindparam("count"), ended=None)
)


def _batch_of(connection: Connection, head: Waiting, now: float) -> int:
    query = select(schema.batches.c.id).where(schema.batches.c.key == head.opening.key)
    known = connection.execute(query).scalar()
    if known is not None:
        return int(known)
    batch = _insert_batch(connection, head.opening, now, images=head.images)
    _insert_reading(connection, batch, now)
    return batch


def _is_known(connection: Connection, batch: int, call: CallRecord) -> bool:
    t = schema.calls
    query = select(func.count()).where(
        t.c.batch == batch,
        t.c.call == call.call,
        t.c.started == timestamp(call.started),
        t.c.seconds == call.seconds,
    )
    return bool(connection.scalar(query))


def _write_answer(
    connection: Connection, batch: int, opening: BatchOpening, answer: WaitingAnswer
) -> None:
    key = _next_call(connection)
    insert_rows(connection, schema.calls, _CALL_COLUMNS, [_call_row(answer.call, key, batch)])
    insert_rows(connection, schema.images, ImageRecord._fields, answer.images, skip_known=True)
    name = answer.call.call
    rows = [
        (opening.fingerprint, name, image.sha, key, place)
        for place, image in enumerate(answer.images)
        if answer.answered
    ]
    if answer.answered and name in opening.identities:
        identity = opening.identities[name]
        rows += [(identity, name, sha, key, place) for place, sha in enumerate(answer.asked)]
    insert_rows(connection, schema.answers, _ANSWER_COLUMNS, rows, skip_known=True)


def _next_call(connection: Connection) -> int:
    """Return the next number of a call; we hold the write lock."""
    return 1 + (connection.scalar(select(func.max(schema.calls.c.id))) or 0)


@lru_cache(maxsize=8)
def _sent_change(dialect: Dialect) -> SQLCompiler:
    table = schema.items
    change = update(table).where(
        table.c.batch == bindparam("of_batch"), table.c.position == bindparam("at_position")
    )
    return change.values({n: bindparam(n) for n in _SENT_COLUMNS}).compile(dialect=dialect)


def _sent_row(record: ItemRecord) -> tuple[Any, ...]:
    sha = record.image.sha if record.image else None
    if record.sent is None:
        return (sha, *[None] * len(SentRecord._fields))
    *plain, steps = record.sent
    return (sha, *plain, to_json(steps).decode() if steps else None)


def _call_row(call: CallRecord, key: int, batch: int) -> tuple[Any, ...]:
    return (
        key,
        batch,
        call.call,
        timestamp(call.started),
        call.seconds,
        call.attempts,
        call.status,
        call.sent_bytes,
        call.images,
        call.price,
        storable(call.reason),
        storable(call.media_type)[:120],
        None if call.answer is None else compress(call.answer),
        call.requests,
        storable(call.version) or None,
        storable(to_json(call.headers).decode()) if call.headers else None,
    )


def _sender(now: float) -> str:
    return f"{os.getpid()}@{socket.gethostname()} {timestamp(now)}"


def _not_kept(record: ItemRecord, error: RowRefused) -> ItemRecord:
    """Return a record of which only the outcome says that what was read cannot be kept."""
    reason = f"what was read cannot be kept: {error.message}"
    failed = [
        OutcomeRecord(kind=o.kind, outcome="failed", reason=reason, call=o.call, call_id=o.call_id)
        for o in record.outcomes
    ]
    return ItemRecord(
        position=record.position, image=record.image, sent=record.sent, outcomes=failed
    )


def _know_as(connection: Connection, batch: int, old: str, opening: BatchOpening) -> None:
    """Let a batch of an earlier version, and its answers, be known by today's settings."""
    t = schema.answers
    query = select(t.c.call_name, t.c.sha, t.c.call, t.c.place).where(t.c.fingerprint == old)
    rows = [(opening.fingerprint, *row) for row in connection.execute(query)]
    insert_rows(connection, t, _ANSWER_COLUMNS, rows, skip_known=True)
    values = {"key": opening.key, "fingerprint": opening.fingerprint}
    table = schema.batches
    connection.execute(update(table).where(table.c.id == batch).values(**values))


def _claim(connection: Connection, batch: int, now: float) -> None:
    table = schema.batches
    values = {"sender": _sender(now), "ended": None, "stopped_because": None}
    connection.execute(update(table).where(table.c.id == batch).values(**values))


def _insert_batch(
    connection: Connection, opening: BatchOpening, now: float, *, images: int | None = None
) -> int:
    row = {
        "key": opening.key,
        "service": opening.service,
        "fingerprint": opening.fingerprint,
        "kinds": list(opening.kinds),
        "settings": dict(opening.settings),
        "description": opening.description,
        "source": opening.source,
        "images": len(opening.names) if images is None else images,
        "floor": opening.floor,
        "currency": opening.currency,
        "started": timestamp(now),
        "sender": _sender(now),
        "round": opening.round or None,
    }
    key = connection.execute(insert(schema.batches).values(**row)).inserted_primary_key
    return int(key[0]) if key else 0


def _insert_reading(connection: Connection, batch: int, now: float) -> int:
    row = {"batch": batch, "made": timestamp(now), "about": "made while sending"}
    key = connection.execute(insert(schema.readings).values(**row)).inserted_primary_key
    return int(key[0]) if key else 0


def _first_reading(connection: Connection, batch: int) -> int:
    table = schema.readings
    query = select(table.c.id).where(table.c.batch == batch).order_by(table.c.id).limit(1)
    return int(connection.execute(query).scalar_one())


class ReadingWriter:
    """Writes a new reading of a batch next to the old ones.

    Parameters
    ----------
    about : str
        What the reading was made with, for people.
    now : float
        Seconds since 1970.
    """

    def __init__(self, ledger: LedgerStore, batch: int, about: str, now: float) -> None:
        self._ledger = ledger
        row = {"batch": batch, "made": timestamp(now), "about": about}
        self._row = row
        self.reading = 0

    def write_all(
        self,
        found: Iterator[tuple[Any, ...]],
        noted: Iterator[tuple[Any, ...]],
        outcomes: Iterator[tuple[Any, ...]],
    ) -> None:
        """Write the whole reading in one transaction, in slices.

        Parameters
        ----------
        found : iterator of tuple
            Position and `FINDING_COLUMNS`.
        outcomes : iterator of tuple
            Position, kind, outcome, reason and call id: what the batch's outcomes are from now on.
        """
        with self._ledger.writing() as connection:
            key = connection.execute(
                insert(schema.readings).values(**self._row)
            ).inserted_primary_key
            self.reading = int(key[0]) if key else 0
            for table, names, rows in (
                (schema.findings, _FINDING_COLUMNS, found),
                (schema.notes, _NOTE_COLUMNS, noted),
            ):
                while part := list(islice(rows, _ITEMS_AT_ONCE)):
                    whole = [(self.reading, *row) for row in part]
                    insert_rows(connection, table, names, whole)
            while part := list(islice(outcomes, _ITEMS_AT_ONCE)):
                self._settle(connection, part)

    def _settle(self, connection: Connection, rows: Sequence[tuple[Any, ...]]) -> None:
        """Replace the outcomes of these positions and kinds."""
        table = schema.outcomes
        for kind in {row[1] for row in rows}:
            for part in in_parts([row[0] for row in rows if row[1] == kind]):
                connection.execute(
                    delete(table).where(
                        table.c.batch == self._row["batch"],
                        table.c.kind == kind,
                        table.c.position.in_(part),
                    )
                )
        whole = [(self._row["batch"], *row[:3], storable(row[3]), row[4]) for row in rows]
        insert_rows(connection, table, _OUTCOME_COLUMNS, whole)

    def forget(self) -> None:
        """Take the reading back: it says the same as the one before."""
        with self._ledger.writing() as connection:
            for table in (schema.findings, schema.notes):
                connection.execute(delete(table).where(table.c.reading == self.reading))
            connection.execute(delete(schema.readings).where(schema.readings.c.id == self.reading))
