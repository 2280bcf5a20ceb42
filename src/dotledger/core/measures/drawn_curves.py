"""The curves of all draws of images at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from itertools import pairwise
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, ratios
from dotledger.core.measures.image_cases import Sparse, sparse_rows
from dotledger.core.measures.resampling import Weights
from dotledger.core.pairing.confidence_ranks import Ranks
from dotledger.core.pairing.pair_judging import Judged

__all__ = ["Curves", "Flags", "Floats", "all_together", "by_label", "draws_at_once"]

_AT_ONCE = 12_000_000
"""Numbers held in one array of a curve while draws are worked through."""
_POINTS_IN_A_BLOCK = 500
"""Points of the groups whose curves are worked through together."""
_EXACT = 2**22
"""Up to so many findings, every weighted count is exact in single precision."""
_MOST_WEIGHTS = 16_000_000
"""Weights held at once: images times draws."""
_HARDLY_ANY = 1e-9
"""Stands for a count of 0 below a fraction: where nothing is drawn, nothing is gained."""
_NOTHING = np.zeros(0, dtype=np.intp)


def draws_at_once(images: int, points: int) -> int:
    """Return how many draws are worked out together, so that they fit into memory.

    Returns
    -------
    int
        From 8 to 1,000.
    """
    return int(np.clip(min(_AT_ONCE // max(points, 1), _MOST_WEIGHTS // max(images, 1)), 8, 1000))


@dataclass(frozen=True, eq=False, kw_only=True)
class _Ranking:
    """Findings in groups, each with its own curve, at one or several required overlaps.

    `rank` counts the findings of the group with at least the same confidence.
    """

    groups: int
    images: int
    group: Ints
    rank: Ints
    image: Ints
    hits: Sequence[Ints]
    asides: Sequence[Ints]
    true_group: Ints
    true_image: Ints


def by_label(judged: Sequence[Judged]) -> _Ranking:
    """Return what is needed to rank the findings of each label.

    Parameters
    ----------
    judged : sequence of Judged
        Of one kind, one a required overlap.

    Returns
    -------
    _Ranking
        With a group for each label.
    """
    findings = judged[0].findings
    return _Ranking(
        groups=findings.labels,
        images=findings.images,
        group=findings.label,
        rank=findings.ranks.within(np.arange(len(findings.label))),
        image=findings.image,
        hits=[one.hit for one in judged],
        asides=[one.aside for one in judged],
        true_group=findings.true_label,
        true_image=findings.true_image,
    )


def all_together(judged: Sequence[Judged], at: Sequence[Ints], images: int) -> _Ranking:
    """Return the findings of one or several kinds as one group.

    Parameters
    ----------
    at : sequence of ndarray of intp
        For each kind, where its images stand among all.
    images : int
        How many there are in all kinds together.
    """
    findings = [one.findings for one in judged]
    confidence = np.concatenate([np.zeros(0), *(s.confidence for s in findings)])
    zeros = np.zeros(len(confidence), dtype=np.intp)
    ranks = findings[0].ranks if len(findings) == 1 else Ranks(zeros, confidence)
    starts = np.cumsum([0, *(len(s.label) for s in findings)])[:-1]

    def joined(parts: Any) -> Ints:
        return np.concatenate([_NOTHING, *parts])

    true_image = joined(p[s.true_image] for s, p in zip(findings, at, strict=True))
    return _Ranking(
        groups=1,
        images=images,
        group=zeros,
        rank=ranks.overall(np.arange(len(confidence))),
        image=joined(p[s.image] for s, p in zip(findings, at, strict=True)),
        hits=[joined(one.hit + start for one, start in zip(judged, starts, strict=True))],
        asides=[joined(one.aside + start for one, start in zip(judged, starts, strict=True))],
        true_group=np.zeros_like(true_image),
        true_image=true_image,
    )


@dataclass(frozen=True, eq=False)
class _CurveStep:
    """The points of the curves at one required overlap, and what lies between them.

    `points` says which of all points they are and `starts` where each group begins;
    `aside_from` names the points at which something set aside comes in, and `aside` what.
    """

    points: Ints
    starts: Ints
    right: Sparse
    aside_from: Ints
    aside_starts: Ints
    aside: Sparse

    def part(self, low: int, high: int, first_point: int) -> _CurveStep:
        """Return the step reduced to the groups from `low` to before `high`."""
        start, stop = self.starts[low], self.starts[high]
        skip, to = self.aside_starts[low], self.aside_starts[high]
        return _CurveStep(
            points=self.points[start:stop] - first_point,
            starts=self.starts[low : high + 1] - start,
            right=_rows(self.right, start, stop),
            aside_from=self.aside_from[skip:to] - start,
            aside_starts=self.aside_starts[low : high + 1] - skip,
            aside=_rows(self.aside, skip, to),
        )

    def areas(self, below: Floats, weight: Weights) -> Floats:
        """Return areas times what is annotated: shape (groups, draws)."""
        gained = self.right @ weight
        precision = _running_sums(gained, self.starts)
        counted = below[self.points]
        if len(self.aside_from):
            self._leave_out_aside(counted, weight)
        precision /= counted
        size = len(precision)
        _accumulated(np.maximum, precision[::-1], size - self.starts[::-1])
        precision *= gained
        return np.stack(
            [precision[start:stop].sum(axis=0) for start, stop in pairwise(self.starts)]
        )

    def _leave_out_aside(self, counted: Floats, weight: Weights) -> None:
        apart = _accumulated(np.add, self.aside @ weight, self.aside_starts)
        last = np.searchsorted(self.aside_from, np.arange(len(counted)), side="right") - 1
        own_start = np.repeat(self.starts[:-1], np.diff(self.starts))
        last[(last >= 0) & (self.aside_from[last] < own_start)] = -1
        none_yet = np.zeros((1, apart.shape[1]), dtype=apart.dtype)
        counted -= np.concatenate([apart, none_yet])[last]
        np.maximum(counted, _HARDLY_ANY, out=counted)


@dataclass(frozen=True, eq=False)
class _Block:
    """Neighbouring groups whose curves are worked through together, so few that they stay near.

    `between` sums the findings from one point to the next.
    """

    starts: Ints
    between: Sparse
    steps: Sequence[_CurveStep]

    def areas(self, weight: Weights) -> Floats:
        """Return areas times what is annotated: shape (overlaps, groups, draws)."""
        below = _accumulated(np.add, self.between @ weight, self.starts)
        np.maximum(below, _HARDLY_ANY, out=below)
        return np.stack([step.areas(below, weight) for step in self.steps])


# The curve bends only where something right was found, so each required overlap costs as much as
# it has hits; a draw sums weights up to those points and nowhere else.
@dataclass(frozen=True, eq=False)
class Curves:
    """The curves of all groups, in blocks; `points` is the most that one block has.

    Points are the places at which recall rises at some required overlap.
    """

    points: int
    blocks: Sequence[_Block]
    actual: Sparse
    exact: bool

    @classmethod
    def of(cls, ranking: _Ranking) -> Curves:
        """Return the curves of a ranking."""
        span = int(ranking.rank.max(initial=0)) + 1
        key = ranking.group * span + ranking.rank
        points = np.unique(np.concatenate([_NOTHING, *(key[hit] for hit in ranking.hits)]))
        ends = np.arange(ranking.groups + 1) * span
        starts = np.searchsorted(points, ends)
        always = reduce(np.intersect1d, ranking.asides)
        counted = np.ones(len(key), dtype=bool)
        counted[always] = False
        rows = np.flatnonzero(counted)
        at, inside = _point_of(points, key[rows], span)
        shape = (len(points), ranking.images)
        between = sparse_rows(at, ranking.image[rows[inside]], shape)
        steps = [
            _step(ranking, key, span, points, hit, np.setdiff1d(aside, always))
            for hit, aside in zip(ranking.hits, ranking.asides, strict=True)
        ]
        blocks = [
            _Block(
                starts=starts[low : high + 1] - starts[low],
                between=_rows(between, starts[low], starts[high]),
                steps=[step.part(low, high, starts[low]) for step in steps],
            )
            for low, high in _blocks(np.diff(starts))
        ]
        return cls(
            points=max((len(block.between.indptr) for block in blocks), default=0),
            blocks=blocks,
            actual=sparse_rows(
                ranking.true_group, ranking.true_image, (ranking.groups, ranking.images)
            ),
            exact=len(key) < _EXACT,
        )

    def areas(self, weight: Weights) -> Floats:
        """Return average precisions: shape (overlaps, groups, draws)."""
        weight = weight if self.exact else weight.astype(np.float64)
        areas = np.concatenate([block.areas(weight) for block in self.blocks], axis=1)
        return ratios(areas, (self.actual @ weight).astype(np.float64))


def _blocks(sizes: Ints) -> list[tuple[int, int]]:
    """Return runs of neighbouring groups that together hold a moderate number of points."""
    found, low, held = [], 0, 0
    for group, size in enumerate(sizes):
        if group > low and held + size > _POINTS_IN_A_BLOCK:
            found.append((low, group))
            low, held = group, 0
        held += int(size)
    return [*found, (low, len(sizes))] if len(sizes) else []


def _step(
    ranking: _Ranking, key: Ints, span: int, points: Ints, hit: Ints, aside: Ints
) -> _CurveStep:
    """Return the points at one required overlap."""
    mine, place = np.unique(key[hit], return_inverse=True)
    skip, kept = _point_of(mine, key[aside], span)
    skips, skip_place = np.unique(skip, return_inverse=True)
    starts = np.searchsorted(mine, np.arange(ranking.groups + 1) * span)
    images = ranking.images
    return _CurveStep(
        points=np.searchsorted(points, mine),
        starts=starts,
        right=sparse_rows(place, ranking.image[hit], (len(mine), images)),
        aside_from=skips,
        aside_starts=np.searchsorted(skips, starts),
        aside=sparse_rows(skip_place, ranking.image[aside[kept]], (len(skips), images)),
    )


def _point_of(points: Ints, key: Ints, span: int) -> tuple[Ints, Ints]:
    """Return the first point of the same group whose rank covers each key, and which have one."""
    at = np.searchsorted(points, key)
    inside = np.flatnonzero(at < len(points))
    inside = inside[points[at[inside]] // span == key[inside] // span]
    return at[inside], inside


def _rows(matrix: Sparse, start: int, stop: int) -> Sparse:
    """Return some rows of a matrix, without copying them."""
    first, last = matrix.indptr[start], matrix.indptr[stop]
    ends = matrix.indptr[start : stop + 1] - first
    parts = (matrix.data[first:last], matrix.indices[first:last], ends)
    return type(matrix)(parts, shape=(stop - start, matrix.shape[1]))


def _running_sums(rows: Floats, starts: Ints) -> Floats:
    """Return sums of rows from each start on; see `_accumulated`."""
    sums = np.empty_like(rows)
    edges = np.unique(np.minimum(starts, len(rows)))
    for start, stop in pairwise(edges):
        before = sums[start]
        before[:] = rows[start]
        for row, into in zip(rows[start + 1 : stop], sums[start + 1 : stop], strict=True):
            np.add(before, row, out=into)
            before = into
    return sums


def _accumulated(operation: np.ufunc, rows: Floats, starts: Ints) -> Floats:
    """Apply `operation` from each row to the next, in place, anew from each start.

    Row by row this is several times as fast as `ufunc.accumulate` along the first axis.
    """
    edges = np.unique(np.minimum(starts, len(rows)))
    for start, stop in pairwise(edges):
        before = rows[start]
        for row in rows[start + 1 : stop]:
            operation(before, row, out=row)
            before = row
    return rows
