"""Whether two runs differ, by letting the two answers to an image change places.

If two services are equally good, nothing tells which of two answers to an image came from which. So
each image's answers are exchanged with probability 1/2, many times over, and every figure is worked
out anew (R. A. Fisher, "The design of experiments", 1935, chapter 3). A difference is significant
where hardly any exchange makes one as large.

Many figures looked at together would call one of them different by chance. So a figure is held
against the largest of all that are no more striking than it (P. H. Westfall and S. S. Young,
"Resampling-based multiple testing", 1993, step-down max-T): where nothing differs, any of them is
called significant in at most 5 of 100 such tables, however many rows they have.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from dotledger.core.arrays import Flags, Floats

__all__ = ["EXCHANGES", "Critical", "StepDown", "adjusted", "critical", "exchanges", "has_all"]

EXCHANGES = 2000
"""Random exchanges; all of them where there are fewer."""
_DECIMALS = 9
"""What two orders of adding up make of one figure is one figure."""


def has_all(images: int, count: int = EXCHANGES) -> bool:
    """Tell whether all exchanges of so few images are made, and not some at random.

    Returns
    -------
    bool
        Whether 2^images is not above `count`.
    """
    return images < 64 and 2**images <= count


def exchanges(images: int, seed: int, at_once: int, count: int = EXCHANGES) -> Iterator[Floats]:
    """Yield which images exchange their answers: 0 or 1, shape (images, up to `at_once`).

    Parameters
    ----------
    images : int
        In both runs; with 0 nothing is yielded.
    seed : int
        The same seed gives the same exchanges, whatever `at_once` is.
    count : int
        How many; all 2^images where those are fewer.

    Yields
    ------
    ndarray of float64, shape (images, exchanges)
        In doubles: two exchanges that give one figure must give the same one.
    """
    if not images:
        return
    if has_all(images, count):
        # In no order, so that a part of them says as much as any other part.
        every = np.random.default_rng(seed).permutation(2**images)
        whole = (every[None, :] >> np.arange(images)[:, None]) & 1
        for start in range(0, len(every), at_once):
            yield whole[:, start : start + at_once].astype(np.float64)
        return
    rng = np.random.default_rng(seed)
    for start in range(0, count, at_once):
        size = min(at_once, count - start)
        yield rng.integers(0, 2, (size, images)).T.astype(np.float64)


def adjusted(observed: Floats, moved: Floats, *, all_made: bool) -> Floats:
    """Return p-values of differences that are looked at together.

    Parameters
    ----------
    observed : ndarray of float64, shape (rows,)
        Differences; NaN where undefined.
    moved : ndarray of float64, shape (rows, exchanges)
        The same in each exchange; NaN where undefined, which is never taken as a large one.
    all_made : bool
        Whether these are all exchanges, the one that was observed among them.

    Returns
    -------
    ndarray of float64, shape (rows,)
        Above 0; NaN where the difference is undefined or no exchange changes it.

    Examples
    --------
    Three images, each right in the second run only: of eight exchanges two are as large.

    >>> import numpy as np
    >>> made = next(exchanges(3, 0, 8))
    >>> adjusted(np.array([1.0]), 1 - 2 * made.mean(axis=0)[None], all_made=True)
    array([0.25])
    """
    counting = StepDown(observed, moved)
    counting.add(moved)
    every = moved.shape[1]
    reached = counting.reached / every if all_made else (1 + counting.reached) / (1 + every)
    return counting.p_values(reached)


class StepDown:
    """Counts exchanges in which differences as striking as those observed occur, part by part.

    Parameters
    ----------
    observed : ndarray of float64, shape (rows,)
        Differences; NaN where undefined.
    moved : ndarray of float64, shape (rows, exchanges)
        Some exchanges, of which each row's spread is taken.

    Attributes
    ----------
    rows : ndarray of intp
        Rows of which anything can be said, the most striking difference first.
    reached : ndarray of float64, shape (len(rows),)
        In how many of the exchanges added so far the largest of this and all less striking rows is
        at least as striking.
    """

    def __init__(self, observed: Floats, moved: Floats) -> None:
        self._among = len(observed)
        with np.errstate(invalid="ignore", divide="ignore"):
            self.spread = _spread(moved)
            rows = np.flatnonzero(~np.isnan(observed) & (self.spread > 10.0**-_DECIMALS))
            scaled = np.round(np.abs(observed[rows]) / self.spread[rows], _DECIMALS)
        order = np.argsort(-scaled, kind="stable")
        self.rows, self._scaled = rows[order], scaled[order]
        self.reached = np.zeros(len(rows))

    def add(self, moved: Floats) -> Flags:
        """Count further exchanges; tell in which of them the most striking row is reached."""
        largest = np.zeros(moved.shape[1])
        hit = np.zeros(moved.shape[1], dtype=bool)
        for place in range(len(self.rows) - 1, -1, -1):  # from the least striking one on
            row = self.rows[place]
            one = np.abs(moved[row]) / self.spread[row]
            np.fmax(largest, np.round(one, _DECIMALS), out=largest)
            hit = largest >= self._scaled[place]
            self.reached[place] += np.count_nonzero(hit)
        return hit

    def p_values(self, shares: Floats) -> Floats:
        """Return p-values by row from shares of `rows`: never less than that of the row before."""
        found = np.full(self._among, np.nan)
        found[self.rows] = np.maximum.accumulate(shares)
        return found


def _spread(moved: Floats) -> Floats:
    defined = ~np.isnan(moved)
    count = np.maximum(defined.sum(axis=1), 1)
    mean = np.where(defined, moved, 0.0).sum(axis=1) / count
    apart = np.where(defined, moved - mean[:, None], 0.0)
    spread: Floats = np.sqrt((apart * apart).sum(axis=1) / count)
    return spread


@dataclass(frozen=True, eq=False)
class Critical:
    """What a difference must reach: `largest` times its own `spread` (shape (rows,); 0 if none)."""

    largest: float
    spread: Floats


def critical(moved: Floats, level: float) -> Critical:
    """Return how striking a difference must be, to be significant among all rows.

    Parameters
    ----------
    moved : ndarray of float64, shape (rows, exchanges)
        As for `adjusted`.
    level : float
        Such as 0.05.

    Returns
    -------
    Critical
        NaN where nothing varies.
    """
    spread = _spread(moved)
    rows = np.flatnonzero(spread > 10.0**-_DECIMALS)
    largest = np.zeros(moved.shape[1])
    for row in rows:
        np.fmax(largest, np.abs(moved[row]) / spread[row], out=largest)
    found = float(np.quantile(largest, 1 - level)) if len(rows) and len(largest) else np.nan
    return Critical(found, np.where(spread > 10.0**-_DECIMALS, spread, 0.0))
