"""What was judged of a part of the images, in columns that are put together again.

Images are judged one by one: nothing about one depends on another. So a table may be judged in
parts that hold whole images each, on as many machines as there are; what comes back is what every
count, curve and interval is made of, and nothing else: of each finding its label, image and
confidence, and which are right.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Counts, Floats, Ints
from dotledger.core.pairing.pair_judging import Judged, Ranked

__all__ = ["JudgedPart", "joined", "packed"]

Narrow = NDArray[Any]


@dataclass(frozen=True, eq=False, kw_only=True)
class JudgedPart:
    """One kind of one part, judged at one or several required overlaps; see `Ranked`, `Judged`.

    Whole numbers are kept as narrow as they fit: this goes from one machine to another.

    Attributes
    ----------
    labels, images : int
        How many are in scope; labels are those of the whole, images those of the part.
    label, image, true_label, true_image, doubtful_label, doubtful_image : ndarray of int
        Codes.
    confidence : ndarray of float64
        Infinite where the service simply asserts.
    units : ndarray of int64, shape (labels,), or None
        Presence only.
    required : tuple of float or None
        Required overlaps; None for presence.
    hits, asides : tuple of ndarray of int
        For each required overlap, which findings are right, and which are set aside. Presence has
        one entry, whatever is required.
    overlaps : tuple of ndarray of float64
        Of each hit.
    """

    labels: int
    images: int
    label: Narrow
    image: Narrow
    confidence: Floats
    true_label: Narrow
    true_image: Narrow
    doubtful_label: Narrow
    doubtful_image: Narrow
    units: Counts | None
    required: tuple[float | None, ...]
    hits: tuple[Narrow, ...]
    asides: tuple[Narrow, ...]
    overlaps: tuple[Floats, ...]


def packed(judged: Sequence[Judged]) -> JudgedPart:
    """Return what was judged, to be sent elsewhere.

    Parameters
    ----------
    judged : sequence of Judged
        Of one kind, one for each required overlap.

    Returns
    -------
    JudgedPart
        Which annotation each hit belongs to is left out.
    """
    findings = judged[0].findings
    several = judged if findings.units is None else judged[:1]
    return JudgedPart(
        labels=findings.labels,
        images=findings.images,
        label=_narrow(findings.label),
        image=_narrow(findings.image),
        confidence=findings.confidence,
        true_label=_narrow(findings.true_label),
        true_image=_narrow(findings.true_image),
        doubtful_label=_narrow(findings.doubtful_label),
        doubtful_image=_narrow(findings.doubtful_image),
        units=findings.units,
        required=tuple(one.required for one in judged),
        hits=tuple(_narrow(one.hit) for one in several),
        asides=tuple(_narrow(one.aside) for one in several),
        overlaps=tuple(one.overlap for one in several),
    )


def joined(parts: Sequence[JudgedPart], places: Sequence[Ints]) -> list[Judged]:
    """Return parts as the whole that they are.

    Parameters
    ----------
    parts : sequence of JudgedPart
        At least one; of one kind, with the same labels and required overlaps.
    places : sequence of ndarray of intp
        For each part, where each of its images stands among all.

    Returns
    -------
    list of Judged
        One for each required overlap; counts, curves and intervals are those of the whole to the
        last bit. No hit names its annotation (-1).
    """
    starts = np.cumsum([0, *(len(part.label) for part in parts)])
    images = sum(part.images for part in parts)

    def at(name: str) -> Ints:
        columns = [p[getattr(part, name)] for part, p in zip(parts, places, strict=True)]
        return np.concatenate(columns).astype(np.intp, copy=False)

    def codes(name: str) -> Ints:
        return np.concatenate([getattr(part, name) for part in parts]).astype(np.intp, copy=False)

    counted = [part.units for part in parts if part.units is not None]
    findings = Ranked(
        labels=parts[0].labels,
        images=images,
        label=codes("label"),
        image=at("image"),
        confidence=np.concatenate([part.confidence for part in parts]),
        true_label=codes("true_label"),
        true_image=at("true_image"),
        units=np.sum(counted, axis=0) if counted else None,
        doubtful_label=codes("doubtful_label"),
        doubtful_image=at("doubtful_image"),
    )
    found = []
    for number, required in enumerate(parts[0].required[: len(parts[0].hits)]):
        hit = _rows([part.hits[number] for part in parts], starts)
        found.append(
            Judged(
                findings=findings,
                required=required,
                hit=hit,
                overlap=np.concatenate([part.overlaps[number] for part in parts]),
                annotation=np.full(len(hit), -1),
                aside=_rows([part.asides[number] for part in parts], starts),
            )
        )
    return found if len(found) > 1 else found * len(parts[0].required)


def _rows(columns: Sequence[Narrow], starts: Ints) -> Ints:
    """Return rows of parts as rows of the whole."""
    moved = [
        rows.astype(np.intp) + start
        for rows, (start, _) in zip(columns, pairwise(starts.tolist()), strict=True)
    ]
    return np.concatenate(moved)


def _narrow(codes: Ints) -> Narrow:
    """Return whole numbers from 0 in as few bytes as the largest needs."""
    return codes.astype(np.min_scalar_type(int(codes.max(initial=0))))
