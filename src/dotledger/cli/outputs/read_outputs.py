"""Keys of what the commands under "Read" print; what is undefined is null."""

from __future__ import annotations

from typing import Any, NotRequired, TypedDict

from dotledger.cli.outputs.output_parts import About

__all__ = ["Findings", "Names", "Notes"]


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

    about: About
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

    about: About
    left_out: int
    unmapped: list[Unmapped]
    unused: list[Unused]
