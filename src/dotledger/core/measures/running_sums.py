"""Sums for the intervals of a share, after each of many cases is added in turn.

An interval of a share rests on sums over images (`ShareSums`). At every threshold anew they would
cost all cases at each; here a case that joins changes its own image only, so all thresholds
together cost one pass.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from dotledger.core.arrays import Floats
from dotledger.core.measures.share_limits import ShareSums

__all__ = ["running_sums"]


def running_sums(image: Any, counts: Any, cases: Any, start: Any) -> ShareSums:
    """Return the sums before any case joined and after each one.

    Parameters
    ----------
    image : array-like of int, shape (n,)
        The image of each case that joins, in the order of joining.
    counts, cases : array-like of float, shape (n,)
        What a case adds to the share's numerator x and to its denominator m.
    start : array-like of float, shape (images,)
        m of each image before any case joins; x is 0.

    Returns
    -------
    ShareSums
        Arrays of shape (n + 1,).

    Examples
    --------
    Two images with two cases each; one of the first image's counts, then the other:

    >>> sums = running_sums([0, 0], [1, 1], [0, 0], [2, 2])
    >>> sums.x.tolist(), sums.xx.tolist(), sums.m.tolist()
    ([0.0, 1.0, 2.0], [0.0, 1.0, 4.0], [4.0, 4.0, 4.0])
    """
    place = np.asarray(image, dtype=np.intp)
    dx, dm = np.asarray(counts, dtype=np.float64), np.asarray(cases, dtype=np.float64)
    first = np.asarray(start, dtype=np.float64)
    x = _before(place, dx)
    m = first[place] + _before(place, dm)
    return ShareSums(
        x=_total(0.0, dx),
        m=_total(first.sum(), dm),
        xx=_total(0.0, (x + dx) ** 2 - x**2),
        xm=_total(0.0, (x + dx) * (m + dm) - x * m),
        mm=_total((first * first).sum(), (m + dm) ** 2 - m**2),
        n=_total(float((first > 0).sum()), ((m == 0) & (dm > 0)).astype(np.float64)),
    )


def _total(start: float, steps: Floats) -> Floats:
    return np.concatenate([[start], start + np.cumsum(steps)])


def _before(place: Any, steps: Floats) -> Floats:
    """Return what earlier cases of the same image have added up to."""
    order = np.argsort(place, kind="stable")
    grouped, added = place[order], np.cumsum(steps[order])
    before = added - steps[order]
    changes = np.flatnonzero(grouped[1:] != grouped[:-1]) + 1
    begins = np.concatenate([np.zeros(min(1, len(grouped)), dtype=np.intp), changes])
    base = np.repeat(before[begins], np.diff(np.append(begins, len(grouped))))
    found = np.empty_like(before)
    found[order] = before - base
    return found
