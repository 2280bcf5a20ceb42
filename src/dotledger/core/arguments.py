"""One check for each numeric argument: validated once at the door, calculated with afterwards."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from dotledger.errors import ArgumentError

__all__ = [
    "MOST_DRAWS",
    "MOST_SEED",
    "as_path",
    "check_overlap",
    "check_threshold",
    "real_number",
    "whole_number",
]

MOST_SEED = 2**63 - 1

MOST_DRAWS = 100_000
"""More would only take long: the interval's own error is far below its width by then."""


def whole_number(value: Any, *, place: str, least: int, most: int) -> int:
    """Return a whole number from `least` to `most`.

    Parameters
    ----------
    value : object
        An int, or a number of NumPy that is whole.

    Raises
    ------
    ArgumentError
        If it is anything else, or outside.
    """
    scalar = hasattr(value, "dtype") and value.ndim == 0
    whole = isinstance(value, int) or scalar
    if isinstance(value, bool) or not whole or value != int(value) or not least <= value <= most:
        raise ArgumentError(
            "a whole number is needed", place=place, got=value, allowed=[f"{least} to {most:,}"]
        )
    return int(value)


def real_number(value: Any, *, place: str) -> float:
    """Return a number as a float.

    Parameters
    ----------
    place : str
        Where it was given, for the message.

    Returns
    -------
    float
        Infinite and NaN too.

    Raises
    ------
    ArgumentError
        If it is text, a table or None; NaN is left to whoever knows the range.
    """
    plain = not isinstance(value, (str, bytes, bool)) and not getattr(value, "ndim", 0)
    try:
        number = float(value) if plain else None
    except (TypeError, ValueError, OverflowError):
        number = None
    if number is None:
        raise ArgumentError("a number is needed", place=place, got=value)
    return number


def check_threshold(value: float | None, *, place: str = "threshold") -> float | None:
    """Return `value` if it is None or a number from 0 to 1.

    Parameters
    ----------
    value : float or None
        A threshold, or None for none.
    place : str, default 'threshold'
        Where it was given, for the message.

    Returns
    -------
    float or None
        The value; 0 and 1 are allowed.

    Raises
    ------
    ArgumentError
        Otherwise.
    """
    if value is None:
        return None
    value = real_number(value, place=place)
    if not 0.0 <= value <= 1.0:
        raise ArgumentError(
            "a threshold is out of range", place=place, got=value, allowed=["0 to 1"]
        )
    return value


def check_overlap(value: float, *, place: str = "overlap") -> float:
    """Return `value` if it is greater than 0 and at most 1.

    Parameters
    ----------
    place : str, default 'overlap'
        Where it was given, for the message.

    Raises
    ------
    ArgumentError
        Otherwise.
    """
    value = real_number(value, place=place)
    if not 0.0 < value <= 1.0:
        raise ArgumentError(
            "a required overlap is out of range",
            place=place,
            got=value,
            allowed=["above 0, up to 1"],
        )
    return value


def as_path(given: Any, *, place: str, call: str) -> Path:
    """Return a path; refuse a table, or anything else that stands where a file is needed.

    Parameters
    ----------
    call : str
        How the call is written, for the message.

    Raises
    ------
    ArgumentError
        If it is no path.
    """
    if isinstance(given, str | os.PathLike):
        return Path(given)
    raise ArgumentError(
        "not a file", place=place, got=given, allowed=["a path"], next_step=f"Write {call}."
    )
