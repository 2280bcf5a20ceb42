"""How far runs agree where nothing is annotated."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Ints, ratio
from dotledger.core.comparison.box_partners import as_marked
from dotledger.core.comparison.common_images import on_common_images
from dotledger.core.displays import Displayed
from dotledger.core.kinds import KINDS, check_kinds
from dotledger.core.measurement.measure import measure
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.resampling import Interval
from dotledger.core.measures.share_limits import interval_of_cases
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError, ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Agreement", "KindAgreement", "agreement_of", "kappa"]


@dataclass(frozen=True, kw_only=True)
class KindAgreement:
    """How far two runs agree on one kind.

    Attributes
    ----------
    kind : str
        With boxes, or judged by presence.
    both, first_only, second_only : int
        Boxes of a label that both found with the required overlap, or one alone; by presence,
        labels of an image.
    neither : int or None
        By presence only: labels of an image that neither found.
    kappa : float
        Cohen's kappa of presence (J. Cohen, "A coefficient of agreement for nominal scales",
        1960); NaN for boxes, or where chance alone explains everything.
    agreed : float
        both / (both + first_only + second_only); NaN if neither found anything.
    interval : (float, float)
        95 % over images, of `agreed`.
    confidence_difference, confidence_distance : float
        Mean of second minus first, and of its size, over what both found with a confidence.
    """

    kind: str
    both: int
    first_only: int
    second_only: int
    neither: int | None
    kappa: float
    kappa_interval: Interval
    agreed: float
    interval: Interval
    confidence_difference: float
    confidence_distance: float

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        floats = ("kappa", "agreed", "confidence_difference", "confidence_distance")
        ends = {name: getattr(self, name) for name in ("interval", "kappa_interval")}
        return {
            **vars(self),
            **{name: defined(getattr(self, name)) for name in floats},
            **{
                name: None if math.isnan(low) else [low, high] for name, (low, high) in ends.items()
            },
        }


@dataclass(frozen=True, kw_only=True, repr=False)
class Agreement(Displayed):
    """What `compare` returns where nothing is annotated.

    Attributes
    ----------
    names : tuple of str
        Of the runs.
    images : int
        That all answered.
    kinds : dict of (str, str) to tuple of KindAgreement
        By pair of runs.
    disputed : list of dict
        ``image``, ``kind``, ``both``, ``disputed`` of images in which any two runs disagree, the
        most disputed first: where annotating tells the most.
    """

    names: tuple[str, ...]
    images: int
    kinds: Mapping[tuple[str, str], tuple[KindAgreement, ...]]
    disputed: tuple[Mapping[str, Any], ...]

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row a pair and kind."""
        import pandas as pd

        rows = []
        for (first, second), found in self.kinds.items():
            for one in found:
                plain = one.to_dict()
                low, high = plain.pop("interval") or (math.nan, math.nan)
                ends = plain.pop("kappa_interval") or (math.nan, math.nan)
                sides = {"low": low, "high": high, "kappa_low": ends[0], "kappa_high": ends[1]}
                rows.append({"first": first, "second": second, **plain, **sides})
        return pd.DataFrame(rows)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        return {
            "names": list(self.names),
            "images": self.images,
            "pairs": [
                {"first": pair[0], "second": pair[1], "kinds": [one.to_dict() for one in found]}
                for pair, found in self.kinds.items()
            ],
            "disputed": [dict(row) for row in self.disputed],
        }


def agreement_of(
    tables: Mapping[str, Findings], *, overlap: float = 0.5, kinds: Iterable[str] | None = None
) -> Agreement:
    """Return how far runs agree on the images all of them answered.

    Boxes are paired one-to-one by greatest total overlap, so that neither run is the measure of
    the other.

    Parameters
    ----------
    tables : mapping of str to Findings
        At least two, by name, cut at the thresholds that are compared.
    overlap : float, default 0.5
        Required for two boxes to be the same thing.
    kinds : iterable of str, optional
        By default those that any run holds.

    Returns
    -------
    Agreement
        Nobody is right or wrong in it.

    Raises
    ------
    ArgumentError
        If there are fewer than two runs.
    ScopeError
        If no image was answered by all.
    """
    if len(tables) < 2:
        raise ArgumentError("two runs or more are compared", place="compare", got=len(tables))
    common = dict(zip(tables, on_common_images(list(tables.values())), strict=True))
    images = {name for table in common.values() for name in table.image.used()}
    if not images:
        raise ScopeError("no image was answered by all runs", place="compare")
    wanted = None if kinds is None else check_kinds(kinds, place="kinds")
    found: dict[tuple[str, str], tuple[KindAgreement, ...]] = {}
    disputes: dict[tuple[str, str], list[int]] = {}
    for (one, first), (other, second) in combinations(common.items(), 2):
        parts = []
        for kind in _kinds(first, second, wanted):
            agreed, by_image = _agreed(first, second, kind, overlap)
            parts.append(agreed)
            for name, (both, apart) in by_image.items():
                kept = disputes.setdefault((name, kind), [0, 0])
                kept[0] += both
                kept[1] += apart
        found[one, other] = tuple(parts)
    rows: list[dict[str, Any]] = [
        {"image": name, "kind": kind, "both": both, "disputed": apart}
        for (name, kind), (both, apart) in disputes.items()
        if apart
    ]
    rows.sort(key=lambda row: (-row["disputed"], row["image"], row["kind"]))
    return Agreement(names=tuple(tables), images=len(images), kinds=found, disputed=tuple(rows))


