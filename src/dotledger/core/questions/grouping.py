"""The findings that share one threshold: a kind, or a label."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.counting.groups import Group
from dotledger.core.pairing.judging import Judged
from dotledger.core.pairing.scope import Scope
from dotledger.core.questions.basis import Basis

__all__ = ["by_kind", "by_label", "common_images"]


def common_images(basis: Basis) -> list[str]:
    """Return the images in scope of any kind, sorted.

    Parameters
    ----------
    basis : Basis
        Judged.

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
    basis : Basis
        Judged, paired by confidence.
    images : sequence of str
        From `common_images`.

    Yields
    ------
    Group
        In the order of the measure.
    """
    for kind, scope in basis.scopes.items():
        top = _tops(basis, scope, images)
        yield _group(basis, kind, kind, images, label=None, top=top)


def by_label(basis: Basis, images: Sequence[str]) -> Iterator[Group]:
    """Yield the group of each label, named ``kind:label``.

    Parameters
    ----------
    basis : Basis
        Judged, paired by confidence.
    images : sequence of str
        From `common_images`.

    Yields
    ------
    Group
        In the order of the measure.
    """
    for kind, scope in basis.scopes.items():
        for code, label in enumerate(scope.labels):
            yield _group(basis, kind, f"{kind}:{label}", images, label=code, top=None)


def _group(
    basis: Basis,
    kind: str,
    name: str,
    images: Sequence[str],
    *,
    label: int | None,
    top: Floats | None,
) -> Group:
    scope, judged = basis.scopes[kind], basis.judged[kind]
    found = judged.findings
    at = _places(scope, images)
    rows = _counted(judged, label, basis.floor)
    right = np.zeros(len(found.label), dtype=bool)
    right[judged.hit] = True
    annotated = at[_of(found.true_image, found.true_label, label)]
    doubtful = at[_of(found.doubtful_image, found.doubtful_label, label)]
    inside = np.zeros(len(images), dtype=bool)
    inside[at] = True
    counts = np.bincount(annotated, minlength=len(images))
    absent: Floats | None = None
    if found.units is not None:
        labels = found.labels if label is None else 1
        doubted = np.bincount(doubtful, minlength=len(images))
        absent = (np.where(inside, labels, 0) - doubted - counts).astype(np.float64)
    image, confidence = at[found.image[rows]], found.confidence[rows]
    unsafe = counts > 0
    if found.units is None:  # boxes: what is ignored stands in the annotations of the scope
        ignored = scope.annotations.image[scope.ignore & _is(scope.annotations.label, label)]
        doubtful = at[ignored]
    left_out = (np.bincount(doubtful, minlength=len(images)) > 0) & ~unsafe
    return Group(
        name=name,
        kinds=(kind,),
        images=len(images),
        confidence=confidence,
        image=image,
        right=right[rows],
        true_image=annotated,
        absent=absent,
        top=_highest(image, confidence, len(images)) if top is None else top,
        inside=inside,
        unsafe=unsafe,
        left_out=left_out,
    )


def _is(codes: Ints, label: int | None) -> Flags:
    return np.ones(len(codes), dtype=bool) if label is None else codes == label


def _of(image: Ints, codes: Ints, label: int | None) -> Ints:
    return image if label is None else image[codes == label]


def _counted(judged: Judged, label: int | None, floor: float | None) -> Flags:
    """Return the rows that can be right or wrong; below the floor nothing is known."""
    rows = _is(judged.findings.label, label)
    rows[judged.aside] = False
    return rows if floor is None else rows & (judged.findings.confidence >= floor)


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
    rows = (findings.kind.onto([scope.kind]) == 0) & ~findings.blank & (image >= 0)
    confidence = np.where(np.isnan(findings.confidence), np.inf, findings.confidence)
    if basis.floor is not None:
        rows &= confidence >= basis.floor
    inside = np.isin(image, _places(scope, images))
    rows &= inside
    return _highest(image[rows], confidence[rows], len(images))
