"""What calls cost, how long they took, and what is left of a quota."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from msgspec import Struct
from sqlalchemy import Text, case, cast, func, select

from dotledger.json_codec import AsData, from_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Batch
from dotledger.ledger.ledger_store import LedgerStore

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "BatchCost",
    "CallFigures",
    "Month",
    "Months",
    "batch_cost",
    "call_figures",
    "call_seconds",
    "calls_about",
    "images_in_month",
    "preparations",
    "requests_in_month",
    "usage",
    "versions_of",
]


class Month(AsData, Struct, frozen=True, kw_only=True):
    """Calls to one service in one calendar month (UTC).

    Attributes
    ----------
    service, month, currency : str
        The month is written ``2026-11``.
    calls : int
        Requests that the service answered, or may have taken before the line failed.
    failed : int
        Those of them that brought no answer with success; they may have cost money too.
    images : int
        Images in the successful calls.
    money : float
        What they cost.
    """

    service: str
    month: str
    currency: str
    calls: int
    failed: int
    images: int
    money: float


class Months(list[Month]):
    """Months of services in order; a table in a notebook."""

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each service and month."""
        import pandas as pd

        names = ("service", "month", "calls", "failed", "images", "money", "currency")
        rows = [[getattr(one, name) for name in names] for one in self]
        return pd.DataFrame(rows, columns=list(names))

    def _repr_html_(self) -> str:
        """Show the table in a notebook."""
        return self.frame().to_html(index=False, escape=True)


class BatchCost(Struct, frozen=True, kw_only=True):
    """What the answers of one batch cost, also those that an earlier batch had paid for.

    Attributes
    ----------
    images : int
        With an answer.
    money : float
        For their calls.
    currency : str
        Of it.
    seconds : float
        Of their calls, added up; several images in one call share its time.
    """

    images: int
    money: float
    currency: str
    seconds: float


def batch_cost(ledger: LedgerStore, batch: Batch) -> BatchCost:
    """Return what the answers of a batch cost."""
    calls, outcomes = schema.calls, schema.outcomes
    mine = (outcomes.c.batch == batch.id) & outcomes.c.call.is_not(None)
    used = select(outcomes.c.call).where(mine).distinct().subquery()
    money = func.coalesce(func.sum(calls.c.price), 0.0)
    seconds = func.coalesce(func.sum(calls.c.seconds), 0.0)
    query = select(money, seconds).join(used, used.c.call == calls.c.id)
    images = select(func.count(func.distinct(outcomes.c.position))).where(mine)
    with ledger.reading() as connection:
        spent, taken = connection.execute(query).one()
        answered = connection.execute(images).scalar_one()
    return BatchCost(
        images=int(answered), money=float(spent), currency=batch.currency, seconds=float(taken)
    )


def call_seconds(ledger: LedgerStore, batch: Batch) -> list[float]:
    """Return how long each answered call of a batch took.

    Returns
    -------
    list of float
        Seconds, in the order of the calls; empty without calls.
    """
    calls = schema.calls
    query = select(calls.c.seconds).where(calls.c.batch == batch.id).order_by(calls.c.id)
    with ledger.reading() as connection:
        return [float(value) for value in connection.execute(query).scalars()]


def versions_of(ledger: LedgerStore, batch: Batch) -> dict[str, int]:
    """Return what the service said of its own version, with the calls in which it did.

    Returns
    -------
    dict of str to int
        By version, the most frequent first; empty if the description does not name where it stands.
    """
    calls = schema.calls
    count = func.count()
    query = (
        select(calls.c.version, count)
        .where(calls.c.batch == batch.id, calls.c.version.is_not(None))
        .group_by(calls.c.version)
        .order_by(count.desc(), calls.c.version)
    )
    with ledger.reading() as connection:
        return {str(version): int(number) for version, number in connection.execute(query)}


def usage(ledger: LedgerStore) -> Months:
    """Return calls and money by service and month, services by name, months in order."""
    calls, batches = schema.calls, schema.batches
    month = func.substr(calls.c.started, 1, 7)
    first, last = func.min(month), func.max(month)
    # By batch the calls are in the order of an index. Few batches go from one month to another;
    # only of those calls are sorted by month.
    whole = select(calls.c.batch, first, last, *_sums(calls)).group_by(calls.c.batch)
    found: dict[tuple[str, str], Month] = {}
    with ledger.reading() as connection:
        of = {
            row.id: (row.service, row.currency)
            for row in connection.execute(
                select(batches.c.id, batches.c.service, batches.c.currency)
            )
        }
        for batch, begun, ended, *sums in connection.execute(whole).all():
            rows: Iterable[Any] = [(begun, *sums)]
            if begun != ended:
                by_month = select(month, *_sums(calls)).where(calls.c.batch == batch)
                rows = connection.execute(by_month.group_by(month))
            for name, *counts in rows:
                _add(found, *of[batch], name, counts)
    return Months(found[key] for key in sorted(found))


def _sums(calls: Any) -> list[Any]:
    """Return what is summed over calls: requests, those that went well, their images, money."""
    paid = case((calls.c.status.between(200, 299), 1), else_=0)
    made = func.coalesce(calls.c.requests, calls.c.attempts)
    return [
        func.sum(made),
        func.sum(paid),
        func.sum(paid * calls.c.images),
        func.sum(calls.c.price),
    ]


