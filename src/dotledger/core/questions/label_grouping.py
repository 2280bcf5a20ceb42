"""The findings that share one threshold: a kind, or a label."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from dotledger.core.arrays import Floats, Ints, narrow
from dotledger.core.measures.finding_groups import Group
from dotledger.core.pairing.measure_scope import Scope
from dotledger.core.pairing.pair_judging import Judged
from dotledger.core.questions.question_basis import Basis

__all__ = ["by_kind", "by_label", "common_images"]


def common_images(basis: Basis) -> list[str]:
    """Return the images in scope of any kind, sorted.

    Returns
    -------
    list of str
        Empty if nothing is in scope.
    """
    return sorted(set().union(*(scope.images for scope in basis.scopes.values())))


def by_kind(basis: Basis, images: Sequence[str]) -> Iterator[Group]:
    """Yield the group of each kind.

    Parameters
    ----------
    images : sequence of str
        From `common_images`.

    Yields
    ------
    Group
        In the order of the measure.
    """
    for kind in basis.scopes:
        made = _Kind(basis, kind, images)
        everything = _GroupedRows(*(np.arange(len(codes)) for codes in made.codes))
        top = _tops(basis, made.scope, images)
        yield made.group(kind, everything, len(made.scope.labels), top)


def by_label(basis: Basis, images: Sequence[str]) -> Iterator[Group]:
    """Yield the group of each label, named ``kind:label``.

    Parameters
    ----------
    images : sequence of str
        From `common_images`.

    Yields
    ------
    Group
        In the order of the measure.
    """
    for kind, scope in basis.scopes.items():
        made = _Kind(basis, kind, images)
        split = [_by_code(codes, len(scope.labels)) for codes in made.codes]
        for label, *rows in zip(scope.labels, *split, strict=True):
            yield made.group(f"{kind}:{label}", _GroupedRows(*rows), 1, None)


class _GroupedRows(NamedTuple):
    """Rows of one group: of findings, of annotations, of doubtful ones."""

    found: Ints
    true: Ints
    doubtful: Ints


def _by_code(codes: Ints, labels: int) -> list[Ints]:
    """Return the rows of each code: sorted once, not looked for label by label."""
    order = np.argsort(narrow(codes), kind="stable")
    ends = np.cumsum(np.bincount(codes, minlength=labels))
    return np.split(order, ends)[:labels]


class _Kind:
    """One kind, with its images as they stand among all."""

    def __init__(self, basis: Basis, kind: str, images: Sequence[str]) -> None:
        self.scope, judged = basis.scopes[kind], basis.judged[kind]
        self.kind, self.images = kind, len(images)
        self.ranked = judged.findings
        self.at = _places(self.scope, images)
        self.inside = np.zeros(len(images), dtype=bool)
        self.inside[self.at] = True
        counted = _counted(judged, basis.floor)
        right = np.zeros(len(self.ranked.label), dtype=bool)
        right[judged.hit] = True
        self._right = right[counted]
        self._confidence = self.ranked.confidence[counted]
        self._image = self.at[self.ranked.image[counted]]
        self._true_image = self.at[self.ranked.true_image]
        label, image = self._doubtful()
        self._doubtful_image = self.at[image]
        self.codes = (self.ranked.label[counted], self.ranked.true_label, label)

    def _doubtful(self) -> tuple[Ints, Ints]:
        """Return label and image of what is ignored; of boxes it stands among the annotations."""
        if self.ranked.units is not None:
            return self.ranked.doubtful_label, self.ranked.doubtful_image
        ignored = self.scope.annotations.take(self.scope.ignore)
        return ignored.label, ignored.image

    def group(self, name: str, rows: _GroupedRows, labels: int, top: Floats | None) -> Group:
        image, confidence = self._image[rows.found], self._confidence[rows.found]
        annotated = self._true_image[rows.true]
        counts = np.bincount(annotated, minlength=self.images)
        doubted = np.bincount(self._doubtful_image[rows.doubtful], minlength=self.images)
        absent: Floats | None = None
        if self.ranked.units is not None:
            absent = (np.where(self.inside, labels, 0) - doubted - counts).astype(np.float64)
        return Group(
            name=name,
            kinds=(self.kind,),
            images=self.images,
            confidence=confidence,
            image=image,
            right=self._right[rows.found],
            true_image=annotated,
            absent=absent,
            top=_highest(image, confidence, self.images) if top is None else top,
            inside=self.inside,
            unsafe=counts > 0,
            left_out=(doubted > 0) & (counts == 0),
        )


def _counted(judged: Judged, floor: float | None) -> Ints:
    """Return the rows that can be right or wrong; below the floor nothing is known."""
    rows = np.ones(len(judged.findings.label), dtype=bool)
    rows[judged.aside] = False
    if floor is not None:
        rows &= judged.findings.confidence >= floor
    return np.flatnonzero(rows)


def _places(scope: Scope, images: Sequence[str]) -> Ints:
    index = {name: place for place, name in enumerate(images)}
    return np.array([index[name] for name in scope.images], dtype=np.intp)


def _highest(image: Ints, confidence: Floats, images: int) -> Floats:
    top = np.full(images, -np.inf)
    np.maximum.at(top, image, confidence)
    return top


def _tops(basis: Basis, scope: Scope, images: Sequence[str]) -> Floats:
    """Return the highest confidence in each image of any finding of the kind, judged or not.

    An image is held in use whatever the label: also by one that the annotations do not know.
    """
    findings = basis.findings
    image = findings.image.onto(images)
    rows = findings.kind.among([scope.kind]) & ~findings.blank & (image >= 0)
    confidence = np.where(np.isnan(findings.confidence), np.inf, findings.confidence)
    if basis.floor is not None:
        rows &= confidence >= basis.floor
    inside = np.isin(image, _places(scope, images))
    rows &= inside
    return _highest(image[rows], confidence[rows], len(images))
