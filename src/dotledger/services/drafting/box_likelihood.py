"""How likely four numbers are, read as a box in one form, order and unit.

Under the right reading boxes lie in their images, use them, and are seldom thin; under a wrong one
some end before they begin or leave the image, or all crowd in a corner. Each reading is a density
over the same raw numbers, so that readings are compared as densities are: by their logarithms.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dotledger.core.boxes.box_forms import BOX_FORMS

__all__ = ["Frames", "Way", "likelihood_of", "ways_of"]

Numbers = NDArray[np.float64]


class Frames(NamedTuple):
    """The sizes that numbers may count in: n rows of width and height, NaN where not known.

    `sent` are the images; `working` what the answer reports, None where it reports nothing else.
    """

    sent: Numbers
    working: Numbers | None


class Way(NamedTuple):
    """One way of reading four numbers, and the log-likelihood of the raw numbers under it.

    `prior` is the part of `score` that was there before any number was seen.
    """

    form: str
    order: tuple[str, ...]
    unit: str
    of: str
    score: float
    corners: Numbers
    prior: float = 0.0


# Logarithms of how often services write boxes so, by judgement; only differences matter.
ORDERS: Sequence[tuple[str, tuple[str, ...], float]] = (
    ("corners", ("x0", "y0", "x1", "y1"), -0.6),
    ("corner+size", ("x0", "y0", "width", "height"), -1.4),
    ("corners", ("y0", "x0", "y1", "x1"), -2.5),
    ("centre+size", ("cx", "cy", "width", "height"), -2.7),
    ("corners", ("x0", "x1", "y0", "y1"), -5.0),
    ("corner+size", ("y0", "x0", "height", "width"), -7.0),
    ("centre+size", ("cy", "cx", "height", "width"), -8.0),
)
_UNITS = {"fraction": (1.0, -0.7), "percent": (100.0, -3.0), "thousandths": (1000.0, -4.0)}
_GRIDS = {255: -7.0, 1024: -10.0, 2048: -8.0, 4096: -7.0, 10_000: -7.0, 32_767: -8.0, 65_535: -7.0}
_ENOUGH = 3
"""Boxes from which on a grid is thought of: one box outside its image is an error."""
_PIXELS_PRIOR, _WORKING_PRIOR = -0.5, -0.5
_PARTS_OF_PIXELS = -1.0
"""Pixels with a decimal part are less usual than whole ones."""
_HALF = -0.7
"""For each number: halves among corners, where another form makes whole pixels of them."""
_OUTLIER = 0.01
"""The share of boxes that may be anything: one that leaves its image does not end a reading."""
_ASPECT_SCALE, _ASPECT_FREEDOM, _ASPECT_WEIGHT = 0.7, 5.0, 0.45
"""Log of width by height: Student's t, and less than its whole weight, since things of one service
are alike. It is centred on squares, or on the shape of the image: nobody knows which, so that both
are tried, for a service as a whole."""
_SIDE_A, _SIDE_B = 1.2, 2.6
"""A side's share of the image: a beta distribution, most at a fifth."""
_SLACK = 0.004
"""Rounding may put a corner that far outside, as a share of the side."""


def ways_of(rows: Sequence[Sequence[float]], frames: Frames) -> list[Way]:
    """Return every order and unit in which rows of four numbers may be boxes, the likeliest first.

    Parameters
    ----------
    rows : sequence of four numbers
        n rows, as they stand.
    frames : Frames
        n rows each.
    """
    raw = np.asarray(rows, dtype=np.float64)
    found = []
    for form, order, prior in ORDERS:
        ordered = raw[:, [order.index(role) for role in BOX_FORMS[form]]]
        found += [
            way._replace(order=order, score=way.score + prior, prior=way.prior + prior)
            for way in likelihood_of(ordered, form, frames)
        ]
    return sorted(found, key=lambda way: -way.score)


def likelihood_of(ordered: Numbers, form: str, frames: Frames) -> list[Way]:
    """Return each unit in which numbers of one form may be boxes, with its log-likelihood.

    The zero is that of any four numbers in a round range that holds them: what is below it is worse
    than no box at all.

    Parameters
    ----------
    ordered : array of float, (n, 4)
        In the order of the form.
    form : str
        A key of `BOX_FORMS`.
    """
    if not len(ordered) or not np.all(np.isfinite(ordered)) or np.max(np.abs(ordered)) > 1e7:
        return []
    top = max(float(np.max(np.abs(ordered))), 1e-9)
    # Numbers that are no box come from a round range; a few small ones alone show no small one.
    usual = next((full for full in (1.0, 100.0, 1000.0, 10_000.0) if top <= full), top)
    corners = _corners(ordered, form)
    whole = bool(np.all(ordered == np.round(ordered)))
    found = []
    for unit, of, full, prior in _units(top, len(ordered), frames, whole=whole):
        fitted = _density(corners, full)
        mixed = np.logaddexp(
            math.log1p(-_OUTLIER) + fitted, math.log(_OUTLIER) - 4 * math.log(2 * usual)
        )
        zero = -4 * math.log(2 * usual)
        score = prior + float(np.sum(mixed - zero))
        score += _roundness(ordered, corners) if unit == "pixels" else 0.0
        score += _shape(corners, full, _pixels(frames, full))
        found.append(Way(form, (), unit, of, score, corners / np.tile(full, 2), prior))
    return found


