"""Figures of two runs that are made of sums over images, in every exchange of their answers.

Of the same images each exchanges its two answers; different images change between the two runs
whole. Either way an exchange turns the sums of a run into those of the other for some images, so
that all of them are one product of a sparse matrix with whatever is exchanged.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from dotledger.core.arrays import Floats, Ints, ratios
from dotledger.core.comparison.exchange_test import exchanges, has_all
from dotledger.core.measures.image_cases import Sparse

__all__ = ["Exchanged", "Figure", "Figures"]

_AT_ONCE = 200
"""Exchanges worked out together: with a million images 2,000 at once would be 16 GB."""

_RANGES = {"share": (0.0, 1.0), "count": (0.0, math.inf)}


@dataclass(frozen=True, kw_only=True)
class Figure:
    """A share or mean: the sum of row `part` over the sum of row `whole`.

    Of a distribution, `part` is the first of `bins` rows that count cases from the lowest value
    on, and the figure is the largest distance of the two cumulative distributions, with the sign
    that it has there.

    `shown` is how both runs' values are told: as they are; ``"moved"`` for a change of partners,
    from 0 on; ``"logarithm"`` for the mean of logarithms, shown as its power; ``"share"``
    and ``"count"`` for what cannot leave its range.
    """

    what: str
    of: str
    part: int
    whole: int = -1
    bins: int = 0
    shown: str = ""

    def told(self, value: float) -> float:
        """Return a value of this figure as it is displayed; shares and counts stay in range."""
        if self.shown == "logarithm":
            return math.exp(value)
        low, high = _RANGES.get(self.shown, (-math.inf, math.inf))
        return value if math.isnan(value) else min(max(value, low), high)


@dataclass(frozen=True, eq=False, kw_only=True)
class Exchanged:
    """What exchanges make of figures.

    Attributes
    ----------
    first, second, change : ndarray of float64, shape (figures,)
        Of both runs; second minus first. NaN where undefined.
    moved : ndarray of float64, shape (figures, exchanges)
        The changes in each exchange.
    all_made : bool
        Whether these are all that there are.
    """

    first: Floats
    second: Floats
    change: Floats
    moved: Floats
    all_made: bool


class Figures:
    """Figures of two runs over the same images, or over different ones.

    Parameters
    ----------
    paired : bool
        Whether they are the same, in the same order.
    """

    def __init__(self, images: tuple[int, int], *, paired: bool) -> None:
        self._images, self._paired = images, paired
        self._blocks: list[tuple[Sparse, Sparse]] = []
        self._count = 0
        self.figures: list[Figure] = []
        self._units = self._row((np.ones(images[0]), np.ones(images[1])))

    def _row(self, sums: tuple[Floats, Floats]) -> int:
        from scipy import sparse

        one, other = (sparse.csr_array(side[None]) for side in sums)
        return self._block(one, other)

    def _block(self, one: Sparse, other: Sparse) -> int:
        self._blocks.append((one, other))
        self._count += one.shape[0]
        return self._count - int(one.shape[0])

    def add(
        self,
        what: str,
        of: str,
        part: tuple[Floats, Floats],
        whole: tuple[Floats, Floats] | None = None,
        *,
        shown: str = "",
    ) -> None:
        """Add a share or mean from the sums of each image in both runs; by default per image."""
        below = self._units if whole is None else self._row(whole)
        own = self._row(part)
        self.figures.append(Figure(what=what, of=of, part=own, whole=below, shown=shown))

    def add_distribution(self, what: str, of: str, bins: tuple[Sparse, Sparse]) -> None:
        """Add the distance of two distributions, from the cases in each bin: (bins, images)."""
        first = self._block(*(one.astype(np.float64) for one in bins))
        self.figures.append(Figure(what=what, of=of, part=first, bins=int(bins[0].shape[0])))

    def exchanged(self, order: Ints, seed: int, count: int) -> Exchanged:
        """Return all figures in all exchanges.

        Parameters
        ----------
        order : ndarray of intp, shape (images,)
            The place of each image (of different images, of the first run's and then the
            second's): which exchanges it gets.
        count : int
            How many; all that there are where those are fewer.
        """
        parts = [np.zeros((len(self.figures), 0)), *self.moving(order, seed, count)]
        first, second, change = self.seen()
        return Exchanged(
            first=first,
            second=second,
            change=change,
            moved=np.concatenate(parts, axis=1),
            all_made=self.has_all(count),
        )

    def has_all(self, count: int) -> bool:
        """Tell whether so many exchanges are all that there are."""
        return self._paired and has_all(self._images[0], count)

    def seen(self) -> tuple[Floats, Floats, Floats]:
        """Return the figures of both runs, and their changes: shape (figures,) each."""
        _, first, both = self._sums()
        one, other = first[:, None], (both - first)[:, None]
        values = self._values(one), self._values(other), self._changes(one, other)
        return values[0][:, 0], values[1][:, 0], values[2][:, 0]

    def moving(self, order: Ints, seed: int, count: int) -> Iterator[Floats]:
        """Yield the changes in the exchanges of `exchanged`, some at a time."""
        moving, first, both = self._sums()
        # Of the same images an exchange adds to the first run's sums; of different ones it says
        # which of all images are the first run's.
        start = first if self._paired else np.zeros_like(first)
        for swapped in self._exchanges(seed, count):
            mine = start[:, None] + moving @ swapped[order]
            yield self._changes(mine, both[:, None] - mine)

    def _sums(self) -> tuple[Sparse, Floats, Floats]:
        """Return what is exchanged, the first run's sums, and those of both."""
        from scipy import sparse

        one, other = (sparse.vstack(side, format="csr") for side in zip(*self._blocks, strict=True))
        sums = [np.asarray(side.sum(axis=1), dtype=np.float64).ravel() for side in (one, other)]
        moving = other - one if self._paired else sparse.hstack([one, other], format="csr")
        return moving, sums[0], sums[0] + sums[1]

    def _exchanges(self, seed: int, count: int) -> Iterator[Floats]:
        if self._paired:
            yield from exchanges(self._images[0], seed, _AT_ONCE, count)
            return
        rng = np.random.default_rng(seed)
        first, every = self._images[0], sum(self._images)
        for start in range(0, count, _AT_ONCE):
            keys = rng.random((min(_AT_ONCE, count - start), every))
            chosen = np.argpartition(keys, first - 1, axis=1)[:, :first]
            mine = np.zeros(keys.shape)
            np.put_along_axis(mine, chosen, 1.0, axis=1)
            yield mine.T

    def _values(self, sums: Floats) -> Floats:
        """Return shares and means; of a distribution its mean in bins, from 0 to 1."""
        found = np.empty((len(self.figures), sums.shape[1]))
        for place, figure in enumerate(self.figures):
            if figure.bins:
                cases = sums[figure.part : figure.part + figure.bins]
                middle = (np.arange(figure.bins) + 0.5) / figure.bins
                found[place] = ratios(middle @ cases, cases.sum(axis=0))
            else:
                found[place] = ratios(sums[figure.part], sums[figure.whole])
        return found

    def _changes(self, mine: Floats, theirs: Floats) -> Floats:
        found = self._values(theirs) - self._values(mine)
        for place, figure in enumerate(self.figures):
            if figure.bins:
                rows = slice(figure.part, figure.part + figure.bins)
                found[place] = _distance(mine[rows], theirs[rows])
        return found


def _distance(one: Floats, other: Floats) -> Floats:
    """Return the largest distance of distributions: positive where the second lies higher."""
    with np.errstate(divide="ignore", invalid="ignore"):
        apart = np.cumsum(one, axis=0) / one.sum(axis=0) - np.cumsum(other, axis=0) / other.sum(
            axis=0
        )
    at = np.argmax(np.abs(np.round(apart, 12)), axis=0)
    return np.asarray(apart[at, np.arange(apart.shape[1])], dtype=np.float64)
