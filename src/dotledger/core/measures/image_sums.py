"""What intervals of shares are made from, at every threshold at once.

Lowering the threshold past a finding adds to its image's cases alone, so the sums over images of
x_i squared, x_i m_i and m_i squared grow by what that one finding changes. They are summed up once,
by falling confidence, and need no second look at the images.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.measures.finding_groups import Group
from dotledger.core.measures.image_cases import Sparse, sparse_rows
from dotledger.core.measures.registry import RATIOS, Form, MeasureRecord, f_measure
from dotledger.core.measures.share_limits import ShareSums, ends_of_spread, quantile, share_limits

__all__ = ["CasesInOrder", "SumsAtLevels", "mean_of_shares_at_levels"]


class CasesInOrder:
    """The findings of a group image by image, by falling confidence; sorted once for all."""

    def __init__(self, group: Group, values: Floats) -> None:
        self.group, self.values = group, values
        self.levels = max(len(values), 1)
        level = np.searchsorted(-values, -group.confidence)
        rows = np.flatnonzero(level < self.levels)
        key = group.image[rows] * self.levels + level[rows]
        rows = rows[np.argsort(key, kind="stable")]
        self.level: Ints = level[rows]
        self.image: Ints = group.image[rows]
        self.right: Flags = group.right[rows]
        first = np.flatnonzero(np.diff(self.image, prepend=-1))
        self._first = np.repeat(first, np.diff(first, append=len(self.image)))

    @cached_property
    def actual(self) -> Floats:
        """Annotations of each image."""
        found = np.bincount(self.group.true_image, minlength=self.group.images)
        return found.astype(np.float64)

    @cached_property
    def stops(self) -> tuple[Ints, Ints]:
        """Level and image of each image's highest confidence."""
        level = np.searchsorted(-self.values, -self.group.top)
        image = np.flatnonzero((level < self.levels) & (self.group.top > -np.inf))
        return level[image], image

    def before(self, step: Floats) -> Floats:
        """Return the sum of the steps before each row within its image."""
        total = np.cumsum(step) - step
        return total - total[self._first]


@dataclass(frozen=True, eq=False)
class SumsAtLevels:
    """The sums of one measure at every level.

    Attributes
    ----------
    level, image : ndarray of intp, shape (n,)
        Of each case.
    steps : tuple of ndarray of float64, shape (n,)
        What each case adds to x, m, xx, xm, mm and n.
    first : tuple of ndarray of float64, shape (images,)
        What m, mm and n are before anything passes.
    levels : int
        How many there are.
    is_share : bool
        Whether x is never more than m; false alarms for each image are no share.
    """

    level: Ints
    image: Ints
    steps: tuple[Floats, ...]
    first: tuple[Floats, Floats, Floats]
    levels: int
    is_share: bool

    @classmethod
    def of(cls, cases: CasesInOrder, measure: str, beta: float = 1.0) -> SumsAtLevels:
        """Return the sums of a measure named as in `Aim`."""
        level, image, dx, dm, m0 = _cases(cases, measure, beta)
        if measure == "stopped_share":  # one case an image: nothing came before it
            x, m = np.zeros(len(dx)), m0[image]
        else:
            x, m = cases.before(dx), cases.before(dm) + m0[image]
        steps = (
            dx,
            dm,
            (2 * x + dx) * dx,
            x * dm + m * dx + dx * dm,
            (2 * m + dm) * dm,
            ((m == 0) & (dm > 0)).astype(np.float64),
        )
        return cls(
            level,
            image,
            steps,
            (m0, m0**2, (m0 > 0).astype(np.float64)),
            cases.levels,
            measure != "false_alarms_per_100_images",
        )

    @cached_property
    def _sparse(self) -> tuple[Sparse, ...]:
        shape = (self.levels, len(self.first[0]))
        return tuple(sparse_rows(self.level, self.image, shape, step) for step in self.steps)

    def sums(self, weight: Any = None) -> ShareSums:
        """Return the sums for images weighted (images, draws); without weights each counts once.

        Arrays of (levels, draws), or of (levels,) without weights.
        """
        if weight is None:
            added = [self._by_level(step) for step in self.steps]
            base: Any = [one.sum() for one in self.first]
        else:
            weight = np.asarray(weight, dtype=np.float64)
            added = [np.asarray(one @ weight) for one in self._sparse]
            base = [one @ weight for one in self.first]
        x, m, xx, xm, mm, n = (np.cumsum(one, axis=0) for one in added)
        return ShareSums(x=x, m=m + base[0], xx=xx, xm=xm, mm=mm + base[1], n=n + base[2])

    def _by_level(self, step: Floats) -> Floats:
        found = np.bincount(self.level, step, self.levels)
        return np.asarray(found, dtype=np.float64)

    def limits(self, weight: Any = None, level: float = 0.95) -> tuple[Floats, Floats]:
        """Return lower and upper ends; NaN with fewer than two contributing images."""
        sums = self.sums(weight)
        return share_limits(sums, level) if self.is_share else _mean_limits(sums, level)


