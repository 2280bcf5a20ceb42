"""How sure a measure between 0 and 1 is: a Wilson interval with the effective number of cases.

Boxes of one image are alike, so the unit is the image. Of n images that contribute, image i has x_i
of m_i cases. The spread of x_i about p m_i says how many independent cases the m cases are worth;
Wilson's interval with Student's t is then taken for that many (E. B. Wilson, "Probable inference,
the law of succession, and statistical inference", 1927; the effective number as in L. Kish, "Survey
sampling", 1965, 8.2).

Worked: three images with 2 of 2, 1 of 2 and 0 of 2. x = 3, m = 6, p = 1/2; the sum of squares
about p m_i is 1 + 0 + 1 = 2, v = 3/2 * 2/36 = 1/12, and p (1 - p) / m = 1/24: twice as wide, so
e = 3 cases. With t = 4.303 (two degrees of freedom) the interval is 0.036 to 0.964.

Only the effective number of cases differs from measure to measure:

- Shares: m, or fewer where the cases of an image are alike. A share of 0 or 1 shows no spread, so
  the exact limit with min(m, n) cases stands in its place (C. J. Clopper and E. S. Pearson, 1934):
  two of two images right is at least 0.025^(1/2) = 0.158.
- Means of values between 0 and 1, such as overlaps: p (1 - p) / v.
- What is no sum over images (average precision, means over labels): p (1 - p) / v at most, with v
  from draws of images.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats

__all__ = [
    "FEW_IMAGES",
    "ShareSums",
    "drawn_limits",
    "ends_of_spread",
    "expanded_tails",
    "influences",
    "interval_of_cases",
    "mean_limits",
    "mean_of_shares_limits",
    "mean_of_shares_limits_by_image",
    "quantile",
    "share_interval",
    "share_limits",
]


FEW_IMAGES = 10
"""Rows with fewer contributing images are marked."""


@dataclass(frozen=True, eq=False, kw_only=True)
class ShareSums:
    """What an interval of shares is made from; arrays of one shape.

    Attributes
    ----------
    x, m : ndarray of float64
        Cases that count and all cases, summed over images.
    xx, xm, mm : ndarray of float64
        Sums over images of x_i squared, x_i m_i and m_i squared.
    n : ndarray of float64
        Images with any case.
    """

    x: Floats
    m: Floats
    xx: Floats
    xm: Floats
    mm: Floats
    n: Floats

    @classmethod
    def of_images(cls, x: Any, m: Any) -> ShareSums:
        """Return the sums over the last axis of counts by image."""
        x, m = np.asarray(x, dtype=np.float64), np.asarray(m, dtype=np.float64)
        return cls(
            x=x.sum(axis=-1),
            m=m.sum(axis=-1),
            xx=(x * x).sum(axis=-1),
            xm=(x * m).sum(axis=-1),
            mm=(m * m).sum(axis=-1),
            n=(m > 0).sum(axis=-1).astype(np.float64),
        )


def quantile(freedom: Floats, level: float) -> Floats:
    """Return the upper point of Student's t that leaves half of 1 - `level` above it.

    Parameters
    ----------
    freedom : ndarray of float64
        Degrees of freedom; below 1 counts as 1.
    level : float
        The share of cases the interval is meant to hold, such as 0.95.

    Returns
    -------
    ndarray of float64
        Above 0.
    """
    from scipy.special import stdtrit

    # Degrees of freedom are whole numbers and few of them differ, while each costs a search.
    distinct, place = np.unique(np.maximum(freedom, 1.0), return_inverse=True)
    found = np.asarray(stdtrit(distinct, (1 + level) / 2), dtype=np.float64)
    return found[place].reshape(np.shape(freedom))


def share_limits(sums: ShareSums, level: float = 0.95) -> tuple[Floats, Floats]:
    """Return the lower and upper ends.

    Parameters
    ----------
    level : float
        Such as 0.95.

    Returns
    -------
    tuple of two ndarray of float64
        From 0 to 1; NaN where fewer than two images contribute.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        p = sums.x / sums.m
        cases = sums.m / np.maximum(1.0, _variance(sums, p) / (p * (1 - p) / sums.m))
        low, high = _wilson(p, cases, sums.n, level)
        low, high = _exact_ends(p, np.minimum(sums.m, sums.n), low, high, level)
    few = (sums.n < 2) | np.isnan(p)
    return np.where(few, np.nan, low), np.where(few, np.nan, high)


