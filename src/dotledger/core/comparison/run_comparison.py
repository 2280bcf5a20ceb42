"""Two or more runs on the images all of them answered, with paired intervals of differences."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from dotledger.core.arguments import (
    MOST_DRAWS,
    MOST_SEED,
    check_overlap,
    real_number,
    whole_number,
)
from dotledger.core.comparison.common_images import on_common_images
from dotledger.core.comparison.differences import COMPARED, Difference, difference_of
from dotledger.core.comparison.exchange_test import adjusted, has_all
from dotledger.core.comparison.exchanged_runs import correlations, moved_differences
from dotledger.core.comparison.found_by import FoundBy, found_by, image_changes
from dotledger.core.comparison.published_claims import Checked, check_claims, read_claim
from dotledger.core.comparison.run_alignment import JudgedRun, judged_runs
from dotledger.core.displays import Displayed, Plotted
from dotledger.core.measures.measure_rows import Row
from dotledger.core.measures.resampling import Interval, Resampling
from dotledger.core.spelling import first_of
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.thresholds.choice_plan import ChoicePlan, check_plan
from dotledger.errors import ArgumentError, ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Comparison", "Pair", "compare_runs"]


@dataclass(frozen=True, kw_only=True)
class Pair:
    """Two runs next to each other.

    Attributes
    ----------
    first, second : str
        Names of the runs.
    pooled : dict of str to Difference
        By measure, of all kinds together.
    kinds, labels : dict of str to dict of str to Difference
        By kind and by ``kind:label``, then by measure.
    found_by : dict of str to FoundBy
        By kind and by ``kind:label``: annotations that both, one or neither finds.
    changed : list of dict
        Images in which they differ, the largest changes first.
    """

    first: str
    second: str
    pooled: Mapping[str, Difference]
    kinds: Mapping[str, Mapping[str, Difference]]
    labels: Mapping[str, Mapping[str, Difference]]
    found_by: Mapping[str, FoundBy]
    changed: Sequence[Mapping[str, Any]]

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        return {
            "first": self.first,
            "second": self.second,
            "pooled": _plain(self.pooled),
            "kinds": {name: _plain(one) for name, one in self.kinds.items()},
            "labels": {name: _plain(one) for name, one in self.labels.items()},
            "found_by": {name: one.to_dict() for name, one in self.found_by.items()},
            "changed": [dict(row) for row in self.changed],
        }


def _plain(found: Mapping[str, Difference]) -> dict[str, Any]:
    return {name: one.to_dict() for name, one in found.items()}


@dataclass(frozen=True, kw_only=True, repr=False)
class Comparison(Displayed, Plotted):
    """What `compare` returns where there are annotations.

    Attributes
    ----------
    names : tuple of str
        Of the runs, in the order given.
    overlap : float
        Required, for kinds with boxes.
    images : int
        That all runs answered and the annotations cover.
    only_in : dict of str to int
        By name, images with annotations that this run answered and not every other.
    cuts : dict of str to str
        By name, at which threshold it is compared.
    rows : dict of str to dict of str to Row
        By name of the run, then by kind and ``kind:label``; under ``pooled`` all together.
    pairs : tuple of Pair
        Every two runs.
    never_beaten : dict of str to tuple of str
        By measure, the runs that no other is significantly better than.
    claims : tuple of Checked
        Figures that somebody claims, next to one's own.
    matters : float
        Smaller differences do not matter.
    rows_together : int
        How many rows (groups and measures, of all pairs of runs) were tested together. If nothing
        differs, at most 5 of 100 such tables have a significant row. 0 without draws.
    """

    _chart: ClassVar[str] = "differences"

    names: tuple[str, ...]
    overlap: float
    images: int
    only_in: Mapping[str, int]
    cuts: Mapping[str, str]
    rows: Mapping[str, Mapping[str, Row]]
    pairs: Sequence[Pair]
    never_beaten: Mapping[str, tuple[str, ...]]
    claims: Sequence[Checked] = ()
    matters: float = 0.0
    rows_together: int = 0
    notes: tuple[str, ...] = field(default=())

    @property
    def pair(self) -> Pair:
        """The first two runs."""
        return self.pairs[0]

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row for each pair, group and measure."""
        import pandas as pd

        rows = [
            {"first_run": pair.first, "second_run": pair.second, "group": group, "measure": name,
             **{k: math.nan if v is None else v for k, v in one.to_dict().items()}}
            for pair in self.pairs
            for group, found in (("pooled", pair.pooled), *pair.kinds.items(), *pair.labels.items())
            for name, one in found.items()
        ]  # fmt: skip
        return pd.DataFrame(rows)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; what stands for two runs is that of the first two.

        Measures are None where undefined.
        """
        return {
            "names": list(self.names),
            "overlap": self.overlap,
            "images_in_scope": self.images,
            "only_in": dict(self.only_in),
            "thresholds": dict(self.cuts),
            "matters": self.matters,
            "rows_together": self.rows_together,
            **{n: v for n, v in self.pair.to_dict().items() if n not in ("first", "second")},
            "pairs": [pair.to_dict() for pair in self.pairs],
            "never_beaten": {name: list(runs) for name, runs in self.never_beaten.items()},
            "claims": [one.to_dict() for one in self.claims],
            "notes": list(self.notes),
        }

    def _head(self) -> str:
        return f"<Comparison of {', '.join(self.names)} on {self.images} images>"


def compare_runs(
    tables: Mapping[str, Findings],
    annotations: Annotations,
    *,
    overlap: float = 0.5,
    thresholds: Mapping[str, Any] | None = None,
    aim: str | None = None,
    each: str = "kind",
    kinds: Iterable[str] | None = None,
    matters: float = 0.0,
    claims: Sequence[str] = (),
    draws: int = 1000,
    seed: int = 0,
) -> Comparison:
    """Compare runs on the images that all of them answered.

    Parameters
    ----------
    thresholds : mapping of str to threshold, optional
        By name of the run; not together with an aim.
    aim : str, optional
        Each run at thresholds chosen for it under this aim; each image is judged by those chosen
        without it, and each draw chooses again.
    each : str, default "kind"
        What has a threshold of its own, with an aim.
    matters : float, default 0
        The smallest difference that matters, from 0 to 1.
    claims : sequence of str
        Such as ``recall 0.92`` or ``precision of face 92%``.
    draws, seed : int
        Of the intervals; none with 0 draws, and then no difference is called significant.

    Raises
    ------
    ArgumentError
        If there are fewer than two runs, or an argument is out of range.
    ScopeError
        If no annotated image was answered by all.
    """
    if len(tables) < 2:
        raise ArgumentError("two runs or more are compared", place="compare", got=len(tables))
    overlap = check_overlap(overlap)
    resampling = Resampling(
        draws=whole_number(draws, place="draws", least=0, most=MOST_DRAWS),
        seed=whole_number(seed, place="seed", least=0, most=MOST_SEED),
    )
    asked = [read_claim(text) for text in claims]
    common = dict(zip(tables, on_common_images(list(tables.values())), strict=True))
    _check_common(common, tables, annotations)
    runs = judged_runs(
        common,
        annotations,
        overlap=overlap,
        thresholds=thresholds or dict.fromkeys(tables),
        plan=_plan(aim, each, resampling),
        kinds=None if kinds is None else tuple(kinds),
        resampling=resampling,
    )
    least = _matters(matters)
    both = list(combinations(runs, 2))
    pairs = [_pair(*two, least, _exchanged(*two, resampling, len(both))) for two in both]
    return Comparison(
        names=tuple(tables),
        overlap=overlap,
        images=len({n for s in runs[0].basis.scopes.values() for n in s.images}),
        only_in=_only_in(tables, common, annotations),
        cuts={run.name: run.cut for run in runs},
        rows={run.name: _rows(run) for run in runs},
        pairs=tuple(pairs),
        never_beaten=_never_beaten(list(tables), pairs),
        claims=check_claims(asked, runs),
        matters=least,
        rows_together=sum(_rows_of(pair) for pair in pairs) if draws else 0,
        notes=_notes(runs),
    )


def _plan(aim: str | None, each: str, resampling: Resampling) -> ChoicePlan | None:
    if aim is None:
        return None
    plan = check_plan(
        aim=aim, each=each, smallest=20, parts=None, held_out=None, surely=None,
        draws=resampling.draws, seed=resampling.seed,
    )  # fmt: skip
    if plan.aim.sort == "three ways":
        raise ArgumentError(
            "runs are compared at one threshold, not at two", place="aim", got=plan.aim.text
        )
    return plan


def _matters(value: float) -> float:
    found = real_number(value, place="matters")
    if not 0 <= found < 1:
        raise ArgumentError("out of range", place="matters", got=value, allowed=["0 to below 1"])
    return found


def _check_common(
    common: Mapping[str, Findings], tables: Mapping[str, Findings], annotations: Annotations
) -> None:
    covered = set(annotations.image.used())
    answered = {name: set(table.image.used()) for name, table in tables.items()}
    shared = set.intersection(*answered.values())
    if not shared:
        first, second = list(answered)[:2]
        raise ScopeError(
            "no image was answered by all runs",
            place="compare",
            got=f"{first}: {len(answered[first])} images, {second}: {len(answered[second])}",
            next_step="Compare runs over the same images; their names must be equal.",
        )
    if not any(set(table.image.used()) & covered for table in common.values()):
        raise ScopeError(
            f"none of the {len(shared)} images that all runs answered is annotated",
            place="compare",
            got=sorted(shared)[0],
            allowed=[repr(name) for name in sorted(covered)[:3]],
            next_step="Annotate some of them, or compare without annotations.",
        )


def _only_in(
    tables: Mapping[str, Findings], common: Mapping[str, Findings], annotations: Annotations
) -> dict[str, int]:
    covered = set(annotations.image.used())
    shared = {name for table in common.values() for name in table.image.used()}
    return {n: len((set(t.image.used()) & covered) - shared) for n, t in tables.items()}


def _rows(run: JudgedRun) -> dict[str, Row]:
    found = {"pooled": run.pooled}
    for kind, rows in run.rows.items():
        found |= {f"{kind}:{label}" if label else kind: row for label, row in rows.items()}
    return found


@dataclass(frozen=True)
class _Exchanged:
    """What exchanging two runs' answers says, by group and measure."""

    p_values: Mapping[tuple[str, str], float]
    correlations: Mapping[tuple[str, str], float]


