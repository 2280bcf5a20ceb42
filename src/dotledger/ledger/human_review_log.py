"""What persons decided, as it is in the ledger: written, never changed."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import insert, select

from dotledger.core.decisions.human_decisions import Review, reviewed_verdicts
from dotledger.errors import ArgumentError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Batch, sent_images
from dotledger.ledger.ledger_store import LedgerStore

__all__ = ["keep_reviews", "reviews_of", "verdicts_of"]


def keep_reviews(ledger: LedgerStore, batch: Batch, reviews: Sequence[Review]) -> None:
    """Write decisions, all or none.

    Parameters
    ----------
    batch : Batch
        With the reading whose findings were reviewed.
    reviews : sequence of Review
        Later ones supersede earlier ones of the same person about the same thing.

    Raises
    ------
    ArgumentError
        If an image is not in the batch.
    LedgerError
        If it cannot be written.
    """
    places = {sent.name: sent.position for sent in sent_images(ledger, batch)}
    unknown = [one.image for one in reviews if one.image not in places]
    if unknown:
        raise ArgumentError("no image of the batch", place="image", got=unknown[0])
    rows = [
        {
            "batch": batch.id,
            "reading": batch.reading,
            "position": places[one.image],
            "finding": one.row,
            "who": one.who,
            "made": one.made,
            "word": one.word,
            "label": one.label,
        }
        for one in reviews
    ]
    if rows:
        with ledger.writing() as connection:
            connection.execute(insert(schema.reviews), rows)


def reviews_of(ledger: LedgerStore, batch: Batch) -> list[Review]:
    """Return every decision on a batch's reading, in the order they were made.

    Decisions about a whole image hold for every reading; those about a finding for theirs.

    Returns
    -------
    list of Review
        Also those that were superseded or undone.
    """
    t, items = schema.reviews, schema.items
    query = (
        select(items.c.name, t.c.finding, t.c.who, t.c.made, t.c.word, t.c.label)
        .join(items, (items.c.batch == t.c.batch) & (items.c.position == t.c.position))
        .where(t.c.batch == batch.id, (t.c.finding == 0) | (t.c.reading == batch.reading))
        .order_by(t.c.id)
    )
    with ledger.reading() as connection:
        return [
            Review(image=image, row=row, who=who, made=made, word=word, label=label)
            for image, row, who, made, word, label in connection.execute(query)
        ]


def verdicts_of(ledger: LedgerStore, batch: Batch) -> dict[str, dict[str, str]]:
    """Return by image and person ``pass`` or ``block``.

    Returns
    -------
    dict of str to dict of str to str
        See `reviewed_verdicts`.
    """
    return reviewed_verdicts(reviews_of(ledger, batch))
