"""Removing images, a person or batches from a ledger, for good.

What is removed is marked first, in temporary tables of the one transaction that then removes it:
the plan that a person reads and the removal itself are the same statements, and a kill leaves all
or nothing removed. Databases keep removed rows in free pages, in logs and in statistics. So the
same transaction leaves a mark in the ledger, which goes when the file has been rewritten; whoever
is killed between the two is told to finish by the next one who looks.

Example, of one image ``a.jpg`` that batches 1 and 2 hold at positions 4 and 0: its two rows in
``items`` become "(deleted 5)" and "(deleted 1)", its outcomes of every kind become ``deleted``, its
findings, notes and decisions go, and the call that answered both batches keeps its price and time
and loses its answer.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from sqlalchemy import (
    Column,
    ColumnElement,
    Connection,
    Integer,
    MetaData,
    Select,
    String,
    Table,
    and_,
    delete,
    exists,
    func,
    insert,
    literal,
    or_,
    select,
    tuple_,
    update,
)

from dotledger.core.kinds import DELETED
from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError, LedgerError
from dotledger.json_codec import AsData
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import REMOVED, Batch, batches
from dotledger.ledger.ledger_records import timestamp
from dotledger.ledger.ledger_store import LedgerStore, in_parts
from dotledger.ledger.name_search import (
    NamePattern,
    Remainder,
    answers_with,
    remainders,
    rows_with,
)
from dotledger.ledger.sender_claims import files_in_use
from dotledger.ledger.sender_crews import senders_of
from dotledger.ledger.server_claims import stand_in_path

__all__ = [
    "Removal",
    "RemovalTarget",
    "check_nobody_sends",
    "finish_removal",
    "is_unfinished",
    "plan_removal",
    "remove",
    "removed_pattern",
]

_MARK = "removal"
_MOST_SEARCHED = 200

_temporary = MetaData()
_images = Table(
    "removed_images",
    _temporary,
    Column("batch", Integer, primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("sha", String(64)),
    prefixes=["TEMPORARY"],
)
_kinds = Table(
    "removed_kinds",
    _temporary,
    Column("batch", Integer, primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("kind", String(12), primary_key=True),
    prefixes=["TEMPORARY"],
)
_calls = Table(
    "removed_calls",
    _temporary,
    Column("call", Integer, primary_key=True),
    prefixes=["TEMPORARY"],
)


@dataclass(frozen=True, kw_only=True)
class RemovalTarget:
    """What is to be removed: one of the four, all others left out.

    Attributes
    ----------
    images : tuple of str
        Names or paths of images, in every batch that holds them, under whatever name.
    person : str
        Whoever is named in findings, answers or decisions.
    batch : int or None
        Everything that one batch holds.
    before : float or None
        Seconds since 1970: everything of batches that were begun before.
    elsewhere : bool
        An image may be missing from the ledger: files are searched for it too.
    """

    images: tuple[str, ...] = ()
    person: str = ""
    batch: int | None = None
    before: float | None = None
    elsewhere: bool = False


@dataclass(frozen=True, kw_only=True)
class Removal(AsData):
    """What is removed from a ledger, or would be, and what stays.

    Attributes
    ----------
    what : str
        In words, such as ``image a.jpg``.
    done : bool
        False for a plan: nothing was changed.
    images : int
        Images of which something is removed; one that two batches hold counts in both.
    names : tuple of str
        Their names, once each.
    batches : tuple of int
        The batches that hold them.
    findings, answers, decisions : int
        Rows of findings (of every reading), raw answers, and decisions of people.
    other_images : int
        Images that shared a call with these: their findings stay, their raw answer goes.
    answers_in_use : int
        Answers of a removed batch that stay, since another batch uses them.
    calls : int
        Calls whose answer goes; the call, its time and its price stay.
    money : mapping of str to float
        What these calls cost, by currency.
    shown_in : tuple of str
        Names of images that hold the person's name themselves; they stay.
    left : tuple of Remainder
        Where the names still stand in the ledger after removing.
    finished : bool
        Whether the file has been rewritten, so that its bytes do not hold what was removed.
    searched : int
        For how many names the ledger was searched afterwards: all, but of very many a part.
    """

    what: str
    done: bool = False
    images: int = 0
    names: tuple[str, ...] = ()
    batches: tuple[int, ...] = ()
    findings: int = 0
    answers: int = 0
    decisions: int = 0
    other_images: int = 0
    answers_in_use: int = 0
    calls: int = 0
    money: dict[str, float] = field(default_factory=dict)
    shown_in: tuple[str, ...] = ()
    left: tuple[Remainder, ...] = ()
    finished: bool = False
    searched: int = 0

    @property
    def nothing(self) -> bool:
        """Whether the ledger holds nothing of it."""
        return not (self.images or self.answers or self.decisions)


def plan_removal(ledger: LedgerStore, target: RemovalTarget) -> Removal:
    """Say what would be removed; nothing is changed.

    Raises
    ------
    ArgumentError
        If an image or the batch is not in the ledger.
    LedgerError
        If the ledger cannot be read.
    """
    with ledger.reading() as connection:
        plan = _marked(ledger, connection, target)
        connection.rollback()
    return plan


def check_nobody_sends(ledger: LedgerStore, now: float) -> None:
    """Refuse while anything is written, or waits to be: it would come back after the removal.

    Parameters
    ----------
    now : float
        Seconds since 1970.

    Raises
    ------
    LedgerError
        If somebody is sending into it, or a killed sender left answers in a file next to it.
    """
    at_work = [who for one in batches(ledger) for who in senders_of(ledger, one.id, now)]
    held, waiting = files_in_use(ledger.path or stand_in_path(ledger.where))
    if at_work or held:
        who = at_work[0]["who"] if at_work else "another process"
        raise LedgerError(
            f"{who} is sending into the ledger",
            place=ledger.where,
            next_step="Wait until it has ended, or stop it; then remove.",
        )
    if waiting:
        raise LedgerError(
            "answers of a sender that was killed are not in the ledger yet",
            place=str(waiting[0]),
            next_step="Send the same images again, which takes them in; then remove.",
        )


def remove(ledger: LedgerStore, target: RemovalTarget, *, now: float | None = None) -> Removal:
    """Remove it in one transaction, then rewrite the file; return what was removed.

    Parameters
    ----------
    now : float, optional
        Seconds since 1970; by default what the clock says.

    Raises
    ------
    ArgumentError
        If an image or the batch is not in the ledger.
    LedgerError
        If somebody is sending into it, a killed sender left answers in a file next to it, or it
        cannot be written or rewritten; what was removed by then stays removed.
    """
    now = time.time() if now is None else now
    check_nobody_sends(ledger, now)
    with ledger.writing() as connection:
        if connection.dialect.name == "sqlite":
            # Bytes of a removed row are overwritten, not only marked as free.
            connection.exec_driver_sql("PRAGMA secure_delete=ON")
        removal = _marked(ledger, connection, target)
        _delete(connection, target, removal, now)
        _set_mark(connection)
        for table in _temporary.sorted_tables:
            table.drop(connection)
    finish_removal(ledger)
    names = searched_names(ledger, target, removal)
    left = remainders(ledger, _pattern(target, names)) if names else []
    return replace(removal, done=True, finished=True, searched=len(names), left=tuple(left))


def is_unfinished(ledger: LedgerStore) -> bool:
    """Tell whether a removal was cut off before the file was rewritten."""
    t = schema.about
    with ledger.reading() as connection:
        return bool(connection.scalar(select(func.count()).where(t.c.name == _MARK)))


def finish_removal(ledger: LedgerStore) -> bool:
    """Rewrite the ledger's file, if a removal left that to be done; return whether it did.

    On PostgreSQL the tables are rewritten and their statistics taken anew. A server's log and
    backups are not in our reach.

    Raises
    ------
    LedgerError
        If others have the ledger open, or there is no room for a second copy of it.
    """
    if not is_unfinished(ledger):
        return False
    ledger.rewrite([table.name for table in schema.metadata.sorted_tables])
    with ledger.writing() as connection:
        connection.execute(delete(schema.about).where(schema.about.c.name == _MARK))
    ledger.empty_log()
    return True


def _set_mark(connection: Connection) -> None:
    connection.execute(delete(schema.about).where(schema.about.c.name == _MARK))
    connection.execute(insert(schema.about).values(name=_MARK, value="the file is to be rewritten"))


# -- marking ---------------------------------------------------------------------------------------


def _marked(ledger: LedgerStore, connection: Connection, target: RemovalTarget) -> Removal:
    """Mark what is to be removed, and count it."""
    for table in _temporary.sorted_tables:
        if connection.dialect.name == "sqlite":
            # An earlier plan of this connection may have left its own.
            connection.exec_driver_sql(f"DROP TABLE IF EXISTS temp.{table.name}")
        table.create(connection)
    if target.person:
        _mark_person(ledger, connection, target.person)
    else:
        whole = _batches_meant(ledger, target)
        _mark_images(ledger, connection, target, whole)
        _mark_calls(connection, whole)
    return _counted(ledger, connection, target)


def _batches_meant(ledger: LedgerStore, target: RemovalTarget) -> list[Batch]:
    """Return the batches that go as a whole; none where images are named."""
    known = batches(ledger)
    if target.before is not None:
        return [one for one in known if one.started < timestamp(target.before)]
    if target.batch is None:
        return []
    found = [one for one in known if one.id == target.batch]
    if not found:
        raise ArgumentError(
            "no such batch in the ledger",
            place="batch",
            got=target.batch,
            allowed=[str(one.id) for one in known],
        )
    return found


def _mark_images(
    ledger: LedgerStore, connection: Connection, target: RemovalTarget, whole: Sequence[Batch]
) -> None:
    t = schema.items
    rows = select(t.c.batch, t.c.position, t.c.sha)
    if target.images:
        for part in in_parts(_shas_of(connection, target)):
            _add(connection, _images, rows.where(t.c.sha.in_(part)))
        # An image that was refused, or not sent yet, has no content that would tell it.
        unseen = and_(
            t.c.sha.is_(None), or_(t.c.name.in_(target.images), t.c.path.in_(target.images))
        )
        _add(connection, _images, rows.where(unseen))
    for batch in whole:
        _add(connection, _images, rows.where(t.c.batch == batch.id))
    held = set(connection.execute(select(_images.c.batch).distinct()).scalars())
    for batch in batches(ledger):
        for kind in batch.kinds if batch.id in held else ():
            mine = _images.c.batch == batch.id
            kinds = select(_images.c.batch, _images.c.position, literal(kind).label("kind"))
            _add(connection, _kinds, kinds.where(mine))


def _shas_of(connection: Connection, target: RemovalTarget) -> list[str]:
    """Return the contents that have these names or paths; refuse a name that is not there."""
    t = schema.items
    shas: dict[str, None] = {}
    for name in target.images:
        query = select(t.c.sha).where(or_(t.c.name == name, t.c.path == name))
        found = list(connection.execute(query.distinct()).scalars())
        if not found and not target.elsewhere:
            known = connection.execute(select(t.c.name).distinct()).scalars()
            near = nearest(name, known, most=3)
            raise ArgumentError(
                "no image of this name in the ledger",
                place="images",
                got=name,
                next_step=f"Names that are near: {', '.join(near)}." if near else "",
            )
        shas |= dict.fromkeys(sha for sha in found if sha)
    return list(shas)


def _mark_person(ledger: LedgerStore, connection: Connection, person: str) -> None:
    pattern = NamePattern([person])
    rows = rows_with(ledger, pattern)
    names = ("batch", "position", "kind")
    _insert(connection, _kinds, [dict(zip(names, row, strict=True)) for row in sorted(rows)])
    # The name may stand in an answer that no rule reads a person from.
    answers = sorted(set(answers_with(ledger, pattern)))
    _insert(connection, _calls, [{"call": call} for call in answers])
    _add(connection, _calls, _calls_of_kinds().where(~_is_marked(schema.outcomes.c.call)))


def _mark_calls(connection: Connection, whole: Sequence[Batch]) -> None:
    o, a, c = schema.outcomes, schema.answers, schema.calls
    if not whole:
        _add(connection, _calls, _calls_of_kinds())
        held = select(_images.c.sha).where(_images.c.sha.is_not(None))
        others = select(a.c.call).distinct().where(a.c.sha.in_(held), ~_is_marked(a.c.call))
        _add(connection, _calls, others)
    # A call that settled nothing is tied to no image: it may have been about any of the batch.
    by_outcome = select(o.c.call).where(o.c.call.is_not(None))
    settled = or_(c.c.id.in_(by_outcome), c.c.id.in_(select(a.c.call)))
    concerned = select(_images.c.batch).distinct()
    loose = select(c.c.id).where(c.c.batch.in_(concerned), ~settled, ~_is_marked(c.c.id))
    _add(connection, _calls, loose)
    # Of a whole batch its own calls go, and those of others that nobody else uses by now.
    own = select(c.c.id).where(c.c.batch.in_(concerned))
    for query in (own, _calls_of_kinds()) if whole else ():
        [call] = query.selected_columns
        _add(connection, _calls, query.where(~_is_marked(call), ~_used(call)))


def _calls_of_kinds() -> Select[tuple[int]]:
    """Ask for the calls that settled a marked image and kind."""
    o = schema.outcomes
    mine = tuple_(o.c.batch, o.c.position, o.c.kind).in_(
        select(_kinds.c.batch, _kinds.c.position, _kinds.c.kind)
    )
    return select(o.c.call).distinct().where(o.c.call.is_not(None), mine)


def _used(call: ColumnElement[int]) -> ColumnElement[bool]:
    """Tell whether an image and kind that stays was settled by a call.

    Calls of outcomes are in no index: they are listed once, not looked for call by call.
    """
    o = schema.outcomes
    gone = exists().where(
        _kinds.c.batch == o.c.batch, _kinds.c.position == o.c.position, _kinds.c.kind == o.c.kind
    )
    return call.in_(select(o.c.call).where(o.c.call.is_not(None), ~gone))


def _is_marked(call: ColumnElement[int]) -> ColumnElement[bool]:
    return call.in_(select(_calls.c.call))


def _add(connection: Connection, table: Table, query: Select[tuple[object, ...]]) -> None:
    connection.execute(insert(table).from_select([c.name for c in table.columns], query))


def _insert(connection: Connection, table: Table, rows: Sequence[dict[str, object]]) -> None:
    if rows:
        connection.execute(insert(table), rows)


# -- counting --------------------------------------------------------------------------------------


def _counted(ledger: LedgerStore, connection: Connection, target: RemovalTarget) -> Removal:
    names = tuple(map(str, connection.execute(_names_marked()).scalars()))
    c = schema.calls
    bound = c.join(schema.batches, schema.batches.c.id == c.c.batch)
    paid = (
        select(schema.batches.c.currency, func.count(), func.sum(c.c.price))
        .select_from(bound)
        .where(_is_marked(c.c.id))
        .group_by(schema.batches.c.currency)
    )
    money = [tuple(row) for row in connection.execute(paid)]
    held = select(_kinds.c.batch).distinct().order_by(_kinds.c.batch)
    places = select(_kinds.c.batch, _kinds.c.position).distinct().subquery()
    return Removal(
        what=_in_words(target),
        images=_count(connection, select(places)),
        names=names,
        batches=tuple(connection.execute(held).scalars()),
        findings=_count(connection, _marked_ids(schema.findings, by_kind=True)),
        answers=_count(
            connection, select(c.c.id).where(_is_marked(c.c.id), c.c.answer.is_not(None))
        ),
        decisions=_count(connection, _decisions()),
        other_images=_count(connection, _others()),
        answers_in_use=_in_use(connection, target),
        calls=sum(count for _, count, _ in money),
        money={currency: float(price or 0) for currency, _, price in money if price},
        shown_in=_shown_in(ledger, target),
    )


def _count(connection: Connection, query: Select[tuple[object, ...]]) -> int:
    return int(connection.scalar(select(func.count()).select_from(query.subquery())) or 0)


def _in_words(target: RemovalTarget) -> str:
    if target.person:
        return f"person {target.person}"
    if target.batch is not None:
        return f"batch {target.batch}"
    if target.before is not None:
        return f"batches begun before {timestamp(target.before)[:19]} UTC"
    return (
        f"image {target.images[0]}" if len(target.images) == 1 else f"{len(target.images)} images"
    )


def _names_marked() -> Select[tuple[str]]:
    t = schema.items
    here = and_(_kinds.c.batch == t.c.batch, _kinds.c.position == t.c.position)
    return select(t.c.name).join(_kinds, here).distinct().order_by(t.c.name)


def _marked_ids(table: Table, *, by_kind: bool = False) -> Select[tuple[int]]:
    """Ask for rows of a reading (findings, notes) that belong to what is marked."""
    r = schema.readings
    here = and_(_kinds.c.batch == r.c.batch, _kinds.c.position == table.c.position)
    if by_kind:
        here = and_(here, _kinds.c.kind == table.c.kind)
    return select(table.c.id).distinct().join(r, r.c.id == table.c.reading).join(_kinds, here)


def _decisions() -> Select[tuple[int]]:
    """Ask for decisions about what is marked.

    They count the findings of their image: with one kind gone, the others would be about the wrong
    finding. So all decisions about the image go.
    """
    v = schema.reviews
    here = and_(_kinds.c.batch == v.c.batch, _kinds.c.position == v.c.position)
    return select(v.c.id).distinct().join(_kinds, here)


def _others() -> Select[tuple[int, int]]:
    """Ask for the images that stay and lose the raw answer that they shared."""
    o = schema.outcomes
    gone = exists().where(_kinds.c.batch == o.c.batch, _kinds.c.position == o.c.position)
    query = select(o.c.batch, o.c.position).where(_is_marked(o.c.call), ~gone)
    return query.distinct()


def _in_use(connection: Connection, target: RemovalTarget) -> int:
    if target.batch is None and target.before is None:
        return 0
    c = schema.calls
    held = select(_kinds.c.batch).distinct()
    query = select(c.c.id).where(c.c.batch.in_(held), c.c.answer.is_not(None), ~_is_marked(c.c.id))
    return _count(connection, query)


def _shown_in(ledger: LedgerStore, target: RemovalTarget) -> tuple[str, ...]:
    """Return the names of images in which the person's own name stands."""
    if not target.person:
        return ()
    pattern = NamePattern([target.person])
    rows = ledger.rows(select(schema.items.c.name).distinct())
    # File names join words by other signs than spaces, and some count as parts of a word.
    return tuple(sorted(name for (name,) in rows if pattern.is_in(name.replace("_", " "))))


