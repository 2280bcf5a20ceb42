"""Counts at a threshold, by label and of all labels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from dotledger.core.arrays import Counts, Flags, Floats, Ints
from dotledger.core.measures.average_precision import average_precision, pooled_average_precision
from dotledger.core.pairing.pair_judging import Judged, Ranked

__all__ = ["Tally", "tally"]


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


# The curve, and so average precision, is that of all findings whatever the threshold; only the
# counts are at the threshold.
def tally(judged: Judged, passes: Flags, *, curve: Floats | None = None) -> Tally:
    """Count what passes, and the area under the whole curve.

    Parameters
    ----------
    passes : ndarray of bool, shape (n,)
        Which findings pass the threshold; see `Ranked.passing`. Average precision is
        that of all findings, whatever the threshold.
    curve : ndarray of float64, shape (labels + 1,), optional
        Average precisions, if they are known.
    """
    findings = judged.findings
    hits = judged.hit[passes[judged.hit]]
    true_positives = _by_label(findings, hits)
    set_aside = _by_label(findings, judged.aside[passes[judged.aside]])
    false_positives = _by_label(findings, np.flatnonzero(passes)) - true_positives - set_aside
    annotated = _with_total(findings.actual)
    negatives = None
    if findings.units is not None:
        negatives = _with_total(findings.units) - annotated - false_positives
    return Tally(
        annotated=annotated,
        true_positives=true_positives,
        false_positives=false_positives,
        set_aside=set_aside,
        true_negatives=negatives,
        overlap_sum=_overlap_sums(judged, passes) if findings.units is None else None,
        average_precision=np.r_[average_precision(judged), pooled_average_precision([judged])]
        if curve is None
        else curve,
    )


def _with_total(counts: Counts) -> Counts:
    return np.r_[counts, counts.sum()].astype(np.int64)


def _by_label(findings: Ranked, rows: Ints) -> Counts:
    return _with_total(np.bincount(findings.label[rows], minlength=findings.labels))


def _overlap_sums(judged: Judged, passes: Flags) -> Floats:
    """Sum overlaps, smallest first, so that the sum does not depend on the order of rows."""
    keep = passes[judged.hit]
    overlap, label = judged.overlap[keep], judged.findings.label[judged.hit[keep]]
    order = np.argsort(overlap)
    sums = np.bincount(label[order], overlap[order], minlength=judged.findings.labels)
    return np.r_[sums, overlap[order].sum()]
