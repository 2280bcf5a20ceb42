"""The result of a measure whose tables lie elsewhere, in parts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

from dotledger.core.arrays import Ints
from dotledger.core.measurement.measure_result import MeasuredKinds
from dotledger.core.questions.error_diagnosis import Diagnosis, by_confidence, by_size
from dotledger.core.questions.screening_decisions import Decided, ScreeningCounts, screening_of
from dotledger.core.questions.slices import (
    SLICES,
    SliceCodes,
    SliceMeasure,
    check_slice,
    joined_codes,
    slice_measure,
)
from dotledger.errors import ArgumentError

__all__ = [
    "MOST_CASES",
    "DistributedReasons",
    "MeasureAsked",
    "PartedDiagnosis",
    "PartedMeasure",
    "reasons_of",
]

MOST_CASES = 1000
"""Cases of each side that are brought here from the parts; the counts are of all."""


class MeasureAsked(Protocol):
    """Asks questions of the parts, wherever they are."""

    def slice_names(self) -> list[str]:
        """Return what can be sliced by."""

    def slices(self, name: str, edges: Sequence[float] | None) -> list[Mapping[str, SliceCodes]]:
        """Return the slices of each part, by kind."""

    def reasons(self, near: float, small: float) -> list[DistributedReasons]:
        """Return the reasons of each part."""


@dataclass(frozen=True, kw_only=True)
class DistributedReasons:
    """The reasons of one part: how many there are of each, and the first cases.

    Attributes
    ----------
    counts : mapping of str to Counter
        By side; each by reason, kind and label.
    first : Diagnosis
        At most `MOST_CASES` of each side.
    """

    counts: Mapping[str, Counter[tuple[str, str, str]]]
    first: Diagnosis


def reasons_of(found: Diagnosis) -> DistributedReasons:
    """Return what is brought here of the reasons of a part.

    Returns
    -------
    DistributedReasons
        Counts of all cases, and the first of them.
    """
    return DistributedReasons(
        counts={side: found.counts(side) for side in ("wrong", "missed")},
        first=Diagnosis(wrong=found.wrong[:MOST_CASES], missed=found.missed[:MOST_CASES]),
    )


@dataclass(frozen=True, kw_only=True, repr=False)
class PartedDiagnosis(Diagnosis):
    """Reasons of all parts: counts of every case, and the first cases of each side.

    Attributes
    ----------
    every : mapping of str to Counter
        By side; each by reason, kind and label.
    """

    every: Mapping[str, Counter[tuple[str, str, str]]] = field(default_factory=dict)

    def counts(self, side: str) -> Counter[tuple[str, str, str]]:
        """Return how many cases there are by reason, kind and label, those not shown too."""
        return self.every[side]


@dataclass(frozen=True, kw_only=True, repr=False)
class PartedMeasure(MeasuredKinds):
    """The measures of parts: the tables stay where they are.

    Measures, intervals, `curve`, `sweep` and `reliability` are made from what the parts gave;
    `by` and `why` ask each part again. What needs every row in one place is a method of `Measure`
    alone: confusion, images, counts, details and text.

    Attributes
    ----------
    asked : MeasureAsked
        Asks the parts.
    decided : Decided or None
        On each image, where unsafe content is judged.
    orders : mapping of str to ndarray of intp
        By kind, where each image of the scope stands among those of the parts one after another.
    """

    asked: MeasureAsked | None = field(default=None, repr=False, compare=False)
    decided: Decided | None = field(default=None, repr=False, compare=False)
    orders: Mapping[str, Ints] = field(default_factory=dict, repr=False, compare=False)

    def _parts(self) -> MeasureAsked:
        if self.asked is None:
            raise ArgumentError("the parts are not there any more", place="measure")
        return self.asked

    def slice_names(self) -> list[str]:
        """Return the names that `by` takes."""
        return self._parts().slice_names()

    def by(self, name: str, *, edges: Sequence[float] | None = None) -> dict[str, SliceMeasure]:
        """Return the measures by slice, for each kind; each part is read again.

        Parameters
        ----------
        name : str
            See `Measure.by`.

        Raises
        ------
        ArgumentError
            If there is no such slice or column, or the edges do not rise.
        """
        check_slice(name, edges, self.slice_names())
        parts = self._parts().slices(name, edges)
        found = {}
        for kind, scope in self.basis.scopes.items():
            if scope.boxed or name not in SLICES:
                codes = joined_codes([part[kind] for part in parts])
                found[kind] = slice_measure(self.basis, kind, name, self._in_order(kind, codes))
        return found

    def _in_order(self, kind: str, codes: SliceCodes) -> SliceCodes:
        """Return slices with those of images in the order of the scope."""
        if codes.images is None:
            return codes
        return replace(codes, images=codes.images[self.orders[kind]])

    def why(self, *, near: float = 0.1, small: float = 0.001) -> PartedDiagnosis:
        """Give the reasons of all wrong findings and misses, counted; each part is read again.

        Parameters
        ----------
        near, small : float
            See `Measure.why`.

        Returns
        -------
        PartedDiagnosis
            With the first `MOST_CASES` cases of each side; rows are those of their part.
        """
        parts = self._parts().reasons(near, small)
        every: dict[str, Counter[tuple[str, str, str]]] = {"wrong": Counter(), "missed": Counter()}
        for part in parts:
            for side, counts in part.counts.items():
                every[side].update(counts)
        wrong = sorted((c for p in parts for c in p.first.wrong), key=by_confidence)
        missed = sorted((c for p in parts for c in p.first.missed), key=by_size)
        return PartedDiagnosis(wrong=wrong[:MOST_CASES], missed=missed[:MOST_CASES], every=every)

    def screening(self) -> ScreeningCounts | None:
        """Return the four counts of deciding on each image by unsafe content; None without it."""
        drawn = self.basis.resampling
        level = drawn.level if drawn.draws else None
        return None if self.decided is None else screening_of(self.decided, level)
