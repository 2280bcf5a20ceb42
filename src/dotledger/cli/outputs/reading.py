"""Keys of what the commands of reading and looking print."""

from __future__ import annotations

from typing import Any, NotRequired, TypedDict

__all__ = ["Conventions", "Drawn", "Findings", "Hits", "Names", "Notes", "Story"]

Box = tuple[float, float, float, float]
"""x0, y0, x1, y1 in pixels of the image as it is shown, from its top left corner."""


class Finding(TypedDict):
    """One finding; an image with nothing found has one row of its kind with an empty label.

    Confidence is 0 to 1; corners are pixels of the image as it is shown.
    """

    image: str
    kind: str
    label: str
    confidence: float | None
    x0: float | None
    y0: float | None
    x1: float | None
    y1: float | None
    details: NotRequired[dict[str, Any]]


class Findings(TypedDict):
    """Every finding of a batch or file."""

    findings: list[Finding]


class Note(TypedDict):
    """What reading an answer set aside or noticed."""

    image: str
    reason: str
    value: str


class Notes(TypedDict):
    """All of them, in the order of the answers."""

    notes: list[Note]


class Unmapped(TypedDict):
    """A label that the mapping does not have, how often it was found, and the nearest entry."""

    kind: str
    label: str
    findings: int
    nearest: str


class Unused(TypedDict):
    """An entry of the mapping that no finding has, and the nearest label found."""

    kind: str
    label: str
    nearest: str


class Names(TypedDict):
    """A mapping of labels beside the labels found."""

    left_out: int
    unmapped: list[Unmapped]
    unused: list[Unused]


class Convention(TypedDict):
    """Mean overlap with the truth if boxes were read this way, and as they are read now."""

    read_as: str
    mean_overlap: float | None
    as_now: float | None
    boxes_moved: int


class Conventions(TypedDict):
    """Every convention tried, the best first; `better` is null if none is clearly better."""

    conventions: list[Convention]
    better: str | None


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

    pictures: list[str]
    contact_sheet: str
    not_found: list[str]
    others: list[str]
