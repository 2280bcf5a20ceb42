"""How confidences may be mapped to shares that are right, and which way helps on other images.

Three ways, from the simplest on: as they are; a logistic curve of two parameters in the logarithm
of the odds (J. Platt, "Probabilistic outputs for support vector machines", 1999, with his targets);
isotonic regression (B. Zadrozny and C. Elkan, "Transforming classifier scores into accurate
multiclass probability estimates", 2002): the nearest non-decreasing function, in squares.

A mapping that follows the chances of a few images makes confidences worse. So each way is judged
by the log loss on held-out images, and the simplest is taken whose loss is within one
standard error of the least (L. Breiman and others, "Classification and regression trees", 1984,
3.4.3).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints

__all__ = ["IDENTITY", "WAYS", "Knots", "helpful_mapping", "isotonic_knots", "logistic_knots"]

Knots = tuple[tuple[float, float], ...]
WAYS = ("identity", "logistic", "isotonic")
IDENTITY: Knots = ((0.0, 0.0), (1.0, 1.0))
_FOLDS = 10
_SURE = 1e-4
"""Confidences nearer to 0 or 1 count as this: their odds are not infinite."""
_STEEPEST = 20.0
_NEAR_THE_ENDS = np.geomspace(_SURE, 0.02, 12)
_GRID = np.unique(np.r_[_NEAR_THE_ENDS, np.linspace(0.02, 0.98, 49), 1 - _NEAR_THE_ENDS])


def helpful_mapping(confidence: Floats, right: Flags, image: Ints) -> tuple[str, Knots]:
    """Return the simplest mapping that does about as well as the best on images without a say.

    Parameters
    ----------
    confidence : ndarray of float64, shape (n,)
        From 0 to 1.
    image : ndarray of intp, shape (n,)
        Its image: all findings of one have a say together, or none has.

    Returns
    -------
    (str, tuple of (float, float))
        One of `WAYS`, and its knots. ``identity`` with fewer than two images.
    """
    numbers, place = np.unique(image, return_inverse=True)
    if len(numbers) < 2:
        return "identity", IDENTITY
    fold = np.random.default_rng(0).permutation(len(numbers))[place] % min(_FOLDS, len(numbers))
    losses = {way: np.zeros(len(confidence)) for way in WAYS}
    for part in range(int(fold.max()) + 1):
        out = fold == part
        for way, loss in losses.items():
            knots = _FITS[way](confidence[~out], right[~out])
            loss[out] = _loss(knots, confidence[out], right[out], int((~out).sum()))
    least = min(losses.values(), key=lambda loss: float(loss.sum()))
    for way, loss in losses.items():
        if _within(loss - least, place, len(numbers)):
            return way, _FITS[way](confidence, right)
    return "identity", IDENTITY


def _within(more: Floats, place: Ints, images: int) -> bool:
    """Tell whether a loss is more than the least by no more than one standard error."""
    by_image = np.bincount(place, more, minlength=images)
    error = np.sqrt(images) * by_image.std(ddof=1)
    return bool(by_image.sum() <= error)


def _loss(knots: Knots, confidence: Floats, right: Flags, fitted_on: int) -> Floats:
    """Return the log loss of each finding; never surer than so many findings allow."""
    x, y = np.array(knots).T
    edge = 1 / (fitted_on + 2)
    share = np.clip(np.interp(confidence, x, y), min(edge, 0.5), 1 - min(edge, 0.5))
    return np.asarray(-np.log(np.where(right, share, 1 - share)))


def isotonic_knots(confidence: Floats, right: Flags) -> Knots:
    """Return the knots of the isotonic fit: both ends of every level stretch.

    Parameters
    ----------
    confidence : ndarray of float64, shape (n,)
        From 0 to 1; n from 1 on.
    """
    from scipy.optimize import isotonic_regression

    x, place = np.unique(confidence, return_inverse=True)
    weight = np.bincount(place)
    share = np.bincount(place[right], minlength=len(x)) / weight
    y = np.clip(isotonic_regression(share, weights=weight).x, 0.0, 1.0)
    same = np.r_[False, y[1:] == y[:-1]]
    inner = same & np.r_[same[1:], False]
    return tuple(zip(x[~inner].tolist(), y[~inner].tolist(), strict=True))


def logistic_knots(confidence: Floats, right: Flags) -> Knots:
    """Return the knots of a logistic fit, close enough for straight lines between them.

    Parameters
    ----------
    confidence : ndarray of float64, shape (n,)
        From 0 to 1; n from 1 on.
    """
    from scipy.optimize import minimize
    from scipy.special import expit, logit

    odds = logit(np.clip(confidence, _SURE, 1 - _SURE))
    hits = int(right.sum())
    wanted = np.where(right, (hits + 1) / (hits + 2), 1 / (len(right) - hits + 2))

    def loss(given: Floats) -> tuple[float, Floats]:
        score = given[0] * odds + given[1]
        apart = expit(score) - wanted
        value = float((np.logaddexp(0.0, score) - wanted * score).sum())
        return value, np.array([float(apart @ odds), float(apart.sum())])

    bounds = [(0.0, _STEEPEST), (-_STEEPEST, _STEEPEST)]
    slope, shift = minimize(loss, (1.0, 0.0), jac=True, bounds=bounds, method="L-BFGS-B").x
    shares = expit(slope * logit(_GRID) + shift)
    return tuple(zip(_GRID.tolist(), np.maximum.accumulate(shares).tolist(), strict=True))


_FITS: dict[str, Callable[[Floats, Flags], Knots]] = {
    "identity": lambda *_: IDENTITY,
    "logistic": logistic_knots,
    "isotonic": isotonic_knots,
}
