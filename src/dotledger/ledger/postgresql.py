"""What only a ledger on a PostgreSQL server needs: its engine, and taking turns at writing."""

from __future__ import annotations

import re
from importlib.util import find_spec

from sqlalchemy import Connection, Engine, create_engine, func, select
from sqlalchemy.exc import SQLAlchemyError

from dotledger.errors import LedgerError, MissingExtra
from dotledger.ledger.places import ServerPlace

__all__ = ["server_engine", "take_turn"]

_TURN = int.from_bytes(b"dotledge")


def server_engine(place: ServerPlace) -> Engine:
    """Return the engine of a database server that can keep the first of equal rows.

    Parameters
    ----------
    place : ServerPlace
        Its address.

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
        connection.execute(select(func.pg_advisory_xact_lock(_TURN)))
