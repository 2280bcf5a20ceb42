"""Which label was found where another is annotated: pairing whatever the label."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.displays import Displayed
from dotledger.core.pairing.greedy_pairing import pair
from dotledger.core.pairing.label_hierarchy import BROAD, NARROW, lineage, related_of

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

__all__ = ["Confusion", "confusion_of"]

MISSED, NOTHING = "(missed)", "(nothing there)"


@dataclass(frozen=True, eq=False, kw_only=True, repr=False)
class Confusion(Displayed):
    """Labels found against labels annotated, of one kind.

    Attributes
    ----------
    labels : tuple of str
        In scope, sorted.
    counts : ndarray of int64, shape (labels + 1, labels + 1)
        Row: the label annotated, the last one "nothing there". Column: the label found, the last
        one "missed". The pairing is the defined one, within the image and regardless of labels,
        of what passes the threshold.
    too_broad, too_narrow : mapping of str to int
        By annotated label: how many missed ones were found under a broader or narrower label.
    """

    labels: tuple[str, ...]
    counts: NDArray[np.int64]
    too_broad: Mapping[str, int]
    too_narrow: Mapping[str, int]

    def pairs(self) -> list[tuple[str, str, int]]:
        """Return (annotated, found, count) of unequal labels that were paired, most first."""
        found = [
            (self.labels[i], self.labels[j], int(self.counts[i, j]))
            for i, j in np.argwhere(self.counts[:-1, :-1])
            if i != j
        ]
        return sorted(found, key=lambda entry: (-entry[2], entry))

    def to_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "labels": list(self.labels),
            "annotated_by_found": self.counts.tolist(),
            "too_broad": dict(self.too_broad),
            "too_narrow": dict(self.too_narrow),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame: annotated labels down, found labels across."""
        import pandas as pd

        rows, columns = [*self.labels, NOTHING], [*self.labels, MISSED]
        return pd.DataFrame(self.counts, index=pd.Index(rows, name="annotated"), columns=columns)


# Findings of the vocabulary only; the reasons for misses also look at findings outside it.
def confusion_of(basis: Basis, kind: str) -> Confusion:
    """Return the confusion of one kind with boxes, at the first overlap and threshold.

    Returns
    -------
    Confusion
        With a last row for nothing annotated and a last column for nothing found.
    """
    scope = basis.scopes[kind]
    passing = np.flatnonzero(basis.passing(kind))
    findings = scope.findings.take(passing)
    [pairs] = pair(
        findings.by_image(),
        scope.confidence[passing],
        scope.annotations.by_image(),
        scope.ignore,
        basis.overlaps[:1],
    )
    size = len(scope.labels) + 1
    last = size - 1
    found = np.full(len(scope.annotations), last)
    found[pairs.annotation] = findings.label[pairs.finding]
    alone = np.ones(len(findings), dtype=bool)
    alone[pairs.finding] = alone[pairs.set_aside] = False
    cells = np.concatenate(
        [
            (scope.annotations.label * size + found)[~scope.ignore],
            last * size + findings.label[alone],
        ]
    )
    counts = np.bincount(cells, minlength=size * size).reshape(size, size)
    related = related_of(
        scope,
        basis.findings,
        basis.judged[kind],
        basis.cuts[0],
        lineage(basis.findings, basis.broader),
    )
    names = [scope.labels[label] for label in scope.annotations.label[related.annotation]]
    by_relation = [
        {
            n: int(c)
            for n, c in zip(
                *np.unique(np.array(names)[related.relation == r], return_counts=True), strict=True
            )
        }
        for r in (BROAD, NARROW)
    ]
    return Confusion(
        labels=scope.labels, counts=counts, too_broad=by_relation[0], too_narrow=by_relation[1]
    )
