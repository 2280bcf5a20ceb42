"""Types of arrays, and divisions that may be undefined."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

__all__ = ["Counts", "Flags", "Floats", "Ints", "narrow", "ratio", "ratios", "slices"]

Ints = NDArray[np.intp]
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
Counts = NDArray[np.int64]


def ratio(part: float, whole: float) -> float:
    """Return ``part / whole``; NaN if `whole` is 0.

    Returns
    -------
    float
        NaN if undefined.
    """
    return part / whole if whole else float("nan")


def ratios(part: NDArray[np.number], whole: NDArray[np.number]) -> Floats:
    """Return ``part / whole`` element by element; NaN where `whole` is 0.

    Parameters
    ----------
    whole : ndarray of numbers
        Of a shape that broadcasts with it.

    Returns
    -------
    ndarray of float64
        NaN if undefined; no warning.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(whole != 0, part / whole, np.nan)


def narrow(codes: Ints) -> NDArray[np.integer]:
    """Return codes as 16-bit integers if they fit, which are sorted in linear time.

    Parameters
    ----------
    codes : ndarray of intp
        Whole numbers of at least 0; may be empty.
    """
    return codes.astype(np.int16) if codes.max(initial=0) < 2**15 else codes


# What is made of so many rows stays in the processor's cache: of ten million rows at once each
# step would write its result to memory, and the next one fetch it from there.
_AT_A_TIME = 1 << 15


def slices(length: int) -> Iterator[slice]:
    """Yield slices that together are all rows, in order, each of a size that is quick to work on.

    Parameters
    ----------
    length : int
        How many rows there are; none give no slice.
    """
    for start in range(0, length, _AT_A_TIME):
        yield slice(start, min(start + _AT_A_TIME, length))
