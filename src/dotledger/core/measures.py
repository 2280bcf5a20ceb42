"""Precision, recall, F1, mean overlap and average precision, exactly as defined.

A measure is made in two steps: `judge_boxes` and `judge_presence` turn tables into *judged*
units (what was said, with what confidence, and whether it is right), and `tally` counts them
at a threshold and along the curve.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dotledger.core.matching import Boxes, Ints, Pairs, pair

__all__ = [
    "Judged",
    "Tally",
    "average_precision",
    "judge_boxes",
    "judge_presence",
    "ratio",
    "tally",
]

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]


@dataclass(frozen=True, eq=False, kw_only=True)
class Judged:
    """Units of one kind after judging at one required overlap.

    Attributes
    ----------
    labels : int
        How many labels are in scope; label codes run from 0.
    label : ndarray of intp, shape (n,)
        Label code of each thing said.
    image : ndarray of intp, shape (n,)
        Image code of each thing said.
    confidence : ndarray of float64, shape (n,)
        Infinite where the service simply asserts.
    right : ndarray of bool, shape (n,)
        True positive or false positive; what was set aside is not among the rows.
    overlap : ndarray of float64, shape (n,)
        Of the pair where `right`; NaN elsewhere and for presence.
    actual : ndarray of int64, shape (labels,)
        Countable annotations.
    units : ndarray of int64, shape (labels,), or None
        Presence only: how many (image, label) pairs are judged.
    aside_label, aside_confidence : ndarray, shape (s,)
        Findings in an ignored annotation.
    """

    labels: int
    label: Ints
    image: Ints
    confidence: Floats
    right: Flags
    overlap: Floats
    actual: NDArray[np.int64]
    units: NDArray[np.int64] | None
    aside_label: Ints
    aside_confidence: Floats


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

    annotated: NDArray[np.int64]
    true_positives: NDArray[np.int64]
    false_positives: NDArray[np.int64]
    set_aside: NDArray[np.int64]
    true_negatives: NDArray[np.int64] | None
    overlap_sum: Floats | None
    average_precision: Floats


def ratio(part: float, whole: float) -> float:
    """Return ``part / whole``; NaN if `whole` is 0."""
    return part / whole if whole else float("nan")


def judge_boxes(
    *,
    labels: int,
    findings: Boxes,
    confidence: Floats,
    annotations: Boxes,
    ignore: Flags,
    required: tuple[float, ...],
) -> list[tuple[Judged, Pairs]]:
    """Judge boxes at each required overlap; groups must be ``image * labels + label``.

    All rows must be in scope: a covered and answered image, a label of the vocabulary.
    """
    divisor = max(labels, 1)
    label, image = findings.group % divisor, findings.group // divisor
    actual = np.bincount(annotations.group[~ignore] % divisor, minlength=labels)
    certain = np.where(np.isnan(confidence), np.inf, confidence)
    return [
        (_judged(labels, label, image, certain, actual, pairs), pairs)
        for pairs in pair(findings, confidence, annotations, ignore, required)
    ]


def _judged(
    labels: int, label: Ints, image: Ints, certain: Floats, actual: NDArray[np.int64], pairs: Pairs
) -> Judged:
    overlap = np.full(len(label), np.nan)
    overlap[pairs.finding] = pairs.overlap
    keep = np.ones(len(label), dtype=bool)
    keep[pairs.set_aside] = False
    return Judged(
        labels=labels,
        label=label[keep],
        image=image[keep],
        confidence=certain[keep],
        right=~np.isnan(overlap[keep]),
        overlap=overlap[keep],
        actual=actual,
        units=None,
        aside_label=label[pairs.set_aside],
        aside_confidence=certain[pairs.set_aside],
    )


def judge_presence(
    *,
    labels: int,
    images: int,
    said: Ints,
    confidence: Floats,
    actual: Ints,
    ignored: Ints,
) -> Judged:
    """Judge presence; every unit is coded ``image * labels + label``.

    Parameters
    ----------
    labels, images : int
        How many labels and images are in scope.
    said : ndarray of intp, shape (n,)
        The unit of each finding; repeats are allowed, the highest confidence counts.
    confidence : ndarray of float64, shape (n,)
        NaN counts as certain.
    actual, ignored : ndarray of intp
        Units annotated, and units annotated as doubtful; the latter are left out.
    """
    divisor = max(labels, 1)
    ignored = np.unique(ignored)
    present = np.setdiff1d(actual, ignored)
    certain = np.where(np.isnan(confidence), np.inf, confidence)
    order = np.lexsort((-certain, said))
    unit, first = np.unique(said[order], return_index=True)
    doubtful = np.isin(unit, ignored)
    best = certain[order][first]
    judged = unit[~doubtful]
    return Judged(
        labels=labels,
        label=judged % divisor,
        image=judged // divisor,
        confidence=best[~doubtful],
        right=np.isin(judged, present),
        overlap=np.full(len(judged), np.nan),
        actual=np.bincount(present % divisor, minlength=labels),
        units=np.full(labels, images) - np.bincount(ignored % divisor, minlength=labels),
        aside_label=unit[doubtful] % divisor,
        aside_confidence=best[doubtful],
    )


def tally(judged: Judged, threshold: float | None) -> Tally:
    """Count what passes `threshold`, and the area under the whole curve.

    Average precision is that of all findings, whatever the threshold.
    """
    least = -np.inf if threshold is None else threshold
    passes = judged.confidence >= least
    right, wrong = judged.right & passes, ~judged.right & passes
    true_positives = _count_labels(judged, judged.label[right])
    false_positives = _count_labels(judged, judged.label[wrong])
    annotated = _with_total(judged.actual)
    negatives = None
    if judged.units is not None:
        negatives = _with_total(judged.units) - annotated - false_positives
    return Tally(
        annotated=annotated,
        true_positives=true_positives,
        false_positives=false_positives,
        set_aside=_count_labels(judged, judged.aside_label[judged.aside_confidence >= least]),
        true_negatives=negatives,
        overlap_sum=_overlap_sums(judged, right) if judged.units is None else None,
        average_precision=_all_average_precisions(judged),
    )


def _with_total(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.r_[counts, counts.sum()].astype(np.int64)


def _count_labels(judged: Judged, label: Ints) -> NDArray[np.int64]:
    return _with_total(np.bincount(label, minlength=judged.labels))


def _overlap_sums(judged: Judged, right: Flags) -> Floats:
    sums = np.bincount(judged.label[right], judged.overlap[right], minlength=judged.labels)
    return np.r_[sums, judged.overlap[right].sum()]


def _all_average_precisions(judged: Judged) -> Floats:
    each = average_precision(judged.label, judged.confidence, judged.right, judged.actual)
    everything = np.zeros(len(judged.label), dtype=np.intp)
    total = np.array([judged.actual.sum()])
    return np.r_[each, average_precision(everything, judged.confidence, judged.right, total)]


def average_precision(
    group: Ints, confidence: Floats, right: Flags, actual: NDArray[np.int64]
) -> Floats:
    """Return the exact area under each group's precision-recall curve.

    AP is the sum over the curve's points k, by falling confidence, of
    ``(R_k - R_(k-1)) * max over j >= k of P_j`` with ``R_0 = 0``; one point for each distinct
    confidence.

    Parameters
    ----------
    group : ndarray of intp, shape (n,)
        From 0.
    confidence : ndarray of float64, shape (n,)
        May be infinite; not NaN.
    right : ndarray of bool, shape (n,)
        True positives; all others are false positives.
    actual : ndarray of int64, shape (groups,)
        Countable annotations.

    Returns
    -------
    ndarray of float64, shape (groups,)
        NaN where `actual` is 0; 0 where it is not and nothing was found.
    """
    point_group, gained, precision = _curve_points(group, confidence, right)
    ceiling = _running_max_from_right(point_group, precision)
    area = np.bincount(point_group, gained * ceiling, minlength=len(actual))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(actual > 0, area / actual, np.nan)


def _curve_points(
    group: Ints, confidence: Floats, right: Flags
) -> tuple[Ints, NDArray[np.int64], Floats]:
    """Return the points of the curves at which recall rises.

    Precision falls at every other point, so none of those is the maximum to its right.
    """
    order = np.lexsort((-confidence, group))
    group, confidence, hits = group[order], confidence[order], np.cumsum(right[order])
    change = (group[1:] != group[:-1]) | (confidence[1:] != confidence[:-1])
    last = np.flatnonzero(np.r_[change, np.ones(min(len(group), 1), dtype=bool)])
    start = np.searchsorted(group, group[last], side="left")
    base = np.r_[0, hits][start]
    found = hits[last] - base
    new_group = np.r_[True, group[last][1:] != group[last][:-1]][: len(last)]
    gained = found - np.where(new_group, 0, np.r_[0, found[:-1]][: len(last)])
    rises = gained > 0
    precision = found / (last + 1 - start)
    return group[last][rises], gained[rises], precision[rises]


def _running_max_from_right(group: Ints, value: Floats) -> Floats:
    """Return, within each run of `group` (sorted), the maximum from each place to the run's end.

    Done on ranks, as integers, so that nothing is lost to rounding.
    """
    distinct, rank = np.unique(value, return_inverse=True)
    floor = (group.max(initial=0) - group) * len(distinct)
    highest = np.maximum.accumulate((rank + floor)[::-1])[::-1] - floor
    return distinct[highest]
