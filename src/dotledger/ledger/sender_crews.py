"""Several senders of one batch, on a PostgreSQL server: who has which images, and who may call.

A sender joins, and says every second that it is still there; what it holds is free again some
seconds after it went silent. Images are leased a few at a time, so that whoever is quicker takes
more. What is asked is noted under what goes over the wire, so that two batches with an image in
common pay for it once. The service's declared rate is shared out in whole calls, budgets and quotas
in small sums.

All times are the server's. Every method is a statement or two: nothing here waits or decides when.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from msgspec import Struct
from sqlalchemy import Connection, select, text
from sqlalchemy.exc import SQLAlchemyError

from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.ledger_records import timestamp
from dotledger.ledger.ledger_store import LedgerStore, in_parts
from dotledger.ledger.postgresql_backend import limit_crew

__all__ = ["HOLDS", "Crew", "Lease", "Share", "senders_of"]

HOLDS = 6.0
"""Seconds for which a sender that went silent keeps what it holds."""

_IN_A_LEASE = 8
"""Images: few enough that the last senders end together, many enough to be asked for rarely."""

_SEEN_WITHIN = 20.0
"""Seconds within which a sender that writes into a file is taken to be at work."""

_KEPT_BACK = 50
_ONE_KEPT_BACK = 10
"""Of each 50 calls one is given to nobody, and one of 10 or more: some arrive a little late."""

_FORGOTTEN = 3600.0
"""Seconds after which the traces of those who are gone are removed."""

_NOW = "extract(epoch FROM clock_timestamp())"
_LIVE = f"SELECT id FROM senders WHERE until > {_NOW}"


class Lease(Struct, frozen=True, kw_only=True):
    """Images of a batch from `first` to `last`; `taken_over` from a sender that went silent."""

    first: int
    last: int
    taken_over: bool


class Share(Struct, frozen=True, kw_only=True):
    """Calls in a limit's span: `calls` may start now; `fair` is what it will come to."""

    calls: int
    fair: int


