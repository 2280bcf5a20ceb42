"""Which boxes of two sides touch, and how much they overlap."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Floats, Ints
from dotledger.core.boxes.box_overlap import shared_and_areas

__all__ = ["Boxes", "Edges", "box_keys", "edges_of", "no_edges", "visiting_order"]

_PAIRS_AT_ONCE = 2_000_000
_DENSE = 8
"""Groups are counted in an array while there are at most so many for each row."""


@dataclass(frozen=True, eq=False, kw_only=True)
class Boxes:
    """Boxes in groups; only boxes of one group (one image and label) can be paired.

    Attributes
    ----------
    group : ndarray of intp, shape (n,)
        Any integers from 0.
    box : ndarray of float64, shape (n, 4)
        ``x0, y0, x1, y1``.
    name : ndarray of intp, shape (n,), or None
        Where boxes of unequal labels may be paired: the place of each one's label among all, by
        name. Among equal overlaps an equal label is preferred, then the label's name.
    """

    group: Ints
    box: Floats
    name: Ints | None = None

    def __len__(self) -> int:
        return len(self.group)


@dataclass(frozen=True, eq=False)
class Edges:
    """Finding-annotation pairs that share a group and may matter at some required overlap.

    Attributes
    ----------
    finding, annotation : ndarray of intp, shape (e,)
        Rows.
    overlap : ndarray of float64, shape (e,)
        Of the two boxes, to nine decimals: whatever is compared is compared so, and writing the
        same boxes in other units changes no pairing.
    inside : ndarray of float64, shape (e,)
        Share of the finding that lies in the annotation, to nine decimals.
    exact : ndarray of float64, shape (e,)
        The overlap as calculated, for means.
    """

    finding: Ints
    annotation: Ints
    overlap: Floats
    inside: Floats
    exact: Floats

    def take(self, rows: NDArray[Any]) -> Edges:
        """Return the edges reduced to `rows` (indices or a mask)."""
        return Edges(
            self.finding[rows],
            self.annotation[rows],
            self.overlap[rows],
            self.inside[rows],
            self.exact[rows],
        )


def visiting_order(annotations: Boxes) -> Ints:
    """Return annotations sorted by group, then x0, y0, x1, y1.

    Returns
    -------
    ndarray of intp, shape (m,)
        Rows; equal boxes stay as they were.
    """
    return np.lexsort((*box_keys(annotations.box), annotations.group))


def box_keys(box: Floats) -> tuple[Floats, ...]:
    """Keys for lexsort: by x0, then y0, x1, y1.

    Parameters
    ----------
    box : ndarray of float64, shape (n, 4)
        ``x0, y0, x1, y1``.

    Returns
    -------
    tuple of ndarray
        The last is the first key, as `numpy.lexsort` takes them.
    """
    return box[:, 3], box[:, 2], box[:, 1], box[:, 0]


def edges_of(findings: Boxes, annotations: Boxes, order: Ints, least: float) -> Edges:
    """Return the edges whose finding lies in its annotation with a share of at least `least`.

    `order` must sort the annotations by group; overlap never exceeds the share inside.

    Parameters
    ----------
    order : ndarray of intp, shape (m,)
        See `visiting_order`.
    least : float
        Share of the finding inside the annotation, from 0 to 1.

    Returns
    -------
    Edges
        By finding, then in the order of `order`.
    """
    first, count = _candidates(findings.group, annotations.group[order])
    boxes = annotations.box[order]
    kept = [
        _score(rows, first[rows], count[rows], findings.box, boxes, least)
        for rows in _chunks(count)
    ]
    columns = zip(
        *((e.finding, e.annotation, e.overlap, e.inside, e.exact) for e in kept), strict=True
    )
    edges = Edges(*(np.concatenate(column) for column in columns)) if kept else no_edges()
    return Edges(edges.finding, order[edges.annotation], edges.overlap, edges.inside, edges.exact)


def _candidates(wanted: Ints, groups: Ints) -> tuple[Ints, Ints]:
    """Return where each wanted group begins in the sorted `groups`, and how long it is."""
    highest = int(max(wanted.max(initial=-1), groups.max(initial=-1)))
    if highest > _DENSE * (len(wanted) + len(groups)) + _DENSE:
        first = np.searchsorted(groups, wanted, side="left")
        return first, np.searchsorted(groups, wanted, side="right") - first
    sizes = np.bincount(groups, minlength=highest + 1)
    return (np.cumsum(sizes) - sizes)[wanted], sizes[wanted]


def no_edges() -> Edges:
    """Return a table of edges without rows."""
    rows, numbers = np.zeros(0, dtype=np.intp), np.zeros(0)
    return Edges(rows, rows, numbers, numbers, numbers)


def _chunks(count: Ints) -> Iterator[Ints]:
    """Yield rows that have candidates, a bounded number of candidate pairs at a time."""
    rows = np.flatnonzero(count)
    total = np.cumsum(count[rows])
    start = 0
    while start < len(rows):
        spent = total[start - 1] if start else 0
        stop = max(start + 1, int(np.searchsorted(total, spent + _PAIRS_AT_ONCE, side="right")))
        yield rows[start:stop]
        start = stop


def _score(
    rows: Ints, first: Ints, count: Ints, f_box: Floats, a_box: Floats, least: float
) -> Edges:
    finding = np.repeat(rows, count)
    starts = np.cumsum(count) - count
    annotation = np.arange(len(finding)) - np.repeat(starts - first, count)
    shared, own, other = shared_and_areas(f_box[finding], a_box[annotation])
    inside = compared(shared / own)
    keep = np.flatnonzero(inside >= least)
    shared, own, other = shared[keep], own[keep], other[keep]
    ratio = shared / (own + other - shared)
    return Edges(finding[keep], annotation[keep], compared(ratio), inside[keep], ratio)


def compared(share: Floats) -> Floats:
    """Return overlaps and shares as they are compared: to nine decimals."""
    return np.round(share, 9)
