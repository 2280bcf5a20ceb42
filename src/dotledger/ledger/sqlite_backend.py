"""What only a ledger in an SQLite file needs: the file, its engine, its errors in our words."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.engine import URL
from sqlalchemy.exc import DatabaseError

from dotledger.errors import LedgerError
from dotledger.ledger.ledger_places import FilePlace

__all__ = ["check_file", "empty_log", "explained", "file_engine", "identity", "mark_file"]

# Longer than any commit takes on a slow disk; shorter than a person waits without asking why.
_BUSY_SECONDS = 30


def identity(path: Path | None) -> tuple[int, int] | None:
    """Return what tells a file from another one under the same name.

    Parameters
    ----------
    path : Path or None
        Of the ledger; None for one on a server.

    Returns
    -------
    tuple of int, or None
        None if there is no file.
    """
    if path is None:
        return None
    try:
        facts = path.stat()
    except OSError:
        return None
    return facts.st_ino, facts.st_dev


def check_file(path: Path, *, create: bool) -> None:
    """Make the folder of a ledger to be made; refuse what is there and no file.

    Parameters
    ----------
    create : bool
        Whether a new one may be made there.

    Raises
    ------
    LedgerError
        If there is no file and none may be made, or something else is there.
    """
    try:
        if path.exists():
            if not path.is_file():
                raise LedgerError(
                    "not a file", place=str(path), next_step="Name a file: `ledger=FILE`."
                )
            return
        if create:
            path.absolute().parent.mkdir(parents=True, exist_ok=True)
            return
    except OSError as error:
        raise LedgerError(
            f"no ledger can be here ({error.strerror})",
            place=str(path),
            next_step="Name another file: `ledger=FILE`.",
        ) from error
    raise LedgerError(
        "no ledger here",
        place=str(path),
        next_step="Name one: `ledger=FILE`, or make one by sending images.",
    )


def file_engine(place: FilePlace) -> Engine:
    """Return the engine of a ledger in a file; the file is not opened yet.

    Returns
    -------
    Engine
        Of SQLAlchemy; its connections may be handed from thread to thread.
    """
    engine = create_engine(
        # Built from parts, not pasted: the file's name may hold ? and %.
        URL.create("sqlite", database=str(place.path.absolute())),
        connect_args={"timeout": _BUSY_SECONDS, "check_same_thread": False},
        hide_parameters=True,
    )
    event.listen(engine, "connect", _on_connect)
    event.listen(engine, "begin", _on_begin)
    return engine


def _on_connect(connection: sqlite3.Connection, _record: Any) -> None:
    """Let us say when a transaction begins, and let readers and a writer work side by side."""
    connection.isolation_level = None
    # A ledger may be a stranger's: its views and triggers may use harmless functions only.
    connection.execute("PRAGMA trusted_schema=OFF")
    try:
        connection.execute("PRAGMA journal_mode=WAL")
    except sqlite3.OperationalError:  # a read-only file: reading works without it
        return
    connection.execute("PRAGMA synchronous=NORMAL")
    connection.execute("PRAGMA foreign_keys=ON")


_APPLICATION = 0x444C6564
"""What the file's head says it belongs to: "DLed" (https://www.sqlite.org/fileformat2.html)."""


def mark_file(connection: Connection) -> None:
    """Write into a SQLite file's head what it is, for programs that look there, such as `file`.

    Parameters
    ----------
    connection : Connection
        In a transaction; of another database nothing is written.
    """
    if connection.dialect.name == "sqlite":
        connection.exec_driver_sql(f"PRAGMA application_id = {_APPLICATION}")


def empty_log(connection: sqlite3.Connection, where: str) -> None:
    """Bring a file's log into the file and cut it to nothing.

    Raises
    ------
    LedgerError
        If somebody who has the file open keeps the log from being cut.
    """
    busy, *_ = connection.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()
    if busy:
        raise LedgerError(
            "somebody else is reading the ledger: its log cannot be emptied",
            place=where,
            next_step="Close what has it open; then do the same again, which finishes it.",
        )


def _on_begin(connection: Connection) -> None:
    """Take the write lock at once where we will write, so that a transaction never fails midway."""
    immediate = connection.get_execution_options().get("dotledger_write", False)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if immediate else "BEGIN")


def explained(error: DatabaseError, where: str, said: str) -> LedgerError:
    """Return a database's error in words that say what to do.

    Parameters
    ----------
    where : str
        The ledger, as it may be shown.
    said : str
        The driver's own words, without secrets, for errors that are not known.
    """
    text = str(error.orig).lower()
    for sign, message, step in (
        (
            "readonly",
            "the ledger cannot be written",
            "Check the permissions of the file and its folder.",
        ),
        (
            "full",
            "the disk is full",
            "Make room, then send again: nothing that was committed is lost.",
        ),
        (
            "disk i/o",
            "the disk failed or is full",
            "Check the disk, then send again: nothing that was committed is lost.",
        ),
        (
            "locked",
            "another process has been writing for too long",
            "Wait for it, then send again.",
        ),
        ("not a database", "not a Dot Ledger database", "Name another file: `ledger=FILE`."),
        ("malformed", "the file is damaged", "Restore it from a copy."),
        (
            "unable to open",
            "the ledger cannot be opened",
            "Check that the folder exists and may be written.",
        ),
    ):
        if sign in text:
            return LedgerError(message, place=where, next_step=step)
    return LedgerError(f"the ledger cannot be used ({said})", place=where)
