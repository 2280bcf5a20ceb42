"""How sure: intervals of every measure, over images.

Shares (precision, recall, F1, false-alarm rate) get the intervals of `dotledger.core.shares`; what
is no share (average precision, mean overlap, means over labels) a percentile bootstrap over images.

Every measure of a draw is computed from weighted counts exactly as from the plain ones. For
average precision the weights are summed up to the points where something right was said, for
many draws at once: whatever lies between two such points only lowers precision.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import reduce
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.case_counts import CaseCounts, Sparse, sparse_rows
from dotledger.core.matching import Ints
from dotledger.core.measures import Judged, Ranks, ratios
from dotledger.core.resampling import (
    Interval,
    Resampling,
    Weights,
    limits,
    weights,
)
from dotledger.core.shares import ShareSums, share_limits

__all__ = ["Spread", "spread_of", "spread_of_all"]

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]

_AT_ONCE = 12_000_000
"""Numbers held in one array of a curve while draws are worked through."""

_POINTS_IN_A_BLOCK = 500
"""Points of the groups whose curves are worked through together."""

_EXACT = 2**22
"""Up to so many things said, every weighted count is exact in single precision."""

_MOST_WEIGHTS = 16_000_000
"""Weights held at once: images times draws."""

_HARDLY_ANY = 1e-9
"""Stands for a count of 0 below a fraction: where nothing is drawn, nothing is gained."""

_NOTHING = np.zeros(0, dtype=np.intp)


@dataclass(frozen=True, eq=False, kw_only=True)
class Spread:
    """Intervals of one kind.

    Attributes
    ----------
    labels : tuple of mapping of str to (float, float)
        For each label, by measure; NaN where no draw defines the measure.
    pooled, mean_over_labels : mapping of str to (float, float)
        By measure.
    mean_ap : (float, float)
        Of the mean over required overlaps of the mean over labels.
    label_images, pooled_images : mapping of str to int
        By measure, how many images contribute.
    """

    labels: tuple[Mapping[str, Interval], ...]
    pooled: Mapping[str, Interval]
    mean_over_labels: Mapping[str, Interval]
    mean_ap: Interval
    label_images: tuple[Mapping[str, int], ...] = ()
    pooled_images: Mapping[str, int] = field(default_factory=dict)

    def without_curves(self) -> Spread:
        """Return the spread without average precision."""
        return Spread(
            labels=tuple(_without_curve(one) for one in self.labels),
            pooled=_without_curve(self.pooled),
            mean_over_labels=_without_curve(self.mean_over_labels),
            mean_ap=(np.nan, np.nan),
            label_images=self.label_images,
            pooled_images=self.pooled_images,
        )


def _without_curve(intervals: Mapping[str, Interval]) -> dict[str, Interval]:
    return {name: ends for name, ends in intervals.items() if name != "average_precision"}


def spread_of(
    judged: Sequence[Judged], passes: Flags, resampling: Resampling, place: Ints
) -> Spread:
    """Return the intervals of one kind.

    Parameters
    ----------
    judged : sequence of Judged
        The same things judged at one or several required overlaps; counts and the curve are
        those of the first, the mean average precision is that of all.
    passes : ndarray of bool, shape (n,)
        Which rows of what was said pass the threshold.
    resampling : Resampling
        With at least one draw.
    place : ndarray of intp, shape (images,)
        Which draws each image gets; see `dotledger.core.resampling.placed`.
    """
    said = judged[0].said
    counts = CaseCounts.of(judged[0], passes, place)
    curves = _Curves.of(_by_label(judged))
    whole = _Curves.of(_all_together([judged[0]], [np.arange(said.images)], said.images))
    parts, pooled = [], []
    for drawn in weights(said.images, resampling, _draws_at_once(said.images, curves.points)):
        weight = drawn[place]
        sums = counts.by_label(weight)
        areas = curves.areas(weight)
        totals = {name: value.sum(axis=0) for name, value in sums.items()}
        parts.append(
            (
                {**_measures(sums), "average_precision": areas[0]},
                _measures(totals),
                _mean(areas, axis=1).mean(axis=0),
            )
        )
        pooled += [whole.areas(few)[0, 0] for few in _few(weight, whole.points)]
    spread = _summed_up(parts, np.concatenate(pooled), counts, resampling.level)
    return _with_shares(spread, counts, resampling.level)


def spread_of_all(
    judged: Sequence[Judged],
    passes: Sequence[Flags],
    at: Sequence[Ints],
    place: Ints,
    resampling: Resampling,
) -> dict[str, Interval]:
    """Return the intervals of the pooled measures of several kinds together.

    Parameters
    ----------
    judged : sequence of Judged
        One for each kind.
    passes : sequence of ndarray of bool
        For each kind, which rows of what was said pass the threshold.
    at : sequence of ndarray of intp
        For each kind, where its images stand among all `images`.
    place : ndarray of intp, shape (images,)
        Which draws each of all images gets.
    resampling : Resampling
        With at least one draw.
    """
    images = len(place)
    counts = [
        CaseCounts.of(one, mask, place[own])
        for one, mask, own in zip(judged, passes, at, strict=True)
    ]
    whole = _Curves.of(_all_together(judged, at, images))
    parts = []
    for drawn in weights(images, resampling, _draws_at_once(images, whole.points)):
        weight = drawn[place]
        sums = _added([c.by_label(weight[p]) for c, p in zip(counts, at, strict=True)])
        parts.append({**_measures(sums), "average_precision": whole.areas(weight)[0, 0]})
    by_image = [c.by_image() for c in counts]
    names = set.intersection(*(set(one) for one in by_image))
    if any(one.said.units is None for one in counts):
        names.discard("false_alarm_rate")
    shares = {name: _over_kinds([one[name] for one in by_image], at, images) for name in names}
    draws = _joined(parts)
    contributing = int(shares["f1"].n) if "f1" in shares else images
    found = _limits_each(draws, dict.fromkeys(draws, contributing), resampling.level)
    return found | {n: _ends(share_limits(one, resampling.level)) for n, one in shares.items()}


def _over_kinds(
    parts: Sequence[tuple[Floats, Floats]], at: Sequence[Ints], images: int
) -> ShareSums:
    """Return the sums of a share whose cases are those of several kinds."""
    x, m = np.zeros(images), np.zeros(images)
    for (own_x, own_m), places in zip(parts, at, strict=True):
        x[places] += own_x
        m[places] += own_m
    return ShareSums.of_images(x, m)


def _ends(limits: tuple[Floats, Floats]) -> Interval:
    return float(limits[0]), float(limits[1])


def _draws_at_once(images: int, points: int) -> int:
    return int(np.clip(min(_AT_ONCE // max(points, 1), _MOST_WEIGHTS // max(images, 1)), 8, 1000))


def _few(weight: Weights, points: int) -> Iterator[Weights]:
    """Yield the draws again, so few at a time that a curve of `points` fits."""
    count = _draws_at_once(1, points)
    for start in range(0, weight.shape[1], count):
        yield np.ascontiguousarray(weight[:, start : start + count])


def _with_shares(spread: Spread, counts: CaseCounts, level: float) -> Spread:
    """Return the spread with the intervals of shares in the place of what draws gave."""
    rows, images = counts.by_row(), counts.by_image()
    ends = {name: share_limits(sums, level) for name, sums in rows.items()}
    pooled = {name: ShareSums.of_images(x, m) for name, (x, m) in images.items()}
    with_pairs, pairs_in_all = counts.overlapping()
    labels = [
        {name: (float(low[i]), float(high[i])) for name, (low, high) in ends.items()}
        for i in range(counts.said.labels)
    ]
    return Spread(
        labels=tuple({**old, **new} for old, new in zip(spread.labels, labels, strict=True)),
        pooled={
            **spread.pooled,
            **{name: _ends(share_limits(sums, level)) for name, sums in pooled.items()},
        },
        mean_over_labels=spread.mean_over_labels,
        mean_ap=spread.mean_ap,
        label_images=tuple(
            {
                **{name: int(sums.n[i]) for name, sums in rows.items()},
                "average_precision": int(rows["f1"].n[i]),
                "mean_overlap": int(with_pairs[i]),
            }
            for i in range(counts.said.labels)
        ),
        pooled_images={
            **{name: int(sums.n) for name, sums in pooled.items()},
            "average_precision": int(pooled["f1"].n),
            "mean_overlap": int(pairs_in_all),
        },
    )


def _added(parts: Sequence[dict[str, Floats]]) -> dict[str, Floats]:
    """Add up the sums of several kinds; true negatives only if every kind has them."""
    names = {name for part in parts for name in part}
    if any("boxed" in part for part in parts):
        names.discard("absent")
    return {n: np.sum([p[n].sum(axis=0) for p in parts if n in p], axis=0) for n in names}


def _measures(sums: Mapping[str, Floats]) -> dict[str, Floats]:
    hits, passing, actual = sums["hits"], sums["passing"], sums["actual"]
    found = {
        "precision": ratios(hits, passing),
        "recall": ratios(hits, actual),
        "f1": ratios(2 * hits, passing + actual),
    }
    if "boxed" in sums:
        found["mean_overlap"] = ratios(sums["overlap"], sums["boxed"])
    if "absent" in sums:
        found["false_alarm_rate"] = ratios(passing - hits, sums["absent"])
    return found


@dataclass(frozen=True, eq=False, kw_only=True)
class _Ranking:
    """What was said in groups, each with its own curve, at one or several required overlaps.

    `rank` counts what was said in the group with at least the same confidence.
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


