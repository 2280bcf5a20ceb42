"""Runs ready to be compared: on common images, judged, cut at their thresholds, drawn alike."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.choosing.honest import Honest, honest_thresholds
from dotledger.core.choosing.plans import Plan
from dotledger.core.counting.cases import CaseCounts
from dotledger.core.counting.intervals import Drawn, drawn_of, drawn_of_all
from dotledger.core.counting.resampling import Places, Resampling, placed, places_of_images
from dotledger.core.counting.rows import Row, row_of
from dotledger.core.counting.tally import tally
from dotledger.core.measuring.measure import measure
from dotledger.core.questions.basis import Basis
from dotledger.core.questions.grouping import common_images
from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.findings import Findings

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
    drawn : mapping of str to Drawn
        By kind; empty without draws.
    drawn_pooled : mapping of str to ndarray of float64, shape (draws,)
        By measure.
    cut : str
        In words, at which threshold it is compared.
    """

    name: str
    basis: Basis
    passes: Mapping[str, Flags]
    rows: Mapping[str, Mapping[str, Row]]
    pooled: Row
    drawn: Mapping[str, Drawn]
    drawn_pooled: Mapping[str, Floats]
    cut: str


def judged_runs(
    tables: Mapping[str, Findings],
    annotations: Annotations,
    *,
    overlap: float,
    thresholds: Mapping[str, Any],
    plan: Plan | None,
    kinds: Sequence[str] | None,
    resampling: Resampling,
) -> list[JudgedRun]:
    """Judge runs on the images that all of them answered.

    Parameters
    ----------
    tables : mapping of str to Findings
        By name, reduced to common images.
    annotations : Annotations
        Ground truth.
    overlap : float
        Required.
    thresholds : mapping of str to threshold
        By name; not used with a plan.
    plan : Plan or None
        Choose thresholds for each run under one aim; each image is cut by those chosen without it.
    kinds : sequence of str or None
        By default those annotated.
    resampling : Resampling
        The same draws for all; none with 0 draws.

    Returns
    -------
    list of JudgedRun
        In the same order.
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
    plan: Plan | None,
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
    drawn, pooled = _drawn(basis, passes, images, keys, resampling)
    return JudgedRun(
        name=name,
        basis=basis,
        passes=passes,
        rows=rows,
        pooled=_pooled(basis, rows),
        drawn=drawn if honest is None else {k: honest.into(d, k) for k, d in drawn.items()},
        drawn_pooled=pooled if honest is None else honest.into_pooled(pooled),
        cut=cut,
    )


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
    from dotledger.core.counting.area import pooled_average_precision

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
    basis: Basis,
    passes: Mapping[str, Flags],
    images: Sequence[str],
    keys: Places,
    resampling: Resampling,
) -> tuple[dict[str, Drawn], dict[str, Floats]]:
    if not resampling.draws or not images:
        return {}, {}
    index = {name: place for place, name in enumerate(images)}
    found, counts, at = {}, [], []
    for kind, judged in basis.judged.items():
        scope = basis.scopes[kind]
        place = placed(scope.images, keys)
        own = CaseCounts.of(judged, passes[kind], place)
        if scope.images and scope.labels:
            found[kind] = drawn_of([judged], own, resampling, place)
        counts.append(own)
        at.append(np.array([index[name] for name in scope.images], dtype=np.intp))
    if len(found) == 1 and len(counts) == 1:
        return found, dict(next(iter(found.values())).pooled)
    whole: Ints = placed(images, keys)
    counts = [
        CaseCounts.of(judged, passes[kind], whole[own])
        for (kind, judged), own in zip(basis.judged.items(), at, strict=True)
    ]
    return found, drawn_of_all(list(basis.judged.values()), counts, at, whole, resampling)