def _add(
    found: dict[tuple[str, str], Month], service: str, currency: str, month: str, sums: list[Any]
) -> None:
    """Add a batch's calls of one month to those of its service."""
    every, well, images, money = sums
    before = found.get((service, month))
    found[service, month] = Month(
        service=service,
        month=month,
        currency=max(currency, before.currency if before else ""),
        calls=int(every) + (before.calls if before else 0),
        failed=int(every - well) + (before.failed if before else 0),
        images=int(images) + (before.images if before else 0),
        money=float(money) + (before.money if before else 0.0),
    )


def requests_in_month(ledger: LedgerStore, service: str, month: str) -> dict[str, int]:
    """Return how many requests to a service count in a month, by call; see `Month.calls`.

    Parameters
    ----------
    month : str
        Year and month in UTC, such as ``2026-11``.

    Returns
    -------
    dict of str to int
        By the call's name; empty if there is none.
    """
    found: dict[str, int] = {}
    for name, _, requests, _ in images_in_month(ledger, service, month):
        found[name] = found.get(name, 0) + requests
    return found


def images_in_month(
    ledger: LedgerStore, service: str, month: str
) -> list[tuple[str, tuple[str, ...], int, int]]:
    """Return requests of a month and the images in them, for prices that count these.

    Parameters
    ----------
    month : str
        Year and month in UTC, such as ``2026-11``.

    Returns
    -------
    list of (str, tuple of str, int, int)
        The call's name, the kinds that its batch asked for, requests that may have cost something,
        and images, as often as they were in one.
    """
    calls, batches = schema.calls, schema.batches
    made = func.coalesce(calls.c.requests, calls.c.attempts)
    asked = cast(batches.c.kinds, Text)  # PostgreSQL groups by no JSON
    query = (
        select(calls.c.call, asked, func.sum(made), func.sum(made * calls.c.images))
        .select_from(calls)
        .join(batches, batches.c.id == calls.c.batch)
        .where(
            batches.c.service == service,
            calls.c.started.between(f"{month}-01", f"{month}-32"),
        )
        .group_by(calls.c.call, asked)
    )
    with ledger.reading() as connection:
        rows = connection.execute(query).all()
    return [
        (str(name), tuple(from_json(kinds)), int(requests or 0), int(images or 0))
        for name, kinds, requests, images in rows
    ]


class CallFigures(Struct, frozen=True, kw_only=True):
    """How the calls of one batch went.

    Attributes
    ----------
    calls, retries : int
        Requests that count as in `Month`, and attempts beyond the first of each call.
    sent_bytes, money : int, float
        Bytes of request bodies, and what the calls cost.
    median, p95, longest : float
        Seconds of the successful calls' last attempts; NaN without any.
    """

    calls: int
    retries: int
    sent_bytes: int
    money: float
    median: float
    p95: float
    longest: float


def call_figures(ledger: LedgerStore, batch: Batch) -> CallFigures:
    """Return how the calls of one batch went.

    Returns
    -------
    CallFigures
        All 0 without calls.
    """
    t = schema.calls
    made = func.coalesce(t.c.requests, t.c.attempts).label("requests")
    query = select(t.c.seconds, t.c.status, t.c.attempts, t.c.sent_bytes, t.c.price, made)
    with ledger.reading() as connection:
        rows = connection.execute(query.where(t.c.batch == batch.id)).all()
    good = [r.seconds for r in rows if r.status is not None and 200 <= r.status < 300]
    median, p95, longest = np.percentile(good, (50, 95, 100)) if good else (np.nan,) * 3
    return CallFigures(
        calls=sum(r.requests for r in rows),
        retries=sum(max(0, r.attempts - 1) for r in rows),
        sent_bytes=sum(r.sent_bytes for r in rows),
        money=float(sum(r.price for r in rows)),
        median=float(median),
        p95=float(p95),
        longest=float(longest),
    )


def preparations(ledger: LedgerStore, batch: Batch) -> list[tuple[str, Sequence[str]]]:
    """Return (image, what was done to it before sending) for every image not sent as it is.

    Returns
    -------
    list of tuple of str and sequence of str
        In the order of the batch.
    """
    t = schema.items
    query = select(t.c.name, t.c.steps).where(t.c.batch == batch.id).order_by(t.c.position)
    with ledger.reading() as connection:
        return [(name, steps) for name, steps in connection.execute(query) if steps]


def calls_about(ledger: LedgerStore, batch: Batch, position: int) -> list[dict[str, Any]]:
    """Return the calls that settled one image, in order.

    Parameters
    ----------
    position : int
        Of the image in the batch.

    Returns
    -------
    list of dict
        ``call, started, seconds, attempts, status, price, currency, images, version, headers``; of
        a call about several images the price is its whole price.
    """
    outcomes, calls = schema.outcomes, schema.calls
    names = ("call", "started", "seconds", "attempts", "status", "price", "images", "version")
    query = (
        select(calls.c.id, calls.c.headers, *(calls.c[name] for name in names))
        .join(outcomes, outcomes.c.call == calls.c.id)
        .where(outcomes.c.batch == batch.id, outcomes.c.position == position)
        .distinct()
        .order_by(calls.c.id)
    )
    with ledger.reading() as connection:
        rows = connection.execute(query).all()
    return [
        {name: row._mapping[name] for name in names}
        | {"currency": batch.currency, "headers": from_json(row.headers or "{}")}
        for row in rows
    ]
