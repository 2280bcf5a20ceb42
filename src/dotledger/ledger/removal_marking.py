"""Which rows of a ledger a removal is about: marked in temporary tables, and counted.

The marks are made inside the transaction of the caller, `dotledger.ledger.data_removal`. They are
the plan that a person reads, and what the removal then goes by.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

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
    exists,
    func,
    insert,
    literal,
    or_,
    select,
    tuple_,
)

from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError
from dotledger.json_codec import AsData
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Batch, batches
from dotledger.ledger.ledger_records import timestamp
from dotledger.ledger.ledger_store import LedgerStore, in_parts
from dotledger.ledger.name_search import NamePattern, Remainder, answers_with, rows_with

__all__ = [
    "Removal",
    "RemovalTarget",
    "decisions_marked",
    "images_marked",
    "is_marked",
    "kinds_marked",
    "mark_removal",
    "rows_marked",
    "temporary",
]

temporary = MetaData()
images_marked = Table(
    "removed_images",
    temporary,
    Column("batch", Integer, primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("sha", String(64)),
    prefixes=["TEMPORARY"],
)
kinds_marked = Table(
    "removed_kinds",
    temporary,
    Column("batch", Integer, primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("kind", String(12), primary_key=True),
    prefixes=["TEMPORARY"],
)
_calls = Table(
    "removed_calls",
    temporary,
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


def mark_removal(ledger: LedgerStore, connection: Connection, target: RemovalTarget) -> Removal:
    """Mark what is to be removed, and count it."""
    for table in temporary.sorted_tables:
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
            _add(connection, images_marked, rows.where(t.c.sha.in_(part)))
        # An image that was refused, or not sent yet, has no content that would tell it.
        unseen = and_(
            t.c.sha.is_(None), or_(t.c.name.in_(target.images), t.c.path.in_(target.images))
        )
        _add(connection, images_marked, rows.where(unseen))
    for batch in whole:
        _add(connection, images_marked, rows.where(t.c.batch == batch.id))
    held = set(connection.execute(select(images_marked.c.batch).distinct()).scalars())
    for batch in batches(ledger):
        for kind in batch.kinds if batch.id in held else ():
            mine = images_marked.c.batch == batch.id
            kinds = select(
                images_marked.c.batch, images_marked.c.position, literal(kind).label("kind")
            )
            _add(connection, kinds_marked, kinds.where(mine))


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
    _insert(connection, kinds_marked, [dict(zip(names, row, strict=True)) for row in sorted(rows)])
    # The name may stand in an answer that no rule reads a person from.
    answers = sorted(set(answers_with(ledger, pattern)))
    _insert(connection, _calls, [{"call": call} for call in answers])
    _add(connection, _calls, _calls_of_kinds().where(~is_marked(schema.outcomes.c.call)))


def _mark_calls(connection: Connection, whole: Sequence[Batch]) -> None:
    o, a, c = schema.outcomes, schema.answers, schema.calls
    if not whole:
        _add(connection, _calls, _calls_of_kinds())
        held = select(images_marked.c.sha).where(images_marked.c.sha.is_not(None))
        others = select(a.c.call).distinct().where(a.c.sha.in_(held), ~is_marked(a.c.call))
        _add(connection, _calls, others)
    # A call that settled nothing is tied to no image: it may have been about any of the batch.
    by_outcome = select(o.c.call).where(o.c.call.is_not(None))
    settled = or_(c.c.id.in_(by_outcome), c.c.id.in_(select(a.c.call)))
    concerned = select(images_marked.c.batch).distinct()
    loose = select(c.c.id).where(c.c.batch.in_(concerned), ~settled, ~is_marked(c.c.id))
    _add(connection, _calls, loose)
    # Of a whole batch its own calls go, and those of others that nobody else uses by now.
    own = select(c.c.id).where(c.c.batch.in_(concerned))
    for query in (own, _calls_of_kinds()) if whole else ():
        [call] = query.selected_columns
        _add(connection, _calls, query.where(~is_marked(call), ~_used(call)))


def _calls_of_kinds() -> Select[tuple[int]]:
    """Ask for the calls that settled a marked image and kind."""
    o = schema.outcomes
    mine = tuple_(o.c.batch, o.c.position, o.c.kind).in_(
        select(kinds_marked.c.batch, kinds_marked.c.position, kinds_marked.c.kind)
    )
    return select(o.c.call).distinct().where(o.c.call.is_not(None), mine)


def _used(call: ColumnElement[int]) -> ColumnElement[bool]:
    """Tell whether an image and kind that stays was settled by a call.

    Calls of outcomes are in no index: they are listed once, not looked for call by call.
    """
    o = schema.outcomes
    gone = exists().where(
        kinds_marked.c.batch == o.c.batch,
        kinds_marked.c.position == o.c.position,
        kinds_marked.c.kind == o.c.kind,
    )
    return call.in_(select(o.c.call).where(o.c.call.is_not(None), ~gone))


def is_marked(call: ColumnElement[int]) -> ColumnElement[bool]:
    """Tell whether a call is marked: its answer goes."""
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
        .where(is_marked(c.c.id))
        .group_by(schema.batches.c.currency)
    )
    money = [tuple(row) for row in connection.execute(paid)]
    held = select(kinds_marked.c.batch).distinct().order_by(kinds_marked.c.batch)
    places = select(kinds_marked.c.batch, kinds_marked.c.position).distinct().subquery()
    return Removal(
        what=_in_words(target),
        images=_count(connection, select(places)),
        names=names,
        batches=tuple(connection.execute(held).scalars()),
        findings=_count(connection, rows_marked(schema.findings, by_kind=True)),
        answers=_count(
            connection, select(c.c.id).where(is_marked(c.c.id), c.c.answer.is_not(None))
        ),
        decisions=_count(connection, decisions_marked()),
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
    here = and_(kinds_marked.c.batch == t.c.batch, kinds_marked.c.position == t.c.position)
    return select(t.c.name).join(kinds_marked, here).distinct().order_by(t.c.name)


def rows_marked(table: Table, *, by_kind: bool = False) -> Select[tuple[int]]:
    """Ask for rows of a reading (findings, notes) that belong to what is marked."""
    r = schema.readings
    here = and_(kinds_marked.c.batch == r.c.batch, kinds_marked.c.position == table.c.position)
    if by_kind:
        here = and_(here, kinds_marked.c.kind == table.c.kind)
    return select(table.c.id).distinct().join(r, r.c.id == table.c.reading).join(kinds_marked, here)


def decisions_marked() -> Select[tuple[int]]:
    """Ask for decisions about what is marked.

    They count the findings of their image: with one kind gone, the others would be about the wrong
    finding. So all decisions about the image go.
    """
    v = schema.reviews
    here = and_(kinds_marked.c.batch == v.c.batch, kinds_marked.c.position == v.c.position)
    return select(v.c.id).distinct().join(kinds_marked, here)


def _others() -> Select[tuple[int, int]]:
    """Ask for the images that stay and lose the raw answer that they shared."""
    o = schema.outcomes
    gone = exists().where(
        kinds_marked.c.batch == o.c.batch, kinds_marked.c.position == o.c.position
    )
    query = select(o.c.batch, o.c.position).where(is_marked(o.c.call), ~gone)
    return query.distinct()


def _in_use(connection: Connection, target: RemovalTarget) -> int:
    if target.batch is None and target.before is None:
        return 0
    c = schema.calls
    held = select(kinds_marked.c.batch).distinct()
    query = select(c.c.id).where(c.c.batch.in_(held), c.c.answer.is_not(None), ~is_marked(c.c.id))
    return _count(connection, query)


def _shown_in(ledger: LedgerStore, target: RemovalTarget) -> tuple[str, ...]:
    """Return the names of images in which the person's own name stands."""
    if not target.person:
        return ()
    pattern = NamePattern([target.person])
    rows = ledger.rows(select(schema.items.c.name).distinct())
    # File names join words by other signs than spaces, and some count as parts of a word.
    return tuple(sorted(name for (name,) in rows if pattern.is_in(name.replace("_", " "))))
