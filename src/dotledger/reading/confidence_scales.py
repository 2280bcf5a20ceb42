"""Confidences: every scale a service may use, brought to 0 to 1.

The service's own value is always kept next to the result.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import NamedTuple

__all__ = ["SCALES", "Word", "linear", "logistic"]


def linear(low: float, high: float) -> Callable[[float], float]:
    """Return the function that brings ``low..high`` to ``0..1``; values outside stay outside.

    Parameters
    ----------
    low : float
        What becomes 0.
    high : float
        What becomes 1; not equal to `low`.

    Returns
    -------
    callable
        From a number to a number.
    """
    span = high - low
    if low == 0:
        return lambda value: value / span
    return lambda value: (value - low) / span


def logistic(value: float) -> float:
    """Return the probability whose log-odds are `value`.

    Returns
    -------
    float
        From 0 to 1; no number is too large.
    """
    if value >= 0:
        return 1.0 / (1.0 + math.exp(-min(value, 700.0)))
    odds = math.exp(max(value, -700.0))
    return odds / (1.0 + odds)


SCALES: dict[str, Callable[[float], float]] = {
    "fraction": float,
    "percent": linear(0, 100),
    "thousandths": linear(0, 1000),
    "log-odds": logistic,
}
"""Named scales, each with the function from the service's number to 0 to 1."""


class Word(NamedTuple):
    """One word of an ordered scale.

    Attributes
    ----------
    name : str
        As the service writes it.
    rank : int
        Its place, from 0 for the lowest.
    confidence : float
        The representative number declared for it, 0 to 1.
    """

    name: str
    rank: int
    confidence: float


def ordered_words(pairs: Sequence[tuple[str, float]]) -> dict[str, Word]:
    """Return the words of a scale by name, ranked in the order given."""
    return {name: Word(name, rank, value) for rank, (name, value) in enumerate(pairs)}