def _by_label(judged: Sequence[Judged]) -> _Ranking:
    said = judged[0].said
    return _Ranking(
        groups=said.labels,
        images=said.images,
        group=said.label,
        rank=said.ranks.within(np.arange(len(said.label))),
        image=said.image,
        hits=[one.hit for one in judged],
        asides=[one.aside for one in judged],
        true_group=said.true_label,
        true_image=said.true_image,
    )


def _all_together(judged: Sequence[Judged], at: Sequence[Ints], images: int) -> _Ranking:
    """Return everything said of one or several kinds as one group."""
    said = [one.said for one in judged]
    confidence = np.concatenate([np.zeros(0), *(s.confidence for s in said)])
    zeros = np.zeros(len(confidence), dtype=np.intp)
    ranks = said[0].ranks if len(said) == 1 else Ranks(zeros, confidence)
    starts = np.cumsum([0, *(len(s.label) for s in said)])[:-1]

    def joined(parts: Any) -> Ints:
        return np.concatenate([_NOTHING, *parts])

    true_image = joined(p[s.true_image] for s, p in zip(said, at, strict=True))
    return _Ranking(
        groups=1,
        images=images,
        group=zeros,
        rank=ranks.overall(np.arange(len(confidence))),
        image=joined(p[s.image] for s, p in zip(said, at, strict=True)),
        hits=[joined(one.hit + start for one, start in zip(judged, starts, strict=True))],
        asides=[joined(one.aside + start for one, start in zip(judged, starts, strict=True))],
        true_group=np.zeros_like(true_image),
        true_image=true_image,
    )


