"""Two thresholds at once, for deciding in three ways.

Below the lower an image passes, from the upper on it is stopped, and between them a person looks.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import reduce
from operator import add
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.finding_groups import Group
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.resampling import Interval, Resampling, limits, weights
from dotledger.core.measures.share_limits import FEW_IMAGES, share_interval
from dotledger.core.measures.threshold_levels import LevelCounts, Levels, values_of
from dotledger.core.thresholds.aims import Aim
from dotledger.core.thresholds.fold_splits import Splits
from dotledger.core.thresholds.threshold_choice import check_service

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["SHARES", "ThreeWays", "WaysCounts", "choose_three_ways"]

_LEVELS_IN_DRAWS = 400


@dataclass(frozen=True, kw_only=True)
class WaysCounts:
    """How images were decided on.

    Attributes
    ----------
    unsafe_passed, unsafe_held, unsafe_stopped : int
        Images with something annotated.
    safe_passed, safe_held, safe_stopped : int
        Images without; those with doubtful annotations only are left out.
    intervals : mapping of str to (float, float)
        95 %, of the three shares.
    """

    unsafe_passed: int
    unsafe_held: int
    unsafe_stopped: int
    safe_passed: int
    safe_held: int
    safe_stopped: int
    intervals: Mapping[str, Interval] = field(default_factory=dict, repr=False)

    @property
    def unsafe_passed_share(self) -> float:
        """Share of the unsafe images that pass; NaN without any."""
        return ratio(
            self.unsafe_passed, self.unsafe_passed + self.unsafe_held + self.unsafe_stopped
        )

    @property
    def safe_stopped_share(self) -> float:
        """Share of the safe images that are stopped; NaN without any."""
        return ratio(self.safe_stopped, self.safe_passed + self.safe_held + self.safe_stopped)

    @property
    def held_share(self) -> float:
        """Share of all images that a person has to look at; NaN without images."""
        held = self.unsafe_held + self.safe_held
        decided = self.unsafe_passed + self.unsafe_stopped + self.safe_passed + self.safe_stopped
        return ratio(held, held + decided)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        shares = {name: defined(getattr(self, name)) for name in SHARES}
        ends = {
            n: None if math.isnan(low) else [low, hi] for n, (low, hi) in self.intervals.items()
        }
        plain = {name: value for name, value in vars(self).items() if name != "intervals"}
        return {**plain, **shares, "intervals": ends}


SHARES = ("unsafe_passed_share", "safe_stopped_share", "held_share")


@dataclass(frozen=True, kw_only=True, repr=False)
class ThreeWays(Displayed):
    """Two thresholds for one kind, and what they honestly lead to.

    Attributes
    ----------
    aim : Aim
        What was asked for.
    kind : str
        Whose findings decide.
    hold_from, stop_from : float
        A person looks from the lower on; from the upper on the image is stopped. Equal where
        nobody needs to look. NaN where no finding has a confidence.
    attainable : bool or None
        Whether both shares can be kept on the images chosen on; None where too few of these are
        unsafe, or safe, to know.
    outcome, optimistic : WaysCounts
        On held-out images, and on the images used for choosing.
    images, left_out : int
        Decided on, and left out because their annotations are doubtful.
    service : str
        Whose findings they are; empty if that is not known.
    floor : float or None
        Below it nothing is known.
    origin : dict of str to str
        Digests of the findings and annotations, and when, if whoever chose knows them.
    """

    aim: Aim
    kind: str
    hold_from: float
    stop_from: float
    attainable: bool | None
    outcome: WaysCounts
    optimistic: WaysCounts
    images: int
    left_out: int
    service: str = ""
    floor: float | None = None
    origin: Mapping[str, str] = field(default_factory=dict)

    @property
    def thresholds(self) -> dict[str, float]:
        """The upper one, by kind: what is stopped."""
        return {} if math.isnan(self.stop_from) else {self.kind: self.stop_from}

    def thresholds_for(self, service: str) -> Mapping[str, float]:
        """Return what is stopped; raises ArgumentError if it is another service's."""
        check_service(self.service, service)
        return self.thresholds

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row for each outcome."""
        import pandas as pd

        both = {"honest": self.outcome, "optimistic": self.optimistic}
        rows = []
        for name, one in both.items():
            plain = one.to_dict()
            plain.pop("intervals")
            rows.append({"outcome": name, **plain})
        return pd.DataFrame(rows)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        return {
            "aim": self.aim.text,
            "kind": self.kind,
            "service": self.service,
            "thresholds": self.thresholds,
            "hold_from": defined(self.hold_from),
            "stop_from": defined(self.stop_from),
            "attainable": self.attainable,
            "images": self.images,
            "left_out": self.left_out,
            "outcome": self.outcome.to_dict(),
            "optimistic": self.optimistic.to_dict(),
            "origin": dict(self.origin),
        }


# An image is one case: its highest confidence decides. That makes both shares a recall and a
# false-alarm rate of images, so the counts of levels serve here too.
def _of_images(group: Group) -> Group:
    decided = group.inside & ~group.left_out
    seen = np.flatnonzero(decided & (group.top > -np.inf))
    unsafe = group.unsafe & decided
    return replace(
        group,
        confidence=group.top[seen],
        image=seen,
        right=unsafe[seen],
        true_image=np.flatnonzero(unsafe),
        absent=(decided & ~unsafe).astype(np.float64),
        inside=decided,
    )


def choose_three_ways(
    group: Group, aim: Aim, splits: Splits, place: Ints, resampling: Resampling
) -> ThreeWays:
    """Choose two thresholds: as few images held as the two shares allow.

    Parameters
    ----------
    group : Group
        A kind, or several together; its images are decided on by their highest confidence.
    splits : Splits
        Which images are chosen on and judged.
    resampling : Resampling
        Of the intervals; none with 0 draws.

    Returns
    -------
    ThreeWays
        Where the shares cannot be kept, the thresholds that come nearest.
    """
    images = _of_images(group)
    fit = _Fit(images, aim, splits, values_of(images))
    whole = splits.chosen_on.astype(np.float64)[:, None]
    hold, stop, met = fit.final(whole)
    ones = np.ones((group.images, 1))
    by_part = fit.by_part(fit.counts(ones))
    low, high = np.full(group.images, np.nan), np.full(group.images, np.nan)
    for part, (one, other) in by_part.items():
        low[splits.part == part], high[splits.part == part] = one[0], other[0]
    judged = np.isin(splits.part, splits.judged)
    drawn = _drawn(images, aim, splits, place, resampling) if resampling.draws else None
    return ThreeWays(
        aim=aim,
        kind=group.name,
        hold_from=hold,
        stop_from=stop,
        attainable=met if _are_enough(images, splits) else None,
        outcome=_ways(images, low, high, judged, drawn),
        optimistic=_ways(
            images, np.full(group.images, hold), np.full(group.images, stop), splits.chosen_on, None
        ),
        images=int((images.inside & judged).sum()),
        left_out=int((group.left_out & judged).sum()),
    )


def _are_enough(images: Group, splits: Splits) -> bool:
    """Tell whether the thresholds were chosen on enough unsafe, and enough safe, images."""
    chosen = images.inside & splits.chosen_on
    unsafe = np.zeros(len(chosen), dtype=bool)
    unsafe[images.true_image] = True
    return min(int((chosen & unsafe).sum()), int((chosen & ~unsafe).sum())) >= FEW_IMAGES


@dataclass(frozen=True, eq=False)
class _Fit:
    images: Group
    aim: Aim
    splits: Splits
    values: Floats

    def counts(self, weight: Any) -> list[LevelCounts]:
        numbers = range(int(self.splits.part.max(initial=0)) + 1)
        return [
            Levels.of(self.images.on(self.splits.part == part), self.values).counts(weight)
            for part in numbers
        ]

    def final(self, weight: Any) -> tuple[float, float, bool]:
        hold, stop, met = _pick(self.aim, reduce(add, self.counts(weight)))
        if not len(self.values):
            return math.nan, math.nan, bool(met[0])
        return float(self.values[hold[0]]), float(self.values[stop[0]]), bool(met[0])

    def by_part(self, counts: list[LevelCounts]) -> dict[int, tuple[Floats, Floats]]:
        total, found = reduce(add, counts), {}
        for part in self.splits.judged:
            hold, stop, _ = _pick(self.aim, total - counts[part])
            found[part] = (self._at(hold), self._at(stop))
        return found

    def _at(self, level: Ints) -> Floats:
        return self.values[level] if len(self.values) else np.full(len(level), np.nan)


def _most(share: float, cases: Floats) -> Floats:
    """Return how many of some images a share of them is at most."""
    found: Floats = np.floor(share * cases + 1e-9)
    return found


def _pick(aim: Aim, counts: LevelCounts) -> tuple[Ints, Ints, Flags]:
    """Return the levels to hold and to stop from, and whether both shares are kept."""
    # In whole images: 1 of 100 meets "at most 1 %", though 1 - 0.99 is above 0.01 in doubles.
    passed = counts.actual - counts.hits
    stopped = counts.found - counts.hits
    absent = np.zeros_like(counts.actual) if counts.absent is None else counts.absent
    levels = len(counts.hits)
    few_pass = passed <= _most(aim.passed, counts.actual)
    few_stopped = stopped <= _most(aim.stopped, absent)
    # Going down, fewer unsafe images pass and more safe ones are stopped: both change once.
    hold = np.where(few_pass.any(axis=0), np.argmax(few_pass, axis=0), levels - 1)
    stop = np.where(few_stopped.any(axis=0), levels - 1 - np.argmax(few_stopped[::-1], axis=0), 0)
    met = few_pass.any(axis=0) & few_stopped.any(axis=0)
    # Where one threshold keeps both shares nobody needs to look: it is the one of those between
    # that errs least.
    wrong = (counts.actual - counts.hits) + (counts.found - counts.hits)
    row = np.arange(levels)[:, None]
    between = (row >= hold) & (row <= stop)
    one = np.argmin(np.where(between, wrong, np.inf), axis=0)
    single = between.any(axis=0)
    return (
        np.asarray(np.where(single, one, hold), dtype=np.intp),
        np.asarray(np.where(single, one, stop), dtype=np.intp),
        np.asarray(met),
    )


def _drawn(
    images: Group, aim: Aim, splits: Splits, place: Ints, resampling: Resampling
) -> dict[str, Interval]:
    fit = _Fit(images, aim, splits, values_of(images, most=_LEVELS_IN_DRAWS))
    parts = []
    for drawn in weights(images.images, resampling, 200):
        weight = drawn[place]
        counts = fit.counts(weight)
        parts.append(_shares_of(fit, counts, fit.by_part(counts)))
    found = {name: np.concatenate([part[name] for part in parts]) for name in SHARES}
    there = int(images.inside.sum())
    ends = {name: limits(v, there, resampling.level) for name, v in found.items()}
    return {name: (float(low), float(high)) for name, (low, high) in ends.items()}


def _shares_of(
    fit: _Fit, counts: list[LevelCounts], chosen: Mapping[int, tuple[Floats, Floats]]
) -> dict[str, Floats]:
    """Return the three shares in each draw."""
    lows, highs = [], []
    for part, (hold, stop) in chosen.items():
        lows.append(counts[part].at(_level(fit.values, hold)))
        highs.append(counts[part].at(_level(fit.values, stop)))
    low, high = reduce(add, lows), reduce(add, highs)
    with np.errstate(divide="ignore", invalid="ignore"):
        return {
            "unsafe_passed_share": (1 - low.value("recall"))[0],
            "safe_stopped_share": high.value("false_alarm_rate")[0],
            "held_share": ((low.found - high.found) / low.images)[0],
        }


def _level(values: Floats, threshold: Floats) -> Ints:
    at = np.searchsorted(-values, -threshold)
    return np.clip(np.nan_to_num(at), 0, max(len(values) - 1, 0)).astype(np.intp)


def _ways(
    images: Group, low: Floats, high: Floats, judged: Flags, drawn: Mapping[str, Interval] | None
) -> WaysCounts:
    decided = images.inside & judged
    low, high = np.nan_to_num(low, nan=np.inf), np.nan_to_num(high, nan=np.inf)
    stopped = decided & (images.top >= high)
    held = decided & (images.top >= low) & ~stopped
    passed = decided & ~stopped & ~held
    unsafe = images.unsafe & decided
    safe = decided & ~unsafe
    intervals: dict[str, Interval] = {}
    if drawn is not None:
        pairs = ((passed & unsafe, unsafe), (stopped & safe, safe), (held, decided))
        for name, (x, m) in zip(SHARES, pairs, strict=True):
            plain, other = share_interval(x, m), drawn[name]
            wide = np.isnan(other[0]) or np.isnan(plain[0])
            intervals[name] = plain if wide else (min(plain[0], other[0]), max(plain[1], other[1]))
    return WaysCounts(
        unsafe_passed=int((passed & unsafe).sum()),
        unsafe_held=int((held & unsafe).sum()),
        unsafe_stopped=int((stopped & unsafe).sum()),
        safe_passed=int((passed & safe).sum()),
        safe_held=int((held & safe).sum()),
        safe_stopped=int((stopped & safe).sum()),
        intervals=intervals,
    )
