"""Keys of what the commands under "Act" print; what is undefined is null."""

from __future__ import annotations

from typing import NotRequired, TypedDict

from dotledger.cli.outputs.output_parts import About, Box, Interval

__all__ = ["Copies", "Covered", "Reviewed", "Screened", "SortedImages"]


class RuleCount(TypedDict):
    """How many images one rule decided."""

    verdict: str
    images: int


class ImageVerdict(TypedDict):
    """What the rules decide on one image, and why."""

    image: str
    verdict: str
    reasons: list[str]


class VerdictCounts(TypedDict):
    """How right verdicts are; shares are null where there is nothing to share."""

    caught: int
    held_unsafe: int
    let_through: int
    false_alarms: int
    held_safe: int
    rightly_passed: int
    left_out: int
    let_through_share: float | None
    false_alarm_rate: float | None
    held_share: float | None
    intervals: dict[str, Interval | None]


class Decided(TypedDict):
    """What one file of rules decides; counts by verdict."""

    audience: str
    counts: dict[str, int]
    rules: dict[str, RuleCount]
    images: list[ImageVerdict]
    notes: list[str]
    measured: NotRequired[VerdictCounts]


class Screened(TypedDict):
    """By file of rules."""

    about: About
    rules: dict[str, Decided]


class Pair(TypedDict):
    """How far two persons agree on what both decided."""

    first: str
    second: str
    images: int
    agreed: int
    kappa: float | None
    differ: list[str]


class Decision(TypedDict):
    """A person's newest word on an image, or on one finding of it; `made` is ISO 8601 in UTC."""

    image: str
    row: int
    who: str
    made: str
    word: str
    label: str


class Reviewed(TypedDict):
    """Verdicts by person and image, and how far persons agree."""

    about: About
    verdicts: dict[str, dict[str, str]]
    agreement: list[Pair]
    decisions: list[Decision]


class SortedImage(TypedDict):
    """Where an image went, and why; `path` is null where nothing was written."""

    image: str
    place: str
    why: str
    path: str | None
    state: str


class SortedImages(TypedDict):
    """One row for each image and place."""

    about: About
    images: list[SortedImage]


class Copy(TypedDict):
    """An image that is near a known one; likeness is the share of equal bits."""

    image: str
    known: str
    likeness: float
    mirrored: bool


class NotCompared(TypedDict):
    """An image that could not be read."""

    image: str
    reason: str


class Copies(TypedDict):
    """Near-copies among `images`, of so many `known` ones."""

    images: int
    known: int
    copies: list[Copy]
    not_compared: list[NotCompared]


class LeftOpen(TypedDict):
    """Something annotated that is not covered whole; `covered` is the share that is."""

    label: str
    box: Box
    covered: float


class CoveredImage(TypedDict):
    """A copy in which things are covered; `removed` are parts of the file that were left out."""

    image: str
    path: str | None
    covered: int
    left_open: list[LeftOpen]
    annotated: int | None
    below_threshold: int
    removed: list[str]
    still_found: list[tuple[float | None, Box, str]] | None
    problem: str


class Covered(TypedDict):
    """All images given."""

    about: About
    images: list[CoveredImage]
