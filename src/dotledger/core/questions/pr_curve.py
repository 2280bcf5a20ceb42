"""The precision-recall curve, point by point."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from dotledger.core.measures.registry import RATIOS
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

__all__ = ["curve_of"]


def curve_of(basis: Basis, kind: str | None, label: str | None) -> pd.DataFrame:
    """Return the curve of one label, or of all labels of a kind pooled.

    One point for each distinct confidence, after all findings of that confidence are counted,
    by falling confidence; a finding without a confidence comes first, as infinite. The curve
    ends at the floor, if one is known: nothing may be concluded below it.

    Parameters
    ----------
    kind : str or None
        None where one kind only is measured.
    label : str or None
        None for all pooled.

    Returns
    -------
    DataFrame
        One row a point; empty without findings.

    Raises
    ------
    ArgumentError
        If the kind or the label is not measured, or if the pairing holds for one threshold only.
    """
    import pandas as pd

    name = _kind(basis, kind)
    if basis.pairing != "confidence":
        raise ArgumentError(
            "there is no curve for this pairing, which holds for one threshold",
            place="curve",
            got=basis.pairing,
            allowed=["confidence"],
        )
    scope, judged = basis.scopes[name], basis.judged[name]
    findings = judged.findings
    rows = np.ones(len(findings.label), dtype=bool)
    actual = len(findings.true_label)
    if label is not None:
        if label not in scope.labels:
            raise ArgumentError(
                "the label is not measured", place="curve", got=label, allowed=scope.labels
            )
        code = scope.labels.index(label)
        rows, actual = findings.label == code, int(findings.actual[code])
    rows[judged.aside] = False
    if basis.floor is not None:
        rows &= findings.confidence >= basis.floor
    right = np.zeros(len(findings.label), dtype=bool)
    right[judged.hit] = True
    levels, place = np.unique(-findings.confidence[rows], return_inverse=True)
    found = np.cumsum(np.bincount(place, minlength=len(levels)))
    hits = np.cumsum(np.bincount(place[right[rows]], minlength=len(levels)))
    counts = {"hits": hits, "found": found, "actual": np.full(len(hits), actual)}
    return pd.DataFrame(
        {
            "confidence": -levels,
            "true_positives": hits,
            "false_positives": found - hits,
            "misses": actual - hits,
            **{n: one.value(counts) for n, one in RATIOS.items() if one.judged == "all"},
        }
    )


def _kind(basis: Basis, kind: str | None) -> str:
    if kind is None and len(basis.judged) == 1:
        return next(iter(basis.judged))
    if kind is None or kind not in basis.judged:
        raise ArgumentError(
            "the kind is not measured", place="curve", got=kind, allowed=basis.judged
        )
    return kind
