"""Thresholds by image, each chosen without it: for comparing runs under one aim."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.measures.intervals import DrawnIntervals
from dotledger.core.measures.threshold_levels import LevelCounts
from dotledger.core.questions.question_basis import Basis
from dotledger.core.thresholds.choice_plan import ChoicePlan
from dotledger.core.thresholds.choice_settings import (
    counts_together,
    drawn_of_leaves,
    fits_of,
    setting_of,
)
from dotledger.core.thresholds.fold_splits import crossed

__all__ = ["Honest", "honest_thresholds"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Honest:
    """Thresholds by image, each chosen without it, for one aim.

    Attributes
    ----------
    by_image : mapping of str to ndarray of float64, shape (images,)
        By what is counted: a kind, or ``kind:label``.
    final : mapping of str to float
        What is chosen on all images.
    drawn : mapping of str to LevelCounts
        Counts in every draw, where each draw chooses again; empty without draws.
    """

    by_image: Mapping[str, Floats]
    final: Mapping[str, float]
    drawn: Mapping[str, LevelCounts]

    def of(self, kind: str, label: str) -> Floats:
        """Return the thresholds of one label."""
        return self.by_image.get(f"{kind}:{label}", self.by_image.get(kind, np.array(np.nan)))

    def into(self, drawn: DrawnIntervals, kind: str) -> DrawnIntervals:
        """Return draws whose pooled counts are those of thresholds chosen again in each draw."""
        parts = [one for name, one in self.drawn.items() if name.partition(":")[0] == kind]
        if not parts:
            return drawn
        return replace(drawn, pooled=self._again(drawn.pooled, parts))

    def into_pooled(self, drawn: Mapping[str, Floats]) -> dict[str, Floats]:
        """Return the same for all kinds together."""
        return self._again(drawn, list(self.drawn.values())) if self.drawn else dict(drawn)

    def _again(
        self, drawn: Mapping[str, Floats], parts: Sequence[LevelCounts]
    ) -> dict[str, Floats]:
        counts = counts_together(parts)
        names = {"precision": "precision", "recall": "recall", "f1": "f"}
        if "false_alarm_rate" in drawn:
            names["false_alarm_rate"] = "false_alarm_rate"
        return {**drawn, **{name: counts.value(value)[0] for name, value in names.items()}}


def honest_thresholds(basis: Basis, plan: ChoicePlan, place: Ints) -> Honest:
    """Return thresholds by image, for comparing runs under one aim.

    Parameters
    ----------
    plan : ChoicePlan
        Not for three ways, and without images held out.
    place : ndarray of intp, shape (images,)
        An order of the images that all runs share, so that they share the parts.

    Returns
    -------
    Honest
        For every kind in the basis.
    """
    setting = replace(
        setting_of(basis, plan),
        place=place,
        splits=crossed(place, plan.parts, plan.resampling.seed),
    )
    fits = fits_of(setting, setting.owners, {})
    finals = {name: fit.final()[0] for name, fit in fits.items()}
    ones = np.ones((len(place), 1))
    by_image = {
        name: fits[owner].threshold_by_image(fits[owner].by_part(ones, fits[owner].counts(ones)))
        for name, owner in setting.owner_of.items()
    }
    drawn = drawn_of_leaves(setting, finals) if plan.resampling.draws else {}
    final = {name: finals[owner] for name, owner in setting.owner_of.items()}
    return Honest(
        by_image=by_image,
        final={n: v for n, v in final.items() if not math.isnan(v)},
        drawn={name: again for name, (again, _) in drawn.items()},
    )
