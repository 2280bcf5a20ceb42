"""A mapping from a service's confidences to shares that are right.

It is offered only where it helps on held-out images: see
`dotledger.core.thresholds.confidence_map_fits`.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from dotledger.core.displays import JsonText
from dotledger.core.pairing.measure_scope import scope_of
from dotledger.core.pairing.pair_judging import judge
from dotledger.core.questions.reliability import ranked_with_confidence
from dotledger.core.spelling import counted
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_annotations, as_findings
from dotledger.core.thresholds.confidence_map_fits import helpful_mapping
from dotledger.core.thresholds.image_folds import contents_of, rows_on, with_whole_vocabulary
from dotledger.errors import ArgumentError, ScopeError

__all__ = ["ConfidenceMap", "fit_confidence_map", "unseen_images"]

_CALL = "fit_confidence_map(findings, annotations)"

SMALL_FIT = 30
"""A mapping fitted on fewer images is doubted."""


@dataclass(frozen=True, kw_only=True)
class ConfidenceMap(JsonText):
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
    ways : mapping of str to str
        By kind, how it was fitted: ``identity`` (confidences stay as they are, since nothing did
        better on held-out images), ``logistic`` or ``isotonic``.

    Examples
    --------
    >>> import dotledger
    >>> mapping = dotledger.ConfidenceMap(
    ...     knots={"object": ((0.0, 0.0), (1.0, 0.5))}, images=frozenset(), overlap=0.5
    ... )
    >>> found = dotledger.read_findings("found.csv").filter(kind="object")
    >>> bool((mapping.apply(found[~found.blank]).confidence <= 0.5).all())
    True
    """

    knots: Mapping[str, tuple[tuple[float, float], ...]]
    images: frozenset[str]
    overlap: float
    service: str = ""
    contents: frozenset[str] = frozenset()
    ways: Mapping[str, str] = field(default_factory=dict)

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
        kept = [kind for kind, way in self.ways.items() if way == "identity"]
        if kept:
            found.append(
                "No mapping did better on held-out images; confidences stay as they are: "
                f"{', '.join(kept)}."
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
            rows = findings.kind.among([kind]) & ~np.isnan(confidence)
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
            "ways": dict(self.ways),
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
            ways=dict(plain.get("ways", {})),
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
    """Fit a mapping from confidences to the share that is right, where one helps.

    Of none at all, a logistic curve and isotonic regression, by kind, the simplest is taken that
    does about as well as the best on held-out images.

    Parameters
    ----------
    findings, annotations
        Found and annotated boxes.
    overlap : float, default 0.5
        Required overlap for kinds with boxes.
    kinds : iterable of str, optional
        By default every judged kind that the annotations hold.
    images : iterable of str, optional
        Fit on these images only, and judge the mapping on others.

    Returns
    -------
    ConfidenceMap
        With knots for each kind that has findings with a confidence.

    Raises
    ------
    ScopeError
        If no finding with a confidence can be judged.

    Examples
    --------
    >>> import dotledger
    >>> found, truth = dotledger.read_findings("found.csv"), dotledger.read_annotations("truth.csv")
    >>> sorted(dotledger.fit_confidence_map(found, truth, kinds=["object"]).knots)
    ['object']
    """
    from dotledger.core.measurement.measure_arguments import wanted_kinds

    findings = as_findings(findings, _CALL)
    annotations = as_annotations(annotations, _CALL)
    chosen = None if images is None else set(images)
    knots: dict[str, tuple[tuple[float, float], ...]] = {}
    ways: dict[str, str] = {}
    used: set[str] = set()
    for kind in wanted_kinds(annotations, kinds):
        found = findings if chosen is None else findings.take(rows_on(findings, chosen))
        scope = scope_of(found, annotations, kind)
        confidence, right, _, image = ranked_with_confidence(judge(scope, (overlap,))[0], None)
        if len(confidence):
            ways[kind], knots[kind] = helpful_mapping(confidence, right, image)
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
        ways=ways,
    )


def unseen_images(mapping: ConfidenceMap, annotations: Annotations) -> Annotations:
    """Return the annotations of images that the mapping was not fitted on.

    An image is known again by its name or by what is annotated in it.

    Parameters
    ----------
    mapping : ConfidenceMap
        With the images it was fitted on.

    Returns
    -------
    Annotations
        Those of the other images, empty ones among them.

    Raises
    ------
    ScopeError
        If there are none: a mapping is never judged on the images it was fitted on.
    """
    digests = contents_of(annotations)
    again = {name for name, digest in digests.items() if digest in mapping.contents}
    fresh = ~annotations.image.among(sorted(mapping.images | again))
    if not fresh.any():
        raise ScopeError(
            "the mapping was fitted on all of these images, and cannot be judged on them",
            got=f"{len(mapping.images)} images",
            next_step="Annotate other images, or fit on a part of these.",
        )
    return with_whole_vocabulary(annotations).take(fresh)
