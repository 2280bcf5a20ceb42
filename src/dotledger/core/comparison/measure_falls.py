"""Whether a measure fell, or rose, by more than chance makes: for gates against an earlier run."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from dotledger.core.comparison.common_images import on_common_images
from dotledger.core.comparison.differences import COMPARED
from dotledger.core.comparison.exchange_test import adjusted, has_all
from dotledger.core.comparison.exchanged_runs import moved_differences
from dotledger.core.comparison.run_alignment import JudgedRun, judged_runs
from dotledger.core.measures.resampling import Resampling

if TYPE_CHECKING:
    from dotledger.core.measurement.measure_result import Measure

__all__ = ["p_values_of_falls"]


def p_values_of_falls(
    before: Measure, now: Measure, rows: Sequence[tuple[str, str]]
) -> dict[tuple[str, str], float]:
    """Return how often exchanging the answers of two runs moves a measure as far.

    Parameters
    ----------
    rows : sequence of (str, str)
        Group (``""`` for all pooled, a kind, or ``kind:label``) and measure; those that are looked
        at together.

    Returns
    -------
    dict of (str, str) to float
        On the images both answered, at the threshold and overlap of `now`; adjusted for all rows.
        Rows that nothing can be said of are left out: a measure that is no share, or one that no
        exchange changes.
    """
    wanted = [row for row in dict.fromkeys(rows) if row[1] in COMPARED]
    both = on_common_images([before.basis.findings, now.basis.findings])
    if not wanted or not (set(both[1].image.used()) & set(now.basis.annotations.image.used())):
        return {}
    one, other = judged_runs(
        {"before": both[0], "now": both[1]},
        now.basis.annotations,
        overlap=now.basis.overlaps[0],
        thresholds={"before": before.basis.cuts[0], "now": now.basis.cuts[0]},
        plan=None,
        kinds=tuple(now.basis.scopes),
        resampling=Resampling(draws=0),
    )
    moved = moved_differences(one, other, 0)
    known = [row for row in wanted if row in moved]
    seen = np.array([_value(other, *row) - _value(one, *row) for row in known])
    if not known:
        return {}
    values = adjusted(seen, np.array([moved[row] for row in known]), all_made=has_all(one.images))
    return {n: p for n, p in zip(known, values.tolist(), strict=True) if not math.isnan(p)}


def _value(run: JudgedRun, group: str, measure: str) -> float:
    kind, _, label = group.partition(":")
    row = run.rows[kind][label] if group else run.pooled
    return row.measure(measure)
