"""Drawing images with replacement, and the limits of what the draws give.

The unit drawn is the image (Efron & Tibshirani, "An introduction to the bootstrap", 1993,
chapter 13: percentile intervals). A draw of n images gives each image a weight, how often it was
drawn; every count is then a weighted sum.

Images are put in an order that depends on what was found in them, not on their names, so that
neither the order of rows nor renaming images changes an interval.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Floats, Ints
from dotledger.core.measures.share_limits import expanded_tails
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings

__all__ = [
    "Interval",
    "Places",
    "Resampling",
    "Weights",
    "limits",
    "placed",
    "places_of_images",
    "weights",
]

Weights = NDArray[np.float32]
Interval = tuple[float, float]


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

    Parameters
    ----------
    images : int
        How many; with 0 nothing is yielded.

    Yields
    ------
    ndarray of float32, shape (images, draws)
        Each column adds up to `images`.
    """
    rng = np.random.default_rng(resampling.seed)
    left = resampling.draws
    while left > 0 and images:
        count = min(at_once, left)
        # Counting places instead of keeping them: a draw is one column of weights.
        drawn = rng.integers(0, images, (count, images))
        flat = (drawn + np.arange(count)[:, None] * images).ravel()
        counted = np.bincount(flat, minlength=count * images).reshape(count, images)
        yield np.ascontiguousarray(counted.T, dtype=np.float32)
        left -= count


def limits(draws: Floats, images: Any, level: float) -> tuple[Floats, Floats]:
    """Return the percentile limits along the last axis, over the draws that are not NaN.

    Parameters
    ----------
    images : array_like, shape (...)
        How many images contribute: for few the percentiles lie further out.
    level : float
        Such as 0.95.

    Returns
    -------
    tuple of two ndarray of float64
        Linear interpolation between draws. NaN where no draw is defined, where all agree (that
        nothing varies says nothing about how sure it is), and with fewer than two images.
    """
    ordered = np.sort(draws, axis=-1)
    defined = np.count_nonzero(~np.isnan(ordered), axis=-1)
    tails = np.broadcast_to(expanded_tails(images, level), defined.shape)
    last = np.maximum(defined - 1, 0)
    ends = []
    for share in (tails, 1 - tails):
        place = last * np.nan_to_num(share)
        low = np.floor(place).astype(np.intp)
        high = np.minimum(low + 1, last)
        below = np.take_along_axis(ordered, low[..., None], -1)[..., 0]
        above = np.take_along_axis(ordered, high[..., None], -1)[..., 0]
        ends.append(below + (above - below) * (place - low))
    smallest = ordered[..., 0]
    largest = np.take_along_axis(ordered, last[..., None], -1)[..., 0]
    none = np.isnan(tails) | (smallest == largest)
    return np.where(none, np.nan, ends[0]), np.where(none, np.nan, ends[1])


@dataclass(frozen=True, eq=False)
class Places:
    """What decides which draws each image gets; false if there are none.

    Attributes
    ----------
    names : tuple of str
        Of images.
    keys : ndarray of float64, shape (images, k)
        To be compared row by row, and for nothing else.
    """

    names: tuple[str, ...] = ()
    keys: Floats = field(default_factory=lambda: np.zeros((0, 0)))

    def __bool__(self) -> bool:
        return bool(self.names)

    def of(self, names: Sequence[str]) -> Floats:
        """Return the keys of some images: shape (len(names), k)."""
        if tuple(names) == self.names:
            return self.keys
        index = {name: row for row, name in enumerate(self.names)}
        return self.keys[[index[name] for name in names]]


def places_of_images(names: Sequence[str], annotations: Annotations, findings: Findings) -> Places:
    """Return by image what decides which draws it gets.

    It is made from the boxes and labels annotated in the image; only images that are alike in
    those are told apart by what was found in them. It knows no overlap, no threshold and no
    pairing, and only compares: renaming images, other row orders and other units (by an exact
    factor) change no interval, and neither does asking for one more overlap.

    Returns
    -------
    Places
        Of these images, in this order.
    """
    keys = np.column_stack([_content(annotations, names), _content(findings, names)])
    return Places(tuple(names), keys)


# Draws belong to images in an order made from what is in them: renaming images changes no
# interval.
def placed(names: Sequence[str], places: Places) -> Ints:
    """Return the place of each image among some, by `places_of_images`.

    Parameters
    ----------
    places : Places
        From `places_of_images`; has every name.

    Returns
    -------
    ndarray of intp, shape (images,)
        From 0; by key, then as given.
    """
    place = np.empty(len(names), dtype=np.intp)
    if len(names):
        place[np.lexsort(places.of(names).T[::-1])] = np.arange(len(names))
    return place


def _content(table: Annotations | Findings, names: Sequence[str]) -> Floats:
    """Return numbers for each image that order images by what a table holds of them."""
    image = table.image.onto(names)
    rows = np.flatnonzero((image >= 0) & ~table.blank)
    confidence = table.confidence if isinstance(table, Findings) else np.zeros(len(table))
    values = np.column_stack(
        [table.box[rows], np.nan_to_num(confidence[rows], nan=2.0), _code(table, "label")[rows],
         _code(table, "kind")[rows]]
    )  # fmt: skip
    values = np.nan_to_num(values, nan=-1.0)
    order = np.lexsort((*values.T, image[rows]))
    values, image = values[order], image[rows][order]
    first = np.flatnonzero(np.diff(image, prepend=-1))
    found = np.full((len(names), 1 + 3 * values.shape[1]), -2.0)
    if len(first):
        parts = [f.reduceat(values, first, axis=0) for f in (np.minimum, np.maximum, np.add)]
        counts = np.diff(first, append=len(image))[:, None]
        found[image[first]] = np.hstack([counts, *parts])
    return found


def _code(table: Annotations | Findings, column: str) -> Floats:
    """Return a number for each row's name that depends on nothing but the name."""
    coded = getattr(table, column)
    numbers = [float(zlib.crc32(name.encode("utf-8", "replace"))) for name in coded.names]
    return np.array(numbers, dtype=np.float64)[coded.codes] if numbers else np.zeros(len(table))
