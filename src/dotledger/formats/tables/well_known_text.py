"""Polygons as well-known text (OGC Simple Features, ISO 19125-1), in a column of a table."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

from dotledger.errors import TableError

__all__ = ["outer_rings"]

Points = tuple[tuple[float, float], ...]
_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_WORD = re.compile(r"\s*(?:SRID=\d+;)?\s*([A-Za-z]+)\s*(?:Z|M|ZM)?\s*(EMPTY|\(.*\))\s*", re.DOTALL)
_RING = re.compile(r"\(([^()]*)\)")
_POINT = re.compile(rf"\s*({_NUMBER})\s+({_NUMBER})(?:\s+{_NUMBER})*\s*")
_TAKEN = ("POLYGON", "MULTIPOLYGON")


def outer_rings(texts: Sequence[Any], where: Callable[[int], str]) -> list[tuple[Points, ...]]:
    """Return the outer rings of the polygon in each cell.

    Parameters
    ----------
    texts : sequence
        Such as ``POLYGON ((0 0, 4 0, 4 3, 0 0))``; an empty cell or ``EMPTY`` has none. Of a
        ``MULTIPOLYGON`` each part has a ring. Holes, a third number of a point, and a leading
        ``SRID=0;`` are passed over.
    where : callable
        Names a row's cell for people.

    Returns
    -------
    list of tuple of points
        The closing point, which repeats the first, is left out.

    Raises
    ------
    TableError
        For a cell that is no polygon, naming it.
    """
    return [
        () if text in (None, "") else _rings(text, row, where) for row, text in enumerate(texts)
    ]


def _rings(text: Any, row: int, where: Callable[[int], str]) -> tuple[Points, ...]:
    met = _WORD.fullmatch(text) if isinstance(text, str) else None
    if met is None or met[1].upper() not in _TAKEN:
        raise _not_one(text, row, where)
    if met[2] == "EMPTY":
        return ()
    rings = []
    # Of each polygon the first ring is the outer one; the others are holes in it.
    depth = 1 if met[1].upper() == "POLYGON" else 2
    for part in [met[2]] if depth == 1 else _parts(met[2]):
        first = _RING.search(part)
        points = [] if first is None else [_POINT.fullmatch(p) for p in first[1].split(",")]
        if len(points) < 4 or None in points:
            raise _not_one(text, row, where)
        ring = tuple((float(p[1]), float(p[2])) for p in points if p is not None)
        rings.append(ring[:-1] if ring[0] == ring[-1] else ring)
    return tuple(rings)


def _parts(text: str) -> list[str]:
    """Return the polygons of several: what stands between brackets one level down."""
    found, depth, start = [], 0, 0
    for place, sign in enumerate(text):
        if sign == "(":
            depth += 1
            start = place if depth == 2 else start
        elif sign == ")":
            if depth == 2:
                found.append(text[start : place + 1])
            depth -= 1
    return found


def _not_one(text: Any, row: int, where: Callable[[int], str]) -> TableError:
    return TableError(
        "not a polygon as well-known text",
        place=where(row),
        got=str(text)[:80],
        allowed=["POLYGON ((x y, x y, x y, x y))", "MULTIPOLYGON", "an empty cell"],
        row=row,
    )
