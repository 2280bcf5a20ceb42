"""Thresholds under a stated aim, and what they honestly lead to."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from dotledger.core.arrays import Floats
from dotledger.core.measures.finding_groups import joined
from dotledger.core.measures.resampling import (
    limits,
)
from dotledger.core.measures.threshold_levels import LevelCounts
from dotledger.core.questions.question_basis import Basis
from dotledger.core.spelling import counted
from dotledger.core.thresholds.aims import Aim
from dotledger.core.thresholds.choice_plan import ChoicePlan
from dotledger.core.thresholds.choice_settings import (
    DrawnLeaf,
    Setting,
    counts_together,
    drawn_of_leaves,
    fits_of,
    kinds_of,
    setting_of,
    split_of,
)
from dotledger.core.thresholds.three_way_choice import ThreeWays, choose_three_ways
from dotledger.core.thresholds.threshold_choice import Choice, GroupChoice
from dotledger.core.thresholds.threshold_outcomes import (
    ImageCounts,
    Outcome,
    counts_of,
    outcome_of,
    summed,
)
from dotledger.core.thresholds.threshold_picking import value_of

__all__ = ["choose"]


def choose(
    basis: Basis, plan: ChoicePlan, *, origin: Mapping[str, str] | None = None
) -> Choice | ThreeWays:
    """Choose thresholds, and tell what they lead to on held-out images.

    Parameters
    ----------
    basis : Basis
        Of a measure, paired by confidence.
    plan : ChoicePlan
        For three ways all kinds decide together, and what has a threshold of its own is not asked.
    origin : mapping of str to str, optional
        Digests to be kept with the choice.

    Returns
    -------
    Choice or ThreeWays
        Thresholds, the honest outcome and the optimistic one.

    Raises
    ------
    ScopeError
        If nothing is in scope, or too few images.
    ArgumentError
        If the column that marks images to judge on is not there, or the aim is a false-alarm rate
        and a kind has boxes.
    """
    if plan.aim.sort == "three ways":
        return _three_ways(basis, plan, origin or {})
    setting = setting_of(basis, plan)
    fits = fits_of(setting, setting.owners, {})
    finals = {name: fit.final() for name, fit in fits.items()}
    ones = np.ones((len(setting.splits.part), 1))
    by_part = {name: fit.by_part(ones, fit.counts(ones)) for name, fit in fits.items()}
    drawn = (
        drawn_of_leaves(setting, {n: v for n, (v, _) in finals.items()})
        if plan.resampling.draws
        else {}
    )
    honest = {
        name: counts_of(
            leaf,
            fits[owner].threshold_by_image(by_part[owner]),
            setting.judged(),
        )
        for name, leaf in setting.leaves.items()
        for owner in [setting.owner_of[name]]
    }
    optimistic = {
        name: counts_of(
            leaf,
            np.full(leaf.images, finals[setting.owner_of[name]][0]),
            setting.splits.chosen_on,
        )
        for name, leaf in setting.leaves.items()
    }
    groups = {
        name: _group_choice(
            setting, name, finals, _Both(honest[name], optimistic[name]), drawn.get(name)
        )
        for name in setting.leaves
    }
    together = counts_together([again for again, _ in drawn.values()]) if drawn else None
    outcome = _outcome(setting, summed(list(honest.values())), together)
    return Choice(
        aim=plan.aim,
        each=plan.each,
        overlap=basis.overlaps[0],
        thresholds=_thresholds(groups, finals if plan.each == "label" else {}),
        groups=groups,
        outcome=outcome,
        optimistic=_outcome(setting, summed(list(optimistic.values())), None, level=False),
        images=outcome.images,
        parts=len(setting.splits.judged),
        service=basis.findings.origin.service if basis.findings.origin else "",
        floor=basis.floor,
        origin=origin or {},
        notes=_notes(setting, groups),
    )


@dataclass(frozen=True, eq=False)
class _Both:
    honest: ImageCounts
    optimistic: ImageCounts


def _three_ways(basis: Basis, plan: ChoicePlan, origin: Mapping[str, str]) -> ThreeWays:
    images, kinds = kinds_of(basis)
    group = next(iter(kinds.values())) if len(kinds) == 1 else joined(list(kinds.values()))
    place, splits = split_of(basis, plan, images)
    chosen = choose_three_ways(group, plan.aim, splits, place, plan.resampling)
    service = basis.findings.origin.service if basis.findings.origin else ""
    return replace(chosen, service=service, floor=basis.floor, origin=origin)


def _aimed(aim: Aim, counts: ImageCounts) -> float:
    """Return the measure an aim is about, from counts by image."""
    plain = LevelCounts(
        hits=counts.hits.sum()[None, None],
        found=counts.found.sum()[None, None],
        stopped=np.array([[counts.stopped.sum()]], dtype=np.float64),
        actual=counts.actual.sum()[None, None],
        images=np.array([[counts.inside.sum()]], dtype=np.float64),
        absent=None if counts.absent is None else counts.absent.sum()[None, None],
    )
    return float(value_of(aim, plain)[0, 0])


def _outcome(
    setting: Setting, counts: ImageCounts, drawn: LevelCounts | None, *, level: bool = True
) -> Outcome:
    aim, resampling = setting.plan.aim, setting.plan.resampling
    drawn_ends: dict[str, tuple[float, float]] = {}
    if drawn is not None:
        there = int(((counts.found + counts.actual) > 0).sum())
        values = {
            "recall": drawn.value("recall"),
            "precision": drawn.value("precision"),
            "f1": drawn.value("f"),
            "false_alarm_rate": drawn.value("false_alarm_rate"),
            "false_alarms_per_100_images": drawn.value("false_alarms_per_100_images"),
            "stopped_share": drawn.value("stopped_share"),
            "aimed": value_of(aim, drawn),
        }
        drawn_ends = {name: _ends(v[0], there, resampling.level) for name, v in values.items()}
    wanted = resampling.level if level and resampling.draws else None
    found = outcome_of(counts, level=wanted, aimed=_aimed(aim, counts), drawn=drawn_ends)
    if drawn is None:
        return found
    return _with_aimed(found, aim)


def _with_aimed(outcome: Outcome, aim: Aim) -> Outcome:
    """Return the outcome with the interval of what is aimed at, widened like the others."""
    name = "f1" if aim.measure == "f" and aim.beta == 1 else aim.measure
    ends = outcome.intervals.get(name, outcome.intervals["aimed"])
    return replace(outcome, intervals={**outcome.intervals, "aimed": ends})


def _ends(draws: Floats, images: int, level: float) -> tuple[float, float]:
    if np.isnan(draws).all():
        return math.nan, math.nan
    low, high = limits(draws, images, level)
    return float(low), float(high)


def _group_choice(
    setting: Setting,
    name: str,
    finals: Mapping[str, tuple[float, bool]],
    both: _Both,
    drawn: DrawnLeaf | None,
) -> GroupChoice:
    owner, aim = setting.owner_of[name], setting.plan.aim
    threshold, attainable = finals[owner]
    outcome = _outcome(setting, both.honest, drawn and drawn[0])
    return GroupChoice(
        name=name,
        threshold=threshold,
        attainable=attainable,
        from_kind=setting.plan.each == "label" and owner != name,
        annotated=setting.leaves[name].annotated,
        outcome=outcome,
        optimistic=_outcome(setting, both.optimistic, None, level=False),
        chance=_chance(aim, drawn[1]) if drawn else math.nan,
        more_images=_more_images(aim, outcome),
    )


def _chance(aim: Aim, drawn: LevelCounts) -> float:
    """Return in how many draws the final threshold meets the aim; NaN for an aim without limit."""
    values = value_of(aim, drawn)[0]
    known = values[~np.isnan(values)]
    if aim.sort not in ("at least", "at most") or not len(known):
        return math.nan
    return float((known >= aim.limit if aim.sort == "at least" else known <= aim.limit).mean())


def _more_images(aim: Aim, outcome: Outcome) -> int | None:
    """Return how many more images would bring the interval clear of the aim's limit.

    Its width falls as one over the square root of the images (Kish, "Survey sampling", 1965).
    """
    low, high = outcome.intervals.get("aimed", (math.nan, math.nan))
    if aim.sort not in ("at least", "at most") or math.isnan(low) or math.isnan(outcome.aimed):
        return None
    gap = outcome.aimed - aim.limit
    if gap == 0:
        return None
    half = outcome.aimed - low if gap > 0 else high - outcome.aimed
    needed = outcome.images * (half / abs(gap)) ** 2
    return max(0, math.ceil(needed) - outcome.images)


def _thresholds(
    groups: Mapping[str, GroupChoice], finals: Mapping[str, tuple[float, bool]]
) -> dict[str, float]:
    every = {n: value for n, (value, _) in finals.items()}
    every |= {n: one.threshold for n, one in groups.items() if not one.from_kind}
    return {name: value for name, value in every.items() if not math.isnan(value)}


_SMALL = 30


def _notes(setting: Setting, groups: Mapping[str, GroupChoice]) -> tuple[str, ...]:
    found = []
    images = int(setting.judged().sum())
    if images < _SMALL:
        found.append(
            f"The set is small ({counted(images, 'image')}): these figures follow its chances."
        )
    without = [n for n, one in groups.items() if math.isnan(one.threshold)]
    if without:
        found.append(
            f"No finding with a confidence for {', '.join(without[:8])}: no threshold changes "
            "anything there."
        )
    fell = [f"{n} ({one.annotated})" for n, one in groups.items() if one.from_kind]
    if fell:
        found.append(
            f"Fewer than {setting.plan.smallest} annotations, so these take the threshold of "
            f"their kind: {', '.join(fell[:12])}."
        )
    return tuple(found)
