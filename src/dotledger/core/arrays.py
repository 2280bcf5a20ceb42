"""Types of arrays, and divisions that may be undefined."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["Counts", "Flags", "Floats", "Ints", "narrow", "ratio", "ratios"]

Ints = NDArray[np.intp]
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
Counts = NDArray[np.int64]


def ratio(part: float, whole: float) -> float:
    """Return ``part / whole``; NaN if `whole` is 0.

    Parameters
    ----------
    part : float
        Any number.
    whole : float
        Any number.

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
    part : ndarray of numbers
        Of any shape.
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

    Returns
    -------
    ndarray of int16 or intp
        The same numbers.
    """
    return codes.astype(np.int16) if codes.max(initial=0) < 2**15 else codes
