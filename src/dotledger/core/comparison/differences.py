"""Differences of measures, how sure they are, and p-values of disagreements."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.registry import MEASURES, RANKED
from dotledger.core.measures.resampling import Interval

__all__ = [
    "COMPARED",
    "TOLD_APART",
    "Difference",
    "difference_of",
    "holm",
    "hybrid_limits",
    "mcnemar",
]

COMPARED = RANKED
"""Measures that are compared, in the order they are shown."""
TOLD_APART = 0.05
"""Significance level: the largest adjusted p-value of a significant difference."""


@dataclass(frozen=True, kw_only=True)
class Difference:
    """One measure of two runs.

    Attributes
    ----------
    first, second : float
        NaN where undefined.
    difference : float
        Second minus first.
    low, high : float
        Its paired 95 % interval; NaN where fewer than two images contribute to either run.
    p_value : float
        How often exchanging the two runs' answers makes any row of the table as striking, if they
        are equally good; NaN without exchanges.
    told_apart : bool
        Whether the p-value is at most 0.05 and the interval excludes every difference too small to
        matter.
    better : int
        0 or 1 for the run that is better, -1 where the difference is not significant.
    """

    first: float
    second: float
    difference: float
    low: float
    high: float
    p_value: float
    told_apart: bool
    better: int

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {n: defined(getattr(self, n)) for n in ("first", "second", "difference")}
        ends = {n: defined(getattr(self, n)) for n in ("low", "high", "p_value")}
        return {**plain, **ends, "told_apart": self.told_apart}


def difference_of(
    name: str,
    values: tuple[float, float],
    ends: tuple[Interval, Interval] | None,
    *,
    correlation: float = 0.0,
    p_value: float = math.nan,
    matters: float = 0.0,
) -> Difference:
    """Return the difference of one measure.

    Parameters
    ----------
    name : str
        One of `COMPARED`; of a false-alarm rate less is better.
    ends : pair of (float, float), or None
        Their intervals; None for no interval.
    correlation : float, default 0
        Of the two runs over images, from -1 to 1.
    p_value : float
        Adjusted; NaN for none.
    """
    low, high = hybrid_limits(values, ends, correlation) if ends else (math.nan, math.nan)
    apart = p_value <= TOLD_APART and (not matters or low > matters or high < -matters)
    second_is_better = (values[1] > values[0]) != MEASURES[name].lower_is_better
    return Difference(
        first=values[0],
        second=values[1],
        difference=values[1] - values[0],
        low=low,
        high=high,
        p_value=p_value,
        told_apart=apart,
        better=int(second_is_better) if apart else -1,
    )


def hybrid_limits(
    values: tuple[float, float], ends: tuple[Interval, Interval], correlation: float
) -> Interval:
    """Return the interval of a difference of two measures between 0 and 1.

    It is made of the two intervals: how far each end lies from its measure, as the sides of a
    triangle (R. G. Newcombe, "Improved confidence intervals for the difference between binomial
    proportions based on paired data", 1998, method 10 without its correction). So 1 of 1 and 0 of 1
    in 60 images has one, though no draw of images differs.

    Parameters
    ----------
    correlation : float
        Of the two runs over images.

    Returns
    -------
    (float, float)
        Of second minus first, from -1 to 1; NaN where an end is.

    Examples
    --------
    >>> [round(end, 3) for end in hybrid_limits((0.5, 0.8), ((0.4, 0.6), (0.7, 0.87)), 0.0)]
    [0.159, 0.422]
    """
    (first, second), ((low, high), (lower, upper)) = values, ends
    below = _third_side(second - lower, high - first, correlation)
    above = _third_side(upper - second, first - low, correlation)
    if math.isnan(below) or math.isnan(above):
        return math.nan, math.nan
    return max(-1.0, second - first - below), min(1.0, second - first + above)


def _third_side(one: float, other: float, correlation: float) -> float:
    squared = one * one - 2 * correlation * one * other + other * other
    return math.sqrt(max(0.0, squared)) if squared == squared else math.nan


def mcnemar(first_only: int, second_only: int) -> float:
    """Return the two-sided p-value of McNemar's exact test.

    Of the cases that one run alone gets right, each is as likely to be the one's as the other's if
    both are equally good (Q. McNemar, "Note on the sampling error of the difference between
    correlated proportions or percentages", 1947; exact, by the binomial distribution). Cases of one
    image are taken as independent, which the paired intervals do not need.

    Parameters
    ----------
    first_only, second_only : int
        Cases that only one run gets right.

    Returns
    -------
    float
        1 where they never disagree.

    Examples
    --------
    >>> round(mcnemar(1, 9), 4)  # 2 (1 + 10) / 2^10
    0.0215
    """
    from scipy.special import bdtr

    both = first_only + second_only
    return min(1.0, 2 * float(bdtr(min(first_only, second_only), both, 0.5))) if both else 1.0


def holm(values: Sequence[float]) -> list[float]:
    """Return p-values adjusted for how many there are.

    S. Holm, "A simple sequentially rejective multiple test procedure", 1979.

    Parameters
    ----------
    values : sequence of float
        From 0 to 1; may be empty.

    Returns
    -------
    list of float
        As many, in the same order; none is below its own.

    Examples
    --------
    >>> holm([0.01, 0.04, 0.03])
    [0.03, 0.06, 0.06]
    """
    order = np.argsort(np.asarray(values, dtype=np.float64), kind="stable")
    adjusted, highest = [0.0] * len(values), 0.0
    for rank, place in enumerate(order.tolist()):
        highest = max(highest, min(1.0, (len(values) - rank) * values[place]))
        adjusted[place] = highest
    return adjusted
