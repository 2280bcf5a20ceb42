"""A claim on a database server: its own lock, and a file here for what it cannot take."""

from __future__ import annotations

import contextlib
import glob
import hashlib
import os
import time
from collections.abc import Iterable, Iterator
from itertools import count
from pathlib import Path

from platformdirs import user_state_path
from sqlalchemy import Connection, func, select
from sqlalchemy.exc import SQLAlchemyError

from dotledger.errors import LedgerError
from dotledger.ledger.ledger_records import BatchOpening
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.postgresql_backend import limit_claim
from dotledger.ledger.sender_claims import (
    Claim,
    FileClaim,
    HeldElsewhere,
    Waiting,
    WaitingAnswer,
    claim_path,
    is_of_a_dead_process,
)

__all__ = ["ServerClaim", "stand_in_path"]

_ASK_EVERY = 0.02
_LONGEST_WAIT = 30.0


class ServerClaim:
    """A claim held by a session lock of the server: it ends with the connection.

    The server ends a connection that is silent for half a minute: whoever was stopped does not keep
    others waiting, and finds out when it goes on.

    Several senders who share their batches hold it together, each with a file of its own; one that
    asks again about what was settled holds it alone.

    Raises
    ------
    BlockingIOError
        If another sender holds it, on whichever machine.
    LedgerError
        If the server does not answer, or nothing can be kept on this machine.
    """

    def __init__(self, ledger: LedgerStore, opening: BatchOpening, *, shared: bool = False) -> None:
        self._ledger, self._shared, self._opening = ledger, shared, opening
        self._number = int(hashlib.sha256(opening.fingerprint.encode()).hexdigest()[:15], 16)
        self._first = _beside_home(ledger.where, opening.fingerprint)
        self._file = _free_file(self._first, opening) if shared else FileClaim(self._first, opening)
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
        limit_claim(self._connection)
        lock = func.pg_try_advisory_lock_shared if self._shared else func.pg_try_advisory_lock
        return bool(self._connection.scalar(select(lock(self._number))))

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
        """Renew the file, and show the server that this connection is in use."""
        self._file.renew()
        with contextlib.suppress(SQLAlchemyError):  # `held` finds out, and says so
            if self._connection is not None:
                self._connection.scalar(select(1))

    @property
    def tight(self) -> bool:
        """Whether there is no room on this machine for further answers."""
        return self._file.tight

    def reserve_for(self, at_once: int) -> None:
        """Keep room on this machine for so many answers."""
        self._file.reserve_for(at_once)

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

    def orphans(self) -> Iterator[Claim]:
        """Yield the files of senders on this machine that were killed, each while it is locked.

        One that somebody else is taking in just now is waited for: what it holds is in the ledger
        then.
        """
        for path in sorted(self._first.parent.glob(f"{glob.escape(self._first.name)}*")):
            if path == self.path or path.name.endswith("-2"):
                continue
            found = self._orphan(path)
            if found is None:
                continue
            whole = False
            try:
                yield found
                whole = True
            finally:
                found.release(empty=whole)

    def _orphan(self, path: Path) -> FileClaim | None:
        until = time.monotonic() + _LONGEST_WAIT
        while path.exists():
            try:
                return FileClaim(path, self._opening)
            except BlockingIOError:
                if not is_of_a_dead_process(path) or time.monotonic() > until:
                    return None
                time.sleep(_ASK_EVERY)
            except LedgerError:
                return None
        return None

    def release(self, *, empty: bool) -> None:
        """Give the lock back."""
        self._let_go()
        self._file.release(empty=empty)


def _free_file(first: Path, opening: BatchOpening) -> FileClaim:
    """Return the first file next to those that other senders on this machine have."""
    for number in count():
        path = first.with_name(f"{first.name}.{number}") if number else first
        try:
            return FileClaim(path, opening)
        except (BlockingIOError, HeldElsewhere):
            continue
    raise AssertionError("numbers do not end")


def _beside_home(where: str, fingerprint: str) -> Path:
    """Return the file on this machine for a ledger that is not on it."""
    return claim_path(stand_in_path(where), fingerprint)


def stand_in_path(where: str) -> Path:
    """Return the path on this machine next to which a server's ledger has its claim files."""
    folder = Path(os.environ.get("DOTLEDGER_STATE") or user_state_path("dotledger"))
    return folder / hashlib.sha256(where.encode()).hexdigest()[:16]
