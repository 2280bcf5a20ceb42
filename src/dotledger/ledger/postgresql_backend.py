"""What only a ledger on a PostgreSQL server needs: its engine, and taking turns at writing."""

from __future__ import annotations

import re
from contextlib import suppress
from importlib.util import find_spec

from sqlalchemy import Connection, Engine, create_engine, func, select
from sqlalchemy.exc import SQLAlchemyError

from dotledger.errors import LedgerError, MissingExtra
from dotledger.ledger.ledger_places import ServerPlace

__all__ = ["limit_claim", "limit_crew", "server_engine", "take_turn"]

_TURN = int.from_bytes(b"dotledge")


def server_engine(place: ServerPlace) -> Engine:
    """Return the engine of a database server that can keep the first of equal rows.

    Returns
    -------
    Engine
        Of SQLAlchemy; nothing is connected yet.

    Raises
    ------
    MissingExtra
        Without a driver.
    LedgerError
        If the address is not valid.
    """
    address = place.address
    if find_spec("psycopg"):
        address = re.sub("^postgresql://", "postgresql+psycopg://", address)
    try:
        return create_engine(address, pool_pre_ping=True, hide_parameters=True)
    except ImportError as error:
        raise MissingExtra(
            "the database's driver is not installed",
            place=place.shown,
            got=error.name,
            next_step="Run: pip install 'dot-ledger[postgresql]'",
        ) from error
    except (SQLAlchemyError, ValueError) as error:
        raise LedgerError("the address is not valid", place=place.shown) from error


_WRITER_LIMITS = ("lock_timeout = '60s'", "idle_in_transaction_session_timeout = '5s'")
"""A writer that stands still (stopped, suspended) loses its transaction before others give up."""

_CREW_LIMITS = (
    # What a crash of the server could take back here holds for seconds only. Nobody waits for
    # its disk: answers and outcomes are written elsewhere, and do.
    "synchronous_commit = off",
    "statement_timeout = '10s'",
    "lock_timeout = '8s'",
    # Shorter than a sender's lease: who stands still inside a transaction does not make the
    # others late with theirs.
    "idle_in_transaction_session_timeout = '2s'",
)
_IDLE_SESSION = "idle_session_timeout = '30s'"
"""Of a claim's connection, which is asked every few seconds; from PostgreSQL 14 on."""


def limit_crew(connection: Connection) -> None:
    """Set the time limits of a connection on which senders agree who does what."""
    for setting in _CREW_LIMITS:
        connection.exec_driver_sql(f"SET {setting}")


def limit_claim(connection: Connection) -> None:
    """Let the server end a claim's connection that has been silent for half a minute."""
    with suppress(SQLAlchemyError):  # before version 14 there is no such limit
        connection.exec_driver_sql(f"SET {_IDLE_SESSION}")


# On PostgreSQL one transaction writes at a time too: numbers of calls are then given out as in
# SQLite.
def take_turn(connection: Connection) -> None:
    """Let one transaction write at a time, as SQLite does by itself; it ends the turn.

    Parameters
    ----------
    connection : Connection
        In a transaction; of SQLite nothing is asked.
    """
    if connection.dialect.name == "postgresql":
        for setting in _WRITER_LIMITS:
            connection.exec_driver_sql(f"SET LOCAL {setting}")
        connection.execute(select(func.pg_advisory_xact_lock(_TURN)))
