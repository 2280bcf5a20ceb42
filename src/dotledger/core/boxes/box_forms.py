"""Single boxes in plain Python: clipping, orientation, the conventions services write them in.

A box is ``x0, y0, x1, y1`` in continuous pixels of the upright original, origin at the
top-left corner of the top-left pixel, with ``x0 < x1`` and ``y0 < y1``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

__all__ = [
    "BOX_FORMS",
    "BOX_UNITS",
    "TO_CORNERS",
    "Box",
    "boxes_in_pixels",
    "clip",
    "enclosing",
    "turn_upright",
    "upright_size",
]

Box = tuple[float, float, float, float]

BOX_FORMS: dict[str, tuple[str, ...]] = {
    "corners": ("x0", "y0", "x1", "y1"),
    "corner+size": ("x0", "y0", "width", "height"),
    "centre+size": ("cx", "cy", "width", "height"),
}
"""Each way of writing a box, with the names of its four numbers in our order."""

BOX_UNITS: dict[str, float | None] = {
    "pixels": None,
    "fraction": 1.0,
    "percent": 100.0,
    "thousandths": 1000.0,
}
"""What a box's numbers count; the value is what the full width or height would read as."""


def clip(box: Box, width: float, height: float) -> tuple[Box | None, str]:
    """Clip one box to an image.

    Parameters
    ----------
    box : tuple of four floats
        ``x0, y0, x1, y1`` in pixels.
    width, height : float
        Size of the upright image in pixels.

    Returns
    -------
    box : tuple of four floats or None
        The clipped box; None if the box must be refused.
    note : str
        ``""``, ``"clipped"``, or why the box is refused: ``"not finite"``, ``"no area"``,
        ``"outside the image"``.
    """
    x0, y0, x1, y1 = box
    if not (math.isfinite(x0 + x1) and math.isfinite(y0 + y1)):
        return None, "not finite"
    if x0 >= x1 or y0 >= y1:
        return None, "no area"
    if x0 >= 0 and y0 >= 0 and x1 <= width and y1 <= height:
        return box, ""
    x0, y0, x1, y1 = max(x0, 0.0), max(y0, 0.0), min(x1, width), min(y1, height)
    if x0 >= x1 or y0 >= y1:
        return None, "outside the image"
    return (x0, y0, x1, y1), "clipped"


class _Turn(NamedTuple):
    """How a stored image is brought upright, for one EXIF orientation value.

    `swap` exchanges the axes; then x and y are mirrored within the upright size.
    """

    swap: bool
    mirror_x: bool
    mirror_y: bool


# EXIF 2.3, tag 0x0112: the meaning of the eight orientation values.
_TURNS = {
    1: _Turn(False, False, False),
    2: _Turn(False, True, False),
    3: _Turn(False, True, True),
    4: _Turn(False, False, True),
    5: _Turn(True, False, False),
    6: _Turn(True, True, False),
    7: _Turn(True, True, True),
    8: _Turn(True, False, True),
}


def upright_size(width: int, height: int, orientation: int) -> tuple[int, int]:
    """Return the size of an image after its EXIF orientation (1 to 8) has been applied.

    Parameters
    ----------
    orientation : int
        From 1 to 8 (CIPA DC-008, tag 0112).

    Returns
    -------
    tuple of int
        Width and height, upright, in pixels.
    """
    return (height, width) if _TURNS[orientation].swap else (width, height)


def turn_upright(
    points: Sequence[tuple[float, float]], width: float, height: float, orientation: int
) -> list[tuple[float, float]]:
    """Carry points from the stored image into the upright one.

    Parameters
    ----------
    points : sequence of (x, y)
        Pixels of the image as stored, before orientation.
    width, height : float
        Size of the image as stored.
    orientation : int
        EXIF orientation, 1 to 8.
    """
    turn = _TURNS[orientation]
    full_x, full_y = (height, width) if turn.swap else (width, height)
    turned = [(y, x) if turn.swap else (x, y) for x, y in points]
    return [
        (full_x - x if turn.mirror_x else x, full_y - y if turn.mirror_y else y) for x, y in turned
    ]


def _corners(a: float, b: float, c: float, d: float) -> Box:
    return a, b, c, d


def _corner_size(a: float, b: float, c: float, d: float) -> Box:
    return a, b, a + c, b + d


def _centre_size(a: float, b: float, c: float, d: float) -> Box:
    return a - c / 2, b - d / 2, a + c / 2, b + d / 2


TO_CORNERS: dict[str, Callable[[float, float, float, float], Box]] = {
    "corners": _corners,
    "corner+size": _corner_size,
    "centre+size": _centre_size,
}
"""For each of `BOX_FORMS`, the function from its four numbers to a box."""


def enclosing(points: Sequence[tuple[float, float]]) -> Box:
    """Return the smallest box around `points`; without points, a box that holds NaN.

    Parameters
    ----------
    points : sequence of (x, y)
        In any unit; may be empty.

    Returns
    -------
    tuple of float
        ``x0, y0, x1, y1`` in the same unit.
    """
    if not points:
        return (math.nan,) * 4
    xs, ys = [p[0] for p in points], [p[1] for p in points]
    return min(xs), min(ys), max(xs), max(ys)


def boxes_in_pixels(
    boxes: Sequence[Sequence[float]] | Any, margin: float, size: tuple[int, int]
) -> list[tuple[int, int, int, int]]:
    """Return boxes with their margin in whole pixels, grown outwards and kept inside the image.

    Parameters
    ----------
    boxes : sequence of (x0, y0, x1, y1)
        In pixels of the upright original.
    margin : float
        Of the box's sides, on every side; 0 or more.
    size : (int, int)
        Width and height of the image.

    Returns
    -------
    list of (x0, y0, x1, y1)
        Without boxes that lie outside the image.
    """
    found = []
    for x0, y0, x1, y1 in boxes:
        across, down = (x1 - x0) * margin, (y1 - y0) * margin
        left, top = max(0, math.floor(x0 - across)), max(0, math.floor(y0 - down))
        right = min(size[0], math.ceil(x1 + across))
        bottom = min(size[1], math.ceil(y1 + down))
        if left < right and top < bottom:
            found.append((left, top, right, bottom))
    return found
