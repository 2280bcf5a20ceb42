"""Bringing an earlier ledger up to this version: no answer is locked in, and none is touched.

Each version has one step, written with Alembic's operations. They run in one transaction, after a
SQLite file was copied. An upgrade that is cut off leaves the ledger as it was, and goes on by
itself at the next try. The copy gets its name only when it is whole and on the disk; one that an
earlier try left is used again where it is whole, and made anew where it is not.
"""

from __future__ import annotations

import itertools
import os
import sqlite3
from collections.abc import Callable, Mapping
from contextlib import closing
from pathlib import Path
from typing import Any

from sqlalchemy import (
    Column,
    Connection,
    Integer,
    Table,
    Text,
    column,
    insert,
    inspect,
    select,
    table,
    update,
)

from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.ledger_views import VIEWS, make_views
from dotledger.ledger.sqlite_backend import mark_file
from dotledger.safe_files import is_ledger

__all__ = ["upgrade"]


def upgrade(where: str) -> tuple[int, int, Path | None]:
    """Bring a ledger up to this version.

    Parameters
    ----------
    where : str
        A path or a database address.

    Returns
    -------
    tuple of int, int and Path or None
        The version it was of, the one it is of now, and the copy that was made of a file; no copy
        where nothing had to be done, or for a server, which has backups of its own.

    Raises
    ------
    LedgerError
        If it is no ledger, a newer one, or cannot be copied or written.
    """
    with LedgerStore(where, create=False, any_version=True) as ledger:
        before = ledger.version
        if before == schema.VERSION:
            return before, before, None
        copy = None if ledger.path is None else _copied(ledger.path, before)
        with ledger.writing() as connection:
            _run(connection, before)
    return before, schema.VERSION, copy


def _copied(path: Path, version: int) -> Path:
    """Return a complete copy of a SQLite file, including what is only in its log."""
    copy = path.with_name(f"{path.name}.version-{version}")
    begun = path.with_name(f"{path.name}.version-{version}.part")
    if copy.exists():
        if not is_ledger(copy):
            raise LedgerError(
                "a file stands where the copy before an upgrade is made, and it is no ledger",
                place=str(copy),
                next_step="Move it away, then upgrade again.",
            )
        if _contents(copy) == _contents(path):
            return copy  # an earlier try was cut off behind it
    try:
        begun.unlink(missing_ok=True)
        with closing(sqlite3.connect(path)) as old, closing(sqlite3.connect(begun)) as new:
            old.backup(new)
        _on_disk(begun)
        copy = _free(copy)
        begun.replace(copy)
    except (sqlite3.Error, OSError) as error:
        begun.unlink(missing_ok=True)
        reason = getattr(error, "strerror", None) or str(error)
        raise LedgerError(
            f"the ledger cannot be copied before the upgrade ({reason})",
            place=str(copy),
            next_step="Make room there, or check the permissions; nothing was changed.",
        ) from error
    return copy


def _contents(path: Path) -> dict[str, tuple[int, int]] | None:
    """Return the rows and the highest row of each table; None for a file that is not sound."""
    try:
        with closing(sqlite3.connect(path)) as ledger:
            if ledger.execute("PRAGMA quick_check(1)").fetchone() != ("ok",):
                return None
            tables = ledger.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table'"
            ).fetchall()
            return {name: _rows_of(ledger, name) for (name,) in tables}
    except sqlite3.Error:
        return None


def _rows_of(ledger: sqlite3.Connection, table: str) -> tuple[int, int]:
    quoted = '"' + table.replace('"', '""') + '"'
    (count,) = ledger.execute(f"SELECT count(*) FROM {quoted}").fetchone()
    try:
        (last,) = ledger.execute(f"SELECT max(rowid) FROM {quoted}").fetchone()
    except sqlite3.OperationalError:  # a table without row numbers
        last = 0
    return count, last or 0


def _on_disk(path: Path) -> None:
    file = os.open(path, os.O_RDWR)
    try:
        os.fsync(file)
    finally:
        os.close(file)


def _free(copy: Path) -> Path:
    """Return where a new copy goes: a half one is replaced, a complete older one is not."""
    for number in itertools.count(2):
        if not copy.exists() or _contents(copy) is None:
            return copy
        copy = copy.with_name(f"{copy.name.partition('.again-')[0]}.again-{number}")
    raise AssertionError("numbers do not end")


def _run(connection: Connection, version: int) -> None:
    from alembic.migration import MigrationContext
    from alembic.operations import Operations

    operations = Operations(MigrationContext.configure(connection))
    for step in range(version, schema.VERSION):
        _STEPS[step](operations, connection)
    connection.execute(
        update(schema.about)
        .where(schema.about.c.name == "version")
        .values(value=str(schema.VERSION))
    )