def _kinds(first: Findings, second: Findings, wanted: tuple[str, ...] | None) -> list[str]:
    there = {*first.kind.used(), *second.kind.used()}
    judged = [k for k, kind in KINDS.items() if kind.judged != "carried" and k in there]
    return [kind for kind in judged if wanted is None or kind in wanted]


def _agreed(
    first: Findings, second: Findings, kind: str, overlap: float
) -> tuple[KindAgreement, dict[str, tuple[int, int]]]:
    mine = first.take(first.kind.among([kind]))
    theirs = second.take(second.kind.among([kind]))
    labels = tuple(sorted({*mine.label.used(), *theirs.label.used()} - {""}))
    result = measure(
        replace(mine, origin=None),
        as_marked(theirs, labels, kind),
        overlap=overlap,
        kinds=[kind],
        pairing="total-overlap" if KINDS[kind].judged == "boxes" else "confidence",
        draws=0,
    )
    scope, judged = result.basis.scopes[kind], result.basis.judged[kind]
    size, ranked = len(scope.images), judged.findings
    both = np.bincount(ranked.image[judged.hit], minlength=size)
    only = np.bincount(ranked.image[judged.wrong()], minlength=size)
    other = np.bincount(ranked.true_image, minlength=size) - both
    units = size * len(labels)
    counts = (int(both.sum()), int(only.sum()), int(other.sum()))
    neither = None if scope.boxed else units - sum(counts)
    cases = np.repeat(np.arange(size), both + only + other)
    right = np.concatenate(
        [np.arange(b + o + t) < b for b, o, t in zip(both, only, other, strict=True)]
        or [np.zeros(0, dtype=bool)]
    )
    shift = _confidences(result, theirs, kind)
    agreed = KindAgreement(
        kind=kind,
        both=counts[0],
        first_only=counts[1],
        second_only=counts[2],
        neither=neither,
        kappa=math.nan if neither is None else kappa(*counts, neither),
        kappa_interval=(math.nan, math.nan)
        if neither is None
        else kappa_interval(both, only, other, len(labels)),
        agreed=ratio(counts[0], sum(counts)),
        interval=interval_of_cases(cases, right) if len(cases) else (math.nan, math.nan),
        confidence_difference=float(np.mean(shift)) if len(shift) else math.nan,
        confidence_distance=float(np.mean(np.abs(shift))) if len(shift) else math.nan,
    )
    apart = only + other
    by_image = {
        scope.images[i]: (int(both[i]), int(apart[i])) for i in range(size) if both[i] or apart[i]
    }
    return agreed, by_image


def kappa(both: int, first_only: int, second_only: int, neither: int) -> float:
    """Return Cohen's kappa: agreement beyond what chance gives, over all that could be.

    Returns
    -------
    float
        At most 1; NaN without cases, or where chance alone gives full agreement.

    Examples
    --------
    >>> round(kappa(20, 5, 10, 15), 3)  # 0.7 seen, 0.5 by chance
    0.4
    """
    total = both + first_only + second_only + neither
    if not total:
        return math.nan
    seen = (both + neither) / total
    one, other = (both + first_only) / total, (both + second_only) / total
    chance = one * other + (1 - one) * (1 - other)
    return ratio(seen - chance, 1 - chance)


def _confidences(result: Any, theirs: Findings, kind: str) -> Any:
    """Return second minus first for what both found, where both have a confidence."""
    scope, judged = result.basis.scopes[kind], result.basis.judged[kind]
    ranked = judged.findings
    mine = ranked.confidence[judged.hit]
    if scope.boxed:
        rows = scope.annotations.row[judged.annotation]
        other = theirs.take(theirs.blank | ~np.isnan(theirs.box[:, 0])).confidence[rows]
    else:
        other = _highest(theirs, scope, ranked.image[judged.hit], ranked.label[judged.hit])
    known = np.isfinite(mine) & np.isfinite(other)
    return other[known] - mine[known]


def _highest(table: Findings, scope: Any, image: Any, label: Any) -> Any:
    """Return the highest confidence of a label in an image, for each of several."""
    width = max(len(scope.labels), 1)
    best = np.full(len(scope.images) * width, -np.inf)
    at, name = table.image.onto(scope.images), table.label.onto(scope.labels)
    rows = (at >= 0) & (name >= 0)
    confidence = np.where(np.isnan(table.confidence), np.inf, table.confidence)
    np.maximum.at(best, at[rows] * width + name[rows], confidence[rows])
    return best[image * width + label]


def kappa_interval(both: Ints, first_only: Ints, second_only: Ints, labels: int) -> Interval:
    """Return the 95 % interval of Cohen's kappa over images.

    The share on which both agree has an interval over images; what chance gives is taken as it was
    seen (J. L. Fleiss, B. Levin and M. C. Paik, "Statistical Methods for Rates and Proportions",
    2003, 18.1, take the same for a test). So full agreement on few images is not certain.

    Parameters
    ----------
    both, first_only, second_only : ndarray of int, shape (images,)
        Labels of each image by who named them.
    labels : int
        How many each image could have.

    Returns
    -------
    tuple of float
        Lower and upper end, from -1 to 1; NaN with fewer than two images, or where kappa is not
        defined.
    """
    size = len(both)
    units = size * labels
    one, two = int((both + first_only).sum()), int((both + second_only).sum())
    chance = (one * two + (units - one) * (units - two)) / units**2 if units else math.nan
    if size < 2 or math.isnan(chance) or chance == 1:
        return math.nan, math.nan
    apart = first_only + second_only
    cases = np.repeat(np.arange(size), labels)
    agreed = (np.arange(labels) >= apart[:, None]).ravel()
    low, high = ((end - chance) / (1 - chance) for end in interval_of_cases(cases, agreed))
    return max(low, -1.0), min(high, 1.0)