def mean_of_shares_limits(parts: Sequence[ShareSums], level: float = 0.95) -> tuple[Floats, Floats]:
    """Return the ends of the plain mean of several shares whose cases are of different images.

    As images with a label and those without it are: how the one share's cases vary says nothing
    about the other's, so the variances add up.

    Parameters
    ----------
    parts : sequence of ShareSums
        At least one, of one shape.
    level : float
        Such as 0.95.

    Returns
    -------
    tuple of two ndarray of float64
        From 0 to 1; NaN where a share is undefined or fewer than two images contribute.
    """
    if len(parts) == 1:
        return share_limits(parts[0], level)
    with np.errstate(divide="ignore", invalid="ignore"):
        shares = [one.x / one.m for one in parts]
        spread = sum(
            _spread(one, p) / (one.m * one.m) for one, p in zip(parts, shares, strict=True)
        )
        p = np.asarray(sum(shares) / len(parts))
        n, m = (np.asarray(sum(getattr(one, name) for one in parts)) for name in ("n", "m"))
        return ends_of_spread(p, np.asarray(spread) / len(parts) ** 2, n, m, level)


def mean_of_shares_limits_by_image(
    pairs: Sequence[tuple[Floats, Floats]], level: float = 0.95
) -> tuple[Floats, Floats]:
    """Return the ends of the plain mean of several shares, whatever their images have in common.

    Parameters
    ----------
    pairs : sequence of (ndarray, ndarray), shape (images,)
        Cases that count and all cases of each share.
    level : float
        Such as 0.95.

    Returns
    -------
    tuple of two ndarray of float64, shape ()
        From 0 to 1; NaN where a share is undefined or fewer than two images contribute.
    """
    if len(pairs) == 1:
        return share_limits(ShareSums.of_images(*pairs[0]), level)
    with np.errstate(divide="ignore", invalid="ignore"):
        shares = [x.sum() / m.sum() for x, m in pairs]
        moved = influences(pairs)
        n = np.asarray(np.any([m > 0 for _, m in pairs], axis=0).sum(), dtype=np.float64)
        m = np.asarray(sum(m.sum() for _, m in pairs), dtype=np.float64)
        p = np.asarray(sum(shares) / len(pairs))
        return ends_of_spread(p, np.asarray(moved @ moved), n, m, level)


def influences(pairs: Sequence[tuple[Floats, Floats]]) -> Floats:
    """Return how far each image moves the plain mean of some shares.

    Parameters
    ----------
    pairs : sequence of (ndarray, ndarray), shape (images,)
        Cases that count and all cases of each share.

    Returns
    -------
    ndarray of float64, shape (images,)
        0 for an image without a case; for one share x_i - p m_i, divided by all cases.
    """
    moved = np.zeros(len(pairs[0][0]))
    for x, m in pairs:
        whole = m.sum()
        if whole:
            moved += (x - m * (x.sum() / whole)) / whole
    return moved / len(pairs)


def ends_of_spread(
    p: Floats, spread: Floats, n: Floats, m: Floats, level: float
) -> tuple[Floats, Floats]:
    """Return the ends of a mean of shares from what images move it by.

    Parameters
    ----------
    p, spread, n, m : ndarray of float64, of one shape
        The measure; the summed squares of what each image moves it by; contributing images; cases.

    Returns
    -------
    tuple of two ndarray of float64
        From 0 to 1; NaN with fewer than two images.
    """
    variance = n / (n - 1) * np.where(spread > _NOTHING, spread, 0.0)
    cases = m / np.maximum(1.0, variance / (p * (1 - p) / m))
    low, high = _wilson(p, cases, n, level)
    low, high = _exact_ends(p, np.minimum(m, n), low, high, level)
    few = (n < 2) | np.isnan(p)
    return np.where(few, np.nan, low), np.where(few, np.nan, high)


