"""Pairing findings with annotations, exactly as defined, without a loop over images or labels.

Serial choice by falling confidence has one stable outcome, and rounds of offers reach it:
every finding offers itself to its best annotation, each annotation keeps the offer that comes
first in visiting order, and whoever is turned down offers to the next best (Gale & Shapley,
"College admissions and the stability of marriage", 1962; with one order shared by all
annotations the stable outcome is unique, hence equal to visiting one by one).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.boxes import shared_and_areas

__all__ = ["Boxes", "Pairs", "pair"]

_PAIRS_AT_ONCE = 2_000_000

Ints = NDArray[np.intp]
Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False, kw_only=True)
class Boxes:
    """Boxes in groups; only boxes of one group (one image and label) can be paired.

    Attributes
    ----------
    group : ndarray of intp, shape (n,)
        Any integers from 0.
    box : ndarray of float64, shape (n, 4)
        ``x0, y0, x1, y1``.
    """

    group: Ints
    box: Floats

    def __len__(self) -> int:
        return len(self.group)


@dataclass(frozen=True, eq=False, kw_only=True)
class Pairs:
    """The pairing at one required overlap.

    Attributes
    ----------
    required : float
        The required overlap.
    finding, annotation : ndarray of intp, shape (m,)
        Rows of the true-positive pairs, by rising finding row.
    overlap : ndarray of float64, shape (m,)
        Their overlaps.
    set_aside : ndarray of intp, shape (s,)
        Findings that lie in an ignored annotation.
    """

    required: float
    finding: Ints
    annotation: Ints
    overlap: Floats
    set_aside: Ints


@dataclass(frozen=True, eq=False)
class _Edges:
    """Finding-annotation pairs that share a group and may matter at some required overlap."""

    finding: Ints
    annotation: Ints
    overlap: Floats
    inside: Floats
    best: Floats

    def take(self, rows: NDArray[Any]) -> _Edges:
        return _Edges(
            self.finding[rows],
            self.annotation[rows],
            self.overlap[rows],
            self.inside[rows],
            self.best[rows],
        )


def pair(
    findings: Boxes,
    confidence: Floats,
    annotations: Boxes,
    ignore: NDArray[np.bool_],
    required: Sequence[float],
) -> list[Pairs]:
    """Pair findings with annotations at each required overlap.

    Parameters
    ----------
    findings, annotations : Boxes
        Length n and m; either may be empty.
    confidence : ndarray of float64, shape (n,)
        NaN sorts before all others.
    ignore : ndarray of bool, shape (m,)
        Annotations that can be neither found nor missed.
    required : sequence of float
        Each above 0 and at most 1.

    Returns
    -------
    list of Pairs
        One for each required overlap, in the order given. The result does not depend on the
        order of rows.
    """
    annotation_order = np.lexsort((*_box_keys(annotations.box), annotations.group))
    edges = _edges(findings, annotations, annotation_order, min(required, default=1.0))
    countable = ~ignore[edges.annotation]
    offers = _in_visiting_order(edges.take(countable), findings, confidence)
    ignored = edges.take(~countable)
    return [_pair_at(t, offers, ignored, len(annotations), annotation_order) for t in required]


def _box_keys(box: Floats) -> tuple[Floats, ...]:
    """Keys for lexsort: by x0, then y0, x1, y1."""
    return box[:, 3], box[:, 2], box[:, 1], box[:, 0]


def _edges(findings: Boxes, annotations: Boxes, order: Ints, least: float) -> _Edges:
    """Return the edges worth keeping; `annotation` counts places in `order`."""
    groups = annotations.group[order]
    first = np.searchsorted(groups, findings.group, side="left")
    count = np.searchsorted(groups, findings.group, side="right") - first
    boxes = annotations.box[order]
    kept = [
        _score(rows, first[rows], count[rows], findings.box, boxes, least)
        for rows in _chunks(count)
    ]
    columns = zip(
        *((e.finding, e.annotation, e.overlap, e.inside, e.best) for e in kept), strict=True
    )
    edges = _Edges(*(np.concatenate(column) for column in columns)) if kept else _no_edges()
    return _Edges(edges.finding, order[edges.annotation], edges.overlap, edges.inside, edges.best)


def _no_edges() -> _Edges:
    rows, numbers = np.zeros(0, dtype=np.intp), np.zeros(0)
    return _Edges(rows, rows, numbers, numbers, numbers)


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
) -> _Edges:
    finding = np.repeat(rows, count)
    starts = np.cumsum(count) - count
    annotation = np.arange(len(finding)) - np.repeat(starts - first, count)
    shared, own, other = shared_and_areas(f_box[finding], a_box[annotation])
    ratio = shared / (own + other - shared)
    inside = shared / own
    best = np.repeat(np.maximum.reduceat(ratio, starts), count)
    keep = np.flatnonzero(inside >= least)  # overlap never exceeds the share inside
    return _Edges(finding[keep], annotation[keep], ratio[keep], inside[keep], best[keep])


def _in_visiting_order(edges: _Edges, findings: Boxes, confidence: Floats) -> _Edges:
    """Sort edges by the visiting order of findings, then each finding's falling preference.

    The finding's identity is last: findings alike in everything else are interchangeable.
    """
    certain = np.where(np.isnan(confidence), np.inf, confidence)[edges.finding]
    keys = _box_keys(findings.box[edges.finding])
    return edges.take(np.lexsort((edges.finding, *keys, -edges.best, -certain)))


def _pair_at(
    required: float, offers: _Edges, ignored: _Edges, annotations: int, annotation_order: Ints
) -> Pairs:
    offers = offers.take(offers.overlap >= required)
    place = np.empty(annotations, dtype=np.intp)
    place[annotation_order] = np.arange(annotations)
    taken = _settle(offers, place, annotations)
    chosen = offers.take(taken)
    by_row = np.argsort(chosen.finding)
    inside = np.unique(ignored.finding[ignored.inside >= required])
    return Pairs(
        required=required,
        finding=chosen.finding[by_row],
        annotation=chosen.annotation[by_row],
        overlap=chosen.overlap[by_row],
        set_aside=np.setdiff1d(inside, chosen.finding, assume_unique=True),
    )


def _settle(offers: _Edges, place: Ints, annotations: int) -> Ints:
    """Return the rows of `offers` that become pairs."""
    if not len(offers.finding):
        return np.zeros(0, dtype=np.intp)
    new = np.r_[True, offers.finding[1:] != offers.finding[:-1]]
    rank = np.cumsum(new) - 1
    prefer = np.lexsort((place[offers.annotation], -offers.overlap, rank))
    target = offers.annotation[prefer]
    starts = np.flatnonzero(new)
    ends = np.r_[starts[1:], len(rank)]
    return prefer[_rounds(target, starts, ends, annotations)]


def _rounds(target: Ints, current: Ints, ends: Ints, annotations: int) -> Ints:
    """Let the findings, in rank order, offer themselves until nobody is turned down."""
    nobody = len(current)
    holder = np.full(annotations, nobody)
    current = current.copy()
    open_ranks = np.arange(nobody)
    np.minimum.at(holder, target[current], open_ranks)
    while True:
        lost = open_ranks[holder[target[current[open_ranks]]] != open_ranks]
        if not len(lost):
            return current[open_ranks]
        current[lost] += 1
        again = lost[current[lost] < ends[lost]]
        open_ranks = np.setdiff1d(open_ranks, lost[current[lost] >= ends[lost]], assume_unique=True)
        np.minimum.at(holder, target[current[again]], again)
