"""What happened to each finding and each annotation: the pairing, row by row."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arguments import check_overlap
from dotledger.core.arrays import Ints
from dotledger.core.kinds import KINDS
from dotledger.core.pairing.measure_scope import scope_of
from dotledger.core.pairing.pair_judging import judge
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_annotations, as_findings

__all__ = ["Paired", "pair_tables"]

_CALL = "pair_tables(findings, annotations)"


@dataclass(frozen=True, eq=False, kw_only=True)
class Paired:
    """Row by row, for kinds judged by boxes.

    Attributes
    ----------
    finding : ndarray of object, shape (n,)
        ``"right"``, ``"wrong"``, ``"set aside"``, ``"unjudged"``, or ``""`` for rows that are
        blank, of another kind, or on images the annotations do not cover.
    annotation : ndarray of object, shape (m,)
        ``"found"``, ``"missed"``, ``"ignored"``, or ``""`` likewise and for images without an
        answer.
    partner : ndarray of intp, shape (n,)
        For a right finding the row of its annotation; -1 elsewhere.
    overlap : ndarray of float64, shape (n,)
        For a right finding the overlap with its annotation; NaN elsewhere.
    """

    finding: NDArray[np.object_]
    annotation: NDArray[np.object_]
    partner: Ints
    overlap: NDArray[np.float64]


def pair_tables(findings: Findings, annotations: Annotations, *, overlap: float = 0.5) -> Paired:
    """Pair findings with annotations and return the fate of every row.

    Cut the findings first (`Findings.cut`) to see the pairing at a threshold.

    Parameters
    ----------
    findings : Findings
        Table of n rows, with boxes.
    annotations : Annotations
        Table of m rows, with boxes.
    overlap : float, default 0.5
        Required overlap; above 0, up to 1.

    Returns
    -------
    Paired
        The fate of every finding and of every annotation.

    Raises
    ------
    ArgumentError
        If `overlap` is out of range.

    Examples
    --------
    >>> import dotledger
    >>> found, truth = dotledger.read_findings("found.csv"), dotledger.read_annotations("truth.csv")
    >>> "missed" in dotledger.pair_tables(found, truth).annotation
    True
    """
    findings = as_findings(findings, _CALL)
    annotations = as_annotations(annotations, _CALL)
    overlap = check_overlap(overlap)
    result = Paired(
        finding=np.full(len(findings), "", dtype=object),
        annotation=np.full(len(annotations), "", dtype=object),
        partner=np.full(len(findings), -1, dtype=np.intp),
        overlap=np.full(len(findings), np.nan),
    )
    for kind in KINDS.values():
        if kind.judged == "boxes":
            _pair_kind(findings, annotations, kind.name, overlap, result)
    return result


def _pair_kind(
    findings: Findings, annotations: Annotations, kind: str, overlap: float, into: Paired
) -> None:
    scope = scope_of(findings, annotations, kind)
    [judged] = judge(scope, (overlap,))
    found, annotated = scope.findings.row, scope.annotations.row
    into.finding[scope.unjudged] = "unjudged"
    into.finding[scope.without_box] = "set aside"
    into.finding[found] = "wrong"
    into.finding[found[judged.aside]] = "set aside"
    into.finding[found[judged.hit]] = "right"
    into.partner[found[judged.hit]] = annotated[judged.annotation]
    into.overlap[found[judged.hit]] = judged.overlap
    into.annotation[annotated] = np.where(scope.ignore, "ignored", "missed")
    into.annotation[annotated[judged.annotation]] = "found"
