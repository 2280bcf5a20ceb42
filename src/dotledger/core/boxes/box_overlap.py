"""Overlap of many boxes at once; see `dotledger.core.boxes.box_forms` for what a box is."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dotledger.errors import ArgumentError

__all__ = ["overlap", "shared_and_areas"]


def shared_and_areas(
    a: NDArray[np.float64], b: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Return the intersection area, the area of `a` and the area of `b`."""
    width = np.minimum(a[..., 2], b[..., 2]) - np.maximum(a[..., 0], b[..., 0])
    height = np.minimum(a[..., 3], b[..., 3]) - np.maximum(a[..., 1], b[..., 1])
    shared = np.maximum(width, 0.0) * np.maximum(height, 0.0)
    area_a = (a[..., 2] - a[..., 0]) * (a[..., 3] - a[..., 1])
    area_b = (b[..., 2] - b[..., 0]) * (b[..., 3] - b[..., 1])
    return shared, area_a, area_b


def overlap(a: ArrayLike, b: ArrayLike) -> NDArray[np.float64]:
    """Return the overlap (intersection over union) of boxes.

    Parameters
    ----------
    a, b : array_like of float, shape (..., 4)
        Boxes ``x0, y0, x1, y1`` with ``x0 < x1`` and ``y0 < y1``, pixels; shapes broadcast.

    Returns
    -------
    ndarray of float64
        From 0 to 1; 0 where boxes only touch. NaN where a number is NaN.

    Raises
    ------
    ArgumentError
        If the last axis is not of length 4.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.overlap([[0, 0, 2, 2]], [[1, 0, 3, 2]]).round(3).tolist()
    [0.333]
    """
    left, right = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    for name, boxes in (("a", left), ("b", right)):
        if boxes.ndim == 0 or boxes.shape[-1] != 4:
            raise ArgumentError(
                "boxes need a last axis of length 4", place=f"overlap: {name}", got=boxes.shape
            )
    shared, area_left, area_right = shared_and_areas(left, right)
    result: NDArray[np.float64] = shared / (area_left + area_right - shared)
    return result
