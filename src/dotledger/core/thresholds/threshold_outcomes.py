"""What thresholds lead to: counts, measures, and how sure they are."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, ratio
from dotledger.core.measures.finding_groups import Group
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.registry import RANKED, RATIOS, Measured
from dotledger.core.measures.resampling import Interval
from dotledger.core.measures.share_limits import mean_of_shares_limits_by_image, share_interval

__all__ = ["OUTCOME_MEASURES", "ImageCounts", "Outcome", "counts_of", "outcome_of", "summed"]

_SHARES = {n: RATIOS[n] for n in RANKED if n in RATIOS and RATIOS[n].interval == "share"}
OUTCOME_MEASURES = (*_SHARES, "false_alarms_per_100_images", "stopped_share")
"""What an outcome tells, in the order it is shown."""


@dataclass(frozen=True, kw_only=True)
class Outcome(Measured):
    """Counts and measures at thresholds.

    Attributes
    ----------
    images : int
        That were judged.
    annotated, true_positives, false_positives, misses : int
        As everywhere.
    stopped : int
        Images with any finding at its threshold or above.
    absent : int or None
        Presence only: labels rightly absent, over all images.
    intervals : mapping of str to (float, float)
        95 %, by measure; ``aimed`` is that of the measure the aim is about.
    aimed : float
        The measure that the aim is about; NaN where undefined.
    """

    images: int
    annotated: int
    true_positives: int
    false_positives: int
    misses: int
    stopped: int
    absent: int | None
    intervals: Mapping[str, Interval] = field(default_factory=dict, repr=False)
    aimed: float = math.nan

    @property
    def counts(self) -> dict[str, float]:
        """The counts as `RATIOS` names them."""
        counts: dict[str, float] = {
            "hits": self.true_positives,
            "found": self.true_positives + self.false_positives,
            "actual": self.annotated,
        }
        if self.absent is not None:
            counts["absent"] = self.absent
        return counts

    def measure(self, name: str) -> float:
        """Return one of `OUTCOME_MEASURES`; NaN where undefined."""
        return super().measure(name) if name in _SHARES else float(getattr(self, name))

    @property
    def false_alarms_per_100_images(self) -> float:
        """100 FP / images; NaN without images."""
        return ratio(100 * self.false_positives, self.images)

    @property
    def stopped_share(self) -> float:
        """Share of the images with any finding that passes; NaN without images."""
        return ratio(self.stopped, self.images)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {n: v for n, v in vars(self).items() if n not in ("intervals", "aimed")}
        measures = {name: defined(self.measure(name)) for name in OUTCOME_MEASURES}
        ends = {
            name: None if math.isnan(low) else [low, high]
            for name, (low, high) in self.intervals.items()
        }
        return {**plain, **measures, "aimed": defined(self.aimed), "intervals": ends}


@dataclass(frozen=True, eq=False, kw_only=True)
class ImageCounts:
    """Counts of each image at its threshold: arrays of shape (images,)."""

    hits: Floats
    found: Floats
    actual: Floats
    stopped: Flags
    inside: Flags
    absent: Floats | None


def counts_of(group: Group, threshold: Floats, judged: Flags) -> ImageCounts:
    """Return what each image counts where each has its own threshold.

    Parameters
    ----------
    threshold : ndarray of float64, shape (images,)
        NaN for no threshold: everything passes.

    Returns
    -------
    ImageCounts
        Zeros where an image does not count.
    """
    least = np.where(np.isnan(threshold), -np.inf, threshold)
    rows = judged[group.image] & (group.confidence >= least[group.image])
    right = rows & group.right

    def each(image: Any) -> Floats:
        return np.bincount(image, minlength=group.images).astype(np.float64)

    return ImageCounts(
        hits=each(group.image[right]),
        found=each(group.image[rows]),
        actual=each(group.true_image[judged[group.true_image]]),
        stopped=judged & (group.top > -np.inf) & (group.top >= least),
        inside=judged & group.inside,
        absent=None if group.absent is None else np.where(judged, group.absent, 0.0),
    )


def summed(parts: Sequence[ImageCounts]) -> ImageCounts:
    """Return the counts of several groups over the same images together.

    Returns
    -------
    ImageCounts
        Absent labels only if all have them.
    """
    absent = [one.absent for one in parts if one.absent is not None]
    return ImageCounts(
        hits=np.sum([one.hits for one in parts], axis=0),
        found=np.sum([one.found for one in parts], axis=0),
        actual=np.sum([one.actual for one in parts], axis=0),
        stopped=np.any([one.stopped for one in parts], axis=0),
        inside=np.any([one.inside for one in parts], axis=0),
        absent=np.sum(absent, axis=0) if len(absent) == len(parts) else None,
    )


def outcome_of(
    counts: ImageCounts, *, level: float | None, aimed: float = math.nan, drawn: Any = None
) -> Outcome:
    """Return the outcome of counts by image.

    Parameters
    ----------
    level : float or None
        Of the intervals, such as 0.95; None for none.
    aimed : float
        The measure that the aim is about.
    drawn : mapping of str to (float, float), optional
        Intervals that cover more than the counting, such as the choosing: the wider ends count.

    Returns
    -------
    Outcome
        NaN where undefined.
    """
    false = counts.found - counts.hits
    intervals: dict[str, Interval] = {}
    if level is not None:
        columns = {"hits": counts.hits, "found": counts.found, "actual": counts.actual}
        columns |= {} if counts.absent is None else {"absent": counts.absent}
        limits = {
            name: mean_of_shares_limits_by_image(one.pairs(columns), level)
            for name, one in _SHARES.items()
            if one.needs <= set(columns)
        }
        intervals = {name: (float(low), float(high)) for name, (low, high) in limits.items()}
        intervals["stopped_share"] = share_interval(counts.stopped, counts.inside, level)
        intervals = _widened(intervals, drawn or {})
    return Outcome(
        images=int(counts.inside.sum()),
        annotated=int(counts.actual.sum()),
        true_positives=int(counts.hits.sum()),
        false_positives=int(false.sum()),
        misses=int((counts.actual - counts.hits).sum()),
        stopped=int(counts.stopped.sum()),
        absent=None if counts.absent is None else int(counts.absent.sum()),
        intervals=intervals,
        aimed=aimed,
    )


def _widened(plain: Mapping[str, Interval], drawn: Mapping[str, Interval]) -> dict[str, Interval]:
    """Return for each measure the interval that holds both.

    Draws cover the choosing, yet say nothing where all of them agree; the other way round for the
    intervals of shares.
    """
    found = dict(plain)
    for name, (low, high) in drawn.items():
        if name in found and not math.isnan(found[name][0]):
            one = found[name]
            found[name] = one if math.isnan(low) else (min(one[0], low), max(one[1], high))
        else:
            found[name] = (low, high)
    return found
