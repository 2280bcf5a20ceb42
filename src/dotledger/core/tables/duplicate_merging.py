"""Merging repeated boxes of one label: what a service found twice is kept once."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arguments import check_overlap
from dotledger.core.arrays import Ints
from dotledger.core.boxes.box_overlap import overlap as overlap_of
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings

__all__ = ["merge_repeats"]


def merge_repeats(findings: Findings, *, overlap: float = 0.6) -> tuple[Findings, Ints]:
    """Keep the most confident of boxes that repeat each other.

    Within one image, kind and label, boxes are visited by falling confidence (then by x0, y0,
    x1, y1); each that overlaps one already kept by at least `overlap` is merged into the one it
    overlaps most. Findings without a box are all kept.

    Parameters
    ----------
    overlap : float, default 0.6
        Above 0, up to 1.

    Returns
    -------
    kept : Findings
        In the order given; a note in its details says how many were merged into each.
    into : ndarray of intp, shape (n,)
        For each row the row it was merged into; its own row if it was kept.

    Raises
    ------
    ArgumentError
        If `overlap` is out of range.
    """
    overlap = check_overlap(overlap)
    into = np.arange(len(findings))
    for rows in _groups(findings):
        _merge_group(rows, findings.box[rows], overlap, into)
    counts = np.bincount(into, minlength=len(findings)) - 1
    return _noted(findings, counts).take(into == np.arange(len(findings))), into


def _noted(findings: Findings, merged: Ints) -> Findings:
    """Return the table with a note in the details of rows that others were merged into."""
    if not (merged > 0).any():
        return findings
    details = list(findings.details or (None,) * len(findings))
    for row in np.flatnonzero(merged > 0).tolist():
        own = details[row] or Details()
        details[row] = own._replace(notes=(*own.notes, f"{merged[row]} repeats merged"))
    return replace(findings, details=tuple(details))


def _groups(findings: Findings) -> list[Ints]:
    """Return rows by image, kind and label, each in visiting order; only groups of several."""
    certain = np.where(np.isnan(findings.confidence), np.inf, findings.confidence)
    boxed = np.flatnonzero(~np.isnan(findings.box[:, 0]))
    codes = (findings.image.codes, findings.kind.codes, findings.label.codes)
    keys = (*findings.box[boxed].T[::-1], -certain[boxed], *(c[boxed] for c in codes))
    order = boxed[np.lexsort(keys)]
    group = np.stack([column[order] for column in codes], axis=1)
    cuts = np.flatnonzero((group[1:] != group[:-1]).any(axis=1)) + 1
    return [rows for rows in np.split(order, cuts) if len(rows) > 1]


def _merge_group(rows: Ints, box: NDArray[np.float64], overlap: float, into: Ints) -> None:
    kept: list[int] = []
    for place in range(len(rows)):
        if kept:
            shares = overlap_of(box[kept], box[place])
            best = int(np.argmax(shares))
            if shares[best] >= overlap:
                into[rows[place]] = rows[kept[best]]
                continue
        kept.append(place)
