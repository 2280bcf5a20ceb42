"""Polygons as well-known text (OGC Simple Features, ISO 19125-1), in a column of a table."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

from dotledger.errors import MissingExtra, TableError

__all__ = ["outer_rings"]

Points = tuple[tuple[float, float], ...]
_SYSTEM = re.compile(r"\s*SRID=\d+;")
"""A coordinate system in front, as databases write it; it is no part of the standard's text."""


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
        If a cell is not a polygon; the message names it.
    MissingExtra
        If ``dot-ledger[polygons]`` is not installed.
    """
    return [
        () if text in (None, "") else _rings(text, row, where) for row, text in enumerate(texts)
    ]


def _rings(text: Any, row: int, where: Callable[[int], str]) -> tuple[Points, ...]:
    try:
        from shapely import GEOSException, from_wkt
    except ImportError as error:
        raise MissingExtra(
            "polygons as text need Shapely",
            place=where(row),
            next_step="Run: pip install 'dot-ledger[polygons]'",
        ) from error
    try:
        shape = from_wkt(_SYSTEM.sub("", text))
    except (GEOSException, TypeError) as error:
        raise _not_one(text, row, where) from error
    if shape is None or shape.geom_type not in ("Polygon", "MultiPolygon"):
        raise _not_one(text, row, where)
    parts = [shape] if shape.geom_type == "Polygon" else list(shape.geoms)
    # The closing point repeats the first; a third number of a point is a height.
    return tuple(
        tuple((x, y) for x, y, *_ in part.exterior.coords[:-1])
        for part in parts
        if not part.is_empty
    )


def _not_one(text: Any, row: int, where: Callable[[int], str]) -> TableError:
    return TableError(
        "not a polygon as well-known text",
        place=where(row),
        got=str(text)[:80],
        allowed=["POLYGON ((x y, x y, x y, x y))", "MULTIPOLYGON", "an empty cell"],
        row=row,
    )
