"""From two tables to a result: scope, judging, counting, and how sure."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import TYPE_CHECKING

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, whole_number
from dotledger.core.arrays import Flags, Ints, ratio
from dotledger.core.counting.area import pooled_average_precision
from dotledger.core.counting.intervals import Spread, spread_of, spread_of_all
from dotledger.core.counting.resampling import Resampling, placed, places_of_images
from dotledger.core.counting.rows import Interval, KindMeasure, Point, Row, mean_over, row_of
from dotledger.core.counting.tally import Tally, tally
from dotledger.core.kinds import KINDS
from dotledger.core.measuring.door import (
    Pairing,
    check_pairing,
    checked_overlaps,
    checked_tolerances,
    require_common_images,
    thresholds_asked,
    wanted_kinds,
)
from dotledger.core.measuring.notes import notes_of
from dotledger.core.measuring.result import Measure
from dotledger.core.pairing.broader import Broader, credited
from dotledger.core.pairing.by_total_overlap import reassigned
from dotledger.core.pairing.judging import Judged, judge
from dotledger.core.pairing.scope import Scope, counts_by_name, scope_of
from dotledger.core.questions.basis import Basis
from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.clipping import clip_findings
from dotledger.core.tables.findings import Findings
from dotledger.core.tables.origin import Origin
from dotledger.core.tables.thresholds import Threshold, Thresholds
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["measure"]


def measure(
    findings: Findings | pd.DataFrame,
    annotations: Annotations | pd.DataFrame,
    *,
    overlap: float | Sequence[float] = 0.5,
    threshold: Threshold | Sequence[float] = None,
    kinds: Iterable[str] | None = None,
    count_unanswered: bool = False,
    pairing: Pairing = "confidence",
    broader: Broader | None = None,
    credit_related: bool = False,
    floor: float | None = None,
    words: Mapping[str, float] | None = None,
    tolerances: Mapping[str, float] | None = None,
    draws: int = 1000,
    seed: int = 0,
) -> Measure:
    """Compare findings with annotations.

    Parameters
    ----------
    findings : Findings or DataFrame
        With the columns of `FINDING_COLUMNS`.
    annotations : Annotations or DataFrame
        With the columns of `ANNOTATION_COLUMNS`.
    overlap : float or sequence of float, default 0.5
        Required overlap for kinds judged by boxes; above 0, up to 1. Of several the first is
        the one shown; each has its `Point`, and the mean average precision is over all.
    threshold : float, str, mapping, sequence of float, or None
        Findings of lower confidence are left out of the counts (not of average precision).
        See `dotledger.core.tables.thresholds.Threshold`; of several numbers the first is shown.
    kinds : iterable of str, optional
        Kinds to judge; by default every judged kind that the annotations hold.
    count_unanswered : bool, default False
        Count annotations of covered images without an answer as missed.
    pairing : {"confidence", "total-overlap"}
        By falling confidence, as defined; or, among what passes the threshold, one-to-one with
        the greatest total overlap (average precision then stays that of the first).
    broader : mapping of str to iterable of str, optional
        Broader labels of each label, beside those that findings carry.
    credit_related : bool, default False
        Count a finding with a broader or narrower label in the right place as right.
    floor : float, optional
        The lowest confidence that the service was asked for or is known to give.
    words : mapping of str to float, optional
        The service's ordered words with their numbers, for thresholds given as words; those
        that findings carry are known anyway.
    tolerances : mapping of str to float, optional
        For attributes that are numbers, such as ``age``: how far off still counts as right.
    draws, seed : int
        For the 95 % intervals: how many draws of images, and where they begin; no intervals
        with 0 draws.

    Returns
    -------
    Measure
        Undefined measures are NaN there and None in its `to_dict`.

    Raises
    ------
    ArgumentError
        If an argument is out of range.
    TableError
        If a frame breaks the common shape.
    ScopeError
        If both tables have images and none in common.
    """
    if isinstance(findings, Annotations) or isinstance(annotations, Findings):
        raise ArgumentError(
            "findings and annotations are swapped",
            place="measure",
            next_step="Findings come first: measure(findings, annotations).",
        )
    found = findings if isinstance(findings, Findings) else Findings.from_frame(findings)
    annotated = (
        annotations if isinstance(annotations, Annotations) else Annotations.from_frame(annotations)
    )
    found = clip_findings(found, annotated.images).table if annotated.images else found
    origin = found.origin or Origin()
    floor = origin.floor if floor is None else floor
    overlaps = checked_overlaps(overlap)
    cuts = thresholds_asked(threshold, found, annotated, {**origin.words, **(words or {})}, floor)
    check_pairing(pairing)
    draws = whole_number(draws, place="draws", least=0, most=MOST_DRAWS)
    seed = whole_number(seed, place="seed", least=0, most=MOST_SEED)
    covered = annotated.image.used()
    require_common_images(found.image.used(), covered)
    wanted = wanted_kinds(annotated, kinds)
    if credit_related:
        found = credited(found, annotated, wanted, overlaps[0], cuts[0], broader)
    basis = Basis(
        findings=found,
        annotations=annotated,
        scopes={
            k: scope_of(found, annotated, k, count_unanswered=count_unanswered) for k in wanted
        },
        overlaps=overlaps,
        cuts=cuts,
        pairing=pairing,
        broader={} if broader is None else {n: tuple(b) for n, b in broader.items()},
        credited=credit_related,
        floor=floor,
        resampling=Resampling(draws=draws, seed=seed),
        places=places_of_images(sorted(covered), annotated, found) if draws else {},
        tolerances=checked_tolerances(tolerances or {}),
    )
    return _measured(basis, found, annotated, covered, kinds is None)


@dataclass(frozen=True, eq=False)
class _Work:
    """One kind on its way: judged at each overlap, counted at each overlap and threshold."""

    scope: Scope
    judged: list[Judged]
    by_confidence: Judged
    passes: Flags
    tallies: list[list[Tally]]
    spread: Spread | None


def _measured(
    basis: Basis, findings: Findings, annotations: Annotations, covered: list[str], every: bool
) -> Measure:
    work = {kind: _work(basis, scope) for kind, scope in basis.scopes.items()}
    images = sorted(set().union(*(one.scope.images for one in work.values())))
    return Measure(
        overlap=basis.overlaps[0],
        threshold=basis.cuts[0].plain(),
        images_in_scope=len(images),
        unanswered=len(set(covered) - set(findings.image.used())),
        uncovered=len(set(findings.image.used()) - set(covered)),
        kinds={kind: _kind_measure(basis, one) for kind, one in work.items()},
        unjudged_kinds=_unjudged_kinds(findings, annotations, covered, basis.cuts[0])
        if every
        else {},
        pooled=_pooled(basis, list(work.values()), images),
        notes=notes_of(basis, [one.scope for one in work.values()]),
        basis=replace(basis, judged={kind: one.judged[0] for kind, one in work.items()}),
    )


def _work(basis: Basis, scope: Scope) -> _Work:
    judged = judge(scope, basis.overlaps)
    least = [cut.least(scope.kind, scope.labels) for cut in basis.cuts]
    passes = [judged[0].findings.passing(bar) for bar in least]
    tallies = [[tally(one, mask) for mask in passes] for one in judged]
    by_confidence = judged[0]
    anew = basis.pairing == "total-overlap" and scope.boxed
    if anew:
        judged, tallies = _by_total_overlap(scope, judged, tallies, passes)
    spread = None
    if basis.resampling.draws and scope.images and scope.labels:
        place = placed(scope.images, basis.places)
        spread = spread_of(judged, passes[0], basis.resampling, place)
        spread = spread.without_curves() if anew else spread
    return _Work(scope, judged, by_confidence, passes[0], tallies, spread)


def _by_total_overlap(
    scope: Scope, judged: list[Judged], tallies: list[list[Tally]], passes: list[Flags]
) -> tuple[list[Judged], list[list[Tally]]]:
    """Pair anew at each threshold; the curve stays that of pairing by confidence."""
    anew = [[reassigned(scope, one, mask) for mask in passes] for one in judged]
    counted = [
        [
            tally(new, mask, curve=old.average_precision)
            for new, mask, old in zip(row, passes, olds, strict=True)
        ]
        for row, olds in zip(anew, tallies, strict=True)
    ]
    return [row[0] for row in anew], counted


def _rows(scope: Scope, counts: Tally, spread: Spread | None) -> dict[str, Row]:
    each = spread.labels if spread else [None] * len(scope.labels)
    images = spread.label_images if spread else [None] * len(scope.labels)
    return {label: row_of(counts, i, each[i], images[i]) for i, label in enumerate(scope.labels)}


def _kind_measure(basis: Basis, work: _Work) -> KindMeasure:
    scope, spread = work.scope, work.spread
    outside = basis.findings.take(scope.unjudged)
    last = len(scope.labels)
    points = [
        Point(
            overlap=overlap,
            threshold=cut.plain(),
            rows=_rows(scope, counts, None),
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
        kind=scope.kind,
        images_in_scope=len(scope.images),
        covered=len(basis.annotations.covered(scope.kind)),
        unanswered=scope.unanswered,
        unjudged=counts_by_name(outside.take(basis.cuts[0].passes(outside)).label),
        without_box=len(scope.without_box),
        rows=_rows(scope, work.tallies[0][0], spread),
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


# Findings of a kind that the annotations do not hold at all are unjudged too: nobody looked for
# it.
def _unjudged_kinds(
    findings: Findings, annotations: Annotations, covered: list[str], cut: Thresholds
) -> dict[str, int]:
    judged = {*annotations.kind.used(), *annotations.vocabulary}
    other = [k for k in findings.kind.used() if k not in judged and KINDS[k].judged != "carried"]
    rows = (findings.kind.onto(other) >= 0) & (findings.image.onto(covered) >= 0) & ~findings.blank
    outside = findings.take(rows)
    return counts_by_name(outside.take(cut.passes(outside)).kind)


def _pooled(basis: Basis, work: list[_Work], images: list[str]) -> Row:
    """Return the row for all labels of all kinds, from summed counts and one common curve."""
    tallies = [one.tallies[0][0] for one in work]
    if len(work) == 1:
        spread = work[0].spread
        ends, images_of = (spread.pooled, spread.pooled_images) if spread else (None, None)
        return row_of(tallies[0], len(work[0].scope.labels), ends, images_of)
    rows = [row_of(t, len(one.scope.labels)) for one, t in zip(work, tallies, strict=True)]
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


def _pooled_intervals(basis: Basis, work: list[_Work], images: list[str]) -> dict[str, Interval]:
    if not basis.resampling.draws or not images:
        return {}
    index = {name: place for place, name in enumerate(images)}
    at: list[Ints] = [
        np.array([index[name] for name in one.scope.images], dtype=np.intp) for one in work
    ]
    judged, passes = [one.judged[0] for one in work], [one.passes for one in work]
    place = placed(images, basis.places)
    spread = spread_of_all(judged, passes, at, place, basis.resampling)
    if basis.pairing == "total-overlap":
        del spread["average_precision"]
    return spread
