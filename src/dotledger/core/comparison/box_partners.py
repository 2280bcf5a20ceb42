"""Which boxes of two runs lie on each other."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.kinds import KINDS
from dotledger.core.measurement.measure import measure
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings

__all__ = ["Partners", "as_marked", "partners_of"]


def as_marked(table: Findings, labels: tuple[str, ...], kind: str) -> Annotations:
    """Return what a run found as if a person had marked it; boxes without one are left out.

    Returns
    -------
    Annotations
        With the blank rows of images in which nothing was found.
    """
    kept = table.take(_with_boxes(table, kind))
    return Annotations(
        image=kept.image,
        kind=kept.kind,
        label=kept.label,
        box=kept.box,
        ignore=np.zeros(len(kept), dtype=bool),
        vocabulary={kind: labels},
    )


def _with_boxes(table: Findings, kind: str) -> Ints:
    rows = table.kind.among([kind])
    if KINDS[kind].judged == "boxes":
        rows &= table.blank | ~np.isnan(table.box[:, 0])
    return np.flatnonzero(rows)


@dataclass(frozen=True, eq=False, kw_only=True)
class Partners:
    """Boxes of two runs that lie on each other.

    Attributes
    ----------
    first, second : ndarray of intp, shape (n,)
        Rows of the two tables, next to each other.
    """

    first: Ints
    second: Ints

    def moved(self, first: Findings, second: Findings) -> dict[str, Floats]:
        """Return by what changed how far each second box is from the first: see `Change`."""
        (x, y, wide, high), (u, v, wider, higher) = (
            _centred(table.box[rows])
            for table, rows in ((first, self.first), (second, self.second))
        )
        # Differences in the mean of both sizes, so that the two runs are treated alike.
        return {
            "log area of a box": np.log((wider * higher) / (wide * high)),
            "log aspect of a box": np.log((wider / higher) / (wide / high)),
            "boxes moved right": 2 * (u - x) / (wide + wider),
            "boxes moved down": 2 * (v - y) / (high + higher),
        }


def _centred(box: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    wide, high = box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]
    return (box[:, 0] + box[:, 2]) / 2, (box[:, 1] + box[:, 3]) / 2, wide, high


def partners_of(first: Findings, second: Findings, kind: str, *, overlap: float = 0.5) -> Partners:
    """Return which boxes of one kind lie on each other, label by label.

    Returns
    -------
    Partners
        Paired so that the sum of overlaps is the greatest, which does not depend on which run is
        the first.
    """
    mine, theirs = np.flatnonzero(first.kind.among([kind])), _with_boxes(second, kind)
    labels = {*first.label.take(mine).used(), *second.label.take(theirs).used()} - {""}
    result = measure(
        replace(first.take(mine), origin=None),
        as_marked(second, tuple(sorted(labels)), kind),
        overlap=overlap,
        kinds=[kind],
        pairing="total-overlap",
        draws=0,
    )
    scope, judged = result.basis.scopes[kind], result.basis.judged[kind]
    return Partners(
        first=mine[scope.findings.row[judged.hit]],
        second=theirs[scope.annotations.row[judged.annotation]],
    )
