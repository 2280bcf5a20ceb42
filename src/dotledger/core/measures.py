"""Precision, recall, F1, mean overlap and average precision, exactly as defined.

A measure is made in two steps. `judge` turns a scope into *judged* units: what was said, with
what confidence, and which of it is right at each required overlap. `tally` counts them at a
threshold and along the whole curve. What was said is ranked once for all required overlaps: the
curve bends only where something right was said, so each overlap costs as much as it has hits.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from dotledger.core.matching import Ints, Pairs, pair
from dotledger.core.scope import Scope

__all__ = [
    "Judged",
    "Ranks",
    "Said",
    "Tally",
    "average_precision",
    "judge",
    "ratio",
    "ratios",
    "tally",
]

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
Counts = NDArray[np.int64]


@dataclass(frozen=True, eq=False, kw_only=True)
class Said:
    """Everything said about one kind, ranked; and what is annotated.

    Attributes
    ----------
    labels, images : int
        How many are in scope; codes run from 0.
    label, image : ndarray of intp, shape (n,)
        Of each thing said.
    confidence : ndarray of float64, shape (n,)
        Infinite where the service simply asserts.
    true_label, true_image : ndarray of intp, shape (m,)
        Of each countable annotation (or unit where the label is present).
    units : ndarray of int64, shape (labels,), or None
        Presence only: how many images are judged for each label.
    doubtful_label, doubtful_image : ndarray of intp
        Presence only: units left out.
    """

    labels: int
    images: int
    label: Ints
    image: Ints
    confidence: Floats
    true_label: Ints
    true_image: Ints
    units: Counts | None = None
    doubtful_label: Ints
    doubtful_image: Ints

    @property
    def actual(self) -> Counts:
        """Countable annotations by label: ndarray of int64, shape (labels,)."""
        return np.bincount(self.true_label, minlength=self.labels)

    @cached_property
    def ranks(self) -> Ranks:
        """How many things were said with at least the confidence of a row."""
        return Ranks(self.label, self.confidence)

    def passing(self, least: Floats) -> Flags:
        """Return which rows reach the threshold of their label (``-inf`` for none)."""
        return self.confidence >= least[self.label]


@dataclass(frozen=True, eq=False, kw_only=True)
class Judged:
    """What is right and what is set aside at one required overlap.

    Attributes
    ----------
    said : Said
        What is judged.
    required : float or None
        The required overlap; None for presence.
    hit : ndarray of intp, shape (h,)
        Rows of `said` that are right, rising.
    overlap : ndarray of float64, shape (h,)
        Of each pair; NaN for presence.
    truth : ndarray of intp, shape (h,)
        Row of each hit's annotation in the scope's truth; -1 for presence.
    aside : ndarray of intp, shape (s,)
        Rows of `said` in an ignored annotation; neither right nor wrong.
    """

    said: Said
    required: float | None
    hit: Ints
    overlap: Floats
    truth: Ints
    aside: Ints

    def wrong(self) -> Flags:
        """Return which rows of `said` are false positives: ndarray of bool, shape (n,)."""
        rows = np.ones(len(self.said.label), dtype=bool)
        rows[self.hit] = False
        rows[self.aside] = False
        return rows


@dataclass(frozen=True, eq=False, kw_only=True)
class Tally:
    """Counts by label and for all labels together, at one threshold and over the whole curve.

    Attributes
    ----------
    annotated, true_positives, false_positives, set_aside : ndarray of int64, shape (labels + 1,)
        The last entry is the pooled one.
    true_negatives : ndarray of int64, shape (labels + 1,), or None
        Presence only.
    overlap_sum : ndarray of float64, shape (labels + 1,), or None
        Sum of the overlaps of true-positive pairs; boxes only.
    average_precision : ndarray of float64, shape (labels + 1,)
        NaN where nothing is annotated.
    """

    annotated: Counts
    true_positives: Counts
    false_positives: Counts
    set_aside: Counts
    true_negatives: Counts | None
    overlap_sum: Floats | None
    average_precision: Floats


def ratio(part: float, whole: float) -> float:
    """Return ``part / whole``; NaN if `whole` is 0."""
    return part / whole if whole else float("nan")


def ratios(part: NDArray[np.number], whole: NDArray[np.number]) -> Floats:
    """Return ``part / whole`` element by element; NaN where `whole` is 0."""
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(whole != 0, part / whole, np.nan)


class Ranks:
    """Ranks of what was said, worked out for the rows that are asked for.

    Parameters
    ----------
    label : ndarray of intp, shape (n,)
        From 0.
    confidence : ndarray of float64, shape (n,)
        May be infinite; not NaN.
    """

    def __init__(self, label: Ints, confidence: Floats) -> None:
        self._label = label
        self._falling = -confidence
        self._within = np.full(len(label), -1, dtype=np.intp)
        self._overall = np.full(len(label), -1, dtype=np.intp)

    @cached_property
    def _sorted(self) -> Floats:
        return np.sort(self._falling)

    @cached_property
    def _sorted_by_label(self) -> list[Floats]:
        order = np.argsort(narrow(self._label), kind="stable")
        sizes = np.bincount(self._label)
        parts = np.split(self._falling[order], np.cumsum(sizes)[:-1])
        for part in parts:
            part.sort()
        return parts

    def overall(self, rows: Ints) -> Ints:
        """Return for each of `rows` how many things were said with at least its confidence."""
        new = rows[self._overall[rows] < 0]
        new = new[np.argsort(self._falling[new])]  # neighbours are looked up together
        self._overall[new] = np.searchsorted(self._sorted, self._falling[new], side="right")
        return self._overall[rows]

    def within(self, rows: Ints) -> Ints:
        """Return the same among things of the row's own label."""
        new = rows[self._within[rows] < 0]
        new = new[np.argsort(narrow(self._label[new]), kind="stable")]
        labels, starts = np.unique(self._label[new], return_index=True)
        for label, mine in zip(labels.tolist(), np.split(new, starts[1:]), strict=False):
            values = self._sorted_by_label[label]
            self._within[mine] = np.searchsorted(values, self._falling[mine], side="right")
        return self._within[rows]


