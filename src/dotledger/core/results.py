"""What a measure returns: counts and measures by label, by kind and pooled."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from dotledger.core.measures import ratio

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["MEASURES", "KindMeasure", "Measure", "Row"]


@dataclass(frozen=True, kw_only=True)
class Row:
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
    """

    annotated: int
    true_positives: int
    false_positives: int
    misses: int
    set_aside: int
    true_negatives: int | None
    mean_overlap: float
    average_precision: float

    @property
    def precision(self) -> float:
        """TP / (TP + FP); NaN if nothing was said."""
        return ratio(self.true_positives, self.true_positives + self.false_positives)

    @property
    def recall(self) -> float:
        """TP / (TP + FN); NaN if nothing is annotated."""
        return ratio(self.true_positives, self.true_positives + self.misses)

    @property
    def f1(self) -> float:
        """2 TP / (2 TP + FP + FN); NaN if nothing was said and nothing is annotated."""
        hits = 2 * self.true_positives
        return ratio(hits, hits + self.false_positives + self.misses)

    @property
    def false_alarm_rate(self) -> float:
        """FP / (FP + TN); NaN for kinds with boxes, or if nothing could be a false alarm."""
        if self.true_negatives is None:
            return math.nan
        return ratio(self.false_positives, self.false_positives + self.true_negatives)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "annotated": self.annotated,
            "true_positives": self.true_positives,
            "false_positives": self.false_positives,
            "misses": self.misses,
            "true_negatives": self.true_negatives,
            "set_aside": self.set_aside,
            **{name: _defined(getattr(self, name)) for name in MEASURES},
        }


MEASURES = ("precision", "recall", "f1", "mean_overlap", "average_precision", "false_alarm_rate")
"""The measures a row has, in the order they are shown."""


def _defined(value: float) -> float | None:
    return None if math.isnan(value) else value


@dataclass(frozen=True, kw_only=True)
class KindMeasure:
    """The measures of one kind.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    images_in_scope : int
        Images covered by the annotations that have an answer for this kind.
    unanswered : int
        Images covered without an answer for this kind.
    unjudged : dict of str to int
        Findings in scope whose label is not in the vocabulary, by label.
    without_box : int
        Findings of a kind judged by boxes that have none; they are set aside.
    rows : dict of str to Row
        By label, sorted.
    pooled : Row
        From the summed counts of all labels.
    """

    kind: str
    images_in_scope: int
    unanswered: int
    unjudged: Mapping[str, int]
    without_box: int
    rows: Mapping[str, Row]
    pooled: Row

    @property
    def mean_over_labels(self) -> dict[str, float]:
        """Plain mean of each measure over the labels where it is defined; NaN if nowhere."""
        return _mean_over(list(self.rows.values()))

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "images_in_scope": self.images_in_scope,
            "unanswered": self.unanswered,
            "unjudged": sum(self.unjudged.values()),
            "unjudged_labels": dict(self.unjudged),
            "without_box": self.without_box,
            "labels": {label: row.to_dict() for label, row in self.rows.items()},
            "pooled": self.pooled.to_dict(),
            "mean_over_labels": {k: _defined(v) for k, v in self.mean_over_labels.items()},
        }


def _mean_over(rows: list[Row]) -> dict[str, float]:
    columns = {name: [getattr(row, name) for row in rows] for name in MEASURES}
    defined = {name: [v for v in values if not math.isnan(v)] for name, values in columns.items()}
    return {name: ratio(math.fsum(values), len(values)) for name, values in defined.items()}


@dataclass(frozen=True, kw_only=True)
class Measure:
    """What `measure` returns.

    Attributes
    ----------
    overlap : float
        The required overlap for kinds judged by boxes.
    threshold : float or None
        Findings below it were left out of the counts; None for no threshold.
    images_in_scope, unanswered : int
        Images in scope for at least one kind; images covered but answered for none.
    uncovered : int
        Images with findings that the annotations do not cover.
    kinds : dict of str to KindMeasure
        By kind, in the order of `KINDS`.
    unjudged_kinds : dict of str to int
        Findings on covered images of a kind that the annotations do not hold, by kind.
    pooled : Row
        From the summed counts of all labels of all kinds.
    notes : tuple of str
        Sentences a reader should see before trusting the numbers.
    """

    overlap: float
    threshold: float | None
    images_in_scope: int
    unanswered: int
    uncovered: int
    kinds: Mapping[str, KindMeasure]
    unjudged_kinds: Mapping[str, int]
    pooled: Row
    notes: tuple[str, ...]

    @property
    def labels(self) -> dict[str, Row]:
        """Rows by label over all kinds; a name used by two kinds is written ``kind:name``."""
        names = [label for kind in self.kinds.values() for label in kind.rows]
        return {
            label if names.count(label) == 1 else f"{kind.kind}:{label}": row
            for kind in self.kinds.values()
            for label, row in kind.rows.items()
        }

    @property
    def unjudged(self) -> int:
        """Findings whose label or whole kind the annotations' vocabulary does not hold."""
        inside = sum(sum(kind.unjudged.values()) for kind in self.kinds.values())
        return inside + sum(self.unjudged_kinds.values())

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        means = _mean_over([row for kind in self.kinds.values() for row in kind.rows.values()])
        return {
            "overlap": self.overlap,
            "threshold": self.threshold,
            "images_in_scope": self.images_in_scope,
            "unanswered": self.unanswered,
            "uncovered": self.uncovered,
            "unjudged": self.unjudged,
            "unjudged_kinds": dict(self.unjudged_kinds),
            "labels": {label: row.to_dict() for label, row in self.labels.items()},
            "pooled": self.pooled.to_dict(),
            "mean_over_labels": {k: _defined(v) for k, v in means.items()},
            "kinds": {name: kind.to_dict() for name, kind in self.kinds.items()},
            "notes": list(self.notes),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each kind and label; NaN where undefined."""
        import pandas as pd

        rows = [
            {"kind": kind.kind, "label": label, **row.to_dict()}
            for kind in self.kinds.values()
            for label, row in kind.rows.items()
        ]
        columns = ["kind", "label", *self.pooled.to_dict()]
        frame = pd.DataFrame(rows, columns=columns)
        return frame.astype(dict.fromkeys(MEASURES, float))