def _exchanged(
    one: JudgedRun, other: JudgedRun, resampling: Resampling, pairs: int
) -> _Exchanged | None:
    """Return adjusted p-values of all rows of two runs; for several pairs, of all of them."""
    if not resampling.draws or not one.images:
        return None
    moved = moved_differences(one, other, resampling.seed)
    rows = {**_rows_by_group(one)}, {**_rows_by_group(other)}
    seen = {
        (group, name): rows[1][group].measure(name) - rows[0][group].measure(name)
        for group, name in moved
    }
    names = list(seen)
    values = adjusted(
        np.array([seen[name] for name in names]),
        np.array([moved[name] for name in names]),
        all_made=has_all(one.images),
    )
    # Exchanges of different pairs say nothing about each other: C. E. Bonferroni's bound holds.
    bound = np.minimum(1.0, pairs * values)
    found = dict(zip(names, bound.tolist(), strict=True))
    return _Exchanged(found, correlations(one, other))


def _rows_by_group(run: JudgedRun) -> dict[str, Row]:
    return {"": run.pooled, **{name: row for name, row in _rows(run).items() if name != "pooled"}}


def _pair(one: JudgedRun, other: JudgedRun, matters: float, seen: _Exchanged | None) -> Pair:
    kinds, labels = {}, {}
    for kind, rows in one.rows.items():
        both = [run.spread.get(kind) for run in (one, other)]
        ends = None if None in both else [spread.pooled for spread in both if spread]
        kinds[kind] = _differences((rows[""], other.rows[kind][""]), ends, kind, matters, seen)
        for code, label in enumerate(one.basis.scopes[kind].labels):
            each = None if None in both else [spread.labels[code] for spread in both if spread]
            name = f"{kind}:{label}"
            two = rows[label], other.rows[kind][label]
            labels[name] = _differences(two, each, name, matters, seen)
    ends = [one.spread_pooled, other.spread_pooled] if one.spread_pooled else None
    return Pair(
        first=one.name,
        second=other.name,
        pooled=_differences((one.pooled, other.pooled), ends, "", matters, seen),
        kinds=kinds,
        labels=labels,
        found_by=found_by(one, other),
        changed=image_changes(one, other),
    )