# -- removing --------------------------------------------------------------------------------------


def _delete(connection: Connection, target: RemovalTarget, removal: Removal, now: float) -> None:
    """Remove what is marked; in the order in which rows point at each other."""
    c, v = schema.calls, schema.reviews
    for table, ids in (
        (schema.findings, _marked_ids(schema.findings, by_kind=True)),
        (schema.notes, _marked_ids(schema.notes)),
        (v, _decisions()),
    ):
        connection.execute(delete(table).where(table.c.id.in_(ids)))
    _settle_as_deleted(connection, f"removed on {timestamp(now)[:10]}")
    connection.execute(delete(schema.answers).where(_is_marked(schema.answers.c.call)))
    emptied = update(c).where(_is_marked(c.c.id))
    connection.execute(emptied.values(answer=None, headers=None, reason=""))
    if target.person:
        _rename_reviewer(connection, NamePattern([target.person]))
        return
    _blank_items(connection)
    _blank_sources(connection, target, removal)


def _settle_as_deleted(connection: Connection, reason: str) -> None:
    """Write the outcome of what is marked, also of what was pending: it is not sent again."""
    o = schema.outcomes
    mine = tuple_(o.c.batch, o.c.position, o.c.kind).in_(
        select(_kinds.c.batch, _kinds.c.position, _kinds.c.kind)
    )
    connection.execute(delete(o).where(mine))
    rows = select(_kinds, literal(DELETED).label("outcome"), literal(reason).label("reason"))
    names = ["batch", "position", "kind", "outcome", "reason"]
    connection.execute(insert(o).from_select(names, rows))


