"""Counts of one group at every threshold at once, for any weights of the images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats, Ints, ratios
from dotledger.core.measures.finding_groups import Group
from dotledger.core.measures.image_cases import Sparse, sparse_rows
from dotledger.core.measures.registry import RATIOS, f_measure

__all__ = ["LevelCounts", "Levels", "values_of"]


@dataclass(frozen=True, eq=False, kw_only=True)
class LevelCounts:
    """Weighted counts; each of shape (levels, draws), or (1, draws) where no threshold matters.

    Attributes
    ----------
    hits, found, stopped : ndarray of float64
        True positives, findings that are not set aside, images with any finding.
    actual, images : ndarray of float64
        Annotations and images.
    absent : ndarray of float64, or None
        Labels rightly absent; presence only.
    """

    hits: Floats
    found: Floats
    stopped: Floats
    actual: Floats
    images: Floats
    absent: Floats | None

    def __sub__(self, other: LevelCounts) -> LevelCounts:
        return self._with(other, np.subtract)

    def __add__(self, other: LevelCounts) -> LevelCounts:
        return self._with(other, np.add)

    def _with(self, other: LevelCounts, operation: np.ufunc) -> LevelCounts:
        columns: dict[str, Any] = {
            name: None if mine is None else operation(mine, getattr(other, name))
            for name, mine in vars(self).items()
        }
        return LevelCounts(**columns)

    def at(self, level: Ints) -> LevelCounts:
        """Return the counts at one level for each draw: shape (1, draws)."""
        draws = np.arange(len(level))
        chosen: dict[str, Any] = {
            name: value[level, draws][None] if value is not None and len(value) > 1 else value
            for name, value in vars(self).items()
        }
        return LevelCounts(**chosen)

    def value(self, measure: str, beta: float = 1.0) -> Floats:
        """Return a measure by its name in `Aim`; NaN where undefined."""
        false = self.found - self.hits
        record = f_measure(beta) if measure == "f" else RATIOS.get(measure)
        if record is not None:
            found = record.value(self._named())
            return np.asarray(_spread(found, self.hits), dtype=np.float64)
        if measure == "false_alarms_per_100_images":
            return ratios(100 * false, _spread(self.images, false))
        return ratios(self.stopped, _spread(self.images, self.stopped))

    def _named(self) -> dict[str, Floats]:
        """Return the counts as `RATIOS` names them."""
        found = {"hits": self.hits, "found": self.found, "actual": self.actual}
        return found if self.absent is None else {**found, "absent": self.absent}

    def cost(self, miss: float, alarm: float) -> Floats:
        """Return what misses and false alarms cost for each image."""
        lost = miss * (self.actual - self.hits) + alarm * (self.found - self.hits)
        return ratios(lost, _spread(self.images, lost))


def _spread(value: Floats, like: Floats) -> Floats:
    return np.broadcast_to(value, like.shape)


@dataclass(frozen=True, eq=False, kw_only=True)
class Levels:
    """The thresholds that change a count, falling, and what each lets in.

    Attributes
    ----------
    values : ndarray of float64, shape (levels,)
        From `values_of`; falling.
    found, hits, stopped : sparse, shape (levels, images)
        What a level adds to those before it.
    actual : ndarray of float64, shape (images,)
        Annotations of each image.
    absent : ndarray of float64, shape (images,), or None
        Presence only.
    inside : ndarray of float64, shape (images,)
        1 for images in scope.
    """

    values: Floats
    found: Sparse
    hits: Sparse
    stopped: Sparse
    actual: Floats
    absent: Floats | None
    inside: Floats

    @classmethod
    def of(cls, group: Group, values: Floats) -> Levels:
        """Return what comes in at each of `values`, which fall; see `values_of`."""
        shape = (max(len(values), 1), group.images)
        # What comes between two levels counts from the lower one on: it passes there.
        at = np.searchsorted(-values, -group.confidence, side="left")
        kept = at < shape[0]
        right = kept & group.right
        top = np.searchsorted(-values, -group.top, side="left")
        seen = np.flatnonzero((top < shape[0]) & np.isfinite(-group.top) | (group.top == np.inf))
        return cls(
            values=values,
            found=sparse_rows(at[kept], group.image[kept], shape),
            hits=sparse_rows(at[right], group.image[right], shape),
            stopped=sparse_rows(top[seen], seen, shape),
            actual=np.bincount(group.true_image, minlength=group.images).astype(np.float64),
            absent=group.absent,
            inside=group.inside.astype(np.float64),
        )

    def counts(self, weight: Any = None, shared: dict[bytes, Floats] | None = None) -> LevelCounts:
        """Return the counts for images weighted, shape (images, draws); without, each once.

        `shared` keeps what all groups over the same images have alike, for the same weights.
        """
        if weight is None:
            weight = np.ones((len(self.inside), 1), dtype=np.float32)
        # Sums of whole numbers are exact in single precision up to 2^24, far above any draw.
        weight = np.asarray(weight, dtype=np.float32)
        key = self.inside.tobytes()
        kept = {} if shared is None else shared
        if key not in kept:
            kept[key] = _total(self.inside, weight)
        return LevelCounts(
            hits=_running(self.hits @ weight),
            found=_running(self.found @ weight),
            stopped=_running(self.stopped @ weight),
            actual=_total(self.actual, weight),
            images=kept[key],
            absent=None if self.absent is None else _total(self.absent, weight),
        )


def _total(each: Floats, weight: Any) -> Floats:
    """Return the weighted sum over the images that have any: shape (1, draws)."""
    some = np.flatnonzero(each)
    part = weight if len(some) == len(each) else weight[some]
    return np.asarray(each[some].astype(np.float32) @ part, dtype=np.float64)[None]


def _running(added: Any) -> Floats:
    return np.cumsum(np.asarray(added), axis=0, dtype=np.float64)


def values_of(group: Group, *, most: int | None = None, tops: bool = False) -> Floats:
    """Return the thresholds that change a count, falling.

    Parameters
    ----------
    most : int, optional
        At most about so many, spread evenly over the findings; by default all.
    tops : bool, default False
        Also the highest confidences of images that no judged finding has.

    Returns
    -------
    ndarray of float64, shape (levels,)
        Empty if no finding has a confidence; else the first lets nothing pass but what the service
        simply asserts, unless something has a confidence of 1.
    """
    every = np.concatenate([group.confidence, group.top]) if tops else group.confidence
    values, counts = np.unique(-every[np.isfinite(every)], return_counts=True)
    if most is not None and len(values) > most:
        reached = np.cumsum(counts)
        wanted = np.searchsorted(reached, np.linspace(reached[0], reached[-1], most))
        values = values[np.unique(wanted)]
    values = -values
    return np.r_[1.0, values] if len(values) and values[0] < 1 else values