def _differences(
    rows: tuple[Row, Row],
    ends: Sequence[Mapping[str, Interval]] | None,
    group: str,
    matters: float,
    seen: _Exchanged | None,
) -> dict[str, Difference]:
    found = {}
    for name in COMPARED:
        values = (rows[0].measure(name), rows[1].measure(name))
        if math.isnan(values[0]) and math.isnan(values[1]):
            continue
        known = ends is not None and name in ends[0] and name in ends[1]
        found[name] = difference_of(
            name,
            values,
            (ends[0][name], ends[1][name]) if ends is not None and known else None,
            correlation=seen.correlations.get((group, name), 0.0) if seen else 0.0,
            p_value=seen.p_values.get((group, name), math.nan) if seen else math.nan,
            matters=matters,
        )
    return found


def _rows_of(pair: Pair) -> int:
    """Return how many rows of two runs are looked at."""
    every = [pair.pooled, *pair.kinds.values(), *pair.labels.values()]
    return sum(not math.isnan(one.p_value) for found in every for one in found.values())


def _never_beaten(names: Sequence[str], pairs: Sequence[Pair]) -> dict[str, tuple[str, ...]]:
    found = {}
    for measure in COMPARED:
        judged = [pair for pair in pairs if measure in pair.pooled]
        if not judged:
            continue
        beaten = {
            (pair.second, pair.first)[pair.pooled[measure].better]
            for pair in judged
            if pair.pooled[measure].better >= 0
        }
        found[measure] = tuple(name for name in names if name not in beaten)
    return found


def _labels(run: JudgedRun) -> set[str]:
    """Return what a run found, as ``kind:label``."""
    kept = run.basis.findings.take(~run.basis.findings.blank)
    return {f"{k}:{n}" for k, n in zip(kept.kind.values(), kept.label.values(), strict=True)}


def _notes(runs: Sequence[JudgedRun]) -> tuple[str, ...]:
    small = {k: len(s.images) for k, s in runs[0].basis.scopes.items() if 0 < len(s.images) < 30}
    found = []
    if small:
        listed = ", ".join(f"{kind} {count}" for kind, count in small.items())
        found.append(f"The set is small, fewer than 30 images in common: {listed}.")
    labels = {run.name: _labels(run) for run in runs}
    for name, own in labels.items():
        others = set().union(*(given for other, given in labels.items() if other != name))
        if only := sorted(own - others):
            found.append(f"Only {name} has these labels: {first_of(only, 8)}.")
    for run in runs:
        kept = run.basis.findings.origin
        found += [f"{run.name}: {line}" for line in (kept.lines() if kept else [])]
    return tuple(found)
