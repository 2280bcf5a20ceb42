"""Every measure, in one record each: what it is a ratio of, and all that is said about it.

Tallies, draws, intervals, exchanges, slices, sweeps, gates, tables, files and pages loop over
`MEASURES`. Adding a measure is adding a record here, and its line in the reference of the tests.

A measure is a ratio of counts, or the plain mean of several ratios. The counts, of one label or of
labels together, at a threshold:

- ``hits``: true positives; ``found``: all that passes and counts, TP + FP;
- ``actual``: countable annotations, TP + FN; ``absent``: images without the label, FP + TN
  (presence only); ``overlap``: the summed overlaps of true-positive pairs (boxes only).

The same forms are applied to numbers, arrays over labels or draws, and sparse matrices over images.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from dotledger.core.arrays import ratios

__all__ = [
    "MEASURES",
    "RANKED",
    "RATIOS",
    "Form",
    "MeasureRecord",
    "Measured",
    "combined",
    "f_measure",
    "records_for",
]

Form = Mapping[str, float]
"""A sum of counts, each with its factor."""


@dataclass(frozen=True, kw_only=True)
class MeasureRecord:
    """One measure.

    Attributes
    ----------
    name : str
        In JSON, tables and gates.
    heading : str
        In tables for people.
    definition : str
        Its formula, and when it is undefined.
    ratios : tuple of (Form, Form)
        Part and whole; the measure is the mean of the ratios. Empty for average precision, which is
        the area under a curve and not a ratio of counts.
    judged : {"all", "boxes", "presence"}
        The kinds that it is for.
    interval : {"share", "mean", "draws"}
        How its interval is made; see `dotledger.core.measures.share_limits`.
    lower_is_better : bool
        Which of two runs is better.
    counts : Form pair, optional
        Shown next to the value in a gate, such as "163 of 460".
    rank : int
        Its place in tables for people; files keep the order of `MEASURES`.
    wide : bool
        Whether the table of presence, which has more columns, does without it.
    """

    name: str
    heading: str
    definition: str
    ratios: tuple[tuple[Form, Form], ...] = ()
    judged: Literal["all", "boxes", "presence"] = "all"
    interval: Literal["share", "mean", "draws"] = "share"
    lower_is_better: bool = False
    counts: tuple[Form, Form] | None = None
    rank: int = 99
    wide: bool = False

    def pairs(self, counts: Mapping[str, Any]) -> list[tuple[Any, Any]]:
        """Return part and whole of each ratio, from counts of one shape."""
        return [(combined(part, counts), combined(whole, counts)) for part, whole in self.ratios]

    @property
    def needs(self) -> frozenset[str]:
        """The counts that it is made of."""
        return frozenset(name for pair in self.ratios for form in pair for name in form)

    def value(self, counts: Mapping[str, Any]) -> Any:
        """Return the measure from counts of one shape; NaN where a whole is 0 or a count missing.

        Parameters
        ----------
        counts : mapping of str to array-like
            At least those of `needs`; else the measure is undefined.

        Returns
        -------
        ndarray of float64
            Of the shape of the counts.
        """
        if not self.ratios or not self.needs <= set(counts):
            return np.full(np.shape(counts["hits"]), np.nan)
        parts = [
            ratios(*np.broadcast_arrays(combined(part, counts), combined(whole, counts)))
            for part, whole in self.ratios
        ]
        return parts[0] if len(parts) == 1 else sum(parts) / len(parts)

    def is_for(self, *, presence: bool) -> bool:
        """Tell whether it is for kinds judged by presence, or for those judged by boxes."""
        return self.judged in ("all", "presence" if presence else "boxes")


def combined(form: Form, counts: Mapping[str, Any]) -> Any:
    """Return a sum of counts: numbers, arrays or sparse matrices alike."""
    terms = [
        counts[name] if factor == 1 else counts[name] * factor for name, factor in form.items()
    ]
    total = terms[0]
    for term in terms[1:]:
        total = total + term
    return total


_HITS: Form = {"hits": 1}
_FOUND: Form = {"found": 1}
_ACTUAL: Form = {"actual": 1}
_ABSENT: Form = {"absent": 1}
_FALSE: Form = {"found": 1, "hits": -1}


def _f_beta(beta: float) -> tuple[tuple[Form, Form], ...]:
    # F = (1 + b^2) TP / (found + b^2 annotated), from C. J. van Rijsbergen, "Information
    # retrieval", 1979, chapter 7.
    return (({"hits": 1 + beta * beta}, {"found": 1, "actual": beta * beta}),)


def f_measure(beta: float) -> MeasureRecord:
    """Return F-beta.

    Parameters
    ----------
    beta : float
        How many times recall counts as much as precision; 1 for F1.

    Returns
    -------
    MeasureRecord
        Not among `MEASURES`.
    """
    return replace(MEASURES["f1"], name=f"f{beta:g}", heading=f"F{beta:g}", ratios=_f_beta(beta))


_RECORDS = (
    MeasureRecord(
        name="precision",
        heading="precision",
        definition="TP / (TP + FP); undefined if nothing was found.",
        ratios=((_HITS, _FOUND),),
        counts=(_HITS, _FOUND),
        rank=2,
    ),
    MeasureRecord(
        name="recall",
        heading="recall",
        definition="TP / (TP + FN); undefined if nothing is annotated.",
        ratios=((_HITS, _ACTUAL),),
        counts=(_HITS, _ACTUAL),
        rank=1,
    ),
    MeasureRecord(
        name="f1",
        heading="F1",
        definition="2 TP / (2 TP + FP + FN); undefined if nothing was found or annotated.",
        ratios=_f_beta(1.0),
        rank=3,
        wide=True,
    ),
    MeasureRecord(
        name="mean_overlap",
        heading="overlap",
        definition="Mean overlap of true-positive pairs; undefined without a pair.",
        ratios=(({"overlap": 1}, _HITS),),
        judged="boxes",
        interval="mean",
        rank=5,
    ),
    MeasureRecord(
        name="average_precision",
        heading="AP",
        definition="Area under the precision-recall curve; undefined if nothing is annotated.",
        interval="draws",
        rank=4,
    ),
    MeasureRecord(
        name="false_alarm_rate",
        heading="false alarms",
        definition="FP / (FP + TN); undefined if the label is in every image.",
        ratios=((_FALSE, _ABSENT),),
        judged="presence",
        lower_is_better=True,
        rank=6,
    ),
    # The mean of recall and specificity: what a coin gets right by itself is 0.5, however rare the
    # label is (K. H. Brodersen and others, "The balanced accuracy and its posterior distribution",
    # 2010).
    MeasureRecord(
        name="balanced_accuracy",
        heading="balanced",
        definition="(TP / (TP + FN) + TN / (TN + FP)) / 2; undefined if either is.",
        ratios=((_HITS, _ACTUAL), ({"absent": 1, "found": -1, "hits": 1}, _ABSENT)),
        judged="presence",
        rank=7,
    ),
)

MEASURES: Mapping[str, MeasureRecord] = {one.name: one for one in _RECORDS}
"""By name, in the order of JSON and tables."""

RANKED = tuple(sorted(MEASURES, key=lambda name: MEASURES[name].rank))
"""Names in the order of tables for people."""

RATIOS: Mapping[str, MeasureRecord] = {n: one for n, one in MEASURES.items() if one.ratios}
"""Those that are ratios of counts."""


def records_for(*, presence: bool) -> dict[str, MeasureRecord]:
    """Return the measures of kinds that are judged by presence, or by boxes.

    Returns
    -------
    dict of str to MeasureRecord
        In the order of `MEASURES`.
    """
    return {name: one for name, one in MEASURES.items() if one.is_for(presence=presence)}


class Measured:
    """What has counts, and so measures; those that are asked for most are attributes."""

    @property
    def counts(self) -> Mapping[str, float]:
        """The counts as the forms of `RATIOS` name them."""
        raise NotImplementedError

    def measure(self, name: str) -> float:
        """Return a measure by its name in `RATIOS`; NaN where undefined."""
        return float(RATIOS[name].value(self.counts))

    @property
    def precision(self) -> float:
        """TP / (TP + FP); NaN if nothing was found."""
        return self.measure("precision")

    @property
    def recall(self) -> float:
        """TP / (TP + FN); NaN if nothing is annotated."""
        return self.measure("recall")

    @property
    def f1(self) -> float:
        """2 TP / (2 TP + FP + FN); NaN if nothing was found and nothing is annotated."""
        return self.measure("f1")

    @property
    def false_alarm_rate(self) -> float:
        """FP / (FP + TN); NaN for kinds with boxes, or if nothing could be a false alarm."""
        return self.measure("false_alarm_rate")

    @property
    def balanced_accuracy(self) -> float:
        """Mean of recall and TN / (TN + FP); NaN for kinds with boxes, or if either is."""
        return self.measure("balanced_accuracy")
