"""What became of each finding and each annotation: the pairing, row by row."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dotledger.core.confidence import check_overlap
from dotledger.core.kinds import KINDS
from dotledger.core.matching import Boxes, Ints, pair
from dotledger.core.tables import Annotations, Findings

__all__ = ["Paired", "pair_tables"]


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
    """Pair findings with annotations and say what became of every row.

    Cut the findings first (`Findings.cut`) to see the pairing at a threshold.

    Parameters
    ----------
    findings : Findings
        Length n.
    annotations : Annotations
        Length m.
    overlap : float, default 0.5
        Required overlap; above 0, up to 1.

    Raises
    ------
    ArgumentError
        If `overlap` is out of range.
    """
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
    labels = annotations.labels(kind)
    covered = annotations.image.used()
    of_kind = findings.kind.onto([kind]) == 0
    answered = findings.image.take(of_kind).used()
    rows = np.flatnonzero(of_kind & ~findings.blank & (findings.image.onto(covered) >= 0))
    known = findings.label.onto(labels)[rows] >= 0
    into.finding[rows[~known]] = "unjudged"
    boxed = ~np.isnan(findings.box[rows, 0])
    into.finding[rows[known & ~boxed]] = "set aside"
    rows = rows[known & boxed]
    truth = (annotations.kind.onto([kind]) == 0) & ~annotations.blank
    truth &= (annotations.label.onto(labels) >= 0) & (annotations.image.onto(answered) >= 0)
    truth_rows = np.flatnonzero(truth)
    _settle(findings, annotations, rows, truth_rows, covered, labels, overlap, into)


def _settle(
    findings: Findings,
    annotations: Annotations,
    rows: Ints,
    truth_rows: Ints,
    images: list[str],
    labels: tuple[str, ...],
    overlap: float,
    into: Paired,
) -> None:
    said = findings.image.onto(images) * len(labels) + findings.label.onto(labels)
    true = annotations.image.onto(images) * len(labels) + annotations.label.onto(labels)
    ignore = annotations.ignore[truth_rows]
    [pairs] = pair(
        Boxes(group=said[rows], box=findings.box[rows]),
        findings.confidence[rows],
        Boxes(group=true[truth_rows], box=annotations.box[truth_rows]),
        ignore,
        (overlap,),
    )
    into.finding[rows] = "wrong"
    into.finding[rows[pairs.set_aside]] = "set aside"
    into.finding[rows[pairs.finding]] = "right"
    into.partner[rows[pairs.finding]] = truth_rows[pairs.annotation]
    into.overlap[rows[pairs.finding]] = pairs.overlap
    into.annotation[truth_rows] = np.where(ignore, "ignored", "missed")
    into.annotation[truth_rows[pairs.annotation]] = "found"
