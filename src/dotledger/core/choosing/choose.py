"""Thresholds under a stated aim, and what they honestly lead to."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, real_number, whole_number
from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.choosing.aims import Aim, read_aim
from dotledger.core.choosing.choice import Choice, GroupChoice
from dotledger.core.choosing.crossfit import Fit, drawn_counts
from dotledger.core.choosing.outcomes import (
    ImageCounts,
    Outcome,
    counts_of,
    outcome_of,
    summed,
)
from dotledger.core.choosing.picking import value_of
from dotledger.core.choosing.splits import Splits, crossed, held_out
from dotledger.core.choosing.three_ways import ThreeWays, choose_three_ways
from dotledger.core.counting.drawn_curves import draws_at_once
from dotledger.core.counting.groups import Group, joined
from dotledger.core.counting.intervals import Drawn
from dotledger.core.counting.levels import LevelCounts
from dotledger.core.counting.resampling import (
    Resampling,
    limits,
    placed,
    places_of_images,
    weights,
)
from dotledger.core.questions.basis import Basis
from dotledger.core.questions.grouping import by_kind, by_label, common_images
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError, ScopeError

__all__ = ["EACH", "Each", "Honest", "Plan", "check_plan", "choose", "honest_thresholds"]

Each = Literal["all", "kind", "label"]
EACH = ("all", "kind", "label")
"""What may have a threshold of its own."""


@dataclass(frozen=True, kw_only=True)
class Plan:
    """How thresholds are chosen; checked by `check_plan`.

    Attributes
    ----------
    aim : Aim
        What for.
    each : str
        One of `EACH`.
    smallest : int
        A label with fewer annotations takes the threshold of its kind.
    parts : int
        Of the cross-fitting.
    held_out : str or None
        A column that marks the images to judge on, in the place of cross-fitting.
    sure : float or None
        How surely new images are to meet the aim; None for the aim as it stands.
    resampling : Resampling
        Draws and seed.
    """

    aim: Aim
    each: str
    smallest: int
    parts: int
    held_out: str | None
    sure: float | None
    resampling: Resampling


def check_plan(
    *,
    aim: str | Aim,
    each: str,
    smallest: int,
    parts: int,
    held_out: str | None,
    sure: float | None,
    draws: int,
    seed: int,
) -> Plan:
    """Check the arguments of a choice, once.

    Parameters
    ----------
    aim : str or Aim
        See `read_aim`.
    each : str
        One of `EACH`.
    smallest : int
        1 or more.
    parts : int
        From 2 to 50.
    held_out : str or None
        The name of a column.
    sure : float or None
        From 0.5 to below 1.
    draws, seed : int
        Of the intervals.

    Returns
    -------
    Plan
        Behind this door nothing checks again.

    Raises
    ------
    ArgumentError
        If one is out of range, or the aim cannot be read.
    """
    wanted = aim if isinstance(aim, Aim) else read_aim(aim)
    if each not in EACH:
        raise ArgumentError("unknown choice", place="each", got=each, allowed=EACH)
    return Plan(
        aim=wanted,
        each=each,
        smallest=whole_number(smallest, place="smallest", least=1, most=1_000_000),
        parts=whole_number(parts, place="parts", least=2, most=50),
        held_out=held_out,
        sure=_checked_sure(sure, wanted),
        resampling=Resampling(
            draws=whole_number(draws, place="draws", least=0, most=MOST_DRAWS),
            seed=whole_number(seed, place="seed", least=0, most=MOST_SEED),
        ),
    )


def _checked_sure(sure: float | None, aim: Aim) -> float | None:
    if sure is None:
        return None
    value = real_number(sure, place="sure")
    if not 0.5 <= value < 1:
        raise ArgumentError("out of range", place="sure", got=sure, allowed=["0.5 to below 1"])
    if aim.sort not in ("at least", "at most"):
        raise ArgumentError(
            "only an aim with a limit can be met more or less surely",
            place="sure",
            got=aim.text,
            allowed=["recall >= 0.9", "at most 5 false alarms in 100 images"],
        )
    return value


@dataclass(frozen=True, eq=False, kw_only=True)
class _Setting:
    """What is chosen for: leaves that are counted, owners that have thresholds."""

    plan: Plan
    leaves: Mapping[str, Group]
    owners: Mapping[str, Group]
    owner_of: Mapping[str, str]
    splits: Splits
    place: Any

    def judged(self) -> Flags:
        """Return which images the outcome is counted on."""
        return np.isin(self.splits.part, self.splits.judged)


def choose(
    basis: Basis, plan: Plan, *, origin: Mapping[str, str] | None = None
) -> Choice | ThreeWays:
    """Choose thresholds, and tell what they lead to on images that had no say in them.

    Parameters
    ----------
    basis : Basis
        Of a measure, paired by confidence.
    plan : Plan
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
    setting = _setting(basis, plan)
    fits = _fits(setting, setting.owners, {})
    finals = {name: fit.final() for name, fit in fits.items()}
    ones = np.ones((len(setting.splits.part), 1))
    by_part = {name: fit.by_part(ones, fit.counts(ones)) for name, fit in fits.items()}
    drawn = _drawn(setting, {n: v for n, (v, _) in finals.items()}) if plan.resampling.draws else {}
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
    together = _together([again for again, _ in drawn.values()]) if drawn else None
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


