"""Views with names that stay, for people who ask a ledger in SQL; see docs/ledger.md.

The tables beneath may change with any version; a view keeps its name and its columns.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import Connection, FromClause, Table, func, select

from dotledger.ledger import ledger_schema as schema

__all__ = ["VIEWS", "make_views"]


_B, _I, _F = schema.batches, schema.items, schema.images
_OF_BATCH = (_B.c.id.label("batch"), _B.c.service)
_NAME = _I.c.name.label("image")


def _with_image(table: Table) -> FromClause:
    """Return a table about images of batches, joined with the image's name and the batch."""
    here = (_I.c.batch == table.c.batch) & (_I.c.position == table.c.position)
    return table.join(_I, here).join(_B, _B.c.id == table.c.batch)


def _images() -> Any:
    sizes = (_F.c.width, _F.c.height, _F.c.bytes, _F.c.format)
    sent = (_I.c.sent_width, _I.c.sent_height)
    query = select(*_OF_BATCH, _I.c.position, _NAME, _I.c.path, _I.c.sha, *sizes, *sent)
    joined = _I.join(_B, _I.c.batch == _B.c.id).outerjoin(_F, _F.c.sha == _I.c.sha)
    return query.select_from(joined)


def _outcomes() -> Any:
    o = schema.outcomes
    query = select(*_OF_BATCH, _NAME, o.c.kind, o.c.outcome, o.c.reason, o.c.call)
    return query.select_from(_with_image(o))


def _findings() -> Any:
    """Return those of each batch's newest reading; rows that say "nothing here" are left out."""
    f, r = schema.findings, schema.readings
    newest = select(r.c.batch, func.max(r.c.id).label("id")).group_by(r.c.batch).subquery()
    own = (f.c.kind, f.c.label, f.c.confidence, f.c.x0, f.c.y0, f.c.x1, f.c.y1, f.c.details)
    here = (_I.c.batch == newest.c.batch) & (_I.c.position == f.c.position)
    joined = f.join(newest, newest.c.id == f.c.reading).join(_I, here)
    joined = joined.join(_B, _B.c.id == newest.c.batch)
    query = select(*_OF_BATCH, newest.c.id.label("reading"), _NAME, *own)
    return query.select_from(joined).where(f.c.label != "")


def _answers() -> Any:
    a, c = schema.answers, schema.calls
    asked = (a.c.sha, _B.c.service, a.c.call_name, a.c.call, c.c.batch.label("paid_by"))
    went = (c.c.started, c.c.seconds, c.c.attempts, c.c.requests, c.c.status, c.c.images)
    came = (c.c.price, _B.c.currency, c.c.media_type, c.c.version, c.c.headers)
    joined = a.join(c, c.c.id == a.c.call).join(_B, _B.c.id == c.c.batch)
    # Every answer is known twice: by the image in its batch, and by what went over the wire.
    by_image = a.c.fingerprint.not_like("wire-%")
    return select(*asked, *went, *came).select_from(joined).where(by_image)


def _verdicts() -> Any:
    v = schema.reviews
    query = select(*_OF_BATCH, _NAME, v.c.who, v.c.made, v.c.word.label("verdict"))
    return query.select_from(_with_image(v)).where(v.c.finding == 0)


VIEWS: Mapping[str, Callable[[], Any]] = {
    "images": _images,
    "outcomes": _outcomes,
    "findings": _findings,
    "answers": _answers,
    "verdicts": _verdicts,
}
"""By name, what each selects; in the order of the documentation."""


def make_views(connection: Connection) -> None:
    """Make the views; the tables are there."""
    for name, query in VIEWS.items():
        text = query().compile(dialect=connection.dialect, compile_kwargs={"literal_binds": True})
        connection.exec_driver_sql(f"CREATE VIEW {name} AS {text}")
