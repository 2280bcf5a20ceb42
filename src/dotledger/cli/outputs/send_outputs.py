"""Keys of what the commands under "Send" print; what is undefined is null."""

from __future__ import annotations

from typing import TypedDict

from dotledger.sending.policies.pricing import PriceNow
from dotledger.services.description_trust import Facts

__all__ = ["BatchDetail", "Batches", "Forecast", "Reread", "Sent", "Usage"]


class Forecast(TypedDict):
    """What a sending would take; bytes, seconds, and money in `currency`.

    `reasons` are examples of refused images by reason, `prepared` counts images by step.
    """

    images: int
    to_send: int
    answered: int
    repeated: int
    refused: int
    reasons: dict[str, list[str]]
    prepared: dict[str, int]
    calls: int
    least_calls: int
    bytes: int
    seconds: float
    money: float
    currency: str
    prices: list[PriceNow]
    used_this_month: int
    per_month: int | None
    share_of_month: float | None
    trust: Facts


class OutcomeCounts(TypedDict):
    """Images of one kind by what came of them."""

    found: int
    empty: int
    unread: int
    failed: int
    refused: int
    pending: int


class Sent(TypedDict):
    """What one run of sending came to; outcomes by kind, money in `currency`."""

    batch: int
    service: str
    images: int
    outcomes: dict[str, OutcomeCounts]
    calls: int
    reused: int
    unread: int
    not_asked: dict[str, int]
    refusals: int
    money: float
    currency: str
    seconds: float
    stopped_because: str
    at_limit: bool
    resumed: bool
    shared: int


class Sender(TypedDict):
    """A process at work on a batch, and when it was last heard of (ISO 8601, UTC)."""

    who: str
    seen: str


class OneBatch(TypedDict):
    """One batch; times are ISO 8601 in UTC, `ended` is empty until it has ended."""

    batch: int
    service: str
    round: str
    images: int
    source: str
    kinds: list[str]
    started: str
    ended: str
    stopped_because: str
    outcomes: dict[str, OutcomeCounts]
    senders: list[Sender]


class Batches(TypedDict):
    """All batches of a ledger, the oldest first."""

    batches: list[OneBatch]


class Failure(TypedDict):
    """An image without an answer for a kind, and why."""

    image: str
    kind: str
    outcome: str
    reason: str


class Prepared(TypedDict):
    """What was done to an image before it was sent."""

    image: str
    steps: list[str]


class CallFigures(TypedDict):
    """Calls of a batch: bytes, money, and seconds that are null without calls."""

    calls: int
    retries: int
    sent_bytes: int
    money: float
    median: float | None
    p95: float | None
    longest: float | None


class BatchDetail(OneBatch):
    """One batch with its calls; `versions` counts calls by what the service calls itself."""

    versions: dict[str, int]
    calls: CallFigures
    failures: list[Failure]
    prepared: list[Prepared]
    notes: int


class UsageMonth(TypedDict):
    """Calls to one service in one month (as ``2026-11``, UTC), and what is left of its quota."""

    service: str
    month: str
    currency: str
    calls: int
    failed: int
    images: int
    money: float
    per_month: int | None
    left: int | None
    price_now: list[PriceNow] | None


class Usage(TypedDict):
    """Every service and month with calls."""

    months: list[UsageMonth]


class ReadDifference(TypedDict):
    """A finding that one reading has and the other has not; `state` is ``was`` or ``is``."""

    state: str
    image: str
    kind: str
    label: str
    confidence: float | None
    box: list[float | None]
    details: str


class Reread(TypedDict):
    """What reading stored answers again changed."""

    reading: int
    answers: int
    unreadable: int
    same: int
    differences: list[ReadDifference]
    suspicions: list[str]
    notes: list[tuple[str, str, str]]