class Crew:
    """One sender among others, as the server knows it.

    Parameters
    ----------
    service : str
        To which service: its limits hold for all who send to it.
    before : int, optional
        The sender that this one goes on for: what that one used of a budget counts on.

    Attributes
    ----------
    id : int
        Of this sender.
    """

    def __init__(
        self,
        ledger: LedgerStore,
        *,
        batch: int,
        service: str,
        who: str,
        holds: float = HOLDS,
        before: int | None = None,
    ) -> None:
        self._ledger, self._batch, self._service = ledger, batch, service
        self._holds = holds
        self._lock = threading.RLock()
        self._connection: Connection | None = None
        self.id = self._joined(who, before)

    def close(self) -> None:
        """Let go of the connection; `leave` comes first."""
        with self._lock:
            self._drop()

    def _drop(self) -> None:
        if self._connection is not None:
            self._connection.invalidate()
            self._connection.close()
            self._connection = None

    @contextmanager
    def _server(self) -> Iterator[Connection]:
        """Give our connection, each statement by itself; one that was lost is opened anew."""
        with self._lock:
            try:
                if self._connection is None:
                    self._connection = self._opened()
                yield self._connection
            except SQLAlchemyError as error:
                self._drop()
                raise LedgerError("the server does not answer", place=self._ledger.where) from error

    def _opened(self) -> Connection:
        connection = self._ledger.connection()
        limit_crew(connection)
        return connection

    def _ask(self, statement: str, **values: Any) -> Any:
        with self._server() as connection:
            return connection.execute(text(statement), values)

    @contextmanager
    def _alone(self, what: str) -> Iterator[Connection]:
        """Give a transaction that nobody else is in: sums are read and changed in one."""
        number = int(hashlib.sha256(f"{what}\0{self._service}".encode()).hexdigest()[:15], 16)
        with self._server() as connection:
            connection.exec_driver_sql("BEGIN")
            try:
                connection.execute(text("SELECT pg_advisory_xact_lock(:n)"), {"n": number})
                yield connection
            except BaseException:
                connection.exec_driver_sql("ROLLBACK")
                raise
            connection.exec_driver_sql("COMMIT")

    # -- being there ------------------------------------------------------------------------------

    def _joined(self, who: str, before: int | None) -> int:
        """Join those who send this batch just now, or begin a crew."""
        with self._alone("crew") as connection:
            given = {"batch": self._batch, "service": self._service, "who": who[:200]}
            given["before"] = before
            for statement in _TIDY:
                connection.execute(text(statement), {"forgotten": _FORGOTTEN})
            own = connection.scalar(text(_JOIN), {**given, "holds": self._holds})
        return int(own)

    def renew(self) -> bool:
        """Say that we are still there; False if others took over anything that we held."""
        renewed = self._ask(_RENEW, me=self.id, holds=self._holds)
        return bool(renewed.rowcount)

    def leave(self) -> None:
        """Give everything back, at once and not when it runs out."""
        for statement in _LEAVE:
            self._ask(statement, me=self.id)

    def others(self) -> list[str]:
        """Return who else sends this batch just now."""
        rows = self._ask(_OTHERS, me=self.id, batch=self._batch)
        return [str(who) for (who,) in rows]

    # -- images -----------------------------------------------------------------------------------

    def open_leases(self, images: int, kinds: int) -> None:
        """Share the batch's images out in parts; those that are settled already are done."""
        self._ask(_OPEN, batch=self._batch, images=images, size=_IN_A_LEASE)
        self._ask(_DONE_BEFORE, batch=self._batch, kinds=kinds)

    def lease(self) -> Lease | None:
        """Take the next part that nobody has; None if there is none."""
        row = self._ask(_LEASE, batch=self._batch, me=self.id).first()
        if row is None:
            return None
        return Lease(first=row.first, last=row.last, taken_over=row.was is not None)

    def settled(self, lease: Lease) -> dict[int, set[str]]:
        """Return the kinds that are settled of a lease's images, by position."""
        found: dict[int, set[str]] = {}
        values = {"batch": self._batch, "first": lease.first, "last": lease.last}
        for position, kind in self._ask(_SETTLED, **values):
            found.setdefault(position, set()).add(kind)
        return found

    def done(self, firsts: Sequence[int]) -> None:
        """Note that all images of some leases are settled."""
        if firsts:
            self._ask(_DONE, batch=self._batch, firsts=list(firsts))

    def unfinished(self) -> bool:
        """Tell whether others still have images of this batch."""
        return bool(self._ask(_UNFINISHED, batch=self._batch, me=self.id).scalar())

    def settled_images(self) -> int:
        """Return how many images of the batch are settled, whoever did it, a few behind."""
        return int(self._ask(_SETTLED_IMAGES, batch=self._batch).scalar() or 0)

    # -- what is asked ----------------------------------------------------------------------------

    def claim(self, wanted: Mapping[str, Sequence[str]], sha: str) -> tuple[set[str], bool]:
        """Return for which calls we may ask about the bytes `sha`; others ask for the rest, or did.

        `wanted` has, by the call's name, what its answers are known by. The note goes in before the
        answers are looked at: whoever finds none then knows that none is on its way. Returned too
        is whether a sender that went silent had been asking.
        """
        before = {
            name: self._ask(_CLAIM, identity=names[0], sha=sha, me=self.id).first()
            for name, names in wanted.items()
        }
        won = {name for name, row in before.items() if row is not None}
        gone = {row.was for row in before.values() if row} - {None, self.id}
        for sender in gone:
            self._ask(_GONE, gone=sender)
        answered = {
            name
            for name in won
            if self._ask(_ANSWERED, known=list(wanted[name]), name=name, sha=sha).first()
        }
        self.release([(wanted[name][0], sha) for name in answered])
        return won - answered, bool(gone)

    def still_asked(self, asked: Sequence[tuple[str, str]]) -> set[tuple[str, str]]:
        """Return those of (identity, sha) that somebody is asking just now."""
        found: set[tuple[str, str]] = set()
        for part in in_parts(asked):
            identities, shas = [one[0] for one in part], [one[1] for one in part]
            rows = self._ask(_STILL_ASKED, identities=identities, shas=shas)
            found.update((identity, sha) for identity, sha in rows)
        return found

    def release(self, asked: Sequence[tuple[str, str]]) -> None:
        """Note that what we asked is answered, or that we gave it up."""
        for part in in_parts(asked):
            identities, shas = [one[0] for one in part], [one[1] for one in part]
            self._ask(_RELEASE, identities=identities, shas=shas, me=self.id)

    # -- limits -----------------------------------------------------------------------------------

    def share(
        self, limits: Sequence[tuple[int, float]], used: Sequence[int], *, wants: bool
    ) -> list[Share]:
        """Return our share of each limit (calls, seconds), and say how much of it we used.

        What others may still start, or have started within the span, is not given to us: shares
        that become smaller free the rest only as their last calls grow old.
        """
        with self._alone("share") as connection:
            found = []
            for (calls, span), mine in zip(limits, used, strict=True):
                rows = connection.execute(
                    text(_SHARES), {"service": self._service, "span": span, "me": self.id}
                ).all()
                others = [row for row in rows if row.sender != self.id]
                before = sum(row.calls for row in rows if row.sender == self.id)
                share = _share_of(calls, self.id, others, wants=wants)
                found.append(share)
                # Until we hear of a smaller share we may still start what the larger one allows.
                counted = mine if share.calls >= before else max(mine, before)
                values = {"calls": share.calls, "used": counted, "wants": int(wants)}
                values |= {"service": self._service, "span": span, "me": self.id}
                connection.execute(text(_KEEP_SHARE), {**values, "holds": self._holds})
            return found

    def set_aside(
        self, wanted: int, at_most: int | None, quota: int | None, month: str, before: int
    ) -> tuple[int, bool]:
        """Set calls aside, of what all senders of this batch, and of the month, may make.

        `before` are the calls of the month that the ledger knew when nobody else was sending.
        Returned is how many, and whether it is the quota that allows no more.
        """
        with self._alone("calls") as connection:
            self._settle_the_gone(connection, month)
            of_crew, of_month = wanted, wanted
            if at_most is not None:
                of_crew = at_most - int(self._sum(connection, "calls"))
            if quota is not None:
                given = {"service": self._service, "month": month, "before": before, "me": self.id}
                of_month = quota - int(connection.scalar(text(_MONTH), given) or 0)
            allowed = max(0, min(wanted, of_crew, of_month))
            given = {"service": self._service, "month": month, "count": allowed, "me": self.id}
            connection.execute(text(_TAKE_CALLS), given)
            if quota is not None:
                connection.execute(text(_TAKE_MONTH), given)
            return allowed, of_month <= of_crew

    def set_money_aside(self, wanted: float, budget: float) -> float:
        """Set money aside, of what all senders of this batch may spend."""
        with self._alone("calls") as connection:
            self._settle_the_gone(connection, "")
            left = budget - self._sum(connection, "money")
            allowed = max(0.0, min(wanted, left))
            connection.execute(text(_TAKE_MONEY), {"money": allowed, "me": self.id})
            return allowed

    def give_back(self, calls: int, money: float, month: str) -> None:
        """Give back what was set aside and not used, unless others did because we were silent."""
        with self._alone("calls") as connection:
            if not connection.scalar(text(_LIVING), {"me": self.id}):
                self._settle_the_gone(connection, month)
                return
            given = {"service": self._service, "month": month, "count": -calls, "me": self.id}
            connection.execute(text(_TAKE_CALLS), given)
            connection.execute(text(_TAKE_MONTH), given)
            connection.execute(text(_TAKE_MONEY), {"money": -money, "me": self.id})

    def _settle_the_gone(self, connection: Connection, month: str) -> None:
        """Give back what senders had set aside that are gone, but for what the ledger has of it.

        One that is not gone but stopped finds out when it renews: its time is set to 0.
        """
        gone = connection.execute(text(_GONE_WITH_MORE), {"service": self._service}).all()
        for row in gone:
            connection.execute(text(_SETTLE_GONE), {"gone": row.id})
            if month:
                given = {"service": self._service, "month": month, "count": row.used - row.calls}
                connection.execute(text(_TAKE_MONTH), given)

    def booked(
        self, connection: Connection, calls: int, money: float, *, ours: bool, month: str = ""
    ) -> None:
        """Note that calls are in the ledger, in the transaction that writes them there.

        Parameters
        ----------
        ours : bool
            Whether we set them aside; what a killed sender left was set aside by that one.
        month : str, optional
            As ``"2031-05"``; where a quota holds.
        """
        values = {"me": self.id, "calls": calls, "money": money}
        if not ours:
            connection.execute(text(_BOOK_ADOPTED), values)
            return
        # Others may have given back what we set aside while these calls were under way.
        late = connection.scalar(text(_BOOK), values)
        if late and month:
            given = {"service": self._service, "month": month, "count": late}
            connection.execute(text(_TAKE_MONTH), given)

    def _sum(self, connection: Connection, column: str) -> Any:
        return connection.scalar(text(_OF_CREW.format(column)), {"me": self.id}) or 0