def mean_of_shares_at_levels(
    cases: CasesInOrder, record: MeasureRecord, level: float = 0.95
) -> tuple[Floats, Floats]:
    """Return the ends of the plain mean of several shares, at every level.

    Parameters
    ----------
    cases : CasesInOrder
        Of a group; with absences if the measure needs them.

    Returns
    -------
    tuple of two ndarray of float64, shape (levels,)
        NaN where a share is undefined or fewer than two images contribute.
    """
    sides = [(_Series(cases, part), _Series(cases, whole)) for part, whole in record.ratios]
    with np.errstate(divide="ignore", invalid="ignore"):
        wholes = [m.total() for _, m in sides]
        shares = [x.total() / whole for (x, _), whole in zip(sides, wholes, strict=True)]
        spread = np.zeros(cases.levels)
        for (x, m), p, one in zip(sides, shares, wholes, strict=True):
            for (y, k), q, other in zip(sides, shares, wholes, strict=True):
                both = x.times(y) - q * x.times(k) - p * m.times(y) + p * q * m.times(k)
                spread += both / (one * other)
        images = np.any([m.base > 0 for _, m in sides], axis=0).sum()
        n = np.full(cases.levels, float(images))
        mean = np.asarray(sum(shares) / len(sides))
        cases_of_all = np.asarray(sum(wholes))
        return ends_of_spread(mean, spread / len(sides) ** 2, n, cases_of_all, level)


class _Series:
    """A sum of counts by image, at every level: what it begins with, and what each case adds."""

    def __init__(self, cases: CasesInOrder, form: Form) -> None:
        self._cases, group = cases, cases.group
        absent = np.zeros(group.images) if group.absent is None else group.absent
        base = form.get("actual", 0) * cases.actual + form.get("absent", 0) * absent
        self.base: Floats = np.asarray(base, dtype=np.float64)
        self.step: Floats = form.get("hits", 0) * cases.right.astype(np.float64) + form.get(
            "found", 0
        )
        self._before = cases.before(self.step) + self.base[cases.image]

    def total(self) -> Floats:
        """Return the sum over images, shape (levels,)."""
        return self._summed(self.step, float(self.base.sum()))

    def times(self, other: _Series) -> Floats:
        """Return the sum over images of the product with another series, shape (levels,)."""
        added = self._before * other.step + other._before * self.step + self.step * other.step
        return self._summed(added, float(self.base @ other.base))

    def _summed(self, added: Floats, first: float) -> Floats:
        by_level = np.bincount(self._cases.level, added, self._cases.levels)
        return np.asarray(first + np.cumsum(by_level), dtype=np.float64)


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


def _cases(
    cases: CasesInOrder, measure: str, beta: float
) -> tuple[Ints, Ints, Floats, Floats, Floats]:
    """Return level and image of each case, what it adds to x and m, and m before all."""
    group = cases.group
    inside = group.inside.astype(np.float64)
    if measure == "stopped_share":
        level, image = cases.stops
        return level, image, np.ones(len(image)), np.zeros(len(image)), inside
    level, image = cases.level, cases.image
    if measure == "false_alarms_per_100_images":
        return level, image, 1 - cases.right.astype(np.float64), np.zeros(len(image)), inside
    record = f_measure(beta) if measure == "f" else RATIOS[measure]
    [(part, whole)] = record.ratios
    x, m = _Series(cases, part), _Series(cases, whole)
    return level, image, x.step, m.step, m.base
