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
    """Return ``part / whole``; NaN if `whole` is 0."""
    return part / whole if whole else float("nan")


def ratios(part: NDArray[np.number], whole: NDArray[np.number]) -> Floats:
    """Return ``part / whole`` element by element; NaN where `whole` is 0."""
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(whole != 0, part / whole, np.nan)


def narrow(codes: Ints) -> NDArray[np.integer]:
    """Return codes as 16-bit integers if they fit, which are sorted in linear time."""
    return codes.astype(np.int16) if codes.max(initial=0) < 2**15 else codes
