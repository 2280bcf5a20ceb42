"""From two tables to a result: scope, vocabulary, judging and counting."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from dotledger.core.confidence import check_overlap, check_threshold
from dotledger.core.kinds import KINDS, check_kinds
from dotledger.core.matching import Boxes, Ints
from dotledger.core.measures import (
    Judged,
    Tally,
    average_precision,
    judge_boxes,
    judge_presence,
    ratio,
    tally,
)
from dotledger.core.names import Coded
from dotledger.core.results import KindMeasure, Measure, Row
from dotledger.core.spelling import nearest
from dotledger.core.tables import Annotations, Findings
from dotledger.errors import ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["SMALL_SET", "measure"]

SMALL_SET = 30
"""Below this many images in scope, a result says that the set is small."""


@dataclass(frozen=True, eq=False)
class _Scope:
    """Both tables reduced to one kind, images and labels as shared codes."""

    kind: str
    labels: tuple[str, ...]
    images: frozenset[str]
    unanswered: int
    unjudged: Mapping[str, int]
    without_box: int
    said: Findings
    said_unit: Ints
    truth_unit: Ints
    truth_box: NDArray[np.float64]
    ignore: NDArray[np.bool_]


def measure(
    findings: Findings | pd.DataFrame,
    annotations: Annotations | pd.DataFrame,
    *,
    overlap: float = 0.5,
    threshold: float | None = None,
    kinds: Iterable[str] | None = None,
    count_unanswered: bool = False,
) -> Measure:
    """Compare findings with annotations.

    Parameters
    ----------
    findings : Findings or DataFrame
        With the columns of `FINDING_COLUMNS`.
    annotations : Annotations or DataFrame
        With the columns of `ANNOTATION_COLUMNS`.
    overlap : float, default 0.5
        Required overlap for kinds judged by boxes; above 0, up to 1.
    threshold : float, optional
        Findings of lower confidence are left out of the counts (not of average precision);
        0 to 1. None keeps all.
    kinds : iterable of str, optional
        Kinds to judge; by default every judged kind that the annotations hold.
    count_unanswered : bool, default False
        Count annotations of covered images without an answer as missed.

    Returns
    -------
    Measure
        Undefined measures are NaN there and None in its `to_dict`.

    Raises
    ------
    ArgumentError
        If `overlap`, `threshold` or `kinds` is out of range.
    TableError
        If a frame breaks the common shape.
    ScopeError
        If both tables have images and none in common.
    """
    overlap, threshold = check_overlap(overlap), check_threshold(threshold)
    said = findings if isinstance(findings, Findings) else Findings.from_frame(findings)
    truth = (
        annotations if isinstance(annotations, Annotations) else Annotations.from_frame(annotations)
    )
    covered = truth.image.used()
    _require_common_images(said.image.used(), covered)
    scopes = [
        _scope(said, truth, covered, kind, threshold, count_unanswered)
        for kind in _wanted_kinds(truth, kinds)
    ]
    judged = [_judge(scope, overlap) for scope in scopes]
    tallies = [tally(units, threshold) for units in judged]
    return Measure(
        overlap=overlap,
        threshold=threshold,
        images_in_scope=len(set().union(*(scope.images for scope in scopes))),
        unanswered=len(set(covered) - set(said.image.used())),
        uncovered=len(set(said.image.used()) - set(covered)),
        kinds={s.kind: _kind_measure(s, t) for s, t in zip(scopes, tallies, strict=True)},
        unjudged_kinds=_unjudged_kinds(said, truth, covered, threshold) if kinds is None else {},
        pooled=_pooled(judged, tallies),
        notes=_notes(scopes),
    )


def _require_common_images(said: list[str], covered: list[str]) -> None:
    if not said or not covered or set(said) & set(covered):
        return
    close = next(((n, near[0]) for n in said[:50] if (near := nearest(n, covered))), None)
    hint = f"The nearest pair is {close[0]!r} and {close[1]!r}." if close else ""
    raise ScopeError(
        f"none of the {len(said)} images with findings is among the {len(covered)} annotated ones",
        place="measure",
        got=said[0],
        allowed=[repr(name) for name in covered[:3]],
        next_step=hint or "Image names must be equal on both sides.",
    )


def _wanted_kinds(truth: Annotations, kinds: Iterable[str] | None) -> tuple[str, ...]:
    if kinds is not None:
        wanted = check_kinds(kinds, place="kinds")
    else:
        wanted = check_kinds({*truth.kind.used(), *truth.vocabulary} - {""}, place="kinds")
    return tuple(kind for kind in wanted if KINDS[kind].judged != "carried")


def _scope(
    said: Findings,
    truth: Annotations,
    covered: list[str],
    kind: str,
    threshold: float | None,
    count_unanswered: bool,
) -> _Scope:
    labels = truth.labels(kind)
    of_kind = said.take(said.kind.onto([kind]) == 0)
    answered = set(of_kind.image.used())
    images = [name for name in covered if count_unanswered or name in answered]
    inside = of_kind.take((of_kind.image.onto(images) >= 0) & ~of_kind.blank)
    known = inside.label.onto(labels) >= 0
    usable = ~np.isnan(inside.box[:, 0]) if KINDS[kind].judged == "boxes" else np.ones_like(known)
    judged = inside.take(known & usable)
    rows = (truth.kind.onto([kind]) == 0) & ~truth.blank & (truth.image.onto(images) >= 0)
    rows &= truth.label.onto(labels) >= 0
    return _Scope(
        kind=kind,
        labels=labels,
        images=frozenset(images),
        unanswered=len(covered) - len(answered.intersection(covered)),
        unjudged=_unjudged(inside.take(~known), threshold),
        without_box=int((known & ~usable).sum()),
        said=judged,
        said_unit=_units(judged.image, judged.label, images, labels),
        truth_unit=_units(truth.image.take(rows), truth.label.take(rows), images, labels),
        truth_box=truth.box[rows],
        ignore=truth.ignore[rows],
    )


def _units(image: Coded, label: Coded, images: list[str], labels: tuple[str, ...]) -> Ints:
    return image.onto(images) * max(len(labels), 1) + label.onto(labels)


def _passing(findings: Findings, threshold: float | None) -> Findings:
    return findings if threshold is None else findings.take(~(findings.confidence < threshold))


def _unjudged(outside: Findings, threshold: float | None) -> dict[str, int]:
    return _counts(_passing(outside, threshold).label)


def _unjudged_kinds(
    said: Findings, truth: Annotations, covered: list[str], threshold: float | None
) -> dict[str, int]:
    judged = {*truth.kind.used(), *truth.vocabulary}
    other = [k for k in said.kind.used() if k not in judged and KINDS[k].judged != "carried"]
    rows = (said.kind.onto(other) >= 0) & (said.image.onto(covered) >= 0) & ~said.blank
    return _counts(_passing(said.take(rows), threshold).kind)


def _counts(column: Coded) -> dict[str, int]:
    counts = np.bincount(column.codes, minlength=len(column.names))
    names = sorted(zip(column.names, counts.tolist(), strict=True))
    return {name: count for name, count in names if count}


def _judge(scope: _Scope, overlap: float) -> Judged:
    if KINDS[scope.kind].judged == "presence":
        return judge_presence(
            labels=len(scope.labels),
            images=len(scope.images),
            said=scope.said_unit,
            confidence=scope.said.confidence,
            actual=scope.truth_unit[~scope.ignore],
            ignored=scope.truth_unit[scope.ignore],
        )
    [(judged, _)] = judge_boxes(
        labels=len(scope.labels),
        findings=Boxes(group=scope.said_unit, box=scope.said.box),
        confidence=scope.said.confidence,
        annotations=Boxes(group=scope.truth_unit, box=scope.truth_box),
        ignore=scope.ignore,
        required=(overlap,),
    )
    return judged


def _row(counts: Tally, place: int) -> Row:
    hits = int(counts.true_positives[place])
    annotated = int(counts.annotated[place])
    overlaps = counts.overlap_sum
    return Row(
        annotated=annotated,
        true_positives=hits,
        false_positives=int(counts.false_positives[place]),
        misses=annotated - hits,
        set_aside=int(counts.set_aside[place]),
        true_negatives=None if counts.true_negatives is None else int(counts.true_negatives[place]),
        mean_overlap=math.nan if overlaps is None else ratio(float(overlaps[place]), hits),
        average_precision=float(counts.average_precision[place]),
    )


def _kind_measure(scope: _Scope, counts: Tally) -> KindMeasure:
    return KindMeasure(
        kind=scope.kind,
        images_in_scope=len(scope.images),
        unanswered=scope.unanswered,
        unjudged=scope.unjudged,
        without_box=scope.without_box,
        rows={label: _row(counts, place) for place, label in enumerate(scope.labels)},
        pooled=_row(counts, len(scope.labels)),
    )


def _pooled(judged: list[Judged], tallies: list[Tally]) -> Row:
    """Return the row for all labels of all kinds, from summed counts and one common curve."""
    if len(tallies) == 1:
        return _row(tallies[0], judged[0].labels)
    rows = [_row(counts, units.labels) for units, counts in zip(judged, tallies, strict=True)]
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
        average_precision=_common_average_precision(judged),
    )


def _common_average_precision(judged: list[Judged]) -> float:
    confidence = np.concatenate([np.zeros(0), *(units.confidence for units in judged)])
    right = np.concatenate([np.zeros(0, dtype=bool), *(units.right for units in judged)])
    actual = np.array([sum(int(units.actual.sum()) for units in judged)])
    everything = np.zeros(len(right), dtype=np.intp)
    return float(average_precision(everything, confidence, right, actual)[0])


def _notes(scopes: list[_Scope]) -> tuple[str, ...]:
    notes = [note for scope in scopes for note in _scope_notes(scope)]
    if 0 < max((len(scope.images) for scope in scopes), default=0) < SMALL_SET:
        notes.append(f"The set is small: fewer than {SMALL_SET} images in scope.")
    return tuple(notes)


def _scope_notes(scope: _Scope) -> list[str]:
    notes = []
    if not scope.images:
        notes.append(f"{scope.kind}: no annotated image has an answer for this kind.")
    if scope.unjudged and not len(scope.said):
        name = next(iter(scope.unjudged))
        near = nearest(name, scope.labels)
        hint = f" The nearest to {name!r} is {near[0]!r}." if near else ""
        notes.append(f"{scope.kind}: no finding has a label of the annotations' vocabulary.{hint}")
    if scope.without_box:
        notes.append(f"{scope.kind}: {scope.without_box} findings without a box were set aside.")
    return notes
