"""Does 90 % mean 90 %: reliability by confidence band, and a mapping that mends it.

Expected calibration error: Naeini, Cooper & Hauskrecht, "Obtaining well calibrated
probabilities using Bayesian binning", 2015. The mapping is isotonic regression (Zadrozny & Elkan,
"Transforming classifier scores into accurate multiclass probability estimates", 2002): the
nearest non-decreasing function, in squares, from a confidence to the share that is right.
"""

from __future__ import annotations

import hashlib
import itertools
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.measures import Flags, Judged, judge, ratio
from dotledger.core.results import defined
from dotledger.core.scope import scope_of
from dotledger.core.shares import interval_of_cases
from dotledger.core.spelling import counted
from dotledger.core.tables import Annotations, Findings
from dotledger.errors import ArgumentError, ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "Band",
    "ConfidenceMap",
    "Reliability",
    "fit_confidence_map",
    "part_of_images",
    "reliability_of",
    "unseen_images",
]

Floats = NDArray[np.float64]

SMALL_FIT = 30
"""A mapping fitted on fewer images is doubted."""

_BANDS = tuple(i / 10 for i in range(1, 10))


@dataclass(frozen=True, kw_only=True)
class Band:
    """Findings within one band of confidence.

    Attributes
    ----------
    low, high : float
        The band: from `low` to below `high`; the last includes 1.
    count, right : int
        How many findings, and how many of them are right.
    mean_confidence, share_right : float
        NaN in an empty band.
    interval : (float, float)
        Of the share right, 95 %, over images; NaN with fewer than two.
    images : int
        That findings of the band are in.
    """

    low: float
    high: float
    count: int
    right: int
    mean_confidence: float
    share_right: float
    interval: tuple[float, float] = (np.nan, np.nan)
    images: int = 0

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {n: v for n, v in vars(self).items() if n != "interval"}
        ends = None if np.isnan(self.interval[0]) else list(self.interval)
        return {**{name: defined(value) for name, value in plain.items()}, "interval": ends}


