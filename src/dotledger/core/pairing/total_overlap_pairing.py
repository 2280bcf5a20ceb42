"""Pairing one-to-one with the greatest total overlap, for a fixed threshold."""

from __future__ import annotations

import numpy as np

from dotledger.core.arrays import Flags, Ints
from dotledger.core.pairing.measure_scope import Scope
from dotledger.core.pairing.overlapping_pairs import Edges, edges_of, visiting_order
from dotledger.core.pairing.pair_judging import Judged

__all__ = ["reassigned"]


def reassigned(scope: Scope, judged: Judged, passes: Flags) -> Judged:
    """Return the judgement with pairs chosen anew among what passes.

    Within one image and label the pairs are those whose overlaps, all at least the required
    one, have the greatest sum (a linear sum assignment: Crouse, "On implementing 2D rectangular
    assignment algorithms", 2016, as in `scipy.optimize.linear_sum_assignment`). Findings that do
    not pass, and findings in ignored annotations, are left as they were.
    """
    labels, required = len(scope.labels), round(judged.required or 0.0, 9)
    annotations = scope.annotations.grouped(labels)
    edges = edges_of(
        scope.findings.grouped(labels), annotations, visiting_order(annotations), required
    )
    countable = passes[edges.finding] & ~scope.ignore[edges.annotation]
    candidates = edges.take(countable & (edges.overlap >= required))
    findings = _places(np.lexsort((-scope.confidence, *scope.findings.box.T[::-1])))
    true = _places(visiting_order(annotations))
    order = np.lexsort((true[candidates.annotation], findings[candidates.finding]))
    candidates = candidates.take(order)  # the order of boxes, not of rows, decides between equals
    chosen = candidates.take(_greatest_total(candidates, annotations.group))
    by_row = np.argsort(chosen.finding)
    inside = edges.take(scope.ignore[edges.annotation] & (edges.inside >= required))
    return Judged(
        findings=judged.findings,
        required=judged.required,
        hit=chosen.finding[by_row],
        overlap=chosen.exact[by_row],
        annotation=chosen.annotation[by_row],
        aside=np.setdiff1d(np.unique(inside.finding), chosen.finding, assume_unique=True),
    )


def _places(order: Ints) -> Ints:
    """Return each row's place in an order of rows."""
    place = np.empty(len(order), dtype=np.intp)
    place[order] = np.arange(len(order))
    return place


def _greatest_total(edges: Edges, group: Ints) -> Ints:
    """Return the edges of the best assignment, worked out group by group."""
    order = np.argsort(group[edges.annotation], kind="stable")
    starts = np.flatnonzero(np.diff(group[edges.annotation][order], prepend=-1))
    parts = [_assigned(edges, rows) for rows in np.split(order, starts[1:])] if len(order) else []
    return np.concatenate([np.zeros(0, dtype=np.intp), *parts])


_FOR_A_PAIR = 1e-11
"""Far below the ninth decimal: among equal totals, more pairs are better."""


def _first_seen(values: Ints) -> Ints:
    """Return codes by first appearance."""
    _, first, place = np.unique(values, return_index=True, return_inverse=True)
    rank = np.empty(len(first), dtype=np.intp)
    rank[np.argsort(first)] = np.arange(len(first))
    return rank[place]


def _assigned(edges: Edges, rows: Ints) -> Ints:
    from scipy.optimize import linear_sum_assignment

    left, right = _first_seen(edges.finding[rows]), _first_seen(edges.annotation[rows])
    which = np.full((left.max() + 1, right.max() + 1), -1, dtype=np.intp)
    gain = np.zeros(which.shape)
    which[left, right], gain[left, right] = rows, edges.overlap[rows] + _FOR_A_PAIR
    chosen = which[linear_sum_assignment(gain, maximize=True)]
    return chosen[chosen >= 0]