@dataclass(frozen=True, eq=False)
class _Step:
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

    def part(self, low: int, high: int, first_point: int) -> _Step:
        """Return the step reduced to the groups from `low` to before `high`."""
        start, stop = self.starts[low], self.starts[high]
        skip, to = self.aside_starts[low], self.aside_starts[high]
        return _Step(
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

    `between` sums everything said from one point to the next.
    """

    starts: Ints
    between: Sparse
    steps: Sequence[_Step]

    def areas(self, weight: Weights) -> Floats:
        """Return areas times what is annotated: shape (overlaps, groups, draws)."""
        below = _accumulated(np.add, self.between @ weight, self.starts)
        np.maximum(below, _HARDLY_ANY, out=below)
        return np.stack([step.areas(below, weight) for step in self.steps])


@dataclass(frozen=True, eq=False)
class _Curves:
    """The curves of all groups, in blocks; `points` is the most that one block has.

    Points are the places at which recall rises at some required overlap.
    """

    points: int
    blocks: Sequence[_Block]
    actual: Sparse
    exact: bool

    @classmethod
    def of(cls, ranking: _Ranking) -> _Curves:
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


def _step(ranking: _Ranking, key: Ints, span: int, points: Ints, hit: Ints, aside: Ints) -> _Step:
    """Return the points at one required overlap."""
    mine, place = np.unique(key[hit], return_inverse=True)
    skip, kept = _point_of(mine, key[aside], span)
    skips, skip_place = np.unique(skip, return_inverse=True)
    starts = np.searchsorted(mine, np.arange(ranking.groups + 1) * span)
    images = ranking.images
    return _Step(
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


def _mean(values: Floats, axis: int) -> Floats:
    """Return the mean over what is defined; NaN where nothing is."""
    defined = ~np.isnan(values)
    return ratios(np.where(defined, values, 0.0).sum(axis=axis), defined.sum(axis=axis))


def _joined(parts: Sequence[Mapping[str, Floats]]) -> dict[str, Floats]:
    names = parts[0] if parts else ()
    return {name: np.concatenate([part[name] for part in parts], axis=-1) for name in names}


def _limits_each(
    draws: Mapping[str, Floats], images: Mapping[str, int], level: float
) -> dict[str, Interval]:
    found = {name: limits(values, images[name], level) for name, values in draws.items()}
    return {name: (float(low), float(high)) for name, (low, high) in found.items()}


def _summed_up(
    parts: Sequence[tuple[dict[str, Floats], dict[str, Floats], Floats]],
    pooled_curve: Floats,
    counts: CaseCounts,
    level: float,
) -> Spread:
    pooled = {**_joined([part[1] for part in parts]), "average_precision": pooled_curve}
    each = _joined([part[0] for part in parts])
    means = {name: _mean(values, axis=0) for name, values in each.items()}
    overall = np.concatenate([np.zeros(0), *(part[2] for part in parts)])
    with_pairs, pairs_in_all = counts.overlapping()
    there = counts.by_row()["f1"].n
    contributing = int(ShareSums.of_images(*counts.by_image()["f1"]).n)
    by_label = {
        name: limits(values, with_pairs if name == "mean_overlap" else there, level)
        for name, values in each.items()
    }
    few = dict.fromkeys((*pooled, *means, ""), contributing) | {"mean_overlap": pairs_in_all}
    return Spread(
        labels=tuple(
            {name: (float(low[i]), float(high[i])) for name, (low, high) in by_label.items()}
            for i in range(counts.said.labels)
        ),
        pooled=_limits_each(pooled, few, level),
        mean_over_labels=_limits_each(means, few, level),
        mean_ap=_limits_each({"": overall}, few, level)[""] if parts else (np.nan,) * 2,
    )
