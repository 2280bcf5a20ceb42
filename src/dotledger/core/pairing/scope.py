"""What a measure is about: both tables reduced to the images and labels of one kind."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import compress

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Floats, Ints
from dotledger.core.kinds import KINDS
from dotledger.core.pairing.edges import Boxes
from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.coded import Coded
from dotledger.core.tables.findings import Findings

__all__ = ["Scope", "Side", "counts_by_name", "scope_of"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Side:
    """Rows of one table that are in scope.

    Attributes
    ----------
    row : ndarray of intp, shape (n,)
        Their rows in the table.
    image, label : ndarray of intp, shape (n,)
        Codes into the images and labels of the scope.
    box : ndarray of float64, shape (n, 4)
        NaN where there is none.
    """

    row: Ints
    image: Ints
    label: Ints
    box: Floats

    def __len__(self) -> int:
        return len(self.row)

    def take(self, rows: NDArray[np.intp] | NDArray[np.bool_]) -> Side:
        """Return the side reduced to `rows` (indices or a mask)."""
        return Side(
            row=self.row[rows], image=self.image[rows], label=self.label[rows], box=self.box[rows]
        )

    def grouped(self, labels: int) -> Boxes:
        """Return the boxes grouped by image and label."""
        return Boxes(group=self.image * max(labels, 1) + self.label, box=self.box)

    def by_image(self) -> Boxes:
        """Return the boxes grouped by image, whatever their label."""
        return Boxes(group=self.image, box=self.box, name=self.label)


@dataclass(frozen=True, eq=False, kw_only=True)
class Scope:
    """Both tables reduced to one kind, with images and labels as shared codes.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    labels, images : tuple of str
        In scope, sorted; codes of the sides count into them.
    answered : ndarray of bool, shape (images,)
        False only where unanswered images were let in on request.
    unanswered : int
        Images covered by the annotations without an answer for this kind.
    findings, annotations : Side
        Findings and annotations in scope.
    confidence : ndarray of float64
        Of `findings`; infinite where the service simply asserts.
    ignore : ndarray of bool
        Of `annotations`.
    unjudged, without_box : ndarray of intp
        Rows of findings on images in scope with a label outside the vocabulary, and of those
        without a box although the kind is judged by boxes.
    """

    kind: str
    labels: tuple[str, ...]
    images: tuple[str, ...]
    answered: NDArray[np.bool_]
    unanswered: int
    findings: Side
    annotations: Side
    confidence: Floats
    ignore: NDArray[np.bool_]
    unjudged: Ints
    without_box: Ints

    @property
    def boxed(self) -> bool:
        """Whether the kind is judged by boxes."""
        return KINDS[self.kind].judged == "boxes"


def scope_of(
    findings: Findings,
    annotations: Annotations,
    kind: str,
    *,
    count_unanswered: bool = False,
) -> Scope:
    """Reduce both tables to what can be compared for `kind`.

    Parameters
    ----------
    findings, annotations
        Either may be empty.
    kind : str
        One of `KINDS`.
    count_unanswered : bool, default False
        Let covered images in that have no answer.
    """
    labels = annotations.labels(kind)
    # An image is covered if the annotations name it under any kind; it has an answer for a kind
    # if the findings name it under that kind.
    covered = annotations.covered(kind)
    of_kind = findings.kind.onto([kind]) == 0
    answered = set(findings.image.take(of_kind).used())
    has_answer = list(map(answered.__contains__, covered))
    images = covered if count_unanswered else list(compress(covered, has_answer))
    there = np.array(has_answer if count_unanswered else [True] * len(images), dtype=bool)
    image, label = findings.image.onto(images), findings.label.onto(labels)
    inside = of_kind & (image >= 0) & ~findings.blank
    known = inside & (label >= 0)
    # A finding of a kind judged by boxes that has no box is set aside and noted: it can be
    # neither right nor wrong.
    no_box = (
        np.isnan(findings.box[:, 0])
        if KINDS[kind].judged == "boxes"
        else np.zeros(len(known), dtype=bool)
    )
    found = _side(known & ~no_box, image, label, findings.box)
    confidence = findings.confidence[found.row]
    annotated = _annotated(annotations, kind, images, labels)
    return Scope(
        kind=kind,
        labels=labels,
        images=tuple(images),
        answered=there,
        unanswered=len(covered) - int(there.sum()),
        findings=found,
        annotations=annotated,
        # A service that simply asserts is as sure as can be: it passes every threshold.
        confidence=np.where(np.isnan(confidence), np.inf, confidence),
        ignore=annotations.ignore[annotated.row],
        unjudged=np.flatnonzero(inside & (label < 0)),
        without_box=np.flatnonzero(known & no_box),
    )


def _side(rows: NDArray[np.bool_], image: Ints, label: Ints, box: Floats) -> Side:
    places = np.flatnonzero(rows)
    return Side(row=places, image=image[places], label=label[places], box=box[places])


def _annotated(
    annotations: Annotations, kind: str, images: list[str], labels: tuple[str, ...]
) -> Side:
    image, label = annotations.image.onto(images), annotations.label.onto(labels)
    rows = (annotations.kind.onto([kind]) == 0) & (image >= 0) & (label >= 0)
    return _side(rows & ~annotations.blank, image, label, annotations.box)


def counts_by_name(column: Coded) -> dict[str, int]:
    """Return how often each name stands in a column, by name; names that never do are left out.

    Parameters
    ----------
    column : Coded
        May be empty.

    Returns
    -------
    dict of str to int
        Sorted by name.
    """
    counts = np.bincount(column.codes, minlength=len(column.names))
    names = sorted(zip(column.names, counts.tolist(), strict=True))
    return {name: count for name, count in names if count}
