"""Average precision: the exact area under the precision-recall curve."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from dotledger.core.arrays import Counts, Floats, Ints
from dotledger.core.pairing.confidence_ranks import Ranks
from dotledger.core.pairing.pair_judging import Judged

__all__ = ["average_precision", "pooled_average_precision"]


def average_precision(judged: Judged) -> Floats:
    """Return the exact area under each label's precision-recall curve.

    AP is the sum over the curve's points k, by falling confidence, of
    ``(R_k - R_(k-1)) * max over j >= k of P_j`` with ``R_0 = 0``; one point for each distinct
    confidence.

    Parameters
    ----------
    judged : Judged
        Of one kind, at one required overlap.

    Returns
    -------
    ndarray of float64, shape (labels,)
        NaN where nothing countable is annotated; 0 where it is and nothing was found.
    """
    findings = judged.findings
    return area(
        findings.label[judged.hit],
        findings.ranks.within(judged.hit),
        findings.label[judged.aside],
        findings.ranks.within(judged.aside),
        findings.actual,
    )


def pooled_average_precision(judged: Sequence[Judged]) -> float:
    """Return the area under the one curve of all labels of all kinds together; NaN if undefined.

    Parameters
    ----------
    judged : sequence of Judged
        Of the kinds that are pooled, at the same required overlap.

    Returns
    -------
    float
        0 if something is annotated and nothing was found.
    """
    if len(judged) == 1:
        rank = judged[0].findings.ranks.overall
        hit, aside = rank(judged[0].hit), rank(judged[0].aside)
    else:
        hit, aside = _common_ranks(judged)
    total = np.array([sum(len(one.findings.true_label) for one in judged)])
    zeros = np.zeros(len(hit) + len(aside), dtype=np.intp)
    return float(area(zeros[: len(hit)], hit, zeros[: len(aside)], aside, total)[0])


def _common_ranks(judged: Sequence[Judged]) -> tuple[Ints, Ints]:
    parts = [one.findings.confidence for one in judged]
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
        Of each hit; the rank counts everything of the group found with at least its confidence.
    aside_group, aside_rank : ndarray of intp, shape (s,)
        Of what is set aside, and does not count.
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
