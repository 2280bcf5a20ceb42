"""Every figure of two runs, worked out anew where the answers to some images change places.

Both runs are put next to each other as one run of twice as many images: the first run's answers to
them, then the second's. A weight of 0 or 1 for each of these says whose answer counts, and every
count, share and curve is a weighted one, by the very code that measures.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.comparison.exchange_test import exchanges
from dotledger.core.comparison.run_alignment import JudgedRun
from dotledger.core.measures.image_cases import CaseCounts, Sparse
from dotledger.core.measures.intervals import Weighing, drawn_of, drawn_of_all
from dotledger.core.measures.partial_counts import joined, packed
from dotledger.core.measures.registry import MEASURES, MeasureRecord, records_for
from dotledger.core.measures.share_limits import influences
from dotledger.core.pairing.pair_judging import Judged

__all__ = ["correlations", "moved_differences"]

Rows = dict[tuple[str, str], Floats]


def moved_differences(one: JudgedRun, other: JudgedRun, seed: int) -> Rows:
    """Return the difference of every figure in every exchange.

    Returns
    -------
    dict of (str, str) to ndarray of float64, shape (exchanges,)
        Second minus first, by group (``""`` for all pooled, a kind, or ``kind:label``) and measure.
    """
    both = {kind: _beside(one, other, kind) for kind in one.basis.judged}
    found: Rows = {}
    for kind, (judged, counts) in both.items():
        if not judged.findings.images:
            continue
        at = one.at[kind]
        sides = [drawn_of([judged], counts, _moving(one, at, seed, side)) for side in (0, 1)]
        found |= {
            (kind, name): sides[1].pooled[name] - sides[0].pooled[name] for name in sides[0].pooled
        }
        for name, values in sides[0].labels.items():
            moved = sides[1].labels[name] - values
            for code, label in enumerate(one.basis.scopes[kind].labels):
                found[f"{kind}:{label}", name] = moved[code]
    return found | _pooled(one, both, found, seed)


def _pooled(one: JudgedRun, both: Mapping[str, Any], found: Rows, seed: int) -> Rows:
    if len(both) == 1:
        [kind] = both
        return {("", name): moved for (group, name), moved in found.items() if group == kind}
    at = [np.concatenate([one.at[kind], one.at[kind] + one.images]) for kind in both]
    every = [judged for judged, _ in both.values()], [counts for _, counts in both.values()]
    sides = [
        drawn_of_all(*every, at, 2 * one.images, _moving(one, None, seed, side)) for side in (0, 1)
    ]
    return {("", name): sides[1][name] - values for name, values in sides[0].items()}


def _beside(one: JudgedRun, other: JudgedRun, kind: str) -> tuple[Judged, CaseCounts]:
    """Return two runs as one of twice as many images."""
    mine, theirs = one.basis.judged[kind], other.basis.judged[kind]
    images = mine.findings.images
    places = [np.arange(images), np.arange(images) + images]
    [judged] = joined([packed([mine]), packed([theirs])], places)
    passes = np.concatenate([one.passes[kind], other.passes[kind]])
    return judged, CaseCounts.of(judged, passes, np.arange(2 * images))


def _moving(one: JudgedRun, at: Ints | None, seed: int, side: int) -> Weighing:
    """Return what gives the weights of both runs' answers to some images, for one side."""
    place = one.order if at is None else one.order[at]

    def weighing(at_once: int) -> Iterator[Floats]:
        for swapped in exchanges(one.images, seed, max(1, at_once // 2)):
            moved = swapped[place]
            yield np.concatenate([1 - moved, moved] if side == 0 else [moved, 1 - moved])

    return weighing


def correlations(one: JudgedRun, other: JudgedRun) -> dict[tuple[str, str], float]:
    """Return how two runs go together over images, for every figure.

    Returns
    -------
    dict of (str, str) to float
        From -1 to 1, by group and measure as `moved_differences` names them; 0 where either does
        not vary. Of shares and mean overlap over images, of curves over the common draws.
    """
    found: dict[tuple[str, str], float] = {}
    for kind, mine in one.counts.items():
        theirs = other.counts[kind]
        sides = mine.columns(), theirs.columns()
        records = _ratios_for(mine)
        found |= {(kind, name): _of_columns(one, *sides) for name, one in records.items()}
        for name, values in _of_labels(mine, theirs).items():
            for label, value in zip(one.basis.scopes[kind].labels, values, strict=True):
                found[f"{kind}:{label}", name] = value
        if kind in one.drawn:
            found |= _of_draws(one, other, kind)
    return found | _correlations_pooled(one, other, found)


def _ratios_for(counts: CaseCounts) -> dict[str, MeasureRecord]:
    return {n: one for n, one in records_for(presence=counts.presence).items() if one.ratios}


def _of_labels(mine: CaseCounts, theirs: CaseCounts) -> dict[str, list[float]]:
    """Return the correlation of two runs over images, for each label."""
    counts, records = (mine.matrices(), theirs.matrices()), _ratios_for(mine)
    found = {}
    for name, one in records.items():
        if len(one.ratios) == 1 and one.needs <= set(counts[0]):
            [pair], [other] = (one.pairs(side) for side in counts)
            found[name] = _of_rows(*pair, *other)
    # Absence is mostly 1: there a label's counts are arrays over all images.
    rest = {name: one for name, one in records.items() if name not in found}
    found |= {name: [] for name in rest}
    for sides in zip(*(side.each_label() for side in (mine, theirs)), strict=True) if rest else ():
        for name, one in rest.items():
            found[name].append(_of_columns(one, *sides))
    return found


def _of_draws(one: JudgedRun, other: JudgedRun, kind: str) -> dict[tuple[str, str], float]:
    name = "average_precision"
    mine, theirs = one.drawn[kind], other.drawn[kind]
    pairs = zip(mine.labels[name], theirs.labels[name], strict=True)
    labels = one.basis.scopes[kind].labels
    return {
        (kind, name): _correlation(mine.pooled[name], theirs.pooled[name]),
        **{
            (f"{kind}:{label}", name): _correlation(*pair)
            for label, pair in zip(labels, pairs, strict=True)
        },
    }


def _correlations_pooled(
    one: JudgedRun, other: JudgedRun, found: Mapping[tuple[str, str], float]
) -> dict[tuple[str, str], float]:
    if len(one.counts) == 1:
        [kind] = one.counts
        return {("", name): value for (group, name), value in found.items() if group == kind}
    curve = "average_precision"
    pooled: dict[tuple[str, str], float] = {}
    if curve in one.drawn_pooled:
        pooled["", curve] = _correlation(one.drawn_pooled[curve], other.drawn_pooled[curve])
    for name in {name for group, name in found if ":" not in group} - {curve}:
        sides = [_columns_of_kinds(run, MEASURES[name]) for run in (one, other)]
        pooled["", name] = _of_columns(MEASURES[name], *sides)
    return pooled


def _columns_of_kinds(run: JudgedRun, record: MeasureRecord) -> dict[str, Floats]:
    """Return the counts of each image of all kinds that a measure is for."""
    found = {name: np.zeros(run.images) for name in record.needs}
    for kind, counts in run.counts.items():
        if record.is_for(presence=counts.presence):
            columns = counts.columns()
            for name, total in found.items():
                total[run.at[kind]] += columns[name]
    return found


def _of_columns(
    record: MeasureRecord, mine: Mapping[str, Floats], theirs: Mapping[str, Floats]
) -> float:
    one, other = (influences(record.pairs(side)) for side in (mine, theirs))
    # Influences are shares of all cases: without scaling they would be taken for no spread.
    one, other = (side * len(side) for side in (one, other))
    return _ratio(float(one @ other), float(one @ one), float(other @ other))


def _of_rows(x: Sparse, m: Sparse, u: Sparse, k: Sparse) -> list[float]:
    p, q = _divided(_row_sums(x), _row_sums(m)), _divided(_row_sums(u), _row_sums(k))
    both = _sums(x, u) - q * _sums(x, k) - p * _sums(m, u) + p * q * _sums(m, k)
    mine = _sums(x, x) - 2 * p * _sums(x, m) + p * p * _sums(m, m)
    theirs = _sums(u, u) - 2 * q * _sums(u, k) + q * q * _sums(k, k)
    return [_ratio(*row) for row in zip(both, mine, theirs, strict=True)]


def _row_sums(matrix: Sparse) -> Floats:
    return np.asarray(matrix.sum(axis=1), dtype=np.float64).ravel()


def _divided(part: Floats, whole: Floats) -> Floats:
    return np.divide(part, whole, out=np.zeros_like(part), where=whole > 0)


def _sums(one: Sparse, other: Sparse) -> Floats:
    return np.asarray(one.multiply(other).sum(axis=1), dtype=np.float64).ravel()


_NOTHING = 1e-12


def _ratio(both: float, mine: float, theirs: float) -> float:
    if mine <= _NOTHING or theirs <= _NOTHING:
        return 0.0
    return float(np.clip(both / np.sqrt(mine * theirs), -1.0, 1.0))


def _correlation(mine: Floats, theirs: Floats) -> float:
    known = ~(np.isnan(mine) | np.isnan(theirs))
    if not known.any():
        return 0.0
    one, other = mine[known] - mine[known].mean(), theirs[known] - theirs[known].mean()
    return _ratio(float(one @ other), float(one @ one), float(other @ other))