def _corners(ordered: Numbers, form: str) -> Numbers:
    a, b, c, d = ordered.T
    if form == "corners":
        return np.stack([a, b, c, d], axis=1)
    if form == "corner+size":
        return np.stack([a, b, a + c, b + d], axis=1)
    return np.stack([a - c / 2, b - d / 2, a + c / 2, b + d / 2], axis=1)


def _units(
    top: float, count: int, frames: Frames, *, whole: bool
) -> list[tuple[str, str, Numbers, float]]:
    """Return the units of numbers up to `top`: name, of which image, full side, prior."""
    found: list[tuple[str, str, Numbers, float]] = []
    for unit, (full, prior) in _UNITS.items():
        fits = top <= full * 1.5 and not (unit == "fraction" and whole and top > 1)
        if fits and not (unit == "fraction" and whole):
            found.append((unit, "sent", np.full((count, 2), full), prior))
    if top > 1.5 or whole:
        prior = _PIXELS_PRIOR + (0.0 if whole else _PARTS_OF_PIXELS)
        found.append(("pixels", "sent", _known(frames.sent, top), prior))
        if frames.working is not None:
            found.append(("pixels", "working", frames.working, _WORKING_PRIOR))
    if whole and top > 200:
        found += [
            (f"grid {grid}", "sent", np.full((count, 2), float(grid)), prior)
            for grid, prior in _GRIDS.items()
            if 0.5 * grid <= top <= grid and count >= _ENOUGH
        ]
    return found


def _known(sizes: Numbers, top: float) -> Numbers:
    """Return sizes; where they are not known, squares that just hold the largest number.

    The same square for every form: a size that fits one reading closely would speak for it.
    """
    return np.where(np.isnan(sizes), 1.05 * max(top, 1.0), sizes)


def _pixels(frames: Frames, full: Numbers) -> Numbers:
    """Return the sizes in pixels that shapes are seen in; squares where nothing is known."""
    return np.where(np.isnan(frames.sent), full, frames.sent)


def _density(corners: Numbers, full: Numbers) -> Numbers:
    """Return the log-density of each row's raw numbers, where `full` is how a whole side reads."""
    low, high = corners[:, :2] / full, corners[:, 2:] / full
    side = high - low
    good = (side > 0) & (low >= -_SLACK) & (high <= 1 + _SLACK)
    clipped = np.clip(side, 1e-6, 1 - 1e-6)
    beta = (_SIDE_A - 1) * np.log(clipped) + (_SIDE_B - 1) * np.log1p(-clipped)
    beta -= math.lgamma(_SIDE_A) + math.lgamma(_SIDE_B) - math.lgamma(_SIDE_A + _SIDE_B)
    # Where a side of this length may begin: anywhere that keeps it inside, as likely.
    inside = beta - np.log(np.maximum(1 - clipped, 0.02)) - 2 * np.log(full)
    return np.where(np.all(good, axis=1), np.sum(inside, axis=1), -np.inf)


def _shape(corners: Numbers, full: Numbers, pixels: Numbers) -> float:
    """Return what the boxes' shapes say: things are seldom thin, in pixels or in shares."""
    side = (corners[:, 2:] - corners[:, :2]) / full
    side = side[np.all(side > 0, axis=1)]
    if not len(side):
        return 0.0
    sized = pixels[np.all(corners[:, 2:] > corners[:, :2], axis=1)]
    either = np.logaddexp(np.sum(_aspect(side * sized)), np.sum(_aspect(side)))
    return _ASPECT_WEIGHT * (float(either) - math.log(2) - len(side) * _aspect_zero())


def _aspect_zero() -> float:
    return float(_aspect(np.ones((1, 2)))[0]) - 0.5


def _aspect(sides: Numbers) -> Numbers:
    """Return the log-density of Student's t at the log of width by height."""
    width, height = np.maximum(sides, 1e-9).T
    t = np.log(width / height) / _ASPECT_SCALE
    freedom = _ASPECT_FREEDOM
    constant = math.lgamma((freedom + 1) / 2) - math.lgamma(freedom / 2)
    constant -= 0.5 * math.log(freedom * math.pi) + math.log(_ASPECT_SCALE)
    return np.asarray(constant - (freedom + 1) / 2 * np.log1p(t**2 / freedom))


def _roundness(ordered: Numbers, corners: Numbers) -> float:
    """Return what halves say: 143.5 with 123 across is a centre, for its corners are whole."""
    halves = np.all(ordered * 2 == np.round(ordered * 2))
    if not halves:
        return 0.0
    return _HALF * float(np.sum(corners != np.round(corners)))
