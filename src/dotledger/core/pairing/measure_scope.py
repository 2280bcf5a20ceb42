"""What a measure is about: both tables reduced to the images and labels of one kind."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import compress

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Floats, Ints, slices
from dotledger.core.kinds import KINDS
from dotledger.core.pairing.overlapping_pairs import Boxes
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

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
    kind : str
        One of `KINDS`.
    count_unanswered : bool, default False
        Let covered images in that have no answer.
    """
    labels = annotations.labels(kind)
    # An image is covered if the annotations name it under any kind; it has an answer for a kind
    # if the findings name it under that kind.
    covered = annotations.covered(kind)
    place = findings.image.placed(covered)
    answered = _answered(findings, kind, place, len(covered))
    let_in = np.ones(len(covered), dtype=bool) if count_unanswered else answered
    images = tuple(compress(covered, let_in.tolist()))
    image, label = _among(let_in, place), findings.label.placed(labels)
    rows = _rows_of(findings, kind, image, label)
    # A finding of a kind judged by boxes that has no box is set aside and noted: it can be
    # neither right nor wrong.
    bare = np.isnan(findings.box[rows.known, 0]) & (KINDS[kind].judged == "boxes")
    found = _side(findings, rows.known[~bare], image, label)
    confidence = findings.confidence[found.row]
    image, label = annotations.image.placed(images), annotations.label.placed(labels)
    annotated = _rows_of(annotations, kind, image, label).known
    return Scope(
        kind=kind,
        labels=labels,
        images=images,
        answered=answered[let_in],
        unanswered=len(covered) - int(answered.sum()),
        findings=found,
        annotations=_side(annotations, annotated, image, label),
        # A service that simply asserts is as sure as can be: it passes every threshold.
        confidence=np.where(np.isnan(confidence), np.inf, confidence),
        ignore=annotations.ignore[annotated],
        unjudged=rows.other,
        without_box=rows.known[bare],
    )


def _answered(findings: Findings, kind: str, place: Ints, covered: int) -> NDArray[np.bool_]:
    """Return which covered images have a row of the kind; `place` is that of each image's name."""
    of_kind = findings.kind.placed([kind]) == 0
    # The place behind the last takes in the images that are not covered.
    there = np.zeros(covered + 1, dtype=bool)
    for part in slices(len(findings)):
        images = findings.image.codes[part]
        there[place[images[of_kind[findings.kind.codes[part]]]]] = True
    return there[:-1]


def _among(let_in: NDArray[np.bool_], place: Ints) -> Ints:
    """Return the places of names as places among those let in; -1 for the others."""
    fresh = np.where(let_in, np.cumsum(let_in) - 1, -1)
    return np.append(fresh, -1)[place]


@dataclass(frozen=True, eq=False, kw_only=True)
class _Rows:
    """Rows of a kind on images in scope that name something: with a known label, and the others."""

    known: Ints
    other: Ints


def _rows_of(table: Findings | Annotations, kind: str, image: Ints, label: Ints) -> _Rows:
    """Look through a table; `image` and `label` are the places in scope of its names, or -1."""
    of_kind = table.kind.placed([kind]) == 0
    inside, blank = image >= 0, np.array([not name for name in table.label.names], dtype=bool)
    state = np.where(blank, _NOTHING, np.where(label >= 0, _KNOWN, _OTHER))
    known, other = [_NO_ROWS], [_NO_ROWS]
    for part in slices(len(table)):
        here = of_kind[table.kind.codes[part]] & inside[table.image.codes[part]]
        states = np.where(here, state[table.label.codes[part]], _NOTHING)
        known.append(np.flatnonzero(states == _KNOWN) + part.start)
        other.append(np.flatnonzero(states == _OTHER) + part.start)
    return _Rows(known=np.concatenate(known), other=np.concatenate(other))


_NOTHING, _KNOWN, _OTHER = np.arange(3, dtype=np.int8)
_NO_ROWS = np.empty(0, dtype=np.intp)


def _side(table: Findings | Annotations, rows: Ints, image: Ints, label: Ints) -> Side:
    return Side(
        row=rows,
        image=image[table.image.codes[rows]],
        label=label[table.label.codes[rows]],
        # `box[rows]` takes one and a half times as long.
        box=np.take(table.box, rows, axis=0),
    )


def counts_by_name(column: Coded) -> dict[str, int]:
    """Return how often each name stands in a column, by name; names that never do are left out."""
    counts = np.bincount(column.codes, minlength=len(column.names))
    names = sorted(zip(column.names, counts.tolist(), strict=True))
    return {name: count for name, count in names if count}
