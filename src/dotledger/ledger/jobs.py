"""Jobs that a service works on: remembered, so that no kill makes them be paid twice."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import ColumnElement, delete, insert, select

from dotledger.ledger import schema
from dotledger.ledger.records import timestamp
from dotledger.ledger.store import Ledger

__all__ = ["LedgerJobs"]


class LedgerJobs:
    """The jobs of one service under one set of settings.

    Parameters
    ----------
    ledger : Ledger
        Open for writing.
    fingerprint : str
        Of the settings.
    wall : callable
        Seconds since 1970.
    """

    def __init__(self, ledger: Ledger, fingerprint: str, wall: Callable[[], float]) -> None:
        self._ledger, self._fingerprint, self._wall = ledger, fingerprint, wall

    def known(self, call: str, images: str) -> str:
        """Return where a job about these images is asked for; empty if there is none."""
        t = schema.jobs
        query = select(t.c.address).where(*self._of(call, images))
        with self._ledger.reading() as connection:
            return connection.scalar(query) or ""

    def began(self, call: str, images: str, where: str) -> None:
        """Remember a job; one of the same images takes the place of an earlier one."""
        t = schema.jobs
        row = {
            "fingerprint": self._fingerprint,
            "call_name": call,
            "images": images,
            "address": where,
            "began": timestamp(self._wall()),
        }
        with self._ledger.writing() as connection:
            connection.execute(delete(t).where(*self._of(call, images)))
            connection.execute(insert(t).values(**row))

    def ended(self, call: str, images: str) -> None:
        """Forget a job that is over."""
        with self._ledger.writing() as connection:
            connection.execute(delete(schema.jobs).where(*self._of(call, images)))

    def _of(self, call: str, images: str) -> tuple[ColumnElement[bool], ...]:
        t = schema.jobs
        return (t.c.fingerprint == self._fingerprint, t.c.call_name == call, t.c.images == images)
