"""How sure: intervals of every measure, over images.

Shares (precision, recall, F1, false-alarm rate) get the intervals of
`dotledger.core.counting.shares`; what is no share (average precision, mean overlap, means over
labels) a percentile bootstrap over images.

Every measure of a draw is computed from weighted counts exactly as from the plain ones. For
average precision the weights are summed up to the points where something right was found, for many
draws at once: whatever lies between two such points only lowers precision.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from dotledger.core.arrays import Ints, ratios
from dotledger.core.counting.cases import CaseCounts
from dotledger.core.counting.drawn_curves import (
    Curves,
    Flags,
    Floats,
    all_together,
    by_label,
    draws_at_once,
)
from dotledger.core.counting.resampling import Interval, Resampling, Weights, limits, weights
from dotledger.core.counting.shares import ShareSums, share_limits
from dotledger.core.pairing.judging import Judged

__all__ = ["Drawn", "Spread", "drawn_of", "drawn_of_all", "spread_of", "spread_of_all"]


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
    passes : ndarray of bool, shape (n,)
        Which findings pass the threshold.
    resampling : Resampling
        With at least one draw.
    place : ndarray of intp, shape (images,)
        Which draws each image gets; see `dotledger.core.counting.resampling.placed`.
    """
    counts = CaseCounts.of(judged[0], passes, place)
    spread = _summed_up(drawn_of(judged, counts, resampling, place), counts, resampling.level)
    return _with_shares(spread, counts, resampling.level)


@dataclass(frozen=True, eq=False, kw_only=True)
class Drawn:
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


