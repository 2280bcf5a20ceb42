"""A claim on a database server: its own lock, and a file here for what it cannot take."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterable, Iterator
from pathlib import Path

from platformdirs import user_state_path
from sqlalchemy import Connection, func, select
from sqlalchemy.exc import SQLAlchemyError

from dotledger.errors import LedgerError
from dotledger.ledger import schema
from dotledger.ledger.claims import FileClaim, Waiting, WaitingAnswer, claim_path
from dotledger.ledger.records import BatchOpening
from dotledger.ledger.store import Ledger

__all__ = ["ServerClaim", "sender_of"]


class ServerClaim:
    """A claim held by a session lock of the server: it ends with the connection.

    Parameters
    ----------
    ledger : Ledger
        On a server.
    opening : BatchOpening
        What is to be sent.

    Raises
    ------
    BlockingIOError
        If another sender holds it, on whichever machine.
    LedgerError
        If the server does not answer, or nothing can be kept on this machine.
    """

    def __init__(self, ledger: Ledger, opening: BatchOpening) -> None:
        self._ledger = ledger
        self._number = int(hashlib.sha256(opening.fingerprint.encode()).hexdigest()[:15], 16)
        self._file = FileClaim(_beside_home(ledger.where, opening.fingerprint), opening)
        self._connection: Connection | None = None
        try:
            taken = self._take()
        except SQLAlchemyError as error:
            self._file.release(empty=False)
            raise LedgerError("the server does not answer", place=ledger.where) from error
        if not taken:
            self._file.release(empty=not self._file.waiting())
            raise BlockingIOError("held by another sender")

    @property
    def path(self) -> Path:
        """The file on this machine."""
        return self._file.path

    def _take(self) -> bool:
        self._connection = self._ledger.connection()
        return bool(self._connection.scalar(select(func.pg_try_advisory_lock(self._number))))

    def held(self) -> bool:
        """Ask the server; if the connection was lost, try to take the lock again."""
        with contextlib.suppress(SQLAlchemyError):
            if self._connection is not None:
                self._connection.scalar(select(1))
                return True
        self._let_go()
        with contextlib.suppress(SQLAlchemyError, LedgerError):
            return self._take()
        return False

    def _let_go(self) -> None:
        if self._connection is not None:
            with contextlib.suppress(SQLAlchemyError):
                self._connection.invalidate()
                self._connection.close()
        self._connection = None

    def renew(self) -> None:
        """Renew the file; the server knows by itself."""
        self._file.renew()

    def put_aside(self, answer: WaitingAnswer, *, sync: bool = False) -> int:
        """Keep an answer on this machine."""
        return self._file.put_aside(answer, sync=sync)

    def committed(self, places: Iterable[int]) -> None:
        """Note that answers put aside are in the database."""
        self._file.committed(places)

    def safe(self) -> bool:
        """Tell whether the file on this machine is still there."""
        return self._file.safe()

    def waiting(self) -> bool:
        """Tell whether earlier senders on this machine left anything."""
        return self._file.waiting()

    def set_aside(self) -> Iterator[tuple[Waiting, WaitingAnswer]]:
        """Yield what earlier senders on this machine left."""
        return self._file.set_aside()

    def taken_in(self) -> None:
        """Forget what earlier senders left."""
        self._file.taken_in()

    def release(self, *, empty: bool) -> None:
        """Give the lock back."""
        self._let_go()
        self._file.release(empty=empty)


def sender_of(ledger: Ledger, key: str) -> str | None:
    """Return who is written down as sending the batch of this key.

    Parameters
    ----------
    ledger : Ledger
        Open.
    key : str
        Of the batch.

    Returns
    -------
    str or None
        None if there is no such batch, or nobody sends it.
    """
    with ledger.reading() as connection:
        query = select(schema.batches.c.sender).where(schema.batches.c.key == key)
        return connection.execute(query).scalar()


def _beside_home(where: str, fingerprint: str) -> Path:
    """Return the file on this machine for a ledger that is not on it."""
    folder = Path(os.environ.get("DOTLEDGER_STATE") or user_state_path("dotledger"))
    return claim_path(folder / hashlib.sha256(where.encode()).hexdigest()[:16], fingerprint)
