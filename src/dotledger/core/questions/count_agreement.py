"""Counts by image, how the number found agrees with the number annotated, and the gate."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Ints, ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.pairing.pair_judging import Judged

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

__all__ = [
    "CountAgreement",
    "CountRow",
    "count_agreement",
    "image_counts",
]


def image_counts(basis: Basis) -> pd.DataFrame:
    """Return counts by image and kind, the most missed first.

    Returns
    -------
    DataFrame
        Columns ``image, kind, answered, annotated, found, true_positives, false_positives,
        misses, set_aside``; `found` is what passes the threshold and is judged.
    """
    import pandas as pd

    parts = [pd.DataFrame(_of_kind(basis, kind)) for kind in basis.judged]
    if not parts:
        return pd.DataFrame(columns=["image", "kind"])
    frame = pd.concat(parts, ignore_index=True)
    order = ["misses", "false_positives", "image"]
    return frame.sort_values(order, ascending=[False, False, True], ignore_index=True)


def _of_kind(basis: Basis, kind: str) -> dict[str, Any]:
    judged, passes = basis.judged[kind], basis.passing(kind)
    scope, findings = basis.scopes[kind], judged.findings
    count = len(scope.images)
    hits = np.bincount(findings.image[judged.hit[passes[judged.hit]]], minlength=count)
    aside = np.bincount(findings.image[judged.aside[passes[judged.aside]]], minlength=count)
    found = np.bincount(findings.image[passes], minlength=count) - aside
    annotated = np.bincount(findings.true_image, minlength=count)
    return {
        "image": np.array(scope.images, dtype=object),
        "kind": kind,
        "answered": scope.answered,
        "annotated": annotated,
        "found": found,
        "true_positives": hits,
        "false_positives": found - hits,
        "misses": annotated - hits,
        "set_aside": aside,
    }


@dataclass(frozen=True, kw_only=True)
class CountRow:
    """How many were found and how many are annotated.

    Attributes
    ----------
    annotated, found : int
        Over all images in scope; ignored annotations and what is set aside do not count.
    mean_error, mean_absolute_error : float
        Of found minus annotated by image; NaN without images in scope.
    images_equal : int
        Images in which both numbers are the same.
    """

    annotated: int
    found: int
    mean_error: float
    mean_absolute_error: float
    images_equal: int

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "annotated": self.annotated,
            "found": self.found,
            "mean_error": defined(self.mean_error),
            "mean_absolute_error": defined(self.mean_absolute_error),
            "images_equal": self.images_equal,
        }


@dataclass(frozen=True, kw_only=True, repr=False)
class CountAgreement(Displayed):
    """Count agreement of one kind.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    images_in_scope : int
        Over which errors are averaged, images with none of a label too.
    rows : mapping of str to CountRow
        By label.
    """

    kind: str
    images_in_scope: int
    rows: Mapping[str, CountRow]

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        labels = {label: row.to_dict() for label, row in self.rows.items()}
        return {"images_in_scope": self.images_in_scope, "labels": labels}

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each label."""
        import pandas as pd

        return pd.DataFrame([{"label": n, **vars(row)} for n, row in self.rows.items()])


def count_agreement(basis: Basis, kind: str) -> CountAgreement:
    """Compare, for each image and label, how many were found with how many are annotated.

    Returns
    -------
    CountAgreement
        NaN where nothing is to be compared.
    """
    judged, passes = basis.judged[kind], basis.passing(kind).copy()
    scope, findings = basis.scopes[kind], judged.findings
    passes[judged.aside] = False
    unit = np.concatenate(
        [
            _unit(judged, findings.image, findings.label)[passes],
            _unit(judged, findings.true_image, findings.true_label),
        ]
    )
    sign = np.r_[np.ones(int(passes.sum())), -np.ones(len(findings.true_label))]
    cell, place = np.unique(unit, return_inverse=True)
    error = np.bincount(place, sign, minlength=len(cell)) if len(cell) else np.zeros(0)
    label = cell % max(findings.labels, 1)
    found = np.bincount(findings.label[passes], minlength=findings.labels)
    images = len(scope.images)
    total = np.bincount(label, np.abs(error), minlength=findings.labels)
    uneven = np.bincount(label[error != 0], minlength=findings.labels)
    rows = {
        name: CountRow(
            annotated=int(findings.actual[i]),
            found=int(found[i]),
            mean_error=ratio(float(found[i] - findings.actual[i]), images),
            mean_absolute_error=ratio(float(total[i]), images),
            images_equal=images - int(uneven[i]),
        )
        for i, name in enumerate(scope.labels)
    }
    return CountAgreement(kind=kind, images_in_scope=images, rows=rows)


def _unit(judged: Judged, image: Ints, label: Ints) -> Ints:
    return image * max(judged.findings.labels, 1) + label