def mean_limits(sums: ShareSums, level: float = 0.95) -> tuple[Floats, Floats]:
    """Return the ends of means of values between 0 and 1 over cases, such as mean overlap.

    Parameters
    ----------
    sums : ShareSums
        With x the summed values; of any shape.
    level : float
        Such as 0.95.

    Returns
    -------
    tuple of two ndarray of float64
        From 0 to 1; NaN where fewer than two images contribute.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        p = np.clip(sums.x / sums.m, 0.0, 1.0)
        variance = _variance(sums, p)
        cases = np.where(variance > 0, p * (1 - p) / variance, sums.m)
        low, high = _wilson(p, np.where(cases > 0, cases, sums.m), sums.n, level)
    few = (sums.n < 2) | np.isnan(p)
    return np.where(few, np.nan, low), np.where(few, np.nan, high)


def drawn_limits(
    p: Any, draws: Floats, images: Any, cases: Any, level: float = 0.95
) -> tuple[Floats, Floats]:
    """Return the ends of measures that are no sums over images, from draws of images.

    Not the percentiles of the draws: simulated on 18 models of 20 to 200 images they held the true
    average precision in 51 to 96 %, this in 92 to 100 %.

    Parameters
    ----------
    p : array-like, shape (...)
        The measures; NaN where undefined.
    draws : ndarray of float64, shape (..., draws)
        What each draw gives; NaN where a draw does not define it.
    images : array-like, shape (...)
        Images that hold a countable annotation of the labels concerned.
    cases : array-like, shape (...)
        Countable annotations of the labels concerned.
    level : float
        Such as 0.95.

    Returns
    -------
    tuple of two ndarray of float64
        From 0 to 1; NaN where undefined, without draws, and with fewer than two images.
    """
    p, n = np.clip(np.asarray(p, dtype=np.float64), 0.0, 1.0), np.asarray(images, dtype=np.float64)
    m = np.asarray(cases, dtype=np.float64)
    defined = ~np.isnan(draws)
    count = defined.sum(axis=-1)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(defined, draws, 0.0).sum(axis=-1) / count
        apart = np.where(defined, draws - mean[..., None], 0.0)
        variance = n / (n - 1) * (apart * apart).sum(axis=-1) / count
        # What differs in the last digit only does not vary.
        variance = np.where(variance > _NOTHING, variance, 0.0)
        fewest = np.minimum(m, n)
        effective = np.where(variance > 0, np.minimum(m, p * (1 - p) / variance), fewest)
        low, high = _wilson(p, np.where(effective > 0, effective, fewest), n, level)
        low, high = _exact_ends(p, np.where(variance > 0, np.nan, fewest), low, high, level)
    none = (n < 2) | np.isnan(p) | (count == 0)
    return np.where(none, np.nan, low), np.where(none, np.nan, high)


_NOTHING = 1e-24


def _variance(sums: ShareSums, p: Floats) -> Floats:
    """Return the variance of a ratio of sums over images, by the spread of x_i about p m_i."""
    found: Floats = sums.n / (sums.n - 1) * _spread(sums, p) / (sums.m * sums.m)
    return found


def _spread(sums: ShareSums, p: Floats) -> Floats:
    spread = sums.xx - 2 * p * sums.xm + p * p * sums.mm
    # Equal values leave a rest of rounding, which is no spread.
    return np.where(spread > 1e-12 * sums.xx, spread, 0.0)


def _wilson(p: Floats, cases: Floats, images: Floats, level: float) -> tuple[Floats, Floats]:
    t = quantile(images - 1, level)
    widened = 1 + t * t / cases
    centre = (p + t * t / (2 * cases)) / widened
    half = t * np.sqrt(p * (1 - p) / cases + t * t / (4 * cases * cases)) / widened
    # At 0 and 1 one end is exactly p; in doubles centre and half width only nearly cancel.
    low = np.where(p > 0, np.maximum(centre - half, 0.0), 0.0)
    high = np.where(p < 1, np.minimum(centre + half, 1.0), 1.0)
    return low, high


def _exact_ends(
    p: Floats, cases: Floats, low: Floats, high: Floats, level: float
) -> tuple[Floats, Floats]:
    """Return the ends with exact limits where the measure is 0 or 1; NaN cases leave them."""
    limit = ((1 - level) / 2) ** (1 / cases)
    low = np.where((p == 1) & ~np.isnan(limit), limit, low)
    high = np.where((p == 0) & ~np.isnan(limit), 1 - limit, high)
    return low, high


def share_interval(x: Any, m: Any, level: float = 0.95) -> tuple[float, float]:
    """Return the interval of one share from counts by image; NaN with fewer than two images.

    Parameters
    ----------
    level : float, default 0.95
        The share of cases the interval is meant to hold, such as 0.95.

    Returns
    -------
    tuple of float
        Lower and upper end, from 0 to 1.
    """
    low, high = share_limits(ShareSums.of_images(x, m), level)
    return float(low), float(high)


def interval_of_cases(image: Any, right: Any, level: float = 0.95) -> tuple[float, float]:
    """Return the interval of the share of cases that are right, each with its image's number.

    Parameters
    ----------
    level : float, default 0.95
        The share of cases the interval is meant to hold, such as 0.95.

    Returns
    -------
    tuple of float
        Lower and upper end, from 0 to 1; NaN with fewer than two images.
    """
    _, place = np.unique(np.asarray(image), return_inverse=True)
    m = np.bincount(place)
    return share_interval(np.bincount(place, np.asarray(right, dtype=np.float64)), m, level)


def expanded_tails(images: Any, level: float) -> Floats:
    """Return the lower percentile that a bootstrap over few images is read at.

    Draws of n images vary by a factor of sqrt((n - 1) / n) too little, and their tails are those of
    the normal distribution; so the percentiles are Phi(-+ sqrt(n / (n - 1)) t) (T. C. Hesterberg,
    "What teachers should know about the bootstrap", 2015, 3.3). NaN with fewer than two images.

    Parameters
    ----------
    images : array-like
        How many images each interval rests on.
    level : float
        The share of cases the interval is meant to hold, such as 0.95.

    Returns
    -------
    ndarray of float64
        Below half of 1 - `level`.
    """
    from scipy.special import ndtr

    n = np.asarray(images, dtype=np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        tails: Floats = ndtr(-np.sqrt(n / (n - 1)) * quantile(n - 1, level))
    return np.where(n < 2, np.nan, tails)