def _three_ways(basis: Basis, plan: Plan, origin: Mapping[str, str]) -> ThreeWays:
    images, kinds = _kinds(basis)
    group = next(iter(kinds.values())) if len(kinds) == 1 else joined(list(kinds.values()))
    place, splits = _split(basis, plan, images)
    chosen = choose_three_ways(group, plan.aim, splits, place, plan.resampling)
    service = basis.findings.origin.service if basis.findings.origin else ""
    return replace(chosen, service=service, floor=basis.floor, origin=origin)


def _kinds(basis: Basis) -> tuple[list[str], dict[str, Group]]:
    images = common_images(basis)
    kinds = {group.name: group for group in by_kind(basis, images)}
    if not images or not kinds:
        raise ScopeError(
            "no image has both annotations and an answer, so nothing can be chosen",
            place="choose",
            next_step="Annotate some of the images that were sent.",
        )
    return images, kinds


def _split(basis: Basis, plan: Plan, images: Sequence[str]) -> tuple[Ints, Splits]:
    place = placed(images, places_of_images(images, basis.annotations, basis.findings))
    if plan.held_out is not None:
        return place, held_out(images, basis.annotations.images, plan.held_out)
    return place, crossed(place, plan.parts, plan.resampling.seed)


def _setting(basis: Basis, plan: Plan) -> _Setting:
    images, kinds = _kinds(basis)
    if plan.aim.measure == "false_alarm_rate":
        _check_presence(kinds)
    leaves, owners, owner_of = _owners(basis, plan, kinds, images)
    place, splits = _split(basis, plan, images)
    return _Setting(
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
    basis: Basis, plan: Plan, kinds: Mapping[str, Group], images: Sequence[str]
) -> tuple[dict[str, Group], dict[str, Group], dict[str, str]]:
    if plan.each == "all":
        return dict(kinds), {"all": joined(list(kinds.values()))}, dict.fromkeys(kinds, "all")
    if plan.each == "kind":
        return dict(kinds), dict(kinds), {name: name for name in kinds}
    labels = {group.name: group for group in by_label(basis, images)}
    own = {name: group for name, group in labels.items() if group.annotated >= plan.smallest}
    owner_of = {n: n if n in own else group.kinds[0] for n, group in labels.items()}
    return labels, {**kinds, **own}, owner_of  # a label that is first seen later has its kind's


