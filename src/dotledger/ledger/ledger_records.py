"""What is written down of a batch: plain records, free of the database."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple

from msgspec import Struct, field

from dotledger.json_codec import to_json

__all__ = [
    "FINDING_COLUMNS",
    "BatchOpening",
    "CallRecord",
    "ImageRecord",
    "ItemRecord",
    "OutcomeRecord",
    "SentRecord",
    "finding_row",
    "storable",
    "timestamp",
]


def storable(text: str) -> str:
    r"""Return text that every database can keep: NUL as ``\x00``, half surrogates as ``\ud800``.

    Returns
    -------
    str
        In UTF-8 without NUL; most text comes back as it is.
    """
    if "\0" in text:
        text = text.replace("\0", "\\x00")
    return text if text.isascii() else text.encode("utf-8", "backslashreplace").decode()


def timestamp(seconds: float) -> str:
    """Return a moment (seconds since 1970) as ISO 8601 in UTC, to the millisecond.

    Parameters
    ----------
    seconds : float
        Since 1970, in UTC.

    Returns
    -------
    str
        Such as ``2026-11-25T18:00:00.000+00:00``.
    """
    return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="milliseconds")


# msgspec Structs: such a class is made in a thirtieth of the time that a frozen dataclass takes,
# before every first call, and its instances in a tenth, several for every image.
class CallRecord(Struct, kw_only=True, eq=False):
    """One call as it went; `id` is set when it is written. The answer is as received.

    `version` is what the service says of its own, if the description names where, and `headers` are
    those of the answer's head that are kept: what it calls the request, and those named. `requests`
    of the attempts may have cost something, and `price` is what they all did; `aside` is where the
    claim keeps it until then, -1 if it does not.
    """

    call: str
    started: float
    seconds: float
    attempts: int
    status: int | None
    sent_bytes: int
    images: int
    price: float
    reason: str
    media_type: str = ""
    answer: bytes | None = None
    requests: int = 0
    version: str = ""
    headers: dict[str, str] = field(default_factory=dict)
    id: int = 0
    aside: int = -1


class OutcomeRecord(Struct, kw_only=True):
    """The outcome of one image and kind."""

    kind: str
    outcome: str
    reason: str = ""
    call: CallRecord | None = None
    call_id: int | None = None


class ImageRecord(NamedTuple):
    """One file's content: the columns of `schema.images`, in order."""

    sha: str
    bytes: int
    format: str
    width: int
    height: int
    orientation: int


class SentRecord(NamedTuple):
    """What was sent of one image: columns of `schema.items`, in order."""

    sent_width: int
    sent_height: int
    sent_bytes: int
    turned: int
    quality: int | None
    steps: tuple[str, ...]


class ItemRecord(Struct, kw_only=True):
    """One image of the batch when everything about it is settled.

    Attributes
    ----------
    position : int
        In the batch.
    image : ImageRecord or None
        None if the file could not be read.
    sent : SentRecord or None
        None if nothing was to be sent.
    outcomes : list of OutcomeRecord
        One for each kind.
    found : list of tuple
        Findings as `FINDING_COLUMNS`.
    notes : list of (str, str)
        What the reading set aside or noticed.
    answered : list of (str, CallRecord, int)
        Call names with the call that answered this image and its place in it.
    known : list of (str, int, int)
        The same of calls in the ledger, by id, that are known under earlier settings only.
    asked : str
        SHA-256 of the bytes that went out, or would have: answers serve whoever sends the same.
    """

    position: int
    image: ImageRecord | None = None
    sent: SentRecord | None = None
    outcomes: list[OutcomeRecord] = field(default_factory=list)
    found: list[tuple[Any, ...]] = field(default_factory=list)
    notes: list[tuple[str, str]] = field(default_factory=list)
    answered: list[tuple[str, CallRecord, int]] = field(default_factory=list)
    known: list[tuple[str, int, int]] = field(default_factory=list)
    asked: str = ""


class BatchOpening(Struct, frozen=True, kw_only=True):
    """What a batch is, before anything is sent; `earlier_key` is how earlier versions knew it.

    `identities` are what the answers of each call are known by, next to the bytes sent.
    """

    key: str
    service: str
    fingerprint: str
    kinds: tuple[str, ...]
    settings: Mapping[str, str]
    description: str
    source: str
    floor: float | None
    currency: str
    names: Sequence[str]
    paths: Sequence[str]
    earlier_key: str = ""
    round: str = ""
    identities: Mapping[str, str] = field(default_factory=dict)


FINDING_COLUMNS = ("kind", "label", "confidence", "x0", "y0", "x1", "y1", "details")
"""The columns of `finding_row`, in order."""

_NO_BOX = (None, None, None, None)


def finding_row(
    kind: str, label: str, confidence: float | None, box: Any, details: Any
) -> tuple[Any, ...]:
    """Return one finding as `FINDING_COLUMNS`; `details` are plain values or None.

    Parameters
    ----------
    kind : str
        Kind of each row, or of this one.
    confidence : float or None
        From 0 to 1; None for none.
    """
    text = to_json(details).decode() if details else None
    return (kind, storable(label), confidence, *(box or _NO_BOX), text)
