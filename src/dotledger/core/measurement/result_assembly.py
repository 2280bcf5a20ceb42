"""From what is judged to a result: counts, areas, intervals, and the rows that show them.

What is judged may come from one pair of tables, or from many whose images were judged elsewhere:
everything here is asked of columns of what was found and what is right, never of the tables.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from itertools import product
from typing import TypeVar

import numpy as np

from dotledger.core.arrays import Flags, Ints, ratio
from dotledger.core.measurement.measure_result import MeasuredKinds
from dotledger.core.measures.average_precision import pooled_average_precision
from dotledger.core.measures.intervals import Spread, spread_of, spread_of_all
from dotledger.core.measures.measure_rows import (
    Interval,
    KindMeasure,
    Point,
    Row,
    mean_over,
    row_of,
)
from dotledger.core.measures.resampling import placed
from dotledger.core.measures.tally import Tally, tally
from dotledger.core.pairing.pair_judging import Judged
from dotledger.core.questions.question_basis import Basis

__all__ = ["About", "KindWork", "Totals", "assembled", "worked_out"]


@dataclass(frozen=True, eq=False, kw_only=True)
class About:
    """What is known of one kind next to what was judged.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    labels, images : tuple of str
        In scope, sorted.
    covered, unanswered : int
        Images that the annotations cover, and those of them without an answer.
    unjudged : mapping of str to int
        Findings in scope whose label is not in the vocabulary, by label.
    without_box : int
        Findings set aside, since the kind is judged by boxes and they have none.
    """

    kind: str
    labels: tuple[str, ...]
    images: tuple[str, ...]
    covered: int
    unanswered: int
    unjudged: Mapping[str, int]
    without_box: int


@dataclass(frozen=True, kw_only=True)
class Totals:
    """What a result says of all kinds together; see `Measure`."""

    unanswered: int
    uncovered: int
    unjudged_kinds: Mapping[str, int]
    notes: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class KindWork:
    """One kind on its way: judged at each overlap, counted at each overlap and threshold."""

    about: About
    judged: list[Judged]
    by_confidence: Judged
    passes: Flags
    tallies: list[list[Tally]]
    spread: Spread | None


Anew = Callable[[Judged, Flags], Judged]


def worked_out(
    basis: Basis, about: About, judged: list[Judged], *, anew: Anew | None = None
) -> KindWork:
    """Count one kind, and say how sure that is.

    Parameters
    ----------
    basis : Basis
        With overlaps, thresholds, draws and places; its tables are not looked at.
    judged : list of Judged
        By falling confidence, one for each required overlap.
    anew : callable, optional
        Pairs anew what passes a threshold; the curve stays that of `judged`.

    Returns
    -------
    KindWork
        Without intervals where none were asked for, or nothing is in scope.
    """
    least = [cut.least(about.kind, about.labels) for cut in basis.cuts]
    passes = [judged[0].findings.passing(bar) for bar in least]
    tallies = [[tally(one, mask) for mask in passes] for one in judged]
    by_confidence = judged[0]
    if anew is not None:
        judged, tallies = _paired_anew(anew, judged, tallies, passes)
    spread = None
    if basis.resampling.draws and about.images and about.labels:
        place = placed(about.images, basis.places)
        spread = spread_of(judged, passes[0], basis.resampling, place)
        spread = spread.without_curves() if anew is not None else spread
    return KindWork(about, judged, by_confidence, passes[0], tallies, spread)


def _paired_anew(
    anew: Anew, judged: list[Judged], tallies: list[list[Tally]], passes: list[Flags]
) -> tuple[list[Judged], list[list[Tally]]]:
    """Pair anew at each threshold; the curve stays that of pairing by confidence."""
    pairs = [[anew(one, mask) for mask in passes] for one in judged]
    counted = [
        [
            tally(new, mask, curve=old.average_precision)
            for new, mask, old in zip(row, passes, olds, strict=True)
        ]
        for row, olds in zip(pairs, tallies, strict=True)
    ]
    return [row[0] for row in pairs], counted


Result = TypeVar("Result", bound=MeasuredKinds)


def assembled(basis: Basis, work: list[KindWork], totals: Totals, result: type[Result]) -> Result:
    """Return the result of kinds that are counted.

    Parameters
    ----------
    basis : Basis
        What every question will be asked of; what is judged is added to it.
    work : list of KindWork
        In the order of the kinds.
    result : type
        `Measure`, or one that extends it.

    Returns
    -------
    Measure
        Of type `result`.
    """
    images = sorted(_together([one.about.images for one in work]))
    return result(
        overlap=basis.overlaps[0],
        threshold=basis.cuts[0].plain(),
        images_in_scope=len(images),
        unanswered=totals.unanswered,
        uncovered=totals.uncovered,
        kinds={one.about.kind: _kind_measure(basis, one) for one in work},
        unjudged_kinds=totals.unjudged_kinds,
        pooled=_pooled(basis, work, images),
        notes=totals.notes,
        basis=replace(basis, judged={one.about.kind: one.judged[0] for one in work}),
    )


def _together(images: list[tuple[str, ...]]) -> Iterable[str]:
    """Return the images of all kinds, each once; mostly all kinds have the same ones."""
    if images and all(one == images[0] for one in images):
        return images[0]
    return set().union(*images)


def _rows(about: About, counts: Tally, spread: Spread | None) -> dict[str, Row]:
    each = spread.labels if spread else [None] * len(about.labels)
    images = spread.label_images if spread else [None] * len(about.labels)
    return {label: row_of(counts, i, each[i], images[i]) for i, label in enumerate(about.labels)}


def _kind_measure(basis: Basis, work: KindWork) -> KindMeasure:
    about, spread = work.about, work.spread
    last = len(about.labels)
    points = [
        Point(
            overlap=overlap,
            threshold=cut.plain(),
            rows=_rows(about, counts, None),
            pooled=row_of(counts, last),
        )
        for (overlap, cut), counts in zip(
            product(basis.overlaps, basis.cuts),
            (counts for row in work.tallies for counts in row),
            strict=True,
        )
    ]
    means = [mean_over(p.rows.values())["average_precision"] for p in points[:: len(basis.cuts)]]
    return KindMeasure(
        kind=about.kind,
        images_in_scope=len(about.images),
        covered=about.covered,
        unanswered=about.unanswered,
        unjudged=about.unjudged,
        without_box=about.without_box,
        rows=_rows(about, work.tallies[0][0], spread),
        pooled=row_of(work.tallies[0][0], last, spread.pooled if spread else None),
        points=points,
        mean_ap=math.fsum(means) / len(means),
        mean_intervals={
            **spread.mean_over_labels,
            "mean_ap": spread.mean_ap,
        }
        if spread
        else {},
    )


def _pooled(basis: Basis, work: list[KindWork], images: list[str]) -> Row:
    """Return the row for all labels of all kinds, from summed counts and one common curve."""
    tallies = [one.tallies[0][0] for one in work]
    if len(work) == 1:
        spread = work[0].spread
        ends, images_of = (spread.pooled, spread.pooled_images) if spread else (None, None)
        return row_of(tallies[0], len(work[0].about.labels), ends, images_of)
    rows = [row_of(t, len(one.about.labels)) for one, t in zip(work, tallies, strict=True)]
    boxed = [counts for counts in tallies if counts.overlap_sum is not None]
    overlaps = math.fsum(float(t.overlap_sum[-1]) for t in boxed if t.overlap_sum is not None)
    negatives = [row.true_negatives for row in rows]
    return Row(
        annotated=sum(row.annotated for row in rows),
        true_positives=sum(row.true_positives for row in rows),
        false_positives=sum(row.false_positives for row in rows),
        misses=sum(row.misses for row in rows),
        set_aside=sum(row.set_aside for row in rows),
        true_negatives=None if boxed else sum(n for n in negatives if n is not None),
        mean_overlap=ratio(overlaps, sum(int(t.true_positives[-1]) for t in boxed)),
        average_precision=pooled_average_precision([one.by_confidence for one in work])
        if work
        else math.nan,
        intervals=_pooled_intervals(basis, work, images),
    )


def _pooled_intervals(basis: Basis, work: list[KindWork], images: list[str]) -> dict[str, Interval]:
    if not basis.resampling.draws or not images:
        return {}
    index = {name: place for place, name in enumerate(images)}
    at: list[Ints] = [
        np.array([index[name] for name in one.about.images], dtype=np.intp) for one in work
    ]
    judged, passes = [one.judged[0] for one in work], [one.passes for one in work]
    place = placed(images, basis.places)
    spread = spread_of_all(judged, passes, at, place, basis.resampling)
    if basis.pairing == "total-overlap":
        del spread["average_precision"]
    return spread
