"""Counts and measures of one label, of one kind, and of labels pooled."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from dotledger.core.arrays import ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.registry import MEASURES, Measured
from dotledger.core.measures.resampling import Interval
from dotledger.core.measures.tally import Tally
from dotledger.core.spelling import counted

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "Interval",
    "KindMeasure",
    "Point",
    "Row",
    "defined",
    "mean_over",
    "plain_intervals",
    "plain_means",
    "row_of",
    "rows_frame",
]


@dataclass(frozen=True, kw_only=True)
class Row(Measured):
    """The counts and measures of one label, or of all labels pooled.

    Attributes
    ----------
    annotated : int
        Countable annotations in scope.
    true_positives, false_positives, misses, set_aside : int
        At the threshold.
    true_negatives : int or None
        Kinds judged by presence only.
    mean_overlap, average_precision : float
        NaN where undefined; `mean_overlap` is always NaN for presence.
    intervals : mapping of str to (float, float)
        By measure; empty if none were made.
    images : mapping of str to int
        By measure, how many images contribute to its interval.
    """

    annotated: int
    true_positives: int
    false_positives: int
    misses: int
    set_aside: int
    true_negatives: int | None
    mean_overlap: float
    average_precision: float
    intervals: Mapping[str, Interval] = field(default_factory=dict, repr=False)
    images: Mapping[str, int] = field(default_factory=dict, repr=False)

    @property
    def counts(self) -> dict[str, int]:
        """The counts as `MEASURES` names them."""
        found = {
            "hits": self.true_positives,
            "found": self.true_positives + self.false_positives,
            "actual": self.true_positives + self.misses,
        }
        if self.true_negatives is not None:
            found["absent"] = self.false_positives + self.true_negatives
        return found

    def measure(self, name: str) -> float:
        """Return a measure by its name in `MEASURES`; NaN where undefined."""
        if name in ("mean_overlap", "average_precision"):
            return float(vars(self)[name])
        return super().measure(name)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "annotated": self.annotated,
            "true_positives": self.true_positives,
            "false_positives": self.false_positives,
            "misses": self.misses,
            "true_negatives": self.true_negatives,
            "set_aside": self.set_aside,
            **{name: defined(self.measure(name)) for name in MEASURES},
            **({"intervals": plain_intervals(self.intervals)} if self.intervals else {}),
            **({"contributing_images": dict(self.images)} if self.images else {}),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row; NaN where undefined."""
        return rows_frame([{}], [self])


def rows_frame(keys: Sequence[Mapping[str, Any]], rows: Sequence[Row]) -> pd.DataFrame:
    """Return rows as a pandas frame, behind the columns that name them.

    Counts are whole numbers, measures floats that are NaN where undefined; the ends of an interval
    are columns of their own, such as ``recall_low``.

    Parameters
    ----------
    keys : sequence of mapping
        One a row: the columns before the measures.

    Returns
    -------
    DataFrame
        One row each; empty without rows.
    """
    import pandas as pd

    plain = []
    for key, row in zip(keys, rows, strict=True):
        one = row.to_dict()
        one.pop("intervals", None)
        one.pop("contributing_images", None)
        ends = {
            f"{name}_{end}": value
            for name, pair in row.intervals.items()
            for end, value in zip(("low", "high"), pair, strict=True)
        }
        plain.append({**key, **one, **ends})
    frame = pd.DataFrame(plain)
    floats = [c for c in frame.columns if c.startswith(tuple(MEASURES)) or c == "true_negatives"]
    return frame.astype(dict.fromkeys(floats, float))


def row_of(
    counts: Tally,
    place: int,
    intervals: Mapping[str, Interval] | None = None,
    images: Mapping[str, int] | None = None,
) -> Row:
    """Return one entry of a tally as a row.

    Parameters
    ----------
    counts : Tally
        The last entry is the pooled one.
    images : mapping of str to int, optional
        How many images each interval rests on.

    Returns
    -------
    Row
        Measures are worked out from the counts when they are asked for.
    """
    hits = int(counts.true_positives[place])
    annotated = int(counts.annotated[place])
    overlaps = counts.overlap_sum
    return Row(
        annotated=annotated,
        true_positives=hits,
        false_positives=int(counts.false_positives[place]),
        misses=annotated - hits,
        set_aside=int(counts.set_aside[place]),
        true_negatives=None if counts.true_negatives is None else int(counts.true_negatives[place]),
        mean_overlap=math.nan if overlaps is None else ratio(float(overlaps[place]), hits),
        average_precision=float(counts.average_precision[place]),
        intervals=intervals or {},
        images=images or {},
    )