def narrow(codes: Ints) -> NDArray[np.integer]:
    """Return codes as 16-bit integers if they fit, which are sorted in linear time."""
    return codes.astype(np.int16) if codes.max(initial=0) < 2**15 else codes


def judge(scope: Scope, required: Sequence[float]) -> list[Judged]:
    """Judge a scope at each required overlap; kinds judged by presence give the same each time."""
    if scope.boxed:
        return _judge_boxes(scope, required)
    return [_judge_presence(scope)] * len(required)


def _judge_boxes(scope: Scope, required: Sequence[float]) -> list[Judged]:
    labels = len(scope.labels)
    countable = ~scope.ignore
    nothing = np.zeros(0, dtype=np.intp)
    said = Said(
        labels=labels,
        images=len(scope.images),
        label=scope.said.label,
        image=scope.said.image,
        confidence=scope.confidence,
        true_label=scope.truth.label[countable],
        true_image=scope.truth.image[countable],
        doubtful_label=nothing,
        doubtful_image=nothing,
    )
    pairs = pair(
        scope.said.grouped(labels),
        scope.confidence,
        scope.truth.grouped(labels),
        scope.ignore,
        required,
    )
    return [_judged(said, one) for one in pairs]


def _judged(said: Said, pairs: Pairs) -> Judged:
    return Judged(
        said=said,
        required=pairs.required,
        hit=pairs.finding,
        overlap=pairs.overlap,
        truth=pairs.annotation,
        aside=pairs.set_aside,
    )


def _judge_presence(scope: Scope) -> Judged:
    """Judge pairs of image and label; of several findings the highest confidence counts."""
    labels = len(scope.labels)
    divisor = max(labels, 1)
    truth = scope.truth.grouped(labels).group
    doubtful = np.unique(truth[scope.ignore])
    present = np.setdiff1d(truth[~scope.ignore], doubtful)
    unit = scope.said.grouped(labels).group
    order = np.lexsort((-scope.confidence, unit))
    unit, first = np.unique(unit[order], return_index=True)
    confidence = scope.confidence[order][first]
    said = Said(
        labels=labels,
        images=len(scope.images),
        label=unit % divisor,
        image=unit // divisor,
        confidence=confidence,
        true_label=present % divisor,
        true_image=present // divisor,
        units=np.full(labels, len(scope.images))
        - np.bincount(doubtful % divisor, minlength=labels),
        doubtful_label=doubtful % divisor,
        doubtful_image=doubtful // divisor,
    )
    hit = np.flatnonzero(np.isin(unit, present))
    return Judged(
        said=said,
        required=None,
        hit=hit,
        overlap=np.full(len(hit), np.nan),
        truth=np.full(len(hit), -1),
        aside=np.flatnonzero(np.isin(unit, doubtful)),
    )


def tally(judged: Judged, passes: Flags, *, curve: Floats | None = None) -> Tally:
    """Count what passes, and the area under the whole curve.

    Parameters
    ----------
    judged : Judged
        At one required overlap.
    passes : ndarray of bool, shape (n,)
        Which rows of what was said pass the threshold; see `Said.passing`. Average precision is
        that of all findings, whatever the threshold.
    curve : ndarray of float64, shape (labels + 1,), optional
        Average precisions, if they are known.
    """
    said = judged.said
    hits = judged.hit[passes[judged.hit]]
    true_positives = _by_label(said, hits)
    set_aside = _by_label(said, judged.aside[passes[judged.aside]])
    false_positives = _by_label(said, np.flatnonzero(passes)) - true_positives - set_aside
    annotated = _with_total(said.actual)
    negatives = None
    if said.units is not None:
        negatives = _with_total(said.units) - annotated - false_positives
    return Tally(
        annotated=annotated,
        true_positives=true_positives,
        false_positives=false_positives,
        set_aside=set_aside,
        true_negatives=negatives,
        overlap_sum=_overlap_sums(judged, passes) if said.units is None else None,
        average_precision=np.r_[average_precision(judged), pooled_average_precision([judged])]
        if curve is None
        else curve,
    )


