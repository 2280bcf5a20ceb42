"""Runs ready to be compared: on common images, judged, cut at their thresholds, drawn alike."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.measurement.measure import measure
from dotledger.core.measures.image_cases import CaseCounts
from dotledger.core.measures.intervals import (
    DrawnIntervals,
    Spread,
    drawing,
    drawn_of,
    drawn_of_all,
    spread_from,
    spread_from_all,
)
from dotledger.core.measures.measure_rows import Row, row_of
from dotledger.core.measures.resampling import (
    Interval,
    Places,
    Resampling,
    limits,
    placed,
    places_of_images,
)
from dotledger.core.measures.tally import tally
from dotledger.core.questions.label_grouping import common_images
from dotledger.core.questions.question_basis import Basis
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.thresholds.choice_plan import ChoicePlan
from dotledger.core.thresholds.held_out_measures import Honest, honest_thresholds

__all__ = ["JudgedRun", "judged_runs"]


@dataclass(frozen=True, eq=False, kw_only=True)
class JudgedRun:
    """One run.

    Attributes
    ----------
    name : str
        What it is called.
    basis : Basis
        Of its measure.
    passes : mapping of str to ndarray of bool
        By kind, which of its ranked findings pass.
    rows : mapping of str to mapping of str to Row
        By kind and label; under the empty label all pooled.
    pooled : Row
        Of all kinds.
    counts : mapping of str to CaseCounts
        By kind, what passes.
    at : mapping of str to ndarray of intp
        By kind, where its images stand among all.
    order : ndarray of intp, shape (images,)
        The place of each of all images: which draws and exchanges it gets.
    drawn : mapping of str to DrawnIntervals
        By kind; empty without draws.
    spread : mapping of str to Spread
        By kind; empty without draws.
    drawn_pooled : mapping of str to ndarray of float64, shape (draws,)
        By measure.
    spread_pooled : mapping of str to (float, float)
        By measure.
    cut : str
        In words, at which threshold it is compared.
    """

    name: str
    basis: Basis
    passes: Mapping[str, Flags]
    rows: Mapping[str, Mapping[str, Row]]
    pooled: Row
    counts: Mapping[str, CaseCounts]
    at: Mapping[str, Ints]
    order: Ints
    drawn: Mapping[str, DrawnIntervals]
    spread: Mapping[str, Spread]
    drawn_pooled: Mapping[str, Floats]
    spread_pooled: Mapping[str, Interval]
    cut: str

    @property
    def images(self) -> int:
        """How many images all kinds have together."""
        return len(self.order)


def judged_runs(
    tables: Mapping[str, Findings],
    annotations: Annotations,
    *,
    overlap: float,
    thresholds: Mapping[str, Any],
    plan: ChoicePlan | None,
    kinds: Sequence[str] | None,
    resampling: Resampling,
) -> list[JudgedRun]:
    """Judge runs on the images that all of them answered.

    Parameters
    ----------
    tables : mapping of str to Findings
        By name, reduced to common images.
    thresholds : mapping of str to threshold
        By name; not used with a plan.
    plan : ChoicePlan or None
        Choose thresholds for each run under one aim; each image is cut by those chosen without it.
    resampling : Resampling
        The same draws for all; none with 0 draws.
    """
    bases = {
        name: measure(
            table,
            annotations,
            overlap=overlap,
            threshold=None if plan else thresholds[name],
            kinds=kinds,
            draws=0,
        ).basis
        for name, table in tables.items()
    }
    # What all runs found together decides which draws an image gets, so that it gets the same
    # draws in each of them.
    every = Findings.concat(tables.values())
    images = common_images(next(iter(bases.values())))
    keys = places_of_images(images, annotations, every)
    return [_judged_run(name, basis, plan, keys, resampling) for name, basis in bases.items()]


def _judged_run(
    name: str,
    basis: Basis,
    plan: ChoicePlan | None,
    keys: Places,
    resampling: Resampling,
) -> JudgedRun:
    images = common_images(basis)
    honest = None
    if plan is None:
        passes = {kind: basis.passing(kind) for kind in basis.judged}
        cut = str(basis.cuts[0])
    else:
        honest = honest_thresholds(basis, plan, placed(images, keys))
        passes = {kind: _passing(basis, kind, images, honest) for kind in basis.judged}
        cut = f"chosen for {plan.aim.text}: " + (
            ", ".join(f"{n} {v:g}" for n, v in honest.final.items()) or "none"
        )
    rows = {kind: _rows(basis, kind, passes[kind]) for kind in basis.judged}
    found = JudgedRun(
        name=name,
        basis=basis,
        passes=passes,
        rows=rows,
        pooled=_pooled(basis, rows),
        counts={
            kind: CaseCounts.of(judged, passes[kind], placed(basis.scopes[kind].images, keys))
            for kind, judged in basis.judged.items()
        },
        at={kind: _at(scope.images, images) for kind, scope in basis.scopes.items()},
        order=placed(images, keys),
        drawn={},
        spread={},
        drawn_pooled={},
        spread_pooled={},
        cut=cut,
    )
    return found if not resampling.draws or not images else _drawn(found, honest, keys, resampling)


def _at(some: Sequence[str], images: Sequence[str]) -> Ints:
    index = {name: place for place, name in enumerate(images)}
    return np.array([index[name] for name in some], dtype=np.intp)


def _passing(basis: Basis, kind: str, images: Sequence[str], honest: Honest) -> Flags:
    """Return what passes where each image has the thresholds chosen without it."""
    scope, found = basis.scopes[kind], basis.judged[kind].findings
    index = {name: place for place, name in enumerate(images)}
    at = np.array([index[name] for name in scope.images], dtype=np.intp)
    least = np.full((len(scope.labels), len(images)), np.nan)
    for code, label in enumerate(scope.labels):
        least[code] = honest.of(kind, label)
    bar = least[found.label, at[found.image]]
    return found.confidence >= np.where(np.isnan(bar), -np.inf, bar)


def _rows(basis: Basis, kind: str, passes: Flags) -> dict[str, Row]:
    scope = basis.scopes[kind]
    counts = tally(basis.judged[kind], passes)
    labels = {label: row_of(counts, place) for place, label in enumerate(scope.labels)}
    return {"": row_of(counts, len(scope.labels)), **labels}


def _pooled(basis: Basis, rows: Mapping[str, Mapping[str, Row]]) -> Row:
    from dotledger.core.measures.average_precision import pooled_average_precision

    parts = [kind[""] for kind in rows.values()]
    if len(parts) == 1:
        return parts[0]
    boxed = any(scope.boxed for scope in basis.scopes.values())
    hits = [row.true_positives for k, row in zip(rows, parts, strict=True) if _boxed(basis, k)]
    sums = [
        row.mean_overlap * row.true_positives
        for k, row in zip(rows, parts, strict=True)
        if _boxed(basis, k) and row.true_positives
    ]
    return Row(
        annotated=sum(row.annotated for row in parts),
        true_positives=sum(row.true_positives for row in parts),
        false_positives=sum(row.false_positives for row in parts),
        misses=sum(row.misses for row in parts),
        set_aside=sum(row.set_aside for row in parts),
        true_negatives=None if boxed else sum(row.true_negatives or 0 for row in parts),
        mean_overlap=sum(sums) / sum(hits) if sum(hits) else float("nan"),
        average_precision=pooled_average_precision(list(basis.judged.values())),
    )


def _boxed(basis: Basis, kind: str) -> bool:
    return basis.scopes[kind].boxed


def _drawn(
    run: JudgedRun, honest: Honest | None, keys: Places, resampling: Resampling
) -> JudgedRun:
    """Return a run with what draws of its images give, and its intervals."""
    level, drawn, spread = resampling.level, {}, {}
    for kind, judged in run.basis.judged.items():
        scope, counts = run.basis.scopes[kind], run.counts[kind]
        if scope.images and scope.labels:
            place = placed(scope.images, keys)
            drawn[kind] = drawn_of([judged], counts, drawing(len(place), resampling, place))
            spread[kind] = spread_from([judged], counts, drawn[kind], level)
    if len(run.basis.judged) == 1 and drawn:
        pooled = dict(next(iter(drawn.values())).pooled)
        ends = dict(next(iter(spread.values())).pooled)
    else:
        every = list(run.basis.judged.values()), list(run.counts.values()), list(run.at.values())
        pooled = drawn_of_all(*every, run.images, drawing(run.images, resampling, run.order))
        ends = spread_from_all(*every, run.images, pooled, level)
    if honest is not None:
        again = {kind: honest.into(one, kind) for kind, one in drawn.items()}
        spread = {
            k: replace(spread[k], pooled=_widened(spread[k].pooled, one.pooled, run.images, level))
            for k, one in again.items()
        }
        drawn, pooled = again, honest.into_pooled(pooled)
        ends = _widened(ends, pooled, run.images, level)
    return replace(run, drawn=drawn, spread=spread, drawn_pooled=pooled, spread_pooled=ends)


def _widened(
    ends: Mapping[str, Interval], drawn: Mapping[str, Floats], images: int, level: float
) -> dict[str, Interval]:
    """Return intervals that hold the choosing of thresholds, too: each draw chose again."""
    found = {}
    for name, (low, high) in ends.items():
        lower, upper = (float(end) for end in limits(drawn[name], images, level))
        found[name] = (float(np.fmin(low, lower)), float(np.fmax(high, upper)))
    return found
