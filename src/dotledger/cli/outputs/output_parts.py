"""What keys of several outputs hold."""

from __future__ import annotations

from typing import TypedDict

__all__ = ["About", "Box", "Interval", "Run"]

Box = tuple[float, float, float, float]
"""x0, y0, x1, y1 in pixels of the image as it is shown, from its top left corner."""
Interval = tuple[float, float]
"""95 %, from low to high."""


class Run(TypedDict):
    """Whose findings: empty or null where not known; `sent` is ISO 8601, in UTC.

    `threshold` is the option as it was given; `cut_before` what the findings were cut at earlier.
    """

    name: str
    service: str
    batch: int | None
    reading: int | None
    round: str
    sent: str
    file: str | None
    threshold: str | None
    cut_before: list[float | dict[str, float]]


class About(TypedDict):
    """What an output is about: one run or several, and where the ground truth was read from."""

    runs: list[Run]
    annotations: str | None
