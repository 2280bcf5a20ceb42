"""How many findings there are with at least a confidence."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from dotledger.core.arrays import Floats, Ints, narrow

__all__ = ["Ranks"]


class Ranks:
    """Ranks of findings, worked out for the rows that are asked for.

    Parameters
    ----------
    label : ndarray of intp, shape (n,)
        From 0.
    confidence : ndarray of float64, shape (n,)
        May be infinite; not NaN.
    """

    def __init__(self, label: Ints, confidence: Floats) -> None:
        self._label = label
        self._falling = -confidence
        self._within = np.full(len(label), -1, dtype=np.intp)
        self._overall = np.full(len(label), -1, dtype=np.intp)

    @cached_property
    def _sorted(self) -> Floats:
        return np.sort(self._falling)

    @cached_property
    def _sorted_by_label(self) -> list[Floats]:
        order = np.argsort(narrow(self._label), kind="stable")
        sizes = np.bincount(self._label)
        parts = np.split(self._falling[order], np.cumsum(sizes)[:-1])
        for part in parts:
            part.sort()
        return parts

    def overall(self, rows: Ints) -> Ints:
        """Return for each of `rows` how many findings there are with at least its confidence."""
        new = rows[self._overall[rows] < 0]
        new = new[np.argsort(self._falling[new])]  # neighbours are looked up together
        self._overall[new] = np.searchsorted(self._sorted, self._falling[new], side="right")
        return self._overall[rows]

    def within(self, rows: Ints) -> Ints:
        """Return the same among things of the row's own label."""
        new = rows[self._within[rows] < 0]
        new = new[np.argsort(narrow(self._label[new]), kind="stable")]
        labels, starts = np.unique(self._label[new], return_index=True)
        for label, mine in zip(labels.tolist(), np.split(new, starts[1:]), strict=False):
            values = self._sorted_by_label[label]
            self._within[mine] = np.searchsorted(values, self._falling[mine], side="right")
        return self._within[rows]
