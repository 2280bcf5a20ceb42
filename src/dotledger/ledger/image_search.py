"""Looking for images across every batch of a ledger."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Select, false, func, select

from dotledger.core.tables.finding_details import Details
from dotledger.json_codec import from_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Sent
from dotledger.ledger.ledger_store import LedgerStore

__all__ = ["Hit", "Wanted", "search"]


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """What is looked for; everything that is given must hold.

    Attributes
    ----------
    kinds, labels : tuple of str
        Any of them; none for all.
    least, most : float or None
        Confidence; asserted findings count as at least anything.
    service : str
        Name; empty for all.
    since, until : str
        ISO dates or times in UTC of the batch's start; `until` is left out itself.
    outcomes : tuple of str
        Images of these outcomes, instead of findings.
    """

    kinds: tuple[str, ...] = ()
    labels: tuple[str, ...] = ()
    least: float | None = None
    most: float | None = None
    service: str = ""
    since: str = ""
    until: str = ""
    outcomes: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Hit:
    """One finding, or one image of an outcome.

    Attributes
    ----------
    batch : int
        Its number.
    service, started : str
        Of the batch.
    sent : Sent
        The image.
    kind, label : str
        Of the finding; of an outcome its kind and word.
    confidence : float or None
        None where it is asserted.
    box : tuple of float or None
        In pixels of the upright original.
    details : Details or None
        What it has beside.
    is_finding : bool
        False for an image of an outcome.
    """

    batch: int
    service: str
    started: str
    sent: Sent
    kind: str
    label: str
    confidence: float | None
    box: tuple[float, ...] | None
    details: Details | None
    is_finding: bool = True


def search(ledger: LedgerStore, wanted: Wanted) -> Iterator[Hit]:
    """Yield what fits, the newest batch first, in the order of its images."""
    query = _outcomes(wanted) if wanted.outcomes else _findings(wanted)
    with ledger.reading() as connection:
        for row in connection.execute(query):
            yield _hit(row)


def _newest() -> Any:
    readings = schema.readings
    return (
        select(readings.c.batch, func.max(readings.c.id).label("reading"))
        .group_by(readings.c.batch)
        .subquery()
    )


_ITEM = ("position", "name", "path", "sha")


def _of_batches(query: Select[Any], wanted: Wanted) -> Select[Any]:
    batches = schema.batches
    if wanted.service:
        query = query.where(batches.c.service == wanted.service)
    if wanted.since:
        query = query.where(batches.c.started >= wanted.since)
    if wanted.until:
        query = query.where(batches.c.started < wanted.until)
    return query


def _head() -> list[Any]:
    batches, items, images = schema.batches, schema.items, schema.images
    columns = [batches.c.id.label("batch"), batches.c.service, batches.c.started]
    return [*columns, *(items.c[name] for name in _ITEM), images.c.width, images.c.height]


def _findings(wanted: Wanted) -> Select[Any]:
    batches, items, images, t = schema.batches, schema.items, schema.images, schema.findings
    newest = _newest()
    columns = (t.c.kind, t.c.label, t.c.confidence, t.c.x0, t.c.y0, t.c.x1, t.c.y1, t.c.details)
    query = (
        select(*_head(), *columns)
        .join_from(batches, newest, newest.c.batch == batches.c.id)
        .join(t, t.c.reading == newest.c.reading)
        .join(items, (items.c.batch == batches.c.id) & (items.c.position == t.c.position))
        .join(images, images.c.sha == items.c.sha, isouter=True)
        .order_by(batches.c.id.desc(), t.c.position, t.c.id)
    )
    for column, values in ((t.c.kind, wanted.kinds), (t.c.label, wanted.labels)):
        query = query.where(column.in_(values)) if values else query
    if wanted.least is not None:
        query = query.where((t.c.confidence >= wanted.least) | t.c.confidence.is_(None))
    if wanted.most is not None:
        query = query.where(t.c.confidence <= wanted.most)
    return _of_batches(query, wanted)


def _outcomes(wanted: Wanted) -> Select[Any]:
    batches, items, images, t = schema.batches, schema.items, schema.images, schema.outcomes
    query = (
        select(*_head(), t.c.kind, t.c.outcome.label("label"))
        .join_from(batches, t, t.c.batch == batches.c.id)
        .join(items, (items.c.batch == batches.c.id) & (items.c.position == t.c.position))
        .join(images, images.c.sha == items.c.sha, isouter=True)
        .order_by(batches.c.id.desc(), t.c.position, t.c.kind)
        .where(t.c.outcome.in_(wanted.outcomes))
    )
    if wanted.kinds:
        query = query.where(t.c.kind.in_(wanted.kinds))
    if wanted.labels:  # what was not answered has no label
        query = query.where(false())
    return _of_batches(query, wanted)


def _hit(row: Any) -> Hit:
    values: dict[str, Any] = dict(row._mapping)
    box: Sequence[Any] = [values.get(name) for name in ("x0", "y0", "x1", "y1")]
    details = values.get("details")
    return Hit(
        batch=values["batch"],
        service=values["service"],
        started=values["started"],
        sent=Sent(
            position=values["position"],
            name=values["name"],
            path=values["path"],
            sha=values["sha"] or "",
            width=values["width"],
            height=values["height"],
        ),
        kind=values["kind"],
        label=values["label"],
        confidence=values.get("confidence"),
        box=None if box[0] is None else tuple(map(float, box)),
        details=_details(details),
        is_finding="x0" in values,
    )


def _details(text: str | None) -> Details | None:
    try:
        return Details.from_dict(from_json(text)) if text else None
    except ValueError:
        return None