def _blank_items(connection: Connection) -> None:
    t, files = schema.items, schema.images
    here = tuple_(t.c.batch, t.c.position).in_(select(_images.c.batch, _images.c.position))
    named = literal("(deleted ").concat(func.cast(t.c.position + 1, String())).concat(")")
    empty = dict.fromkeys(
        ("sha", "sent_width", "sent_height", "sent_bytes", "turned", "quality", "steps")
    )
    connection.execute(update(t).where(here).values(name=named, path="", **empty))
    shas = select(_images.c.sha).where(_images.c.sha.is_not(None))
    kept = select(t.c.sha).where(t.c.sha.is_not(None))
    for table in (files, schema.asking, schema.answers):
        connection.execute(delete(table).where(table.c.sha.in_(shas), table.c.sha.not_in(kept)))


def _blank_sources(connection: Connection, target: RemovalTarget, removal: Removal) -> None:
    """Take names out of what a batch says of where its images came from, and why it stopped."""
    b, j = schema.batches, schema.jobs
    whole = [] if target.images else list(removal.batches)
    for part in in_parts(whole):
        here = b.c.id.in_(part)
        connection.execute(update(b).where(here).values(source=REMOVED, stopped_because=None))
        known_as = select(b.c.fingerprint).where(here)
        connection.execute(delete(j).where(j.c.fingerprint.in_(known_as)))
    if target.images:
        pattern = _pattern(target, _names_of(target, removal))
        for row in connection.execute(select(b.c.id, b.c.source, b.c.stopped_because)).all():
            values = {
                "source": pattern.without(row.source, REMOVED),
                "stopped_because": row.stopped_because
                and pattern.without(row.stopped_because, REMOVED),
            }
            connection.execute(update(b).where(b.c.id == row.id).values(**values))


