"""The ledger's tables; `dotledger.ledger.ledger_views` has what people may ask in SQL.

Only portable SQL types and constructs are used, so that another database can join; what only
SQLite needs stands in `dotledger.ledger.sqlite_backend`. Tables of small rows that are found by
their key have no row number in SQLite: a row is then kept once, not once more in an index, and what
is counted lies together. A ledger takes an eighth less room for it; writing takes as long.
"""

from __future__ import annotations

from sqlalchemy import (
    JSON,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

__all__ = [
    "VERSION",
    "about",
    "answers",
    "asking",
    "batches",
    "calls",
    "findings",
    "images",
    "items",
    "jobs",
    "leases",
    "looks",
    "metadata",
    "months",
    "notes",
    "outcomes",
    "readings",
    "reviews",
    "senders",
    "shares",
]

VERSION = 9
"""Raised whenever a table changes, with a step in `dotledger.ledger.ledger_migrations`."""

metadata = MetaData()

about = Table(
    "about",
    metadata,
    Column("name", String(40), primary_key=True),
    Column("value", Text, nullable=False),
)

batches = Table(
    "batches",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("key", String(64), nullable=False, unique=True),
    Column("service", String(80), nullable=False),
    Column("fingerprint", String(64), nullable=False),
    Column("kinds", JSON, nullable=False),
    Column("settings", JSON, nullable=False),
    Column("description", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("images", Integer, nullable=False),
    Column("floor", Float),
    Column("currency", String(8), nullable=False),
    Column("started", String(32), nullable=False),
    Column("ended", String(32)),
    Column("stopped_because", Text),
    Column("sender", String(200)),
    Column("round", Text),
)
"""One sending of a set of images to one service with one set of settings."""

images = Table(
    "image_files",
    metadata,
    Column("sha", String(64), primary_key=True),
    Column("bytes", Integer, nullable=False),
    Column("format", String(12), nullable=False),
    Column("width", Integer, nullable=False),
    Column("height", Integer, nullable=False),
    Column("orientation", Integer, nullable=False),
    sqlite_with_rowid=False,
)
"""One file's content; width and height are upright."""

items = Table(
    "items",
    metadata,
    Column("batch", ForeignKey("batches.id"), primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("name", Text, nullable=False),
    Column("path", Text, nullable=False),
    Column("sha", String(64)),
    Column("sent_width", Integer),
    Column("sent_height", Integer),
    Column("sent_bytes", Integer),
    Column("turned", Integer),
    Column("quality", Integer),
    Column("steps", JSON),
)
"""One image of a batch, under the name the user knows."""

outcomes = Table(
    "outcome_rows",
    metadata,
    Column("batch", ForeignKey("batches.id"), primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("kind", String(12), primary_key=True),
    Column("outcome", String(8), nullable=False),
    Column("reason", Text, nullable=False),
    Column("call", ForeignKey("calls.id")),
    sqlite_with_rowid=False,
)
"""found, empty, unread, failed or refused; an image and kind without a row is pending."""

calls = Table(
    "calls",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("batch", ForeignKey("batches.id"), nullable=False),
    Column("call", String(80), nullable=False),
    Column("started", String(32), nullable=False),
    Column("seconds", Float, nullable=False),
    Column("attempts", Integer, nullable=False),
    Column("status", Integer),
    Column("sent_bytes", Integer, nullable=False),
    Column("images", Integer, nullable=False),
    Column("price", Float, nullable=False),
    Column("reason", Text, nullable=False),
    Column("media_type", String(120), nullable=False),
    Column("answer", LargeBinary),
    Column("requests", Integer),
    Column("version", Text),
    Column("headers", Text),
    # What is counted by month stands in the index, so that answers are not read for it.
    Index(
        "calls_by_batch",
        *("batch", "started", "call", "status", "images", "price", "attempts", "requests"),
    ),
)
"""One call; the answer is the service's bytes, compressed with zlib.

`attempts` were made, of which `requests` may have cost something: every one that the service
answered, or may have taken before the line failed, but not those it refused because of the rate.
"""

answers = Table(
    "answer_keys",
    metadata,
    Column("fingerprint", String(64), primary_key=True),
    Column("call_name", String(80), primary_key=True),
    Column("sha", String(64), primary_key=True),
    Column("call", ForeignKey("calls.id"), nullable=False),
    Column("place", Integer, nullable=False),
    sqlite_with_rowid=False,
)
"""Which call answered an image under which settings, and its place among the call's images."""

readings = Table(
    "readings",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("batch", ForeignKey("batches.id"), nullable=False),
    Column("made", String(32), nullable=False),
    Column("about", Text, nullable=False),
)
"""One reading of a batch's answers; the first is made while sending."""

findings = Table(
    "finding_rows",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("reading", ForeignKey("readings.id"), nullable=False),
    Column("position", Integer, nullable=False),
    Column("kind", String(12), nullable=False),
    Column("label", Text, nullable=False),
    Column("confidence", Float),
    Column("x0", Float),
    Column("y0", Float),
    Column("x1", Float),
    Column("y1", Float),
    Column("details", Text),
    Index("findings_by_image", "reading", "position"),
)

notes = Table(
    "notes",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("reading", ForeignKey("readings.id"), nullable=False),
    Column("position", Integer, nullable=False),
    Column("reason", Text, nullable=False),
    Column("value", Text, nullable=False),
    Index("notes_by_image", "reading", "position"),
)
"""What a reading set aside or noticed."""

reviews = Table(
    "reviews",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("batch", ForeignKey("batches.id"), nullable=False),
    Column("reading", ForeignKey("readings.id"), nullable=False),
    Column("position", Integer, nullable=False),
    Column("finding", Integer, nullable=False),
    Column("who", String(200), nullable=False),
    Column("made", String(32), nullable=False),
    Column("word", String(12), nullable=False),
    Column("label", Text, nullable=False),
    Index("reviews_by_batch", "batch"),
)
"""One decision of one person; `finding` counts those of the image from 1, and 0 is the image.

Rows are only added: a later one supersedes an earlier one of the same person.
"""

jobs = Table(
    "jobs",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("fingerprint", String(64), nullable=False),
    Column("call_name", String(80), nullable=False),
    Column("images", String(64), nullable=False),
    Column("address", Text, nullable=False),
    Column("began", String(32), nullable=False),
    Column("tries", Integer, nullable=True),
    UniqueConstraint("fingerprint", "call_name", "images", name="one_job"),
)
"""Jobs that a service has accepted and not ended: asked for again, never paid again."""

looks = Table(
    "looks",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("since", ForeignKey("batches.id"), nullable=False),
    Column("since_reading", ForeignKey("readings.id"), nullable=False),
    Column("batch", ForeignKey("batches.id"), nullable=False),
    Column("reading", ForeignKey("readings.id"), nullable=False),
    Column("settings", Text, nullable=False),
    Column("planned", Integer, nullable=False),
    Column("made", String(32), nullable=False),
    Column("result", Text, nullable=False),
    Index("looks_by_watch", "since", "id"),
)
"""Each look of a watch, which spends its part of the watch's false alarms: nothing is judged twice.

A watch is the looks since one batch; a look judges one reading of a later batch.
"""

senders = Table(
    "senders",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("crew", Integer, nullable=False),
    Column("batch", ForeignKey("batches.id"), nullable=False),
    Column("service", String(80), nullable=False),
    Column("who", String(200), nullable=False),
    Column("began", String(32), nullable=False),
    Column("until", Float, nullable=False),
    Column("calls", Integer, nullable=False),
    Column("money", Float, nullable=False),
    Column("used_calls", Integer, nullable=True),
    Column("used_money", Float, nullable=True),
    Index("senders_by_batch", "batch", "until"),
)
"""The processes that send a batch together through a server: until when each counts as alive, what
it reserved of the limits, and how much of that is in the ledger.

Times of these tables are seconds since 1970 of the server's own clock: no machine's matters.
"""

leases = Table(
    "leases",
    metadata,
    Column("batch", ForeignKey("batches.id"), primary_key=True),
    Column("first", Integer, primary_key=True),
    Column("last", Integer, nullable=False),
    Column("sender", Integer),
    Column("done", Integer, nullable=False),
    Index("leases_by_done", "batch", "done", "first"),
)
"""Some images of a batch in a row, and the sender that has them to itself."""

asking = Table(
    "asking",
    metadata,
    Column("identity", String(64), primary_key=True),
    Column("sha", String(64), primary_key=True),
    Column("sender", Integer, nullable=False),
)
"""What a sender is asking just now, of whichever batch: nobody else asks the same meanwhile."""

shares = Table(
    "shares",
    metadata,
    Column("service", String(80), primary_key=True),
    Column("span", Float, primary_key=True),
    Column("sender", Integer, primary_key=True),
    Column("calls", Integer, nullable=False),
    Column("used", Integer, nullable=False),
    Column("wants", Integer, nullable=False),
    Column("until", Float, nullable=False),
)
"""How many calls in `span` seconds a sender may start, and how many it started in the last ones."""

months = Table(
    "months",
    metadata,
    Column("service", String(80), primary_key=True),
    Column("month", String(7), primary_key=True),
    Column("calls", Integer, nullable=False),
)
"""Calls made or set aside in a month, where several senders keep to one quota."""
