"""Reading a ledger: raw answers, and what is answered already."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, Protocol

from msgspec import Struct
from sqlalchemy import Dialect, Select, bindparam, exists, func, select
from sqlalchemy.sql.compiler import SQLCompiler

from dotledger.json_codec import from_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import Batch
from dotledger.ledger.ledger_store import TOO_LARGE, LedgerStore, decompress, in_parts

__all__ = [
    "KeptAnswer",
    "KnownAnswers",
    "StoredAnswer",
    "answers_kept",
    "is_answered",
    "kept_answers",
    "raw_answers",
    "stored_answers",
]


def raw_answers(
    ledger: LedgerStore, batch: Batch, positions: Sequence[int]
) -> Iterator[tuple[int, str, bytes]]:
    """Yield (position, call name, answer as received) for images of a batch.

    Parameters
    ----------
    positions : sequence of int
        Of images in the batch, from 0.

    Yields
    ------
    tuple of int, str and bytes
        Images without an answer yield none.
    """
    outcomes, calls = schema.outcomes, schema.calls
    query = (
        select(outcomes.c.position, calls.c.id, calls.c.call, calls.c.answer)
        .join(calls, calls.c.id == outcomes.c.call)
        .where(outcomes.c.batch == batch.id, outcomes.c.position.in_(positions))
        .distinct()
        .order_by(outcomes.c.position, calls.c.id)
    )
    with ledger.reading() as connection:
        for position, _, call, answer in connection.execute(query):
            if answer is not None:
                yield position, call, decompress(answer)


class StoredAnswer(Struct, frozen=True, kw_only=True):
    """The call that answered one image, and the image's place among the call's images."""

    call_id: int
    place: int
    images: int
    answer: bytes
    fingerprint: str = ""


_ANSWERED = select(schema.answers.c.call).where(
    schema.answers.c.fingerprint.in_((bindparam("now_as"), bindparam("before_as"))),
    schema.answers.c.call_name == bindparam("of_call"),
    schema.answers.c.sha == bindparam("this"),
)


@lru_cache(maxsize=8)
def _answered_statement(dialect: Dialect) -> SQLCompiler:
    compiled = _ANSWERED.compile(dialect=dialect)
    assert isinstance(compiled, SQLCompiler)
    return compiled


def is_answered(
    ledger: LedgerStore, fingerprints: tuple[str, str], call_names: Sequence[str], sha: str
) -> bool:
    """Return whether a call has answered an image under one of some settings.

    Parameters
    ----------
    fingerprints : (str, str)
        Of the settings asked under, as they are known now and were before.
    call_names : sequence of str
        Every call of the description: without them the index would be read to its end.

    Returns
    -------
    bool
        The statement is compiled once, for a program that asks for every image.
    """
    statement = _answered_statement(ledger.dialect)
    given = {"now_as": fingerprints[0], "before_as": fingerprints[1], "this": sha}
    return any(ledger.ask(statement, {**given, "of_call": name}) for name in call_names)


class KnownAnswers:
    """Tells which images a ledger has answers for, one image at a time.

    To read them all before the first call takes minutes and much memory where they are many.
    """

    def __init__(self, ledger: LedgerStore, plan: AskedAs, calls: Sequence[str]) -> None:
        self._ledger = ledger
        both = (plan.fingerprint, plan.earlier)
        self._by_file = {name: self._in_use(both, name) for name in calls}
        self._by_sent = {name: self._in_use(plan.identities[name], name) for name in calls}

    def _in_use(self, fingerprints: Sequence[str], name: str) -> list[tuple[str, str]]:
        """Return those under which anything is answered, two by two as they are asked for."""
        t = schema.answers
        mine = [
            one
            for one in dict.fromkeys(fingerprints)
            if self._any(select(t.c.call).where(t.c.fingerprint == one, t.c.call_name == name))
        ]
        return [(pair[0], pair[-1]) for pair in in_parts(mine, 2)]

    def _any(self, query: Select[Any]) -> bool:
        with self._ledger.reading() as connection:
            return connection.execute(query.limit(1)).first() is not None

    def __call__(self, name: str, sha: str, asked: str) -> bool:
        """Tell whether a call has answered a file, or the bytes that are sent of it."""
        return any(is_answered(self._ledger, two, (name,), sha) for two in self._by_file[name]) or (
            any(is_answered(self._ledger, two, (name,), asked) for two in self._by_sent[name])
        )


def stored_answers(
    ledger: LedgerStore, fingerprints: Sequence[str], call_name: str, shas: Sequence[str]
) -> dict[str, StoredAnswer]:
    """Return what is stored for images (by SHA-256) under one of some settings.

    Parameters
    ----------
    shas : sequence of str
        SHA-256 of images, in hexadecimal.

    Returns
    -------
    dict of str to StoredAnswer
        By SHA-256; images never answered are left out.
    """
    t, calls = schema.answers, schema.calls
    columns = (t.c.sha, t.c.call, t.c.place, calls.c.images, calls.c.answer, t.c.fingerprint)
    query = select(*columns).join(calls, calls.c.id == t.c.call)
    found = {}
    together = 0
    with ledger.reading() as connection:
        for part in in_parts(shas):
            these = query.where(
                t.c.fingerprint.in_(fingerprints), t.c.call_name == call_name, t.c.sha.in_(part)
            )
            for sha, call_id, place, images, answer, known_as in connection.execute(these):
                unpacked = TOO_LARGE if together > _MOST_TOGETHER else decompress(answer)
                together += len(unpacked)
                found[sha] = StoredAnswer(
                    call_id=call_id,
                    place=place,
                    images=images,
                    answer=unpacked,
                    fingerprint=known_as,
                )
    return found


_MOST_TOGETHER = 512 << 20
"""Bytes of answers that are unpacked at a time."""


class AskedAs(Protocol):
    """What answers are known by: a `Plan` is one."""

    @property
    def fingerprint(self) -> str:
        """Of the settings as a whole."""

    @property
    def earlier(self) -> str:
        """The same, as earlier versions knew it."""

    @property
    def identities(self) -> Mapping[str, tuple[str, ...]]:
        """By call, what its answers are known by next to the bytes sent."""


def answers_kept(
    ledger: LedgerStore, plan: AskedAs, call_name: str, images: Mapping[str, str]
) -> dict[str, StoredAnswer]:
    """Return what is stored for images: under these settings, else for the same bytes sent.

    Parameters
    ----------
    images : mapping of str to str
        By SHA-256 of each file, that of what is sent of it.

    Returns
    -------
    dict of str to StoredAnswer
        By SHA-256 of the file; images never answered are left out.
    """
    found = stored_answers(ledger, (plan.fingerprint, plan.earlier), call_name, list(images))
    left = {sha: asked for sha, asked in images.items() if sha not in found and asked}
    if left:
        sent = list(dict.fromkeys(left.values()))
        same = stored_answers(ledger, plan.identities.get(call_name, ()), call_name, sent)
        found |= {sha: same[asked] for sha, asked in left.items() if asked in same}
    return found


class KeptAnswer(Struct, frozen=True, kw_only=True):
    """A raw answer with what is needed to read it again for one image of a batch.

    `width`, `height` are the upright original's; `sent_width`, `sent_height`, `turned` those of
    what was sent. `place` is the image's place among the `images` of the call.
    """

    position: int
    name: str
    call: str
    call_id: int
    place: int
    images: int
    width: int
    height: int
    sent_width: int
    sent_height: int
    turned: int
    answer: bytes


def kept_answers(ledger: LedgerStore, batch: Batch) -> Iterator[KeptAnswer]:
    """Yield every raw answer that belongs to a batch, image by image, one at a time in memory.

    Answers that could not be read while sending are among them.

    Parameters
    ----------
    ledger : LedgerStore
        Open, and not written to meanwhile by the same thread.
    """
    with ledger.reading() as connection:
        for query in (_read_answers(batch), _unread_answers(batch)):
            for row in connection.execution_options(yield_per=200).execute(query):
                *facts, answer = row
                if answer is not None:
                    yield KeptAnswer(
                        **dict(zip(_KEPT, facts, strict=True)), answer=decompress(answer)
                    )


def _read_answers(batch: Batch) -> Any:
    t, calls, answers = schema.items, schema.calls, schema.answers
    known = (
        (answers.c.fingerprint == batch.fingerprint)
        & answers.c.call_name.in_(_call_names(batch))  # with it, the index finds each image's row
        & (answers.c.sha == t.c.sha)
    )
    return (
        _kept_columns(answers.c.place)
        .join(answers, known)
        .join(calls, calls.c.id == answers.c.call)
        .where(t.c.batch == batch.id)
        .order_by(t.c.position)
    )


def _call_names(batch: Batch) -> list[str]:
    """Return the names of the calls that the kept description has."""
    return [str(call["name"]) for call in from_json(batch.description).get("call", [])]


def _unread_answers(batch: Batch) -> Any:
    t, calls = schema.items, schema.calls
    broken, places = _broken_calls(batch), _places_in_calls(batch)
    return (
        _kept_columns(places.c.place)
        .join(broken, broken.c.position == t.c.position)
        .join(calls, calls.c.id == broken.c.call)
        .join(places, (places.c.call == calls.c.id) & (places.c.sha == t.c.sha))
        .where(
            t.c.batch == batch.id,
            calls.c.images == places.c.images,
            calls.c.status.between(200, 299),
            ~_known_answer(batch, t.c.sha, calls.c.call),
        )
        .order_by(t.c.position)
    )


def _known_answer(batch: Batch, sha: Any, name: Any) -> Any:
    answers = schema.answers
    return exists().where(
        answers.c.fingerprint == batch.fingerprint,
        answers.c.call_name == name,
        answers.c.sha == sha,
    )


def _kept_columns(place: Any) -> Any:
    """Return a query of `_KEPT` and the answer, from images and what was sent of them."""
    t, images, calls = schema.items, schema.images, schema.calls
    named = (t.c.position, t.c.name, calls.c.call, calls.c.id, place, calls.c.images)
    sizes = (images.c.width, images.c.height, t.c.sent_width, t.c.sent_height, t.c.turned)
    query = select(*named, *sizes, calls.c.answer)
    return query.select_from(t).join(images, images.c.sha == t.c.sha)


_KEPT = (
    "position", "name", "call", "call_id", "place", "images", "width", "height",
    "sent_width", "sent_height", "turned",
)  # fmt: skip


def _broken_calls(batch: Batch) -> Any:
    """Return a subquery of the calls whose answers were not accepted, by position."""
    t = schema.outcomes
    return (
        select(t.c.position, t.c.call)
        .where(
            t.c.batch == batch.id,
            t.c.outcome.in_(("failed", "unread")),
            t.c.call.is_not(None),
        )
        .distinct()
        .subquery()
    )


def _places_in_calls(batch: Batch) -> Any:
    """Return a subquery of the place of each image in its call, and how many images are known.

    Images go out in the order of the batch; the same bytes under another name take no place.
    """
    t, items = schema.outcomes, schema.items
    first = func.min(t.c.position)
    return (
        select(
            t.c.call,
            items.c.sha,
            (func.row_number().over(partition_by=t.c.call, order_by=first) - 1).label("place"),
            func.count().over(partition_by=t.c.call).label("images"),
        )
        .join(items, (items.c.batch == t.c.batch) & (items.c.position == t.c.position))
        .where(t.c.batch == batch.id, t.c.call.is_not(None))
        .group_by(t.c.call, items.c.sha)
        .subquery()
    )