def _with_total(counts: Counts) -> Counts:
    return np.r_[counts, counts.sum()].astype(np.int64)


def _by_label(said: Said, rows: Ints) -> Counts:
    return _with_total(np.bincount(said.label[rows], minlength=said.labels))


def _overlap_sums(judged: Judged, passes: Flags) -> Floats:
    """Sum overlaps, smallest first, so that the sum does not depend on the order of rows."""
    keep = passes[judged.hit]
    overlap, label = judged.overlap[keep], judged.said.label[judged.hit[keep]]
    order = np.argsort(overlap)
    sums = np.bincount(label[order], overlap[order], minlength=judged.said.labels)
    return np.r_[sums, overlap[order].sum()]


def average_precision(judged: Judged) -> Floats:
    """Return the exact area under each label's precision-recall curve.

    AP is the sum over the curve's points k, by falling confidence, of
    ``(R_k - R_(k-1)) * max over j >= k of P_j`` with ``R_0 = 0``; one point for each distinct
    confidence.

    Returns
    -------
    ndarray of float64, shape (labels,)
        NaN where nothing countable is annotated; 0 where it is and nothing was found.
    """
    said = judged.said
    return area(
        said.label[judged.hit],
        said.ranks.within(judged.hit),
        said.label[judged.aside],
        said.ranks.within(judged.aside),
        said.actual,
    )


def pooled_average_precision(judged: Sequence[Judged]) -> float:
    """Return the area under the one curve of all labels of all kinds together; NaN if undefined."""
    if len(judged) == 1:
        rank = judged[0].said.ranks.overall
        hit, aside = rank(judged[0].hit), rank(judged[0].aside)
    else:
        hit, aside = _common_ranks(judged)
    total = np.array([sum(len(one.said.true_label) for one in judged)])
    zeros = np.zeros(len(hit) + len(aside), dtype=np.intp)
    return float(area(zeros[: len(hit)], hit, zeros[: len(aside)], aside, total)[0])


def _common_ranks(judged: Sequence[Judged]) -> tuple[Ints, Ints]:
    parts = [one.said.confidence for one in judged]
    confidence = np.concatenate([np.zeros(0), *parts])
    ranks = Ranks(np.zeros(len(confidence), dtype=np.intp), confidence)
    starts = np.cumsum([0, *map(len, parts)])[:-1]
    nothing = np.zeros(0, dtype=np.intp)
    hit = [one.hit + start for one, start in zip(judged, starts, strict=True)]
    aside = [one.aside + start for one, start in zip(judged, starts, strict=True)]
    return (
        ranks.overall(np.concatenate([nothing, *hit])),
        ranks.overall(np.concatenate([nothing, *aside])),
    )


def area(group: Ints, rank: Ints, aside_group: Ints, aside_rank: Ints, actual: Counts) -> Floats:
    """Return the exact area under each group's curve, from the ranks of what is right.

    Parameters
    ----------
    group, rank : ndarray of intp, shape (h,)
        Of each hit; the rank counts everything of the group said with at least its confidence.
    aside_group, aside_rank : ndarray of intp, shape (s,)
        Of what is set aside, and does not count.
    actual : ndarray of int64, shape (groups,)
        Countable annotations.
    """
    point_group, gained, precision = _points(group, rank, aside_group, aside_rank)
    ceiling = running_max_from_right(point_group, precision)
    total = np.bincount(point_group, gained * ceiling, minlength=len(actual))
    return np.where(actual > 0, total / np.maximum(actual, 1), np.nan)


def _points(
    group: Ints, rank: Ints, aside_group: Ints, aside_rank: Ints
) -> tuple[Ints, Ints, Floats]:
    """Return the points at which recall rises; precision falls at every other point."""
    span = int(max(rank.max(initial=0), aside_rank.max(initial=0))) + 1
    point, gained = np.unique(group * span + rank, return_counts=True)
    point_group = point // span
    found = np.cumsum(gained)
    base = np.r_[0, found][np.searchsorted(point_group, point_group, side="left")]
    apart = np.sort(aside_group * span + aside_rank)
    skipped = np.searchsorted(apart, point, side="right")
    skipped = skipped - np.searchsorted(apart, point_group * span, side="left")
    return point_group, gained, (found - base) / (point % span - skipped)


def running_max_from_right(group: Ints, value: Floats) -> Floats:
    """Return, within each run of `group` (sorted), the maximum from each place to the run's end.

    Done on ranks, as integers, so that nothing is lost to rounding.
    """
    distinct, rank = np.unique(value, return_inverse=True)
    floor = (group.max(initial=0) - group) * len(distinct)
    highest = np.maximum.accumulate((rank + floor)[::-1])[::-1] - floor
    return distinct[highest]