def _to_2(operations: Any, connection: Connection) -> None:
    """Count requests beside calls; answers that were not read become unread, and known."""
    operations.add_column("calls", Column("requests", Integer, nullable=True))
    # As the tables were called then.
    calls = table("calls", column("id"), column("status"), column("requests"), column("attempts"))
    outcomes = table("outcomes", column("outcome"), column("call"), column("reason"))
    connection.execute(update(calls).values(requests=calls.c.attempts))
    answered = select(calls.c.id).where(calls.c.status.between(200, 299))
    ours = (outcomes.c.outcome == "failed") & outcomes.c.call.in_(answered)
    said = outcomes.c.reason.like("the service answered with an error%")
    missing = outcomes.c.reason.like("the answer does not hold this image%")
    connection.execute(update(outcomes).where(ours, ~said, ~missing).values(outcome="unread"))


def _to_3(operations: Any, connection: Connection) -> None:  # noqa: ARG001 - as every step
    """Name the round of a batch, and keep what the service says of its own version."""
    operations.add_column("batches", Column("round", Text, nullable=True))
    operations.add_column("calls", Column("version", Text, nullable=True))


def _to_4(operations: Any, connection: Connection) -> None:  # noqa: ARG001 - as every step
    """Keep what persons decide, and which jobs are under way."""
    schema.reviews.create(connection)
    schema.jobs.create(connection)


def _to_5(operations: Any, connection: Connection) -> None:
    """Keep headers of answers; give tables the names of tables, and people views to ask."""
    operations.add_column("calls", Column("headers", Text, nullable=True))
    for name, now in _RENAMED.items():
        operations.rename_table(name, now)
    make_views(connection)
    mark_file(connection)


def _to_6(operations: Any, connection: Connection) -> None:  # noqa: ARG001 - as every step
    """Let several senders share a batch on a server."""
    for one in (schema.senders, schema.leases, schema.asking, schema.shares, schema.months):
        one.create(connection)
    # What was found in some images is asked for, and replaced, without reading the whole batch.
    for one, name in ((schema.findings, "findings"), (schema.notes, "notes")):
        connection.exec_driver_sql(f"DROP INDEX IF EXISTS {name}_by_reading")
        next(i for i in one.indexes if i.name == f"{name}_by_image").create(connection)


def _to_7(operations: Any, connection: Connection) -> None:
    """Keep rows that are found by their key under it; count calls without reading answers."""
    connection.exec_driver_sql("DROP INDEX IF EXISTS calls_by_batch")
    next(i for i in schema.calls.indexes if i.name == "calls_by_batch").create(connection)
    if connection.dialect.name != "sqlite":
        operations.drop_constraint("one_answer", "answer_keys")
        operations.create_primary_key(
            "answer_keys_pkey", "answer_keys", ["fingerprint", "call_name", "sha"]
        )
        return
    for name in VIEWS:  # they would follow the old tables to their other names
        connection.exec_driver_sql(f"DROP VIEW IF EXISTS {name}")
    for one in (schema.images, schema.outcomes, schema.answers):
        operations.rename_table(one.name, f"{one.name}_before")
        one.create(connection)
        names = [column.name for column in one.columns]
        old = table(f"{one.name}_before", *map(column, names))
        connection.execute(insert(one).from_select(names, select(old)))
        operations.drop_table(old.name)
    make_views(connection)


def _to_8(operations: Any, connection: Connection) -> None:
    """Count how often a job's answer could not be got; note what senders hold by the server."""
    _add_missing(operations, connection, schema.jobs, "tries")
    _add_missing(operations, connection, schema.senders, "used_calls")
    _add_missing(operations, connection, schema.senders, "used_money")


def _to_9(operations: Any, connection: Connection) -> None:  # noqa: ARG001 - as every step
    """Remember the looks of a watch."""
    schema.looks.create(connection)


def _add_missing(operations: Any, connection: Connection, of: Table, name: str) -> None:
    """Add a column, unless an earlier step made the table with it already."""
    if name not in {one["name"] for one in inspect(connection).get_columns(of.name)}:
        operations.add_column(of.name, Column(name, of.c[name].type, nullable=True))


_RENAMED = {
    "images": "image_files",
    "outcomes": "outcome_rows",
    "answers": "answer_keys",
    "findings": "finding_rows",
}

_STEPS: Mapping[int, Callable[[Any, Connection], None]] = {
    1: _to_2,
    2: _to_3,
    3: _to_4,
    4: _to_5,
    5: _to_6,
    6: _to_7,
    7: _to_8,
    8: _to_9,
}
"""By version, the step to the next one."""