def drawn_of(
    judged: Sequence[Judged], counts: CaseCounts, resampling: Resampling, place: Ints
) -> Drawn:
    """Return the measures of one kind in every draw.

    Parameters
    ----------
    judged : sequence of Judged
        One a required overlap; counts and curves are those of the first.
    counts : CaseCounts
        What passes the threshold.
    resampling : Resampling
        With at least one draw.
    place : ndarray of intp, shape (images,)
        Which draws each image gets. Two runs with the same places get the same draws.

    Returns
    -------
    Drawn
        Of so many draws.
    """
    findings = judged[0].findings
    curves = Curves.of(by_label(judged))
    whole = Curves.of(all_together([judged[0]], [np.arange(findings.images)], findings.images))
    parts, pooled = [], []
    for drawn in weights(
        findings.images, resampling, draws_at_once(findings.images, curves.points)
    ):
        weight = drawn[place]
        sums = counts.by_label(weight)
        areas = curves.areas(weight)
        totals = {name: value.sum(axis=0) for name, value in sums.items()}
        parts.append(
            (
                {**_measures(sums), "average_precision": areas[0]},
                _measures(totals),
                _mean(areas, axis=1).mean(axis=0),
            )
        )
        pooled += [whole.areas(few)[0, 0] for few in _few(weight, whole.points)]
    curve = np.concatenate([np.zeros(0), *pooled])
    return Drawn(
        labels=_joined([part[0] for part in parts]),
        pooled={**_joined([part[1] for part in parts]), "average_precision": curve},
        mean_ap=np.concatenate([np.zeros(0), *(part[2] for part in parts)]),
    )


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
    judged : sequence of Judged
        One for each kind.
    passes : sequence of ndarray of bool
        For each kind, which findings pass the threshold.
    at : sequence of ndarray of intp
        For each kind, where its images stand among all `images`.
    place : ndarray of intp, shape (images,)
        Which draws each of all images gets.
    resampling : Resampling
        With at least one draw.
    """
    counts = _counts_of_all(judged, passes, at, place)
    images = len(place)
    by_image = [c.by_image() for c in counts]
    names = set.intersection(*(set(one) for one in by_image))
    if any(one.findings.units is None for one in counts):
        names.discard("false_alarm_rate")
    shares = {name: _over_kinds([one[name] for one in by_image], at, images) for name in names}
    draws = drawn_of_all(judged, counts, at, place, resampling)
    contributing = int(shares["f1"].n) if "f1" in shares else images
    found = _limits_each(draws, dict.fromkeys(draws, contributing), resampling.level)
    return found | {n: _ends(share_limits(one, resampling.level)) for n, one in shares.items()}


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
    place: Ints,
    resampling: Resampling,
) -> dict[str, Floats]:
    """Return the pooled measures of several kinds together in every draw.

    Parameters
    ----------
    judged : sequence of Judged
        One for each kind.
    counts : sequence of CaseCounts
        For each kind what passes the threshold.
    at : sequence of ndarray of intp
        For each kind, where its images stand among all.
    place : ndarray of intp, shape (images,)
        Which draws each of all images gets.
    resampling : Resampling
        With at least one draw.

    Returns
    -------
    dict of str to ndarray of float64, shape (draws,)
        By measure.
    """
    images = len(place)
    whole = Curves.of(all_together(judged, at, images))
    parts = []
    for drawn in weights(images, resampling, draws_at_once(images, whole.points)):
        weight = drawn[place]
        sums = _added([c.by_label(weight[p]) for c, p in zip(counts, at, strict=True)])
        parts.append({**_measures(sums), "average_precision": whole.areas(weight)[0, 0]})
    return _joined(parts)


def _over_kinds(
    parts: Sequence[tuple[Floats, Floats]], at: Sequence[Ints], images: int
) -> ShareSums:
    """Return the sums of a share whose cases are those of several kinds."""
    x, m = np.zeros(images), np.zeros(images)
    for (own_x, own_m), places in zip(parts, at, strict=True):
        x[places] += own_x
        m[places] += own_m
    return ShareSums.of_images(x, m)


def _ends(limits: tuple[Floats, Floats]) -> Interval:
    return float(limits[0]), float(limits[1])


def _few(weight: Weights, points: int) -> Iterator[Weights]:
    """Yield the draws again, so few at a time that a curve of `points` fits."""
    count = draws_at_once(1, points)
    for start in range(0, weight.shape[1], count):
        yield np.ascontiguousarray(weight[:, start : start + count])


def _with_shares(spread: Spread, counts: CaseCounts, level: float) -> Spread:
    """Return the spread with the intervals of shares in the place of what draws gave."""
    rows, images = counts.by_row(), counts.by_image()
    ends = {name: share_limits(sums, level) for name, sums in rows.items()}
    pooled = {name: ShareSums.of_images(x, m) for name, (x, m) in images.items()}
    with_pairs, pairs_in_all = counts.overlapping()
    labels = [
        {name: (float(low[i]), float(high[i])) for name, (low, high) in ends.items()}
        for i in range(counts.findings.labels)
    ]
    return Spread(
        labels=tuple({**old, **new} for old, new in zip(spread.labels, labels, strict=True)),
        pooled={
            **spread.pooled,
            **{name: _ends(share_limits(sums, level)) for name, sums in pooled.items()},
        },
        mean_over_labels=spread.mean_over_labels,
        mean_ap=spread.mean_ap,
        label_images=tuple(
            {
                **{name: int(sums.n[i]) for name, sums in rows.items()},
                "average_precision": int(rows["f1"].n[i]),
                "mean_overlap": int(with_pairs[i]),
            }
            for i in range(counts.findings.labels)
        ),
        pooled_images={
            **{name: int(sums.n) for name, sums in pooled.items()},
            "average_precision": int(pooled["f1"].n),
            "mean_overlap": int(pairs_in_all),
        },
    )


def _added(parts: Sequence[dict[str, Floats]]) -> dict[str, Floats]:
    """Add up the sums of several kinds; true negatives only if every kind has them."""
    names = {name for part in parts for name in part}
    if any("boxed" in part for part in parts):
        names.discard("absent")
    return {n: np.sum([p[n].sum(axis=0) for p in parts if n in p], axis=0) for n in names}


def _measures(sums: Mapping[str, Floats]) -> dict[str, Floats]:
    hits, passing, actual = sums["hits"], sums["passing"], sums["actual"]
    found = {
        "precision": ratios(hits, passing),
        "recall": ratios(hits, actual),
        "f1": ratios(2 * hits, passing + actual),
    }
    if "boxed" in sums:
        found["mean_overlap"] = ratios(sums["overlap"], sums["boxed"])
    if "absent" in sums:
        found["false_alarm_rate"] = ratios(passing - hits, sums["absent"])
    return found


def _mean(values: Floats, axis: int) -> Floats:
    """Return the mean over what is defined; NaN where nothing is."""
    defined = ~np.isnan(values)
    return ratios(np.where(defined, values, 0.0).sum(axis=axis), defined.sum(axis=axis))


def _joined(parts: Sequence[Mapping[str, Floats]]) -> dict[str, Floats]:
    names = parts[0] if parts else ()
    return {name: np.concatenate([part[name] for part in parts], axis=-1) for name in names}


def _limits_each(
    draws: Mapping[str, Floats], images: Mapping[str, int], level: float
) -> dict[str, Interval]:
    found = {name: limits(values, images[name], level) for name, values in draws.items()}
    return {name: (float(low), float(high)) for name, (low, high) in found.items()}


def _summed_up(drawn: Drawn, counts: CaseCounts, level: float) -> Spread:
    pooled, each, means = drawn.pooled, drawn.labels, drawn.means
    with_pairs, pairs_in_all = counts.overlapping()
    there = counts.by_row()["f1"].n
    contributing = int(ShareSums.of_images(*counts.by_image()["f1"]).n)
    by_label = {
        name: limits(values, with_pairs if name == "mean_overlap" else there, level)
        for name, values in each.items()
    }
    few = dict.fromkeys((*pooled, *means, ""), contributing) | {"mean_overlap": pairs_in_all}
    return Spread(
        labels=tuple(
            {name: (float(low[i]), float(high[i])) for name, (low, high) in by_label.items()}
            for i in range(counts.findings.labels)
        ),
        pooled=_limits_each(pooled, few, level),
        mean_over_labels=_limits_each(means, few, level),
        mean_ap=_limits_each({"": drawn.mean_ap}, few, level)[""],
    )
