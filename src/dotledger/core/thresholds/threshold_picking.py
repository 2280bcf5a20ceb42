"""The best level under an aim, for many draws at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.measures.threshold_levels import LevelCounts
from dotledger.core.thresholds.aims import Aim

__all__ = ["Picked", "pick", "value_of"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Picked:
    """Which level is taken for each draw, and whether the aim is met there.

    Attributes
    ----------
    level : ndarray of intp, shape (draws,)
        The nearest attainable one where the aim cannot be met.
    met : ndarray of bool, shape (draws,)
        Whether it is met on the images it was chosen on.
    """

    level: Ints
    met: Flags


def value_of(aim: Aim, counts: LevelCounts) -> Floats:
    """Return the measure that an aim is about.

    Returns
    -------
    ndarray of float64
        Of the shape of the counts; NaN where undefined.
    """
    if aim.sort == "cost":
        return counts.cost(aim.miss_cost, aim.alarm_cost)
    return counts.value(aim.measure, aim.beta)


def pick(aim: Aim, counts: LevelCounts, *, least: Floats | None = None) -> Picked:
    """Return the best level for each draw.

    Recall at least R: then the best precision. Precision, or F, at least so much: then the best
    recall. At most so many false alarms, or images held: then the best recall. Among equals the
    higher recall counts, then the higher threshold.

    Parameters
    ----------
    least : ndarray of float64, optional
        What must meet the aim instead of the measure itself, such as the lower end of its
        interval.

    Returns
    -------
    Picked
        Where no level meets the aim, the one that comes nearest to it.
    """
    value = value_of(aim, counts)
    recall, precision = counts.value("recall"), counts.value("precision")
    if aim.sort in ("best", "cost"):
        goal = -value if aim.sort == "cost" else value
        met = ~np.isnan(value).all(axis=0)
        if aim.sort == "best":  # nothing right anywhere is no success, however it was chosen
            met &= np.nan_to_num(value).max(axis=0, initial=0.0) > 0
        return Picked(level=_first_best(goal, recall), met=np.asarray(met))
    shown = value if least is None else least
    with np.errstate(invalid="ignore"):
        meets = shown >= aim.limit if aim.sort == "at least" else shown <= aim.limit
    then = precision if aim.measure == "recall" else recall
    met = np.asarray(meets.any(axis=0))
    level = _first_best(np.where(meets, _or_lowest(then), -np.inf), recall)
    nearest = _first_best(shown if aim.sort == "at least" else -shown, then)
    return Picked(level=np.where(met, level, nearest), met=met)


def _first_best(goal: Floats, second: Floats) -> Ints:
    """Return the first row with the greatest goal, and among equals the greatest second goal."""
    goal, second = _or_lowest(goal), _or_lowest(second)
    best = goal == goal.max(axis=0)
    return np.asarray(np.argmax(np.where(best, second, -np.inf), axis=0), dtype=np.intp)


def _or_lowest(value: Floats) -> Floats:
    # Undefined is below every number, yet above a level that does not meet the aim.
    return np.where(np.isnan(value), -1e300, value)