def defined(value: float) -> float | None:
    """Return `value`, or None for NaN.

    Returns
    -------
    float or None
        For files and JSON, which know no NaN.
    """
    return None if math.isnan(value) else value


def plain_intervals(intervals: Mapping[str, Interval]) -> dict[str, list[float] | None]:
    """Return intervals as lists; None where undefined.

    Parameters
    ----------
    intervals : mapping of str to (float, float)
        NaN where undefined.
    """
    return {n: None if math.isnan(low) else [low, high] for n, (low, high) in intervals.items()}


@dataclass(frozen=True, kw_only=True)
class Point:
    """The measures of one kind at one of several required overlaps and thresholds.

    Attributes
    ----------
    overlap : float
        The required overlap.
    threshold : float, mapping of str to float, or None
        As asked for.
    rows : dict of str to Row
        By label, sorted.
    pooled : Row
        From the summed counts of all labels.
    """

    overlap: float
    threshold: Any
    rows: Mapping[str, Row]
    pooled: Row

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "overlap": self.overlap,
            "threshold": self.threshold,
            "labels": {label: row.to_dict() for label, row in self.rows.items()},
            "pooled": self.pooled.to_dict(),
            "mean_over_labels": plain_means(self.rows.values()),
        }


@dataclass(frozen=True, kw_only=True, repr=False)
class KindMeasure(Displayed):
    """The measures of one kind, at the first required overlap and threshold asked for.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    images_in_scope : int
        Images covered by the annotations that have an answer for this kind.
    covered, unanswered : int
        Images covered by the annotations, and those of them without an answer for this kind.
    unjudged : dict of str to int
        Findings in scope whose label is not in the vocabulary, by label.
    without_box : int
        Findings of a kind judged by boxes that have none; they are set aside.
    rows : dict of str to Row
        By label, sorted.
    pooled : Row
        From the summed counts of all labels.
    points : tuple of Point
        One for each required overlap and threshold; one only, if one of each was asked for.
    mean_ap : float
        Mean over the required overlaps of the mean over labels; NaN where undefined.
    mean_intervals : mapping of str to (float, float)
        Intervals of `mean_over_labels`, and of ``mean_ap``.
    """

    kind: str
    images_in_scope: int
    covered: int
    unanswered: int
    unjudged: Mapping[str, int]
    without_box: int
    rows: Mapping[str, Row]
    pooled: Row
    points: Sequence[Point] = field(repr=False)
    mean_ap: float
    mean_intervals: Mapping[str, Interval] = field(default_factory=dict, repr=False)

    @property
    def mean_over_labels(self) -> dict[str, float]:
        """Plain mean of each measure over the labels where it is defined; NaN if nowhere."""
        return mean_over(self.rows.values())

    @property
    def no_answer_share(self) -> float:
        """Share of the covered images without an answer for this kind; NaN without images."""
        return ratio(self.unanswered, self.covered)

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each label, and one for all pooled."""
        keys = [{"label": label} for label in self.rows] + [{"label": "(pooled)"}]
        return rows_frame(keys, [*self.rows.values(), self.pooled])

    def _head(self) -> str:
        labels, images = counted(len(self.rows), "label"), counted(self.images_in_scope, "image")
        return f"<KindMeasure {self.kind}: {labels}, {images}>"

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        found: dict[str, Any] = {
            "images_in_scope": self.images_in_scope,
            "unanswered": self.unanswered,
            "no_answer_share": defined(self.no_answer_share),
            "unjudged": sum(self.unjudged.values()),
            "unjudged_labels": dict(self.unjudged),
            "without_box": self.without_box,
            "labels": {label: row.to_dict() for label, row in self.rows.items()},
            "pooled": self.pooled.to_dict(),
            "mean_over_labels": plain_means(self.rows.values()),
            "mean_ap": defined(self.mean_ap),
        }
        if self.mean_intervals:
            found["mean_over_labels_intervals"] = plain_intervals(self.mean_intervals)
        if len(self.points) > 1:
            found["points"] = [point.to_dict() for point in self.points]
        return found


def mean_over(rows: Iterable[Row]) -> dict[str, float]:
    """Return the plain mean of each measure over the rows where it is defined; NaN if nowhere."""
    kept = list(rows)
    columns = {name: [row.measure(name) for row in kept] for name in MEASURES}
    known = {name: [v for v in values if not math.isnan(v)] for name, values in columns.items()}
    return {name: ratio(math.fsum(values), len(values)) for name, values in known.items()}


def plain_means(rows: Iterable[Row]) -> dict[str, float | None]:
    """Return `mean_over` with None where undefined."""
    return {name: defined(value) for name, value in mean_over(rows).items()}