@dataclass(frozen=True, kw_only=True)
class Reliability:
    """How often findings of a confidence are right.

    Attributes
    ----------
    bands : tuple of Band
        By rising confidence.
    count : int
        Findings judged that have a confidence.
    without_confidence : int
        Findings judged that have none; they are in no band.
    expected_calibration_error : float
        Mean over findings of the distance between their band's mean confidence and its share
        right; NaN without findings.
    """

    bands: Sequence[Band]
    count: int
    without_confidence: int
    expected_calibration_error: float

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "bands": [band.to_dict() for band in self.bands],
            "count": self.count,
            "without_confidence": self.without_confidence,
            "expected_calibration_error": defined(self.expected_calibration_error),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each band."""
        import pandas as pd

        rows = [
            {**vars(b), "low_end": b.interval[0], "high_end": b.interval[1]} for b in self.bands
        ]
        return pd.DataFrame(rows).drop(columns="interval")


def reliability_of(
    judged: Judged, edges: Sequence[float] | None = None, *, rows: Flags | None = None
) -> Reliability:
    """Return the reliability of everything said about one kind, whatever the threshold.

    Parameters
    ----------
    judged : Judged
        At one required overlap; what is set aside does not count.
    edges : sequence of float, optional
        Between the bands, rising, inside 0 to 1; by default ten equal bands.
    rows : ndarray of bool, shape (n,), optional
        Look at these rows of what was said only.

    Raises
    ------
    ArgumentError
        If the edges do not rise or are not inside 0 to 1.
    """
    ends = _BANDS if edges is None else tuple(edges)
    if any(b <= a for a, b in zip((0.0, *ends), (*ends, 1.0), strict=True)):
        raise ArgumentError(
            "edges must rise and lie inside 0 to 1", place="edges", got=ends, allowed=["0 to 1"]
        )
    confidence, right, without, image = _said_with_confidence(judged, rows)
    band = np.searchsorted(np.array(ends), confidence, side="right")
    count = np.bincount(band, minlength=len(ends) + 1)
    hits = np.bincount(band[right], minlength=len(ends) + 1)
    total = np.bincount(band, confidence, minlength=len(ends) + 1)
    bands = tuple(
        Band(
            low=low,
            high=high,
            count=int(n),
            right=int(h),
            mean_confidence=ratio(float(s), int(n)),
            share_right=ratio(int(h), int(n)),
            interval=interval_of_cases(image[band == place], right[band == place]),
            images=len(np.unique(image[band == place])),
        )
        for place, (low, high, n, h, s) in enumerate(
            zip((0.0, *ends), (*ends, 1.0), count, hits, total, strict=True)
        )
    )
    return Reliability(
        bands=bands,
        count=len(confidence),
        without_confidence=without,
        expected_calibration_error=ratio(float(np.abs(hits - total).sum()), len(confidence)),
    )


def _said_with_confidence(
    judged: Judged, rows: Flags | None
) -> tuple[Floats, Flags, int, NDArray[np.intp]]:
    keep = np.ones(len(judged.said.label), dtype=bool) if rows is None else rows.copy()
    keep[judged.aside] = False
    sure = np.isfinite(judged.said.confidence)
    right = np.zeros(len(keep), dtype=bool)
    right[judged.hit] = True
    kept = np.flatnonzero(keep & sure)
    kept = kept[np.argsort(judged.said.confidence[kept], kind="stable")]  # sums in one order
    without = int((keep & ~sure).sum())
    return judged.said.confidence[kept], right[kept], without, judged.said.image[kept]


@dataclass(frozen=True, kw_only=True)
class ConfidenceMap:
    """A non-decreasing mapping from a service's confidences to shares that are right.

    Attributes
    ----------
    knots : mapping of str to tuple of (float, float)
        By kind, confidence and share right, rising; between knots straight lines, beyond them
        level.
    images : frozenset of str
        The images it was fitted on: it may not be judged on them.
    overlap : float
        The required overlap it was fitted at.
    service : str
        Whose findings it was fitted on; empty if that was not known.
    contents : frozenset of str
        Digests of what is annotated in those images, so that a renamed one is known again.
    """

    knots: Mapping[str, tuple[tuple[float, float], ...]]
    images: frozenset[str]
    overlap: float
    service: str = ""
    contents: frozenset[str] = frozenset()

    def doubts(self, findings: Findings, *, overlap: float | None = None) -> list[str]:
        """Return in words why the mapping may not hold for findings; nothing if it should.

        Parameters
        ----------
        findings : Findings
            Whose confidences are to be mapped.
        overlap : float, optional
            The required overlap that they are judged at.
        """
        found = []
        theirs = findings.origin.service if findings.origin else ""
        if self.service and theirs and theirs != self.service:
            found.append(
                f"The mapping was fitted for {self.service}; these findings are {theirs}'s."
            )
        if overlap is not None and overlap != self.overlap:
            found.append(
                f"The mapping was fitted at a required overlap of {self.overlap:g}, not {overlap:g}"
                ": what is right there is not what is right here."
            )
        if len(self.images) < SMALL_FIT:
            found.append(
                f"The mapping was fitted on {counted(len(self.images), 'image')} only: with fewer "
                f"than {SMALL_FIT} it follows their chances more than the service."
            )
        missing = [k for k in findings.kind.used() if k and k not in self.knots]
        if missing:
            found.append(f"The mapping leaves these kinds as they are: {', '.join(missing)}.")
        return found

    def apply(self, findings: Findings) -> Findings:
        """Return the findings with mapped confidences; kinds without knots keep theirs.

        A finding without a confidence stays without; order is kept within a kind, but unequal
        confidences may become equal.
        """
        confidence = findings.confidence.copy()
        for kind, knots in self.knots.items():
            rows = (findings.kind.onto([kind]) == 0) & ~np.isnan(confidence)
            x, y = np.array(knots).T
            confidence[rows] = np.interp(confidence[rows], x, y)
        origin = findings.origin and replace(findings.origin, floor=None, words={})
        return replace(findings, confidence=confidence, origin=origin)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        return {
            "confidence_map": 1,
            "overlap": self.overlap,
            "knots": {kind: [list(knot) for knot in knots] for kind, knots in self.knots.items()},
            "images": sorted(self.images),
            "service": self.service,
            "contents": sorted(self.contents),
        }

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> ConfidenceMap:
        """Undo `to_dict`.

        Raises
        ------
        ArgumentError
            If it is no confidence map, or a kind's knots do not rise.
        """
        if plain.get("confidence_map") != 1 or not isinstance(plain.get("knots"), dict):
            raise ArgumentError(
                "not a confidence map", got=sorted(plain), allowed=["confidence_map", "knots"]
            )
        knots = {
            kind: tuple((float(x), float(y)) for x, y in pairs)
            for kind, pairs in plain["knots"].items()
        }
        for kind, pairs in knots.items():
            _check_knots(kind, pairs)
        return cls(
            knots=knots,
            images=frozenset(plain.get("images", ())),
            overlap=float(plain.get("overlap", 0.5)),
            service=str(plain.get("service", "")),
            contents=frozenset(plain.get("contents", ())),
        )


def _check_knots(kind: str, knots: Sequence[tuple[float, float]]) -> None:
    flat = [value for knot in knots for value in knot]
    rising = all(a[0] < b[0] and a[1] <= b[1] for a, b in itertools.pairwise(knots))
    if not knots or not rising or not all(0.0 <= value <= 1.0 for value in flat):
        raise ArgumentError(
            "the knots of a confidence map do not rise, or are not from 0 to 1",
            place=kind,
            got=list(knots)[:5],
        )


def fit_confidence_map(
    findings: Findings,
    annotations: Annotations,
    *,
    overlap: float = 0.5,
    kinds: Iterable[str] | None = None,
    images: Iterable[str] | None = None,
) -> ConfidenceMap:
    """Fit a mapping from confidences to the share that is right, by isotonic regression.

    Parameters
    ----------
    findings, annotations
        What was said and what is true.
    overlap : float, default 0.5
        Required overlap for kinds with boxes.
    kinds : iterable of str, optional
        By default every judged kind that the annotations hold.
    images : iterable of str, optional
        Fit on these images only, and judge the mapping on others.

    Raises
    ------
    ScopeError
        If no finding with a confidence can be judged.
    """
    from dotledger.core.measuring import wanted_kinds

    chosen = None if images is None else set(images)
    knots: dict[str, tuple[tuple[float, float], ...]] = {}
    used: set[str] = set()
    for kind in wanted_kinds(annotations, kinds):
        said = findings if chosen is None else findings.take(_on(findings, chosen))
        scope = scope_of(said, annotations, kind)
        confidence, right, _, _ = _said_with_confidence(judge(scope, (overlap,))[0], None)
        if len(confidence):
            knots[kind] = _isotonic(confidence, right)
            used.update(scope.images)
    if not knots:
        raise ScopeError(
            "no finding with a confidence can be judged, so no mapping can be fitted",
            next_step="Annotate some of the images that were sent.",
        )
    digests = contents_of(annotations)
    return ConfidenceMap(
        knots=knots,
        images=frozenset(used),
        overlap=overlap,
        service=findings.origin.service if findings.origin else "",
        contents=frozenset(digests[name] for name in used if name in digests),
    )


def contents_of(annotations: Annotations) -> dict[str, str]:
    """Return by image a digest of its annotated boxes, where no other image has the same.

    Boxes of the same labels in the same places, to nine significant digits, tell that two names
    are one image; but not where they are common, as one box around the whole image is.
    """
    rows = np.flatnonzero(~np.isnan(annotations.box[:, 0]))
    names, kinds, labels = (
        column.take(rows).values()
        for column in (annotations.image, annotations.kind, annotations.label)
    )
    lines: dict[str, list[str]] = {}
    for name, kind, label, box in zip(names, kinds, labels, annotations.box[rows], strict=True):
        corners = " ".join(f"{corner:.9g}" for corner in box)
        lines.setdefault(str(name), []).append(f"{kind} {label} {corners}")
    digests = {
        name: hashlib.sha256("\n".join(sorted(found)).encode("utf-8", "replace")).hexdigest()
        for name, found in lines.items()
    }
    counts = Counter(digests.values())
    return {name: digest for name, digest in digests.items() if counts[digest] == 1}


def part_of_images(
    findings: Findings, annotations: Annotations, share: float, seed: int = 0
) -> list[str]:
    """Return a random part of the images that have both findings and annotations.

    Parameters
    ----------
    share : float
        Above 0 and below 1; at least one image is taken and at least one left.
    seed : int
        The same seed takes the same images.

    Raises
    ------
    ArgumentError
        If `share` is out of range.
    ScopeError
        If there are fewer than two such images.
    """
    if not 0.0 < share < 1.0:
        raise ArgumentError(
            "a share is out of range", place="share", got=share, allowed=["above 0, below 1"]
        )
    common = sorted(set(findings.image.used()) & set(annotations.image.used()))
    if len(common) < 2:
        raise ScopeError(
            "a mapping needs images to fit on and others to be judged on",
            got=f"{len(common)} images with findings and annotations",
        )
    count = min(max(1, round(share * len(common))), len(common) - 1)
    chosen = np.random.default_rng(seed).permutation(len(common))[:count]
    return [common[i] for i in sorted(chosen.tolist())]


def _on(findings: Findings, images: set[str]) -> Flags:
    return findings.image.onto(sorted(images)) >= 0


def _isotonic(confidence: Floats, right: Flags) -> tuple[tuple[float, float], ...]:
    """Return the knots of the isotonic fit: both ends of every level stretch."""
    from scipy.optimize import isotonic_regression

    x, place = np.unique(confidence, return_inverse=True)
    weight = np.bincount(place)
    share = np.bincount(place[right], minlength=len(x)) / weight
    y = np.clip(isotonic_regression(share, weights=weight).x, 0.0, 1.0)
    same = np.r_[False, y[1:] == y[:-1]]
    inner = same & np.r_[same[1:], False]
    return tuple(zip(x[~inner].tolist(), y[~inner].tolist(), strict=True))


def unseen_images(mapping: ConfidenceMap, annotations: Annotations) -> Annotations:
    """Return the annotations of images that the mapping was not fitted on.

    An image is known again by its name or by what is annotated in it.

    Raises
    ------
    ScopeError
        If there are none: a mapping is never judged on the images it was fitted on.
    """
    digests = contents_of(annotations)
    again = {name for name, digest in digests.items() if digest in mapping.contents}
    fresh = annotations.image.onto(sorted(mapping.images | again)) < 0
    if not fresh.any():
        raise ScopeError(
            "the mapping was fitted on all of these images, and cannot be judged on them",
            got=f"{len(mapping.images)} images",
            next_step="Annotate other images, or fit on a part of these.",
        )
    return with_whole_vocabulary(annotations).take(fresh)


def with_whole_vocabulary(annotations: Annotations) -> Annotations:
    """Return the annotations with every label that occurs declared, so that no part loses one."""
    kinds = {*annotations.kind.used(), *annotations.vocabulary} - {""}
    return replace(annotations, vocabulary={kind: annotations.labels(kind) for kind in kinds})