def _fits(
    setting: _Setting, groups: Mapping[str, Group], final: Mapping[str, float]
) -> dict[str, Fit]:
    """Return groups ready to be chosen for; for draws, if there are final thresholds."""
    plan = setting.plan
    return {
        name: Fit.of(
            plan.aim,
            group,
            setting.splits,
            sure=plan.sure,
            for_draws_of=final.get(setting.owner_of.get(name, name)),
        )
        for name, group in groups.items()
    }


_Drawn = tuple[LevelCounts, LevelCounts]


def _drawn(setting: _Setting, final: Mapping[str, float]) -> dict[str, _Drawn]:
    """Return the counts of each leaf in all draws: shape (1, draws); see `drawn_counts`."""
    owners = _fits(setting, setting.owners, final)
    others = {n: g for n, g in setting.leaves.items() if n not in setting.owners}
    own = {n: owners[n] for n in setting.leaves if n in owners}
    leaves = {**_fits(setting, others, final), **own}
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
    """Return the counts of some draws beside those of others."""
    columns: dict[str, Any] = {}
    for name in vars(parts[0]):
        values = [getattr(part, name) for part in parts]
        columns[name] = None if values[0] is None else np.concatenate(values, axis=1)
    return LevelCounts(**columns)


def _together(drawn: Sequence[LevelCounts]) -> LevelCounts:
    """Return the counts of all leaves; how many images are stopped cannot be added up."""
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
    setting: _Setting, counts: ImageCounts, drawn: LevelCounts | None, *, level: bool = True
) -> Outcome:
    aim, resampling = setting.plan.aim, setting.plan.resampling
    sure: dict[str, tuple[float, float]] = {}
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
        sure = {name: _ends(v[0], there, resampling.level) for name, v in values.items()}
    wanted = resampling.level if level and resampling.draws else None
    found = outcome_of(counts, level=wanted, aimed=_aimed(aim, counts), sure=sure)
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
    setting: _Setting,
    name: str,
    finals: Mapping[str, tuple[float, bool]],
    both: _Both,
    drawn: _Drawn | None,
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


def _notes(setting: _Setting, groups: Mapping[str, GroupChoice]) -> tuple[str, ...]:
    found = []
    images = int(setting.judged().sum())
    if images < _SMALL:
        found.append(
            f"The set is small ({counted(images, 'image')}): thresholds chosen on it follow its "
            "chances."
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

    def into(self, drawn: Drawn, kind: str) -> Drawn:
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
        counts = _together(parts)
        names = {"precision": "precision", "recall": "recall", "f1": "f"}
        if "false_alarm_rate" in drawn:
            names["false_alarm_rate"] = "false_alarm_rate"
        return {**drawn, **{name: counts.value(value)[0] for name, value in names.items()}}


def honest_thresholds(basis: Basis, plan: Plan, place: Ints) -> Honest:
    """Return thresholds by image, for comparing runs under one aim.

    Parameters
    ----------
    basis : Basis
        Of one run.
    plan : Plan
        Not for three ways, and without images held out.
    place : ndarray of intp, shape (images,)
        An order of the images that all runs share, so that they share the parts.

    Returns
    -------
    Honest
        For every kind in the basis.
    """
    setting = replace(
        _setting(basis, plan),
        place=place,
        splits=crossed(place, plan.parts, plan.resampling.seed),
    )
    fits = _fits(setting, setting.owners, {})
    finals = {name: fit.final()[0] for name, fit in fits.items()}
    ones = np.ones((len(place), 1))
    by_image = {
        name: fits[owner].threshold_by_image(fits[owner].by_part(ones, fits[owner].counts(ones)))
        for name, owner in setting.owner_of.items()
    }
    drawn = _drawn(setting, finals) if plan.resampling.draws else {}
    final = {name: finals[owner] for name, owner in setting.owner_of.items()}
    return Honest(
        by_image=by_image,
        final={n: v for n, v in final.items() if not math.isnan(v)},
        drawn={name: again for name, (again, _) in drawn.items()},
    )
