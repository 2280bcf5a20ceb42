"""What intervals of shares are made from, at every threshold at once.

Lowering the threshold past a finding adds to its image's cases alone, so the sums over images of
x_i squared, x_i m_i and m_i squared grow by what that one finding changes. They are summed up once,
by falling confidence, and need no second look at the images.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.counting.cases import Sparse, sparse_rows
from dotledger.core.counting.groups import Group
from dotledger.core.counting.shares import ShareSums, quantile, share_limits

__all__ = ["SumsAtLevels"]


@dataclass(frozen=True, eq=False, kw_only=True)
class SumsAtLevels:
    """The sums of one measure at every level.

    Attributes
    ----------
    added : tuple of sparse, shape (levels, images)
        What each level adds to x, m, xx, xm, mm and n.
    first : tuple of ndarray of float64, shape (images,)
        What m, mm and n are before anything passes.
    is_share : bool
        Whether x is never more than m; false alarms for each image are no share.
    """

    added: tuple[Sparse, ...]
    first: tuple[Floats, Floats, Floats]
    is_share: bool

    @classmethod
    def of(cls, group: Group, values: Floats, measure: str, beta: float = 1.0) -> SumsAtLevels:
        """Return the sums of a measure named as in `Aim`, at falling `values`."""
        level, image, dx, dm, m0 = _cases(group, values, measure, beta)
        order = np.lexsort((level, image))
        level, image, dx, dm = level[order], image[order], dx[order], dm[order]
        x, m = _before(image, dx), _before(image, dm) + m0[image]
        steps = (
            dx,
            dm,
            (x + dx) ** 2 - x**2,
            (x + dx) * (m + dm) - x * m,
            (m + dm) ** 2 - m**2,
            ((m == 0) & (m + dm > 0)).astype(np.float64),
        )
        shape = (max(len(values), 1), group.images)
        return cls(
            added=tuple(sparse_rows(level, image, shape, step) for step in steps),
            first=(m0, m0**2, (m0 > 0).astype(np.float64)),
            is_share=measure != "false_alarms_per_100_images",
        )

    def sums(self, weight: Any) -> ShareSums:
        """Return the sums for images weighted (images, draws): arrays of (levels, draws)."""
        weight = np.asarray(weight, dtype=np.float64)
        x, m, xx, xm, mm, n = (np.cumsum(np.asarray(one @ weight), axis=0) for one in self.added)
        m0, mm0, n0 = (one @ weight for one in self.first)
        return ShareSums(x=x, m=m + m0, xx=xx, xm=xm, mm=mm + mm0, n=n + n0)

    def limits(self, weight: Any, level: float = 0.95) -> tuple[Floats, Floats]:
        """Return lower and upper ends; NaN with fewer than two contributing images."""
        sums = self.sums(weight)
        return share_limits(sums, level) if self.is_share else _mean_limits(sums, level)


def _mean_limits(sums: ShareSums, level: float) -> tuple[Floats, Floats]:
    """Return the ends of Student's interval of a mean over images, in hundreds of images."""
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = sums.x / sums.m
        spread = np.maximum(sums.xx - 2 * mean * sums.xm + mean * mean * sums.mm, 0.0)
        error = np.sqrt(sums.n / (sums.n - 1) * spread) / sums.m
        half = quantile(sums.n - 1, level) * error
        # Where nothing varies, nothing is known about how much it would.
        half = np.where((sums.n < 2) | (half == 0), np.nan, half)
        return 100 * np.maximum(mean - half, 0.0), 100 * (mean + half)


def _before(image: Ints, step: Floats) -> Floats:
    """Return the sum of the steps before each row within its image; rows stand by image."""
    total = np.cumsum(step) - step
    first = np.flatnonzero(np.diff(image, prepend=-1))
    return total - np.repeat(total[first], np.diff(first, append=len(image)))


def _cases(
    group: Group, values: Floats, measure: str, beta: float
) -> tuple[Ints, Ints, Floats, Floats, Floats]:
    """Return level and image of each case, what it adds to x and m, and m before all."""
    levels = max(len(values), 1)
    inside = group.inside.astype(np.float64)
    if measure == "stopped_share":
        level = np.searchsorted(-values, -group.top)
        image = np.flatnonzero((level < levels) & (group.top > -np.inf))
        return level[image], image, np.ones(len(image)), np.zeros(len(image)), inside
    level = np.searchsorted(-values, -group.confidence)
    rows = level < levels
    level, image, right = level[rows], group.image[rows], group.right[rows].astype(np.float64)
    actual = np.bincount(group.true_image, minlength=group.images).astype(np.float64)
    one, none = np.ones(len(right)), np.zeros(len(right))
    if measure == "precision":
        return level, image, right, one, np.zeros(group.images)
    if measure == "recall":
        return level, image, right, none, actual
    if measure == "f":
        return level, image, (1 + beta * beta) * right, one, beta * beta * actual
    if measure == "false_alarm_rate":
        absent = np.zeros(group.images) if group.absent is None else group.absent
        return level, image, 1 - right, none, absent
    return level, image, 1 - right, none, inside
