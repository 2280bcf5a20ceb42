"""Jobs that a service works on: remembered, so that no kill makes them be paid twice."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import ColumnElement, delete, insert, select, update

from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.ledger_records import timestamp
from dotledger.ledger.ledger_store import LedgerStore

__all__ = ["LedgerJobs"]


class LedgerJobs:
    """The jobs of one service under one set of settings.

    Parameters
    ----------
    wall : callable
        Seconds since 1970.
    anew : bool, default False
        Forget what is known: ask for new jobs, and pay again.
    """

    def __init__(
        self,
        ledger: LedgerStore,
        fingerprint: str,
        wall: Callable[[], float],
        *,
        anew: bool = False,
    ) -> None:
        self._ledger, self._fingerprint, self._wall = ledger, fingerprint, wall
        self._anew = anew

    def known(self, call: str, images: str) -> tuple[str, int]:
        """Return where a job about these images is asked for, and how often that failed.

        Empty and 0 if there is none, or if jobs are asked for anew.
        """
        t = schema.jobs
        query = select(t.c.address, t.c.tries).where(*self._of(call, images))
        with self._ledger.reading() as connection:
            row = None if self._anew else connection.execute(query).first()
        return ("", 0) if row is None else (row.address, row.tries or 0)

    def tried(self, call: str, images: str) -> int:
        """Note that a job's answer could not be got this time; return how often by now."""
        t = schema.jobs
        tries = self.known(call, images)[1] + 1
        with self._ledger.writing() as connection:
            connection.execute(update(t).where(*self._of(call, images)).values(tries=tries))
        return tries

    def began(self, call: str, images: str, where: str) -> None:
        """Remember a job; one of the same images takes the place of an earlier one."""
        t = schema.jobs
        row = {
            "fingerprint": self._fingerprint,
            "call_name": call,
            "images": images,
            "address": where,
            "began": timestamp(self._wall()),
            "tries": 0,
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
