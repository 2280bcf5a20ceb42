"""Boxes of tables clipped to their images."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Generic, TypeVar

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

__all__ = ["Clipped", "clip_annotations", "clip_findings", "image_sizes"]

Table = TypeVar("Table", Annotations, Findings)
Facts = Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True, eq=False, kw_only=True)
class Clipped(Generic[Table]):
    """A table whose boxes lie inside their images.

    Attributes
    ----------
    table : Annotations or Findings
        Boxes that reached over the edge are clipped; those wholly outside are gone, and their
        image keeps at least a blank row.
    clipped, outside : ndarray of intp
        Rows, of the table as it was, that were clipped, and that lay wholly outside.
    """

    table: Table
    clipped: Ints
    outside: Ints


def image_sizes(images: Coded, facts: Facts) -> Floats:
    """Return width and height for each row's image: shape (n, 2); NaN where not known.

    Parameters
    ----------
    facts : mapping of str to mapping
        By image; ``width`` and ``height`` in pixels.
    """
    table = np.full((len(images.names) + 1, 2), np.nan)
    for place, name in enumerate(images.names):
        known = facts.get(name, {})
        for side, key in enumerate(("width", "height")):
            value = known.get(key)
            if isinstance(value, int | float) and not isinstance(value, bool):
                table[place, side] = value
    return table[images.codes]


def _clip(box: Floats, sizes: Floats) -> tuple[Floats, Ints, Ints]:
    """Return clipped boxes, rows that were clipped and rows that lie wholly outside."""
    edges = np.where(np.isnan(sizes), np.inf, sizes)
    known = ~np.isnan(sizes).any(axis=1) & ~np.isnan(box[:, 0])
    inside = np.maximum(box, 0.0)
    inside[:, 2:] = np.minimum(inside[:, 2:], edges)
    gone = known & ((inside[:, 0] >= inside[:, 2]) | (inside[:, 1] >= inside[:, 3]))
    changed = known & ~gone & (inside != box).any(axis=1)
    return np.where(changed[:, None], inside, box), np.flatnonzero(changed), np.flatnonzero(gone)


def clip_annotations(annotations: Annotations, facts: Facts | None = None) -> Clipped[Annotations]:
    """Clip annotated boxes to their images, as far as their sizes are known.

    An image with a box wholly outside is not covered for its kind: see `Annotations.covered`.

    Parameters
    ----------
    facts : mapping of str to mapping, optional
        Width and height by image; by default what the annotations know.
    """
    sizes = image_sizes(annotations.image, annotations.images if facts is None else facts)
    box, clipped, outside = _clip(annotations.box, sizes)
    if not len(clipped) and not len(outside):
        return Clipped(table=annotations, clipped=clipped, outside=outside)
    label = annotations.label.values().copy()
    label[outside] = ""
    box[outside] = np.nan
    table = replace(
        annotations,
        label=Coded.of(label.tolist()),
        box=box,
        ignore=annotations.ignore | np.isin(np.arange(len(box)), outside),
    )
    return Clipped(table=table, clipped=clipped, outside=outside)


def clip_findings(findings: Findings, facts: Facts) -> Clipped[Findings]:
    """Clip the boxes of findings to their images, as far as their sizes are known."""
    box, clipped, outside = _clip(findings.box, image_sizes(findings.image, facts))
    table = replace(findings, box=box) if len(clipped) else findings
    if len(outside):
        table = table.without(np.isin(np.arange(len(box)), outside))
    return Clipped(table=table, clipped=clipped, outside=outside)
