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
from dataclasses import replace

from sqlalchemy import (
    Connection,
    String,
    delete,
    func,
    insert,
    literal,
    select,
    tuple_,
    update,
)

from dotledger.core.kinds import DELETED
from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import REMOVED, batches
from dotledger.ledger.ledger_records import timestamp
from dotledger.ledger.ledger_store import LedgerStore, in_parts
from dotledger.ledger.name_search import NamePattern, remainders
from dotledger.ledger.removal_marking import (
    Removal,
    RemovalTarget,
    decisions_marked,
    images_marked,
    is_marked,
    kinds_marked,
    mark_removal,
    rows_marked,
    temporary,
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
        plan = mark_removal(ledger, connection, target)
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
        removal = mark_removal(ledger, connection, target)
        _delete(connection, target, removal, now)
        _set_mark(connection)
        for table in temporary.sorted_tables:
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


# -- removing --------------------------------------------------------------------------------------


def _delete(connection: Connection, target: RemovalTarget, removal: Removal, now: float) -> None:
    """Remove what is marked; in the order in which rows point at each other."""
    c, v = schema.calls, schema.reviews
    for table, ids in (
        (schema.findings, rows_marked(schema.findings, by_kind=True)),
        (schema.notes, rows_marked(schema.notes)),
        (v, decisions_marked()),
    ):
        connection.execute(delete(table).where(table.c.id.in_(ids)))
    _settle_as_deleted(connection, f"removed on {timestamp(now)[:10]}")
    connection.execute(delete(schema.answers).where(is_marked(schema.answers.c.call)))
    emptied = update(c).where(is_marked(c.c.id))
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
        select(kinds_marked.c.batch, kinds_marked.c.position, kinds_marked.c.kind)
    )
    connection.execute(delete(o).where(mine))
    rows = select(kinds_marked, literal(DELETED).label("outcome"), literal(reason).label("reason"))
    names = ["batch", "position", "kind", "outcome", "reason"]
    connection.execute(insert(o).from_select(names, rows))


def _blank_items(connection: Connection) -> None:
    t, files = schema.items, schema.images
    here = tuple_(t.c.batch, t.c.position).in_(
        select(images_marked.c.batch, images_marked.c.position)
    )
    named = literal("(deleted ").concat(func.cast(t.c.position + 1, String())).concat(")")
    empty = dict.fromkeys(
        ("sha", "sent_width", "sent_height", "sent_bytes", "turned", "quality", "steps")
    )
    connection.execute(update(t).where(here).values(name=named, path="", **empty))
    shas = select(images_marked.c.sha).where(images_marked.c.sha.is_not(None))
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
