"""How sure: intervals of every measure, over images.

All are of one formula, Wilson's with an effective number of cases
(`dotledger.core.measures.share_limits`). For shares and mean overlap that number comes from sums
over images; for what is no such sum (average precision, means over labels) from draws of images.

Every measure of a draw is computed from weighted counts exactly as from the plain ones. For
average precision the weights are summed up to the points where something right was found, for many
draws at once: whatever lies between two such points only lowers precision.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from dotledger.core.arrays import Ints, ratios
from dotledger.core.measures.drawn_curves import (
    Curves,
    Flags,
    Floats,
    all_together,
    by_label,
    draws_at_once,
)
from dotledger.core.measures.image_cases import CaseCounts
from dotledger.core.measures.registry import RATIOS
from dotledger.core.measures.resampling import Interval, Resampling, Weights, weights
from dotledger.core.measures.share_limits import (
    ShareSums,
    drawn_limits,
    mean_limits,
    mean_of_shares_limits,
    mean_of_shares_limits_by_image,
)
from dotledger.core.pairing.pair_judging import Judged

__all__ = [
    "DrawnIntervals",
    "Spread",
    "Weighing",
    "drawing",
    "drawn_of",
    "drawn_of_all",
    "spread_from",
    "spread_from_all",
    "spread_of",
    "spread_of_all",
]

Weighing = Callable[[int], Iterator[Any]]
"""Gives the weights of images in all draws, shape (images, draws), so many draws at once."""


@dataclass(frozen=True, eq=False, kw_only=True)
class Spread:
    """Intervals of one kind.

    Attributes
    ----------
    labels : tuple of mapping of str to (float, float)
        For each label, by measure; NaN where no draw defines the measure.
    pooled, mean_over_labels : mapping of str to (float, float)
        By measure.
    mean_ap : (float, float)
        Of the mean over required overlaps of the mean over labels.
    label_images, pooled_images : mapping of str to int
        By measure, how many images contribute.
    """

    labels: tuple[Mapping[str, Interval], ...]
    pooled: Mapping[str, Interval]
    mean_over_labels: Mapping[str, Interval]
    mean_ap: Interval
    label_images: tuple[Mapping[str, int], ...] = ()
    pooled_images: Mapping[str, int] = field(default_factory=dict)

    def without_curves(self) -> Spread:
        """Return the spread without average precision."""
        return Spread(
            labels=tuple(_without_curve(one) for one in self.labels),
            pooled=_without_curve(self.pooled),
            mean_over_labels=_without_curve(self.mean_over_labels),
            mean_ap=(np.nan, np.nan),
            label_images=self.label_images,
            pooled_images=self.pooled_images,
        )


def _without_curve(intervals: Mapping[str, Interval]) -> dict[str, Interval]:
    return {name: ends for name, ends in intervals.items() if name != "average_precision"}


def spread_of(
    judged: Sequence[Judged], passes: Flags, resampling: Resampling, place: Ints
) -> Spread:
    """Return the intervals of one kind.

    Parameters
    ----------
    judged : sequence of Judged
        The same things judged at one or several required overlaps; counts and the curve are
        those of the first, the mean average precision is that of all.
    place : ndarray of intp, shape (images,)
        Which draws each image gets; see `dotledger.core.measures.resampling.placed`.
    """
    counts = CaseCounts.of(judged[0], passes, place)
    drawn = drawn_of(judged, counts, drawing(len(place), resampling, place))
    return spread_from(judged, counts, drawn, resampling.level)


def spread_from(
    judged: Sequence[Judged], counts: CaseCounts, drawn: DrawnIntervals, level: float
) -> Spread:
    """Return the intervals of one kind from what the draws gave.

    Parameters
    ----------
    judged : sequence of Judged
        As for `drawn_of`.
    drawn : DrawnIntervals
        From `drawn_of`.
    level : float
        Such as 0.95.

    Returns
    -------
    Spread
        NaN where undefined.
    """
    plain = _as_found(judged, counts)
    return _with_sums(_summed_up(drawn, plain, counts, level), counts, level)


def drawing(images: int, resampling: Resampling, place: Ints) -> Weighing:
    """Return what gives the weights of all draws, some at a time.

    Parameters
    ----------
    place : ndarray of intp, shape (images,)
        Which draws each image gets. Two runs with the same places get the same draws.
    """
    return lambda at_once: (drawn[place] for drawn in weights(images, resampling, at_once))


def _as_found(judged: Sequence[Judged], counts: CaseCounts) -> DrawnIntervals:
    """Return the measures themselves, by the code of the draws: each image counts once."""
    findings = judged[0].findings
    once = np.ones((findings.images, 1), dtype=np.float32)
    whole = Curves.of(all_together([judged[0]], [np.arange(findings.images)], findings.images))
    each, pooled, mean_ap = _in_draws(counts, Curves.of(by_label(judged)), once)
    curve = whole.areas(once)[0, 0] if findings.images else np.full(1, np.nan)
    return DrawnIntervals(
        labels=each, pooled={**pooled, "average_precision": curve}, mean_ap=mean_ap
    )


@dataclass(frozen=True, eq=False, kw_only=True)
class DrawnIntervals:
    """What every draw of images gives, for one kind.

    Attributes
    ----------
    labels : mapping of str to ndarray of float64, shape (labels, draws)
        By measure; NaN where undefined.
    pooled : mapping of str to ndarray of float64, shape (draws,)
        By measure.
    mean_ap : ndarray of float64, shape (draws,)
        Mean over required overlaps of the mean over labels.
    """

    labels: Mapping[str, Floats]
    pooled: Mapping[str, Floats]
    mean_ap: Floats

    @property
    def means(self) -> dict[str, Floats]:
        """Means over labels: each of shape (draws,)."""
        return {name: _mean(values, axis=0) for name, values in self.labels.items()}


def drawn_of(judged: Sequence[Judged], counts: CaseCounts, weighing: Weighing) -> DrawnIntervals:
    """Return the measures of one kind in every draw.

    Parameters
    ----------
    judged : sequence of Judged
        One a required overlap; counts and curves are those of the first.
    weighing : callable
        Gives the weights of images, such as `drawing`; at least one draw.
    """
    findings = judged[0].findings
    curves = Curves.of(by_label(judged))
    whole = Curves.of(all_together([judged[0]], [np.arange(findings.images)], findings.images))
    parts, pooled = [], []
    for weight in weighing(draws_at_once(findings.images, curves.points)):
        parts.append(_in_draws(counts, curves, weight))
        pooled += [whole.areas(few)[0, 0] for few in _few(weight, whole.points)]
    curve = np.concatenate([np.zeros(0), *pooled])
    return DrawnIntervals(
        labels=_joined([part[0] for part in parts]),
        pooled={**_joined([part[1] for part in parts]), "average_precision": curve},
        mean_ap=np.concatenate([np.zeros(0), *(part[2] for part in parts)]),
    )


def _in_draws(
    counts: CaseCounts, curves: Curves, weight: Weights
) -> tuple[dict[str, Floats], dict[str, Floats], Floats]:
    """Return measures by label, those of all labels, and the mean average precision, by draw."""
    sums = counts.by_label(weight)
    areas = curves.areas(weight)
    totals = {name: value.sum(axis=0) for name, value in sums.items()}
    each = {**_measures(sums), "average_precision": areas[0]}
    return each, _measures(totals), _mean(areas, axis=1).mean(axis=0)


def spread_of_all(
    judged: Sequence[Judged],
    passes: Sequence[Flags],
    at: Sequence[Ints],
    place: Ints,
    resampling: Resampling,
) -> dict[str, Interval]:
    """Return the intervals of the pooled measures of several kinds together.

    Parameters
    ----------
    passes : sequence of ndarray of bool
        For each kind, which findings pass the threshold.
    at : sequence of ndarray of intp
        For each kind, where its images stand among all `images`.
    place : ndarray of intp, shape (images,)
        Which draws each of all images gets.
    """
    counts = _counts_of_all(judged, passes, at, place)
    images = len(place)
    draws = drawn_of_all(judged, counts, at, images, drawing(images, resampling, place))
    return spread_from_all(judged, counts, at, images, draws, resampling.level)


def spread_from_all(
    judged: Sequence[Judged],
    counts: Sequence[CaseCounts],
    at: Sequence[Ints],
    images: int,
    draws: Mapping[str, Floats],
    level: float,
) -> dict[str, Interval]:
    """Return the intervals of several kinds together from what the draws gave.

    Parameters
    ----------
    judged, counts, at, images
        As for `drawn_of_all`.
    draws : mapping of str to ndarray of float64
        From `drawn_of_all`.
    level : float
        Such as 0.95.
    """
    columns = _columns_of_all(counts, at, images)
    # What only some kinds have (absence, overlap) is no share of all of them.
    shares = {
        name: one.pairs(columns)
        for name, one in RATIOS.items()
        if one.interval == "share" and one.needs <= set(columns)
    }
    whole = Curves.of(all_together(judged, at, images))
    area = whole.areas(np.ones((images, 1), dtype=np.float32))[0, 0] if images else np.zeros(0)
    actual = columns["actual"]
    found: dict[str, Interval] = {}
    if len(area) and "average_precision" in draws:
        own = draws["average_precision"], int((actual > 0).sum()), actual.sum()
        found["average_precision"] = _ends(drawn_limits(area[0], *own, level))
    if "mean_overlap" in draws:
        boxed = [n for n, one in enumerate(counts) if not one.presence]
        those = _columns_of_all([counts[n] for n in boxed], [at[n] for n in boxed], images)
        pairs = ShareSums.of_images(those["overlap"], those["hits"])
        found["mean_overlap"] = _ends(mean_limits(pairs, level))
    return found | {
        n: _ends(mean_of_shares_limits_by_image(own_pairs, level))
        for n, own_pairs in shares.items()
    }


def _counts_of_all(
    judged: Sequence[Judged], passes: Sequence[Flags], at: Sequence[Ints], place: Ints
) -> list[CaseCounts]:
    return [
        CaseCounts.of(one, mask, place[own])
        for one, mask, own in zip(judged, passes, at, strict=True)
    ]


def drawn_of_all(
    judged: Sequence[Judged],
    counts: Sequence[CaseCounts],
    at: Sequence[Ints],
    images: int,
    weighing: Weighing,
) -> dict[str, Floats]:
    """Return the pooled measures of several kinds together in every draw.

    Parameters
    ----------
    counts : sequence of CaseCounts
        For each kind what passes the threshold.
    at : sequence of ndarray of intp
        For each kind, where its images stand among all.
    images : int
        How many there are in all kinds together.
    weighing : callable
        Gives the weights of all images, such as `drawing`; at least one draw.
    """
    whole = Curves.of(all_together(judged, at, images))
    parts = []
    for weight in weighing(draws_at_once(images, whole.points)):
        sums = _added([c.by_label(weight[p]) for c, p in zip(counts, at, strict=True)])
        parts.append({**_measures(sums), "average_precision": whole.areas(weight)[0, 0]})
    return _joined(parts)


def _columns_of_all(
    counts: Sequence[CaseCounts], at: Sequence[Ints], images: int
) -> dict[str, Floats]:
    """Return the counts of each image of several kinds together: those that all kinds have."""
    parts = [one.columns() for one in counts]
    names = [name for name in parts[0] if all(name in one for one in parts)]
    found = {name: np.zeros(images) for name in names}
    for one, places in zip(parts, at, strict=True):
        for name in names:
            found[name][places] += one[name]
    return found


def _ends(limits: tuple[Floats, Floats]) -> Interval:
    return float(limits[0]), float(limits[1])


def _few(weight: Weights, points: int) -> Iterator[Weights]:
    """Yield the draws again, so few at a time that a curve of `points` fits."""
    count = draws_at_once(1, points)
    for start in range(0, weight.shape[1], count):
        yield np.ascontiguousarray(weight[:, start : start + count])


def _with_sums(spread: Spread, counts: CaseCounts, level: float) -> Spread:
    """Return the spread with the intervals that come from sums over images: shares and overlap."""
    rows, columns = counts.row_sums(), counts.columns()
    ends = {name: mean_of_shares_limits(sums, level) for name, sums in rows.items()}
    together = {name: RATIOS[name].pairs(columns) for name in rows}
    pooled = {n: _ends(mean_of_shares_limits_by_image(p, level)) for n, p in together.items()}
    label_n = {name: np.asarray(sum(one.n for one in sums)) for name, sums in rows.items()}
    pooled_n = {
        name: int(np.any([m > 0 for _, m in pairs], axis=0).sum())
        for name, pairs in together.items()
    }
    if not counts.presence:
        overlaps, all_overlaps = counts.overlaps()
        ends["mean_overlap"] = mean_limits(overlaps, level)
        pooled["mean_overlap"] = _ends(mean_limits(all_overlaps, level))
        label_n["mean_overlap"] = overlaps.n
        pooled_n["mean_overlap"] = int(all_overlaps.n)
    # Average precision rests on the images that hold something to be found.
    label_n["average_precision"] = label_n["recall"]
    pooled_n["average_precision"] = pooled_n["recall"]
    every = range(counts.findings.labels)
    return Spread(
        labels=tuple(
            {
                **spread.labels[i],
                **{n: (float(lo[i]), float(hi[i])) for n, (lo, hi) in ends.items()},
            }
            for i in every
        ),
        pooled={**spread.pooled, **pooled},
        mean_over_labels=spread.mean_over_labels,
        mean_ap=spread.mean_ap,
        label_images=tuple({n: int(one[i]) for n, one in label_n.items()} for i in every),
        pooled_images=pooled_n,
    )


def _added(parts: Sequence[dict[str, Floats]]) -> dict[str, Floats]:
    """Add up the counts of several kinds; absence only if every kind has it.

    Overlaps are those of kinds with boxes, and so are the pairs that they are a mean over.
    """
    total = [{name: value.sum(axis=0) for name, value in part.items()} for part in parts]
    names = [name for name in total[0] if all(name in one for one in total)]
    found = {name: np.sum([one[name] for one in total], axis=0) for name in names}
    boxed = [one for one in total if "overlap" in one]
    if boxed and len(boxed) < len(total):
        found["boxed_overlap"] = np.sum([one["overlap"] for one in boxed], axis=0)
        found["boxed_hits"] = np.sum([one["hits"] for one in boxed], axis=0)
    return found


def _measures(sums: Mapping[str, Floats]) -> dict[str, Floats]:
    found = {name: one.value(sums) for name, one in RATIOS.items() if one.needs <= set(sums)}
    if "boxed_hits" in sums:
        own = {"overlap": sums["boxed_overlap"], "hits": sums["boxed_hits"]}
        found["mean_overlap"] = RATIOS["mean_overlap"].value(own)
    return found


def _mean(values: Floats, axis: int) -> Floats:
    """Return the mean over what is defined; NaN where nothing is."""
    defined = ~np.isnan(values)
    return ratios(np.where(defined, values, 0.0).sum(axis=axis), defined.sum(axis=axis))


def _joined(parts: Sequence[Mapping[str, Floats]]) -> dict[str, Floats]:
    names = parts[0] if parts else ()
    return {name: np.concatenate([part[name] for part in parts], axis=-1) for name in names}


def _summed_up(
    drawn: DrawnIntervals, plain: DrawnIntervals, counts: CaseCounts, level: float
) -> Spread:
    """Return the intervals of what is no sum over images, from the spread of the draws."""
    cases, images, all_cases, all_images = counts.annotated()
    low, high = drawn_limits(
        plain.labels["average_precision"][:, 0],
        drawn.labels["average_precision"],
        images,
        cases,
        level,
    )

    def of_all(value: Floats, draws: Floats) -> Interval:
        p = value[0] if len(value) else np.nan
        return _ends(drawn_limits(p, draws, all_images, all_cases, level))

    means = {name: of_all(plain.means[name], draws) for name, draws in drawn.means.items()}
    curve = of_all(plain.pooled["average_precision"], drawn.pooled["average_precision"])
    return Spread(
        labels=tuple(
            {"average_precision": (float(low[i]), float(high[i]))}
            for i in range(counts.findings.labels)
        ),
        pooled={"average_precision": curve},
        mean_over_labels=means,
        mean_ap=of_all(plain.mean_ap, drawn.mean_ap),
    )
