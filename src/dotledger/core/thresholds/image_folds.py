"""Fit here, judge there: parts of the images, and which of them a fit has seen."""

from __future__ import annotations

import hashlib
from collections import Counter
from dataclasses import replace

import numpy as np

from dotledger.core.arrays import Flags
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError, ScopeError

__all__ = ["contents_of", "part_of_images", "rows_on"]


def contents_of(annotations: Annotations) -> dict[str, str]:
    """Return by image a digest of its annotated boxes, where no other image has the same.

    Boxes of the same labels in the same places, to nine significant digits, tell that two names
    are one image; but not where they are common, as one box around the whole image is.

    Returns
    -------
    dict of str to str
        Images without a box are left out.
    """
    rows = np.flatnonzero(~np.isnan(annotations.box[:, 0]))
    names, kinds, labels = (
        column.take(rows).values()
        for column in (annotations.image, annotations.kind, annotations.label)
    )
    lines: dict[str, list[str]] = {}
    for name, kind, label, box in zip(names, kinds, labels, annotations.box[rows], strict=True):
        corners = " ".join(f"{corner:.9g}" for corner in box)
        lines.setdefault(str(name), []).append(f"{kind} {label} {corners}")
    digests = {
        name: hashlib.sha256("\n".join(sorted(found)).encode("utf-8", "replace")).hexdigest()
        for name, found in lines.items()
    }
    counts = Counter(digests.values())
    return {name: digest for name, digest in digests.items() if counts[digest] == 1}


def part_of_images(
    findings: Findings, annotations: Annotations, share: float, seed: int = 0
) -> list[str]:
    """Return a random part of the images that have both findings and annotations.

    Parameters
    ----------
    share : float
        Above 0 and below 1; at least one image is taken and at least one left.
    seed : int
        The same seed takes the same images.

    Raises
    ------
    ArgumentError
        If `share` is out of range.
    ScopeError
        If there are fewer than two such images.
    """
    if not 0.0 < share < 1.0:
        raise ArgumentError(
            "a share is out of range", place="share", got=share, allowed=["above 0, below 1"]
        )
    common = sorted(set(findings.image.used()) & set(annotations.image.used()))
    if len(common) < 2:
        raise ScopeError(
            "a mapping needs images to fit on and others to be judged on",
            got=f"{len(common)} images with findings and annotations",
        )
    count = min(max(1, round(share * len(common))), len(common) - 1)
    chosen = np.random.default_rng(seed).permutation(len(common))[:count]
    return [common[i] for i in sorted(chosen.tolist())]


def rows_on(findings: Findings, images: set[str]) -> Flags:
    """Return which findings are on some images: ndarray of bool, shape (n,).

    Returns
    -------
    ndarray of bool, shape (n,)
        Blank rows count as on their image.
    """
    return findings.image.among(sorted(images))


def with_whole_vocabulary(annotations: Annotations) -> Annotations:
    """Return the annotations with every label that occurs declared, so that no part loses one."""
    kinds = {*annotations.kind.used(), *annotations.vocabulary} - {""}
    return replace(annotations, vocabulary={kind: annotations.labels(kind) for kind in kinds})
