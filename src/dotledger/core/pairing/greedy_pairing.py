"""Pairing findings with annotations, exactly as defined, without a loop over images or labels.

Serial choice by falling confidence has one stable outcome, and rounds of offers reach it:
every finding offers itself to its best annotation, each annotation keeps the offer that comes
first in visiting order, and whoever is turned down offers to the next best (Gale & Shapley,
"College admissions and the stability of marriage", 1962; with one order shared by all
annotations the stable outcome is unique, hence equal to visiting one by one).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Floats, Ints, narrow
from dotledger.core.pairing.overlapping_pairs import (
    Boxes,
    Edges,
    box_keys,
    edges_of,
    no_edges,
    visiting_order,
)

__all__ = ["Pairs", "pair", "pair_edges"]

_FINDINGS_AT_ONCE = 100_000

# Worked: six findings of one label in one image, required overlap 0.5. Annotations are A (0 to 10,
# across), B (20 to 30) and C (40 to 60, marked ignore); every box is 10 high.
#
#   visit  confidence  from to  best overlap   what happens
#     1       0.95     0    8   A 80/100       takes A: right
#     2       0.90     0   10   A 100/100      A is taken, nothing else overlaps: wrong
#     3       0.80     20  29   B 90/100       equal confidence, so the better overlap visits first:
#                                              takes B: right
#     4       0.80     20  28   B 80/100       B is taken: wrong
#     5       0.70     42  52   none countable all of it lies in C: set aside
#     6       0.60     70  80   none           wrong
#
# Two right, three wrong, one set aside, none missed. C is neither found nor missed, and overlapping
# it gives finding 5 no better place in the order. tests/worked_cases.py has this and other cases.


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
    if len(findings) > _FINDINGS_AT_ONCE:
        return _paired_in_parts(findings, confidence, annotations, ignore, required)
    return _pair_once(findings, confidence, annotations, ignore, required)


def _pair_once(
    findings: Boxes,
    confidence: Floats,
    annotations: Boxes,
    ignore: NDArray[np.bool_],
    required: Sequence[float],
) -> list[Pairs]:
    # Edges are worked out once, at the lowest overlap asked for; higher ones use a part of them.
    order = visiting_order(annotations)
    edges = edges_of(findings, annotations, order, round(min(required, default=1.0), 9))
    countable = ~ignore[edges.annotation]
    offers, rank = _in_visiting_order(
        edges.take(countable), findings, confidence, order, annotations.name
    )
    ignored = edges.take(~countable)
    return [_pair_at(t, offers, rank, ignored, len(annotations)) for t in required]


def _paired_in_parts(
    findings: Boxes,
    confidence: Floats,
    annotations: Boxes,
    ignore: NDArray[np.bool_],
    required: Sequence[float],
) -> list[Pairs]:
    """Pair part by part, so few findings that they stay near the processor.

    Groups have nothing to do with each other; a part is a range of them.
    """
    found: list[list[Pairs]] = [[] for _ in required]
    count = -(-len(findings) // _FINDINGS_AT_ONCE)
    width = int(findings.group.max()) // count + 1
    both = zip(
        _rows_by_part(findings.group, width, count),
        _rows_by_part(annotations.group, width, count),
        strict=True,
    )
    for rows, annotated in both:
        mine, theirs = _part(findings, rows), _part(annotations, annotated)
        pairs = _pair_once(mine, confidence[rows], theirs, ignore[annotated], required)
        for place, one in enumerate(pairs):
            found[place].append(
                Pairs(
                    required=one.required,
                    finding=rows[one.finding],
                    annotation=annotated[one.annotation],
                    overlap=one.overlap,
                    set_aside=rows[one.set_aside],
                )
            )
    return [_joined(several) for several in found]


def _rows_by_part(group: Ints, width: int, count: int) -> list[Ints]:
    """Return the rows of each range of groups, rising; all rows are looked at once only."""
    part = narrow(np.minimum(group // width, count - 1))  # annotations may lie behind all findings
    order = np.argsort(part, kind="stable")
    return np.split(order, np.cumsum(np.bincount(part, minlength=count))[:-1])


def _part(boxes: Boxes, rows: Ints) -> Boxes:
    name = None if boxes.name is None else boxes.name[rows]
    group = boxes.group[rows]
    return Boxes(
        group=group - group.min(initial=0), box=np.take(boxes.box, rows, axis=0), name=name
    )


def _joined(parts: Sequence[Pairs]) -> Pairs:
    """Return the pairs of all parts as one, by rising finding."""
    finding = np.concatenate([part.finding for part in parts])
    order = np.argsort(finding)
    return Pairs(
        required=parts[0].required,
        finding=finding[order],
        annotation=np.concatenate([part.annotation for part in parts])[order],
        overlap=np.concatenate([part.overlap for part in parts])[order],
        set_aside=np.sort(np.concatenate([part.set_aside for part in parts])),
    )


def pair_edges(
    edges: Edges, findings: Boxes, confidence: Floats, order: Ints, required: float
) -> Pairs:
    """Pair along given edges only, by the same rule; nothing is set aside.

    Parameters
    ----------
    edges : Edges
        As `edges_of` gives them, or some of them.
    confidence : ndarray of float64, shape (n,)
        NaN sorts before all others.
    order : ndarray of intp, shape (m,)
        The annotations in the order that decides between equal overlaps.
    """
    offers, rank = _in_visiting_order(edges, findings, confidence, order)
    return _pair_at(required, offers, rank, no_edges(), len(order))


def _in_visiting_order(
    edges: Edges, findings: Boxes, confidence: Floats, order: Ints, names: Ints | None = None
) -> tuple[Edges, Ints]:
    """Sort edges by the visiting order of findings, then each finding's falling preference.

    Returns the edges and the place of each one's finding in the visiting order. Findings alike
    in everything are interchangeable, and told apart by their row. The edges of one finding must
    stand together, as `edges_of` gives them. `names` are the annotations' labels, where those of
    a pair may differ.
    """
    first = np.flatnonzero(np.diff(edges.finding, prepend=-1))
    size = np.diff(first, append=len(edges.finding))
    who = edges.finding[first]
    certain = np.where(np.isnan(confidence), np.inf, confidence)[who]
    best = np.maximum.reduceat(edges.overlap, first) if len(first) else edges.overlap
    unlike = np.zeros(len(edges.finding), dtype=np.intp)
    if names is not None and findings.name is not None:
        unlike[:] = findings.name[edges.finding] != names[edges.annotation]
        box = np.column_stack([findings.box[who], findings.name[who]])
        visits = _visiting(certain, best, box, _least_of_best(edges.overlap, best, first, unlike))
    else:
        visits = _visiting(certain, best, findings.box[who])
    first, size = first[visits], size[visits]
    rank = np.repeat(np.arange(len(who)), size)
    rows = np.arange(len(rank)) + np.repeat(first - (np.cumsum(size) - size), size)
    several = np.flatnonzero(np.repeat(size > 1, size))
    if len(several):
        place = np.empty(len(order), dtype=np.intp)
        place[order] = np.arange(len(order))
        mine = rows[several]
        label = () if names is None else (names[edges.annotation[mine]], unlike[mine])
        keys = (place[edges.annotation[mine]], *label, -edges.overlap[mine], rank[several])
        rows[several] = mine[np.lexsort(keys)]
    return edges.take(rows), rank


def _least_of_best(overlap: Floats, best: Floats, first: Ints, value: Ints) -> Ints:
    """Return for each finding the least value among its edges of the best overlap."""
    if not len(first):
        return value
    size = np.diff(first, append=len(overlap))
    among = np.where(overlap == np.repeat(best, size), value, 1)
    return np.minimum.reduceat(among, first)


def _visiting(certain: Floats, best: Floats, box: Floats, unlike: Ints | None = None) -> Ints:
    """Return the visiting order: by falling confidence, falling best overlap, then the box.

    The box (and what stands next to it) is looked at only if two findings are alike in the first
    two, which is rare. Those `unlike` their best annotation in label come after those that are.
    """
    rows = np.lexsort((-best, -certain))
    levels, most = certain[rows], best[rows]
    if np.any((levels[1:] == levels[:-1]) & (most[1:] == most[:-1])):
        later = () if unlike is None else (unlike,)
        rows = np.lexsort((*box.T[:3:-1], *box_keys(box), *later, -best, -certain))
    return rows


def _pair_at(required: float, offers: Edges, rank: Ints, ignored: Edges, annotations: int) -> Pairs:
    required_share = round(required, 9)
    enough = np.flatnonzero(offers.overlap >= required_share)
    taken = enough[_settle(offers.annotation[enough], rank[enough], annotations)]
    finding = offers.finding[taken]
    by_row = np.argsort(finding)
    inside = np.unique(ignored.finding[ignored.inside >= required_share])
    return Pairs(
        required=required,
        finding=finding[by_row],
        annotation=offers.annotation[taken][by_row],
        overlap=offers.exact[taken][by_row],
        set_aside=np.setdiff1d(inside, finding, assume_unique=True),
    )


def _settle(target: Ints, rank: Ints, annotations: int) -> Ints:
    """Return which offers become pairs; they stand in order of rank and falling preference."""
    if not len(target):
        return np.zeros(0, dtype=np.intp)
    starts = np.flatnonzero(np.r_[True, rank[1:] != rank[:-1]])
    ends = np.r_[starts[1:], len(rank)]
    return _rounds(target, starts, ends, annotations)


def _rounds(target: Ints, current: Ints, ends: Ints, annotations: int) -> Ints:
    """Let the findings, in rank order, offer themselves until nobody is turned down."""
    nobody = len(current)
    holder = np.full(annotations, nobody)
    current = current.copy()
    still_open = np.arange(nobody)
    np.minimum.at(holder, target[current], still_open)
    while True:
        turned_down = holder[target[current[still_open]]] != still_open
        if not turned_down.any():
            return current[still_open]
        lost = still_open[turned_down]
        current[lost] += 1
        hopeless = turned_down.copy()
        hopeless[turned_down] = current[lost] >= ends[lost]
        again = lost[current[lost] < ends[lost]]
        still_open = still_open[~hopeless]
        np.minimum.at(holder, target[current[again]], again)
