"""What is chosen for: leaves that are counted, owners that have thresholds, parts of the images."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Ints
from dotledger.core.measures.drawn_curves import draws_at_once
from dotledger.core.measures.finding_groups import Group, joined
from dotledger.core.measures.resampling import (
    placed,
    places_of_images,
    weights,
)
from dotledger.core.measures.threshold_levels import LevelCounts
from dotledger.core.questions.label_grouping import by_kind, by_label, common_images
from dotledger.core.questions.question_basis import Basis
from dotledger.core.thresholds.choice_plan import ChoicePlan
from dotledger.core.thresholds.cross_fitting import FoldFit, drawn_counts
from dotledger.core.thresholds.fold_splits import Splits, crossed, held_out
from dotledger.errors import ArgumentError, ScopeError

__all__ = [
    "DrawnLeaf",
    "Setting",
    "counts_together",
    "drawn_of_leaves",
    "fits_of",
    "kinds_of",
    "setting_of",
    "split_of",
]

DrawnLeaf = tuple[LevelCounts, LevelCounts]


@dataclass(frozen=True, eq=False, kw_only=True)
class Setting:
    """What is chosen for: leaves that are counted, owners that have thresholds."""

    plan: ChoicePlan
    leaves: Mapping[str, Group]
    owners: Mapping[str, Group]
    owner_of: Mapping[str, str]
    splits: Splits
    place: Any

    def judged(self) -> Flags:
        """Return which images the outcome is counted on."""
        return np.isin(self.splits.part, self.splits.judged)


def kinds_of(basis: Basis) -> tuple[list[str], dict[str, Group]]:
    """Return the images in scope, and the group of each kind.

    Raises
    ------
    ScopeError
        If nothing is in scope.
    """
    images = common_images(basis)
    kinds = {group.name: group for group in by_kind(basis, images)}
    if not images or not kinds:
        raise ScopeError(
            "no image has both annotations and an answer, so nothing can be chosen",
            place="choose",
            next_step="Annotate some of the images that were sent.",
        )
    return images, kinds


def split_of(basis: Basis, plan: ChoicePlan, images: Sequence[str]) -> tuple[Ints, Splits]:
    """Return which draws each image gets, and the parts it is chosen and judged in.

    Parameters
    ----------
    plan : ChoicePlan
        Parts, or the column of images held out.

    Returns
    -------
    (ndarray of intp, Splits)
        Both by what is in the images, not by their names.

    Raises
    ------
    ScopeError
        If there are fewer images than parts.
    """
    place = placed(images, places_of_images(images, basis.annotations, basis.findings))
    if plan.held_out is not None:
        return place, held_out(images, basis.annotations.images, plan.held_out)
    return place, crossed(place, plan.parts, plan.resampling.seed)


def setting_of(basis: Basis, plan: ChoicePlan) -> Setting:
    """Return what is chosen for.

    Parameters
    ----------
    basis : Basis
        Of a measure, paired by confidence.

    Raises
    ------
    ScopeError
        If nothing is in scope, or too few images.
    ArgumentError
        If the aim is a false-alarm rate and a kind has boxes.
    """
    images, kinds = kinds_of(basis)
    if plan.aim.measure == "false_alarm_rate":
        _check_presence(kinds)
    leaves, owners, owner_of = _owners(basis, plan, kinds, images)
    place, splits = split_of(basis, plan, images)
    return Setting(
        plan=plan, leaves=leaves, owners=owners, owner_of=owner_of, splits=splits, place=place
    )


def _check_presence(kinds: Mapping[str, Group]) -> None:
    boxed = [name for name, group in kinds.items() if group.absent is None]
    if boxed:
        raise ArgumentError(
            "boxes have no false-alarm rate, since nothing counts the places without one",
            place="aim",
            got=", ".join(boxed),
            allowed=["kinds judged by presence"],
            next_step="Ask for 'at most N false alarms in 100 images', or for other kinds.",
        )


def _owners(
    basis: Basis, plan: ChoicePlan, kinds: Mapping[str, Group], images: Sequence[str]
) -> tuple[dict[str, Group], dict[str, Group], dict[str, str]]:
    if plan.each == "all":
        return dict(kinds), {"all": joined(list(kinds.values()))}, dict.fromkeys(kinds, "all")
    if plan.each == "kind":
        return dict(kinds), dict(kinds), {name: name for name in kinds}
    labels = {group.name: group for group in by_label(basis, images)}
    own = {name: group for name, group in labels.items() if group.annotated >= plan.smallest}
    owner_of = {n: n if n in own else group.kinds[0] for n, group in labels.items()}
    return labels, {**kinds, **own}, owner_of  # a label that is first seen later has its kind's


def _surely_all(surely: float | None, owners: int) -> float | None:
    """Return the confidence level of each threshold at which all of them together keep `surely`.

    C. E. Bonferroni's bound, which holds however they depend on each other.
    """
    return None if surely is None else 1 - (1 - surely) / max(owners, 1)


def fits_of(
    setting: Setting, groups: Mapping[str, Group], final: Mapping[str, float]
) -> dict[str, FoldFit]:
    """Return groups ready to be chosen for; for draws, if there are final thresholds.

    Parameters
    ----------
    final : mapping of str to float
        The final threshold of each owner, for draws; else empty.
    """
    plan = setting.plan
    return {
        name: FoldFit.of(
            plan.aim,
            group,
            setting.splits,
            surely=_surely_all(plan.surely, len(setting.owners)),
            for_draws_of=final.get(setting.owner_of.get(name, name)),
        )
        for name, group in groups.items()
    }


def drawn_of_leaves(setting: Setting, final: Mapping[str, float]) -> dict[str, DrawnLeaf]:
    """Return the counts of each leaf in all draws: shape (1, draws); see `drawn_counts`.

    Parameters
    ----------
    setting : Setting
        What is chosen for; its plan has draws.
    final : mapping of str to float
        The final threshold of each owner.

    Returns
    -------
    dict of str to (LevelCounts, LevelCounts)
        Chosen again in each draw, and at the final thresholds.
    """
    owners = fits_of(setting, setting.owners, final)
    others = {n: g for n, g in setting.leaves.items() if n not in setting.owners}
    own = {n: owners[n] for n in setting.leaves if n in owners}
    leaves = {**fits_of(setting, others, final), **own}
    images = len(setting.place)
    points = 40 * max((len(fit.values) for fit in owners.values()), default=1)
    parts = [
        drawn_counts(leaves, owners, setting.owner_of, final, drawn[setting.place])
        for drawn in weights(images, setting.plan.resampling, draws_at_once(images, points))
    ]
    return {
        name: (
            _beside([part[name][0] for part in parts]),
            _beside([part[name][1] for part in parts]),
        )
        for name in setting.leaves
    }


def _beside(parts: Sequence[LevelCounts]) -> LevelCounts:
    """Return the counts of some draws next to those of others."""
    columns: dict[str, Any] = {}
    for name in vars(parts[0]):
        values = [getattr(part, name) for part in parts]
        columns[name] = None if values[0] is None else np.concatenate(values, axis=1)
    return LevelCounts(**columns)


def counts_together(drawn: Sequence[LevelCounts]) -> LevelCounts:
    """Return the counts of all leaves; how many images are stopped cannot be added up.

    Parameters
    ----------
    drawn : sequence of LevelCounts
        One a leaf, each of shape (1, draws).

    Returns
    -------
    LevelCounts
        NaN for what is stopped, if there are several leaves.
    """
    hits, found, actual = (
        np.sum([getattr(one, name) for one in drawn], axis=0)
        for name in ("hits", "found", "actual")
    )
    absent = [one.absent for one in drawn if one.absent is not None]
    return LevelCounts(
        hits=hits,
        found=found,
        actual=actual,
        stopped=drawn[0].stopped if len(drawn) == 1 else np.full_like(hits, np.nan),
        images=np.max([one.images for one in drawn], axis=0),
        absent=np.sum(absent, axis=0) if len(absent) == len(drawn) else None,
    )
