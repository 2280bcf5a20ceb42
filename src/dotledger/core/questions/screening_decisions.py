"""Screening: each image decided on by its unsafe content, as it would be in use."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined, plain_intervals
from dotledger.core.measures.resampling import Interval
from dotledger.core.measures.share_limits import share_interval

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

from dotledger.core.arrays import Flags

__all__ = ["Decided", "ScreeningCounts", "decided", "screening_counts", "screening_of"]


@dataclass(frozen=True, kw_only=True, repr=False)
class ScreeningCounts(Displayed):
    """Counts of deciding on each image: stopped if unsafe content reaches its threshold.

    Attributes
    ----------
    caught, let_through : int
        Images with unsafe content annotated, stopped or not.
    false_alarms, rightly_passed : int
        Images without, stopped or not.
    left_out : int
        Images whose only unsafe annotations are marked `ignore`.
    intervals : mapping of str to (float, float)
        Of `caught_share` and `false_alarm_rate`; empty if none were made.
    """

    caught: int
    let_through: int
    false_alarms: int
    rightly_passed: int
    left_out: int
    intervals: Mapping[str, Interval] = field(default_factory=dict, repr=False)

    @property
    def caught_share(self) -> float:
        """Share of the unsafe images that are stopped; NaN if there are none."""
        return ratio(self.caught, self.caught + self.let_through)

    @property
    def false_alarm_rate(self) -> float:
        """Share of the other images that are stopped; NaN if there are none."""
        return ratio(self.false_alarms, self.false_alarms + self.rightly_passed)

    @property
    def stopped_share(self) -> float:
        """Share of all images decided on that are stopped; NaN if there are none."""
        stopped = self.caught + self.false_alarms
        return ratio(stopped, stopped + self.let_through + self.rightly_passed)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        shares = ("caught_share", "false_alarm_rate", "stopped_share")
        return {
            **{name: value for name, value in vars(self).items() if name != "intervals"},
            **({"intervals": plain_intervals(self.intervals)} if self.intervals else {}),
            **{name: defined(getattr(self, name)) for name in shares},
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row; the ends of intervals are columns of their own."""
        import pandas as pd

        plain = {name: value for name, value in self.to_dict().items() if name != "intervals"}
        ends = {
            f"{name}_{end}": value
            for name, pair in self.intervals.items()
            for end, value in zip(("low", "high"), pair, strict=True)
        }
        return pd.DataFrame([{n: np.nan if v is None else v for n, v in (plain | ends).items()}])


def screening_counts(basis: Basis) -> ScreeningCounts:
    """Decide on each image in scope: stopped if any unsafe finding reaches its threshold.

    Whatever its category: one that the annotations do not know stops an image in use, too. An
    image is unsafe if a category is annotated and not ignored; left out if all are ignored.

    Returns
    -------
    ScreeningCounts
        Rates are NaN where no image is unsafe, or none safe.
    """
    level = basis.resampling.level if basis.resampling.draws else None
    return screening_of(decided(basis), level)


@dataclass(frozen=True, eq=False, kw_only=True)
class Decided:
    """What was decided on each image, and what is true of it: ndarrays of bool, shape (images,).

    Attributes
    ----------
    unsafe, safe : ndarray of bool
        An image that is neither is left out.
    stopped : ndarray of bool
        Whether some unsafe finding reaches its threshold.
    """

    unsafe: Flags
    safe: Flags
    stopped: Flags


def decided(basis: Basis) -> Decided:
    """Decide on each image in scope; see `screening_counts`.

    Returns
    -------
    Decided
        In the order of the scope's images.
    """
    scope, annotated = basis.scopes["unsafe"], basis.annotations
    # Whatever is annotated as unsafe counts, also beyond a narrower vocabulary.
    image = annotated.image.onto(scope.images)
    rows = annotated.kind.among(["unsafe"]) & ~annotated.blank & (image >= 0)
    # A category that is doubtful in an image does not make it unsafe, whatever else says so.
    place = image * max(len(annotated.label.names), 1) + annotated.label.codes
    doubtful = rows & np.isin(place, place[rows & annotated.ignore])
    unsafe = _any(image[rows & ~doubtful], len(scope.images))
    safe = ~unsafe & ~_any(image[doubtful], len(scope.images))
    return Decided(unsafe=unsafe, safe=safe, stopped=_stopped(basis, scope.images))


def screening_of(found: Decided, level: float | None) -> ScreeningCounts:
    """Count what was decided.

    Parameters
    ----------
    level : float or None
        Of the intervals; None for none.

    Returns
    -------
    ScreeningCounts
        Rates are NaN where no image is unsafe, or none safe.
    """
    unsafe, safe, stopped = found.unsafe, found.safe, found.stopped
    return ScreeningCounts(
        caught=int((unsafe & stopped).sum()),
        let_through=int((unsafe & ~stopped).sum()),
        false_alarms=int((safe & stopped).sum()),
        rightly_passed=int((safe & ~stopped).sum()),
        left_out=int((~unsafe & ~safe).sum()),
        intervals={}
        if level is None
        else {
            "caught_share": share_interval(unsafe & stopped, unsafe, level),
            "false_alarm_rate": share_interval(safe & stopped, safe, level),
            "stopped_share": share_interval((unsafe | safe) & stopped, unsafe | safe, level),
        },
    )


def _stopped(basis: Basis, images: tuple[str, ...]) -> Flags:
    """Return which images some unsafe finding stops: ndarray of bool, shape (images,)."""
    findings, cut = basis.findings, basis.cuts[0]
    image = findings.image.onto(images)
    rows = findings.kind.among(["unsafe"]) & ~findings.blank & (image >= 0)
    return _any(image[rows & cut.passes(findings)], len(images))


def _any(image: NDArray[np.intp], images: int) -> Flags:
    return np.bincount(image, minlength=images) > 0