def _share_of(calls: int, me: int, others: Sequence[Any], *, wants: bool) -> Share:
    """Return a share of a limit: an even one in whole calls, as far as others leave it by now."""
    wanting = sorted([row.sender for row in others if row.live and row.wants] + [me] * wants)
    fair = 0
    if others:
        calls -= max(calls // _KEPT_BACK, int(calls >= _ONE_KEPT_BACK))
    if wants:
        each, more = divmod(calls, len(wanting))
        fair = each + (wanting.index(me) < more)
    held = sum(max(row.calls, row.used) for row in others)
    return Share(calls=max(0, min(fair, calls - held)), fair=fair)


def senders_of(ledger: LedgerStore, batch: int, now: float) -> list[dict[str, str]]:
    """Return who sends a batch just now.

    Parameters
    ----------
    now : float
        Seconds since 1970; for a ledger that is a file. A server knows by its own clock.

    Returns
    -------
    list of dict
        ``who`` (process and host) and when it was last ``seen`` at work (ISO 8601, UTC), those
        longest there first. With a file at most one, which writes that down every few seconds.
    """
    if ledger.path is None:
        with ledger.reading() as connection:
            rows = connection.execute(text(_WHO), {"batch": batch, "holds": HOLDS})
            return [{"who": who, "seen": timestamp(seen)} for who, seen in rows]
    query = select(schema.batches.c.sender).where(schema.batches.c.id == batch)
    with ledger.reading() as connection:
        who, _, seen = (connection.scalar(query) or "").partition(" ")
    process, _, host = who.partition("@")
    gone = not seen or timestamp(now - _SEEN_WITHIN) > seen
    return [] if gone else [{"who": f"process {process} on {host}", "seen": seen}]


# A crew is those who send a batch at one time: a budget is theirs together. Whoever joins when all
# others are gone begins another.
_JOIN = f"""
INSERT INTO senders (crew, batch, service, who, began, until, calls, money)
SELECT coalesce((SELECT crew FROM senders WHERE id = CAST(:before AS bigint)),
                (SELECT min(crew) FROM senders WHERE batch = :batch AND until > {_NOW}),
                (SELECT coalesce(max(crew), 0) + 1 FROM senders)),
       :batch, :service, :who,
       to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"'),
       {_NOW} + :holds, 0, 0.0
RETURNING id
"""
_TIDY = (
    # Not sooner: whoever takes over what a silent sender asked must know that it did.
    "DELETE FROM asking a WHERE NOT EXISTS (SELECT 1 FROM senders s WHERE s.id = a.sender"
    f" AND s.until > {_NOW} - :forgotten)",
    f"DELETE FROM shares WHERE until + span < {_NOW} - :forgotten",
    f"DELETE FROM leases l WHERE NOT EXISTS (SELECT 1 FROM senders s WHERE s.batch = l.batch"
    f" AND s.until > {_NOW} - :forgotten)",
    f"DELETE FROM senders WHERE until < {_NOW} - :forgotten"
    f" AND crew NOT IN (SELECT crew FROM senders WHERE until > {_NOW})",
)
# Who was silent for too long goes on where nothing was taken from it meanwhile: whoever takes
# something sets its time to 0.
_RENEW = f"UPDATE senders SET until = {_NOW} + :holds WHERE id = :me AND until > 0"
_GONE = "UPDATE senders SET until = 0 WHERE id = :gone"
_LEAVE = (
    "UPDATE leases SET sender = NULL WHERE sender = :me AND done = 0",
    "DELETE FROM asking WHERE sender = :me",
    "UPDATE shares SET used = greatest(used, calls), calls = 0, wants = 0,"
    f" until = {_NOW} WHERE sender = :me",
    f"UPDATE senders SET until = {_NOW} WHERE id = :me",
)
_WHO = f"""
SELECT who, until - :holds AS seen FROM senders WHERE batch = :batch AND until > {_NOW} ORDER BY id
"""
_OTHERS = f"SELECT who FROM senders WHERE batch = :batch AND id <> :me AND until > {_NOW}"

_OPEN = """
INSERT INTO leases (batch, first, last, sender, done)
SELECT :batch, s, least(s + CAST(:size AS int), CAST(:images AS int)) - 1, NULL, 0
FROM generate_series(0, CAST(:images AS int) - 1, CAST(:size AS int)) AS s
ON CONFLICT DO NOTHING
"""
_DONE_BEFORE = """
UPDATE leases l SET done = 1
FROM (SELECT k.first, count(*) AS settled FROM outcome_rows o
      JOIN leases k ON k.batch = o.batch AND o.position BETWEEN k.first AND k.last
      WHERE o.batch = :batch AND k.done = 0 GROUP BY k.first) AS s
WHERE l.batch = :batch AND l.first = s.first AND s.settled = :kinds * (l.last - l.first + 1)
"""
# A sender that was silent for too long takes nothing until it has renewed: its own images would
# look free to it, and it would ask for each of them twice.
_LEASE = f"""
WITH free AS MATERIALIZED (
    SELECT first, sender FROM leases
    WHERE batch = :batch AND done = 0 AND (sender IS NULL OR sender NOT IN ({_LIVE}))
      AND :me IN ({_LIVE})
    ORDER BY first LIMIT 1 FOR UPDATE SKIP LOCKED),
gone AS (UPDATE senders SET until = 0 WHERE id IN (SELECT sender FROM free))
UPDATE leases l SET sender = :me FROM free
WHERE l.batch = :batch AND l.first = free.first
RETURNING l.first, l.last, free.sender AS was
"""
_SETTLED = """
SELECT position, kind FROM outcome_rows
WHERE batch = :batch AND position BETWEEN :first AND :last
"""
_SETTLED_IMAGES = "SELECT sum(last - first + 1) FROM leases WHERE batch = :batch AND done = 1"
_DONE = "UPDATE leases SET done = 1 WHERE batch = :batch AND first = ANY(:firsts)"
_UNFINISHED = """
SELECT 1 FROM leases WHERE batch = :batch AND done = 0 AND sender IS DISTINCT FROM :me LIMIT 1
"""

_CLAIM = f"""
WITH earlier AS (SELECT sender FROM asking WHERE identity = :identity AND sha = :sha)
INSERT INTO asking (identity, sha, sender)
SELECT :identity, :sha, CAST(:me AS bigint) WHERE :me IN ({_LIVE})
ON CONFLICT (identity, sha) DO UPDATE SET sender = :me
WHERE asking.sender = :me OR asking.sender NOT IN ({_LIVE})
RETURNING (SELECT sender FROM earlier) AS was
"""
_ANSWERED = """
SELECT 1 FROM answer_keys WHERE fingerprint = ANY(:known) AND call_name = :name AND sha = :sha
"""
_STILL_ASKED = f"""
SELECT identity, sha FROM asking
JOIN unnest(CAST(:identities AS text[]), CAST(:shas AS text[])) AS g(i, s)
  ON identity = g.i AND sha = g.s
WHERE sender IN ({_LIVE})
"""
_RELEASE = """
DELETE FROM asking USING unnest(CAST(:identities AS text[]), CAST(:shas AS text[])) AS g(i, s)
WHERE identity = g.i AND sha = g.s AND sender = :me
"""

_SHARES = f"""
SELECT s.sender, s.calls, s.used, s.wants, s.until > {_NOW} AS live FROM shares s
WHERE s.service = :service AND s.span = :span
  AND (s.sender = :me OR s.until + s.span > {_NOW})
"""
_KEEP_SHARE = f"""
INSERT INTO shares (service, span, sender, calls, used, wants, until)
VALUES (:service, :span, :me, :calls, :used, :wants, {_NOW} + :holds)
ON CONFLICT (service, span, sender)
DO UPDATE SET calls = :calls, used = :used, wants = :wants, until = {_NOW} + :holds
"""
# Nobody takes over by this alone: images and questions run out by themselves.
_GONE_WITH_MORE = f"""
SELECT id, calls, coalesce(used_calls, 0) AS used FROM senders
WHERE service = :service AND until <= {_NOW}
  AND (calls > coalesce(used_calls, 0) OR money > coalesce(used_money, 0))
FOR UPDATE SKIP LOCKED
"""
_SETTLE_GONE = """
UPDATE senders SET until = 0, calls = coalesce(used_calls, 0), money = coalesce(used_money, 0)
WHERE id = :gone
"""
_LIVING = "SELECT 1 FROM senders WHERE id = :me AND until > 0"
_BOOK = """
WITH old AS (SELECT id, calls, coalesce(used_calls, 0) + :calls AS now_used,
                    money, coalesce(used_money, 0) + :money AS now_spent
             FROM senders WHERE id = :me FOR UPDATE)
UPDATE senders s SET used_calls = now_used, calls = greatest(old.calls, now_used),
                     used_money = now_spent, money = greatest(old.money, now_spent)
FROM old WHERE s.id = old.id RETURNING greatest(0, now_used - old.calls)
"""
_BOOK_ADOPTED = """
UPDATE senders SET used_calls = coalesce(used_calls, 0) + :calls, calls = calls + :calls,
                   used_money = coalesce(used_money, 0) + :money, money = money + :money
WHERE id = :me AND EXISTS (SELECT 1 FROM senders o WHERE o.crew = senders.crew AND o.id <> :me)
"""
_OF_CREW = "SELECT sum({}) FROM senders WHERE crew = (SELECT crew FROM senders WHERE id = :me)"
_TAKE_CALLS = "UPDATE senders SET calls = calls + :count WHERE id = :me"
_TAKE_MONEY = "UPDATE senders SET money = money + :money WHERE id = :me"
# The month's sum is begun anew while nobody else sends to the service: what a sender that was
# killed had set aside and not used is free then.
_MONTH = f"""
INSERT INTO months (service, month, calls) VALUES (:service, :month, :before)
ON CONFLICT (service, month) DO UPDATE SET calls = CASE WHEN EXISTS (
    SELECT 1 FROM senders WHERE service = :service
    AND (until > {_NOW} AND id <> :me OR id = :me AND calls > 0)
) THEN months.calls ELSE :before END
RETURNING calls
"""
_TAKE_MONTH = "UPDATE months SET calls = calls + :count WHERE service = :service AND month = :month"
