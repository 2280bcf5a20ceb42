"""What annotated boxes are like: their size, how crowded they are, whether they touch the edge."""

from __future__ import annotations

import numpy as np

from dotledger.core.arrays import Floats
from dotledger.core.pairing.measure_scope import Scope, Side
from dotledger.core.pairing.overlapping_pairs import edges_of, visiting_order
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.box_clipping import image_sizes
from dotledger.core.tables.name_codes import Coded

__all__ = ["area_shares", "at_edge", "crowding_of"]


_PIXEL = 1.0
_TOUCH = 1e-12


def _sizes(annotations: Annotations, scope: Scope) -> Floats:
    """Return width and height of each image in scope; NaN where not known."""
    return image_sizes(Coded(np.arange(len(scope.images)), scope.images), annotations.images)


def area_shares(annotations: Annotations, scope: Scope, side: Side) -> Floats:
    """Return each box's share of its image's area; NaN where the image's size is not known.

    Parameters
    ----------
    side : Side
        Boxes in pixels of the upright original.

    Returns
    -------
    ndarray of float64, shape (n,)
        From 0 to 1.
    """
    sizes = _sizes(annotations, scope)[side.image]
    box = side.box
    shares: Floats = (box[:, 2] - box[:, 0]) * (box[:, 3] - box[:, 1]) / sizes.prod(axis=1)
    return shares


def at_edge(annotations: Annotations, scope: Scope, side: Side) -> Floats:
    """Return 1 where a box comes within a pixel of the image's edge, 0 elsewhere; NaN: unknown.

    Parameters
    ----------
    side : Side
        Boxes in pixels of the upright original.

    Returns
    -------
    ndarray of float64, shape (n,)
        0, 1 or NaN. The left and upper edge are known without a size.
    """
    size, box = _sizes(annotations, scope)[side.image], side.box
    near = (box[:, :2] <= _PIXEL).any(axis=1) | (box[:, 2:] >= size - _PIXEL).any(axis=1)
    known = ~np.isnan(size).any(axis=1)
    return np.where(near, 1.0, np.where(known, 0.0, np.nan))


def crowding_of(annotations: Side) -> Floats:
    """Return the greatest overlap of each annotated box with another of its image.

    Parameters
    ----------
    annotations : Side
        Boxes of one kind, of whatever label.

    Returns
    -------
    ndarray of float64, shape (m,)
        From 0 (alone) to 1.
    """
    boxes = annotations.by_image()
    edges = edges_of(boxes, boxes, visiting_order(boxes), _TOUCH)
    others = edges.finding != edges.annotation
    result = np.zeros(len(annotations))
    np.maximum.at(result, edges.finding[others], edges.overlap[others])
    return result
