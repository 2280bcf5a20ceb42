"""Where writing goes on a picture: next to its box, over nothing that matters.

Pure geometry: a tag covers no other tag, no small box, and leaves the picture nowhere. One that
finds no place at all gives way to its number, which is small, with a line to its box if need be.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from dotledger.core.arrays import Floats
from dotledger.core.boxes.box_forms import Box
from dotledger.core.kinds import PLACES

__all__ = ["Placed", "place_tags"]

_SMALL = 6.0
"""A box of less than so many times the tag's area is small: no tag may cover it."""
_RINGS = 14


@dataclass(frozen=True, kw_only=True)
class Placed:
    """Where one tag goes.

    Attributes
    ----------
    spot : (x0, y0, x1, y1) or None
        In pixels; None if there is no place at all.
    full : bool
        Whether the whole text has room there, or its number only.
    away : bool
        Whether it is so far from its box that a line must lead there.
    """

    spot: Box | None
    full: bool
    away: bool = False


def place_tags(
    boxes: Sequence[Box],
    full: Sequence[tuple[float, float]],
    short: Sequence[tuple[float, float]],
    size: tuple[int, int],
    where: str = PLACES[0],
) -> list[Placed]:
    """Find a place for each tag.

    Parameters
    ----------
    boxes : sequence of (x0, y0, x1, y1)
        What the tags belong to, in pixels of the picture.
    full, short : sequence of (width, height)
        Of each tag with its text, and with its number only; a width of 0 has no tag.
    where : str
        One of `PLACES`: what is tried first. Inside, a tag may cover its own small box, no other.

    Returns
    -------
    list of Placed
        In the order of the boxes. Small boxes choose first: they have the fewest places.
    """
    placed: list[Placed] = [Placed(spot=None, full=False)] * len(boxes)
    array = np.array(boxes, dtype=float).reshape(-1, 4)
    areas = (array[:, 2] - array[:, 0]) * (array[:, 3] - array[:, 1])
    taken = _Taken(len(boxes))
    for place in np.argsort(areas, kind="stable").tolist():
        if not full[place][0]:
            continue
        kept = _kept_free(array, areas, full[place])
        spot = None
        if where != PLACES[0]:
            others = kept if where != "inside" else _kept_free(array, areas, full[place], place)
            asked = _asked(boxes[place], full[place], where)
            spot = _first_free(asked, taken, others, size)
        if spot is None:
            spot = _first_free(_near(boxes[place], *full[place]), taken, kept, size)
        away = False
        if spot is None:
            kept = _kept_free(array, areas, short[place])
            spot = _first_free(_near(boxes[place], *short[place]), taken, kept, size)
            found = Placed(spot=spot, full=False)
            if spot is None:
                spot = _first_free(_around(boxes[place], *short[place]), taken, kept, size)
                away = spot is not None
                found = Placed(spot=spot, full=False, away=away)
        else:
            found = Placed(spot=spot, full=True)
        placed[place] = found
        if spot is not None:
            taken.add(spot)
    return placed


class _Taken:
    """Spots that are taken, as one array that grows."""

    def __init__(self, most: int) -> None:
        self._rows = np.zeros((most, 4))
        self._number = 0

    def add(self, spot: Box) -> None:
        self._rows[self._number] = spot
        self._number += 1

    @property
    def rows(self) -> Floats:
        return self._rows[: self._number]


def _kept_free(
    boxes: Floats, areas: Floats, tag: tuple[float, float], own: int | None = None
) -> Floats:
    """Return the boxes that a tag of this size may not cover; `own` is the one it may."""
    small = areas < _SMALL * tag[0] * tag[1]
    if own is not None:
        small[own] = False
    return boxes[small]


def _asked(box: Box, tag: tuple[float, float], where: str) -> Iterator[Box]:
    """Yield the places above, below or inside a box: at its left, its middle, its right."""
    (x0, y0, x1, y1), (wide, high) = box, tag
    inside = where == "inside"
    if inside and (wide > x1 - x0 or high > y1 - y0):
        return
    tops = {"above": (y0 - high,), "below": (y1,), "inside": (y0, y1 - high)}[where]
    for top in tops:
        for left in (x0, (x0 + x1 - wide) / 2, x1 - wide):
            yield left, top, left + wide, top + high


def _near(box: Box, wide: float, high: float) -> Iterator[Box]:
    """Yield places that touch the box, the usual ones first."""
    x0, y0, x1, y1 = box
    yield x0, y0 - high, x0 + wide, y0
    yield x1 - wide, y0 - high, x1, y0
    yield x0, y1, x0 + wide, y1 + high
    yield x1 - wide, y1, x1, y1 + high
    yield x1, y0, x1 + wide, y0 + high
    yield x0 - wide, y0, x0, y0 + high
    yield x1, y1 - high, x1 + wide, y1
    yield x0 - wide, y1 - high, x0, y1
    if (x1 - x0) * (y1 - y0) >= _SMALL * wide * high and x1 - x0 > wide and y1 - y0 > high:
        yield x0, y0, x0 + wide, y0 + high
        yield x0, y1 - high, x0 + wide, y1
    middle = (x0 + x1 - wide) / 2
    yield middle, y0 - high, middle + wide, y0
    yield middle, y1, middle + wide, y1 + high


def _around(box: Box, wide: float, high: float) -> Iterator[Box]:
    """Yield places further and further from the box, all around it."""
    x, y = (box[0] + box[2] - wide) / 2, (box[1] + box[3] - high) / 2
    half = (box[2] - box[0] + wide) / 2, (box[3] - box[1] + high) / 2
    for ring in range(1, _RINGS + 1):
        for turn in range(12):
            angle = 2 * np.pi * (turn + 0.5 * (ring % 2)) / 12
            left = x + float(np.cos(angle)) * (half[0] + ring * wide)
            top = y + float(np.sin(angle)) * (half[1] + ring * high)
            yield left, top, left + wide, top + high


def _first_free(
    spots: Iterator[Box], taken: _Taken, kept: Floats, size: tuple[int, int]
) -> Box | None:
    for spot in spots:
        inside = spot[0] >= 0 and spot[1] >= 0 and spot[2] <= size[0] and spot[3] <= size[1]
        if inside and not _touches(spot, taken.rows) and not _touches(spot, kept):
            return spot
    return None


def _touches(spot: Box, rows: Floats) -> bool:
    return bool(
        (
            (rows[:, 0] < spot[2] - 0.01)
            & (spot[0] < rows[:, 2] - 0.01)
            & (rows[:, 1] < spot[3] - 0.01)
            & (spot[1] < rows[:, 3] - 0.01)
        ).any()
    )