def _rename_reviewer(connection: Connection, pattern: NamePattern) -> None:
    """Take the name from decisions that the person made, and labels in which they gave it."""
    v = schema.reviews
    for who, label in connection.execute(select(v.c.who, v.c.label).distinct()).all():
        values = {}
        if pattern.is_whole(who):
            values["who"] = REMOVED
        if pattern.is_in(label):
            values["label"] = REMOVED
        if values:
            here = (v.c.who == who) & (v.c.label == label)
            connection.execute(update(v).where(here).values(**values))


# -- what is left ----------------------------------------------------------------------------------


def removed_pattern(target: RemovalTarget, removal: Removal) -> NamePattern | None:
    """Return what finds the names of a removal in text.

    Returns
    -------
    NamePattern or None
        None where there is no name: an empty batch.
    """
    names = _names_of(target, removal)
    return _pattern(target, names) if names else None


def searched_names(ledger: LedgerStore, target: RemovalTarget, removal: Removal) -> list[str]:
    """Return the names that the ledger should not hold any more, after the removal.

    A batch has names in common with others, which keep them.
    """
    names = _names_of(target, removal)
    t, kept = schema.items, set[str]()
    with ledger.reading() as connection:
        for column in (t.c.name, t.c.path):
            kept.update(connection.execute(select(column).where(column.in_(names))).scalars())
    return [name for name in names if target.images or name not in kept]


def _names_of(target: RemovalTarget, removal: Removal) -> list[str]:
    """Return the names to search for, evenly out of very many: each costs time at every place."""
    if target.person:
        return [target.person]
    names = sorted({*target.images, *removal.names})
    return names[:: -(-len(names) // _MOST_SEARCHED) or 1]


def _pattern(target: RemovalTarget, names: Sequence[str]) -> NamePattern:
    return NamePattern(names, files=not target.person)
