"""Choosing on some images and counting on others, for the images as they are and for draws of them.

Each part of the images is judged by the threshold that was best on all other parts, so no image has
a say in the threshold that it is judged by (M. Stone, "Cross-validatory choice and assessment of
statistical predictions", 1974). In every draw of images all of that is done again: the intervals
then cover the choosing as well as the counting.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from operator import add
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.measures.finding_groups import Group
from dotledger.core.measures.image_sums import CasesInOrder, SumsAtLevels
from dotledger.core.measures.threshold_levels import LevelCounts, Levels, values_of
from dotledger.core.thresholds.aims import Aim
from dotledger.core.thresholds.fold_splits import Splits
from dotledger.core.thresholds.threshold_picking import Picked, pick

__all__ = ["FoldFit", "drawn_counts", "needs_tops"]

_LEVELS_IN_DRAWS = 160
"""So many thresholds are tried in a draw, spread evenly over the findings: with 160 the best of
them is within half a percent of the findings of the best of all, far below what draws differ by."""


def needs_tops(aim: Aim) -> bool:
    """Return whether an aim is about whole images, whatever is found in them.

    Returns
    -------
    bool
        True for the share of images held.
    """
    return aim.measure == "stopped_share"


@dataclass(frozen=True, eq=False, kw_only=True)
class FoldFit:
    """One group with its levels, part by part.

    Attributes
    ----------
    aim : Aim
        Not of three ways.
    group : Group
        What shares the threshold.
    splits : Splits
        The parts.
    values : ndarray of float64, shape (levels,)
        The thresholds tried, falling.
    parts : tuple of Levels
        One a part.
    sums : SumsAtLevels or None
        For aims that the end of an interval must meet.
    surely : float or None
        How surely, such as 0.95.
    """

    aim: Aim
    group: Group
    splits: Splits
    values: Floats
    parts: tuple[Levels, ...]
    sums: SumsAtLevels | None
    surely: float | None

    @classmethod
    def of(
        cls,
        aim: Aim,
        group: Group,
        splits: Splits,
        *,
        surely: float | None,
        for_draws_of: float | None = None,
    ) -> FoldFit:
        """Return a group ready to be chosen for; for draws with fewer levels, and its threshold."""
        most = None if for_draws_of is None else _LEVELS_IN_DRAWS
        values = values_of(group, most=most, tops=needs_tops(aim))
        if for_draws_of is not None and not np.isnan(for_draws_of):
            values = -np.unique(np.r_[-values, -for_draws_of])
        numbers = range(int(splits.part.max(initial=0)) + 1)
        return cls(
            aim=aim,
            group=group,
            splits=splits,
            values=values,
            parts=tuple(Levels.of(group.on(splits.part == p), values) for p in numbers),
            sums=None if surely is None else _sums(aim, group, values),
            surely=surely,
        )

    def counts(self, weight: Any, shared: dict[bytes, Floats] | None = None) -> list[LevelCounts]:
        """Return the counts of each part for images weighted, shape (images, draws)."""
        return [levels.counts(weight, shared) for levels in self.parts]

    def final(self) -> tuple[float, bool]:
        """Return the threshold chosen on all images that are there to choose on, and if it meets.

        NaN where no finding has a confidence: no threshold changes anything then.
        """
        weight = self.splits.chosen_on.astype(np.float64)[:, None]
        picked = self._picked(reduce(add, self.counts(weight)), weight)
        if not len(self.values):
            return float("nan"), bool(picked.met[0])
        return float(self.values[picked.level[0]]), bool(picked.met[0])

    def by_part(self, weight: Any, counts: Sequence[LevelCounts]) -> dict[int, Floats]:
        """Return for each judged part the thresholds chosen on the others: shape (draws,)."""
        total = reduce(add, counts)
        chosen = {}
        for part in self.splits.judged:
            others = weight * (self.splits.part != part)[:, None] if self.sums else weight
            picked = self._picked(total - counts[part], others)
            chosen[part] = self._values_at(picked.level)
        return chosen

    def _picked(self, counts: LevelCounts, weight: Any) -> Picked:
        least = None
        if self.sums is not None and self.surely is not None:
            # One end counts, so that 95 % surely is the lower end of a 90 % interval.
            low, high = self.sums.limits(weight, 2 * self.surely - 1)
            least = low if self.aim.sort == "at least" else high
        return pick(self.aim, counts, least=least)

    def _values_at(self, level: Ints) -> Floats:
        return self.values[level] if len(self.values) else np.full(len(level), np.nan)

    def level_of(self, threshold: Floats) -> Ints:
        """Return the last level at or above each threshold, which may be that of another group."""
        at = np.searchsorted(-self.values, -threshold, side="right") - 1
        lowest = max(len(self.values) - 1, 0)
        return np.where(np.isnan(threshold), lowest, np.clip(at, 0, lowest)).astype(np.intp)

    def judged(self, counts: Sequence[LevelCounts], chosen: Mapping[int, Floats]) -> LevelCounts:
        """Return the counts of the judged parts together, each at its own threshold."""
        return reduce(
            add, [counts[part].at(self.level_of(value)) for part, value in chosen.items()]
        )

    def threshold_by_image(self, chosen: Mapping[int, Floats]) -> Floats:
        """Return the threshold each image is judged by: NaN where none."""
        found = np.full(self.group.images, np.nan)
        for part, value in chosen.items():
            found[self.splits.part == part] = value[0]
        return found


def _sums(aim: Aim, group: Group, values: Floats) -> SumsAtLevels:
    return SumsAtLevels.of(CasesInOrder(group, values), aim.measure, aim.beta)


def drawn_counts(
    leaves: Mapping[str, FoldFit],
    owners: Mapping[str, FoldFit],
    owner_of: Mapping[str, str],
    final: Mapping[str, float],
    weight: Any,
) -> dict[str, tuple[LevelCounts, LevelCounts]]:
    """Return the counts of each leaf in every draw: chosen again, and at the final thresholds.

    Parameters
    ----------
    leaves, owners : mapping of str to FoldFit
        What is counted, and what has a threshold of its own; a leaf may be its own owner.
    final : mapping of str to float
        The final threshold of each owner.
    weight : ndarray, shape (images, draws)
        How often each image was drawn.

    Returns
    -------
    dict of str to (LevelCounts, LevelCounts)
        Each of shape (1, draws).
    """
    chosen, found = {}, {}
    shared: dict[bytes, Floats] = {}
    for name, fit in owners.items():
        counts = fit.counts(weight, shared)
        chosen[name] = fit.by_part(weight, counts)
        if owner_of.get(name) == name:  # the same counts are not made twice
            found[name] = _both(fit, counts, chosen[name], final[name])
    for name, fit in leaves.items():
        if name not in found:
            owner = owner_of[name]
            found[name] = _both(fit, fit.counts(weight, shared), chosen[owner], final[owner])
    return found


def _both(
    fit: FoldFit, counts: Sequence[LevelCounts], chosen: Mapping[int, Floats], final: float
) -> tuple[LevelCounts, LevelCounts]:
    fixed = {part: np.full(len(value), final) for part, value in chosen.items()}
    return fit.judged(counts, chosen), fit.judged(counts, fixed)
