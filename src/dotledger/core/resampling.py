"""Drawing images with replacement, and the limits of what the draws give.

The unit drawn is the image (Efron & Tibshirani, "An introduction to the bootstrap", 1993,
chapter 13: percentile intervals). A draw of n images gives each image a weight, how often it was
drawn; every count is then a weighted sum.

Images are put in an order that depends on what was found in them, not on their names, so that
neither the order of rows nor renaming images changes an interval.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dotledger.core.matching import Ints
from dotledger.core.measures import Judged

__all__ = ["Interval", "Resampling", "Weights", "limits", "places_by_content", "weights"]

Floats = NDArray[np.float64]
Weights = NDArray[np.float32]
Interval = tuple[float, float]

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True, kw_only=True)
class Resampling:
    """How intervals are made.

    Attributes
    ----------
    draws : int
        How often the images are drawn; 0 for no intervals.
    seed : int
        The same seed gives the same intervals.
    level : float
        The share of draws inside an interval.
    """

    draws: int = 1000
    seed: int = 0
    level: float = 0.95


def weights(images: int, resampling: Resampling, at_once: int) -> Iterator[Weights]:
    """Yield how often each image was drawn: float32, shape (images, up to `at_once` draws).

    The draws do not depend on `at_once`.
    """
    rng = np.random.default_rng(resampling.seed)
    left = resampling.draws
    while left > 0 and images:
        count = min(at_once, left)
        drawn = rng.integers(0, images, (count, images))
        flat = (drawn + np.arange(count)[:, None] * images).ravel()
        counted = np.bincount(flat, minlength=count * images).reshape(count, images)
        yield np.ascontiguousarray(counted.T, dtype=np.float32)
        left -= count


def limits(draws: Floats, level: float) -> tuple[Floats, Floats]:
    """Return the percentile limits along the last axis, over the draws that are not NaN.

    Linear interpolation between draws; NaN where no draw is defined.
    """
    ordered = np.sort(draws, axis=-1)
    defined = np.count_nonzero(~np.isnan(ordered), axis=-1)
    ends = []
    for share in ((1 - level) / 2, (1 + level) / 2):
        place = np.maximum(defined - 1, 0) * share
        low = np.floor(place).astype(np.intp)
        high = np.minimum(low + 1, np.maximum(defined - 1, 0))
        below = np.take_along_axis(ordered, low[..., None], -1)[..., 0]
        above = np.take_along_axis(ordered, high[..., None], -1)[..., 0]
        ends.append(below + (above - below) * (place - low))
    return ends[0], ends[1]


def places_by_content(judged: Sequence[Sequence[Judged]], at: Sequence[Ints], images: int) -> Ints:
    """Return each image's place in an order that depends on what is judged in it.

    Parameters
    ----------
    judged : sequence of sequence of Judged
        For each kind, the same things judged at one or several required overlaps.
    at : sequence of ndarray of intp
        For each kind, where its images stand among all.
    images : int
        How many there are.
    """
    total = np.zeros(images, dtype=np.uint64)
    for number, (kind, places) in enumerate(zip(judged, at, strict=True)):
        total += _content(kind, places, images) * np.uint64(2 * number + 1)
    place = np.empty(images, dtype=np.intp)
    place[np.argsort(total, kind="stable")] = np.arange(images)
    return place


def _content(judged: Sequence[Judged], places: Ints, images: int) -> NDArray[np.uint64]:
    """Return a number for each image, made from everything judged in it."""
    said = judged[0].said
    total = np.zeros(images, dtype=np.uint64)
    one_said = _mixed(said.label, said.confidence)
    np.add.at(total, places[said.image], one_said)
    truth = _mixed(said.true_label, np.full(len(said.true_label), 2.0))
    np.add.at(total, places[said.true_image], truth)
    for number, one in enumerate(judged, 1):
        for rows, value in ((one.hit, one.overlap), (one.aside, np.zeros(len(one.aside)))):
            what = _mixed(np.full(len(rows), number), value)
            np.add.at(total, places[said.image[rows]], one_said[rows] * (what | np.uint64(1)))
    return total


def _mixed(code: Ints, value: Floats) -> NDArray[np.uint64]:
    """Mix a code and a number into 64 bits.

    The finaliser of SplitMix64: Steele, Lea & Flood, "Fast splittable pseudorandom number
    generators", 2014.
    """
    z = (value + 0.0).view(np.uint64) + (code.astype(np.uint64) + np.uint64(1)) * _GOLDEN
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))
