"""Keys of what the commands under "Look" print; what is undefined is null."""

from __future__ import annotations

from typing import NotRequired, TypedDict

from dotledger.cli.outputs.output_parts import About, Box

__all__ = ["Drawn", "Hits", "Story"]


class Call(TypedDict):
    """One call for an image; the start is ISO 8601 in UTC, headers are those kept."""

    call: str
    started: str
    seconds: float
    attempts: int
    status: int
    price: float
    images: int
    version: str | None
    currency: str
    headers: dict[str, str]


class Outcome(TypedDict):
    """What came of an image for one kind."""

    outcome: str
    reason: str


class Judged(TypedDict):
    """A finding of the image, and whether it is right; `state` is empty without ground truth."""

    kind: str
    label: str
    confidence: float | None
    box: Box | None
    state: str
    reason: str
    more: str


class Missed(TypedDict):
    """An annotation that no finding is paired with."""

    kind: str
    label: str
    box: Box | None
    reason: str


class Verdict(TypedDict):
    """What the rules decide, and why."""

    verdict: str
    reasons: list[str]


class Story(TypedDict):
    """Everything the ledger has on one image; `raw` by call, where it is asked for."""

    image: str
    path: str
    sha256: str
    file: str
    size: list[float] | None
    batch: int
    service: str
    prepared: list[str]
    calls: list[Call]
    outcomes: dict[str, Outcome]
    reviews: dict[str, str]
    verdict: Verdict | None
    raw: NotRequired[dict[str, str]]
    findings: list[Judged]
    missed: list[Missed]


class Hit(TypedDict):
    """A finding, or an image, that was searched for; `sent` is ISO 8601 in UTC."""

    batch: int
    service: str
    sent: str
    image: str
    path: str
    kind: str
    label: str
    confidence: float | None
    box: Box | None


class Hits(TypedDict):
    """All that was found, the newest batch first."""

    hits: list[Hit]


class Drawn(TypedDict):
    """Files written; `others` lay in the folder before."""

    about: About
    pictures: list[str]
    contact_sheet: str
    not_found: list[str]
    others: list[str]
