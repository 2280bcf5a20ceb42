"""What is right and what is set aside, at each required overlap."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from dotledger.core.arrays import Counts, Flags, Floats, Ints
from dotledger.core.pairing.confidence_ranks import Ranks
from dotledger.core.pairing.greedy_pairing import Pairs, pair
from dotledger.core.pairing.measure_scope import Scope

__all__ = ["Judged", "Ranked", "judge"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Ranked:
    """The findings of one kind, ranked; and what is annotated.

    Attributes
    ----------
    labels, images : int
        How many are in scope; codes run from 0.
    label, image : ndarray of intp, shape (n,)
        Of each finding.
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
        """How many findings there are with at least the confidence of a row."""
        return Ranks(self.label, self.confidence)

    def passing(self, least: Floats) -> Flags:
        """Return which rows reach the threshold of their label (``-inf`` for none)."""
        return self.confidence >= least[self.label]


@dataclass(frozen=True, eq=False, kw_only=True)
class Judged:
    """What is right and what is set aside at one required overlap.

    Attributes
    ----------
    findings : Ranked
        What is judged.
    required : float or None
        The required overlap; None for presence.
    hit : ndarray of intp, shape (h,)
        Rows of `findings` that are right, rising.
    overlap : ndarray of float64, shape (h,)
        Of each pair; NaN for presence.
    annotation : ndarray of intp, shape (h,)
        Row of each hit's annotation in the scope's annotations; -1 for presence.
    aside : ndarray of intp, shape (s,)
        Rows of `findings` in an ignored annotation; neither right nor wrong.
    """

    findings: Ranked
    required: float | None
    hit: Ints
    overlap: Floats
    annotation: Ints
    aside: Ints

    def wrong(self) -> Flags:
        """Return which rows of `findings` are false positives: ndarray of bool, shape (n,)."""
        rows = np.ones(len(self.findings.label), dtype=bool)
        rows[self.hit] = False
        rows[self.aside] = False
        return rows


def judge(scope: Scope, required: Sequence[float]) -> list[Judged]:
    """Judge a scope at each required overlap; kinds judged by presence give the same each time.

    Parameters
    ----------
    required : sequence of float
        Required overlaps, each above 0 up to 1.

    Returns
    -------
    list of Judged
        One a required overlap, in the order given.
    """
    if scope.boxed:
        return _judge_boxes(scope, required)
    return [_judge_presence(scope)] * len(required)


def _judge_boxes(scope: Scope, required: Sequence[float]) -> list[Judged]:
    labels = len(scope.labels)
    countable = ~scope.ignore
    nothing = np.zeros(0, dtype=np.intp)
    findings = Ranked(
        labels=labels,
        images=len(scope.images),
        label=scope.findings.label,
        image=scope.findings.image,
        confidence=scope.confidence,
        true_label=scope.annotations.label[countable],
        true_image=scope.annotations.image[countable],
        doubtful_label=nothing,
        doubtful_image=nothing,
    )
    pairs = pair(
        scope.findings.grouped(labels),
        scope.confidence,
        scope.annotations.grouped(labels),
        scope.ignore,
        required,
    )
    return [_judged(findings, one) for one in pairs]


def _judged(findings: Ranked, pairs: Pairs) -> Judged:
    return Judged(
        findings=findings,
        required=pairs.required,
        hit=pairs.finding,
        overlap=pairs.overlap,
        annotation=pairs.annotation,
        aside=pairs.set_aside,
    )


def _judge_presence(scope: Scope) -> Judged:
    """Judge pairs of image and label; of several findings the highest confidence counts."""
    labels = len(scope.labels)
    divisor = max(labels, 1)
    annotations = scope.annotations.grouped(labels).group
    doubtful = np.unique(annotations[scope.ignore])
    present = np.setdiff1d(annotations[~scope.ignore], doubtful)
    unit = scope.findings.grouped(labels).group
    order = np.lexsort((-scope.confidence, unit))
    unit, first = np.unique(unit[order], return_index=True)
    confidence = scope.confidence[order][first]
    findings = Ranked(
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
        findings=findings,
        required=None,
        hit=hit,
        overlap=np.full(len(hit), np.nan),
        annotation=np.full(len(hit), -1),
        aside=np.flatnonzero(np.isin(unit, doubtful)),
    )
