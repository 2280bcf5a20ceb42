"""A measure in parts: what each part gives, and the result that is made from their sum.

Each part holds whole images: what was found in them, and what is annotated. A first look says what
must be known of all parts before any is judged (`PartFacts`): a finding is judged against the
labels that are annotated anywhere, not only next to it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.measurement.measure import about_of, unjudged_kinds
from dotledger.core.measurement.measure_notes import notes_of, repeats_of, size_notes
from dotledger.core.measurement.result_assembly import About, Totals, assembled, worked_out
from dotledger.core.measures.partial_counts import JudgedPart, joined, packed
from dotledger.core.measures.resampling import Places, places_of_images
from dotledger.core.pairing.label_hierarchy import carried_parents
from dotledger.core.pairing.measure_scope import Scope, Side, scope_of
from dotledger.core.pairing.pair_judging import Judged, judge
from dotledger.core.questions.question_basis import Basis
from dotledger.core.questions.screening_decisions import Decided, decided
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.box_clipping import clip_findings
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_origin import Origin
from dotledger.distributed.distributed_measure import MeasureAsked, PartedMeasure
from dotledger.distributed.partitioned_questions import (
    PartFacts,
    PartRequest,
    Sets,
    facts_of,
    request_of,
    united,
)
from dotledger.errors import ScopeError, TableError

__all__ = [
    "KindPart",
    "Part",
    "PartFacts",
    "PartRequest",
    "basis_of",
    "facts_of",
    "measured",
    "part_of",
    "request_of",
    "with_parents",
]


@dataclass(frozen=True, eq=False, kw_only=True)
class KindPart:
    """One kind of one part.

    Attributes
    ----------
    about : About
        Of the part.
    judged : JudgedPart
        What is right.
    top : ndarray of float64, shape (images,)
        The highest confidence in each image, of whatever label; ``-inf`` for none.
    ignored : tuple of two ndarray of int
        Label and image of annotations marked `ignore`; boxes only.
    """

    about: About
    judged: JudgedPart
    top: Floats
    ignored: tuple[Ints, Ints]


@dataclass(frozen=True, eq=False, kw_only=True)
class Part:
    """What one part gives: everything that results are made from, and no table.

    Attributes
    ----------
    kinds : mapping of str to KindPart
        By kind.
    covered : tuple of str
        Images that the annotations cover, sorted.
    answered : int
        How many images have findings.
    parents : mapping of str to frozenset of str
        Broader labels that findings carry.
    repeats : int
        Duplicate findings.
    places : ndarray of float64, shape (covered, k)
        What decides which draws each of them gets; empty without draws.
    totals : Totals
        Of the part.
    decided : Decided or None
        On each image, where unsafe content is judged.
    """

    kinds: Mapping[str, KindPart]
    covered: tuple[str, ...]
    answered: int
    parents: Mapping[str, frozenset[str]]
    repeats: int
    places: Floats
    totals: Totals
    decided: Decided | None


def basis_of(request: PartRequest, findings: Findings, annotations: Annotations) -> Basis:
    """Return what every question about one part is asked of, judged.

    Returns
    -------
    Basis
        Labels are those of all parts.
    """
    return _judged_basis(request, findings, annotations)[0]


def _judged_basis(
    request: PartRequest, findings: Findings, annotations: Annotations
) -> tuple[Basis, dict[str, list[Judged]]]:
    """Return the basis, and what is right at each required overlap, by kind."""
    labels = request.facts.labels
    annotated = replace(
        annotations, vocabulary={kind: tuple(sorted(labels[kind])) for kind in sorted(labels)}
    )
    found = clip_findings(findings, annotated.images).table if annotated.images else findings
    scopes = {
        kind: scope_of(found, annotated, kind, count_unanswered=request.count_unanswered)
        for kind in request.kinds
    }
    covered = sorted(annotated.image.used())
    judged = {kind: judge(scope, request.overlaps) for kind, scope in scopes.items()}
    basis = Basis(
        findings=found,
        annotations=annotated,
        scopes=scopes,
        overlaps=request.overlaps,
        cuts=request.cuts,
        pairing="confidence",
        broader=request.broader,
        credited=False,
        floor=request.floor,
        resampling=request.resampling,
        places=places_of_images(covered, annotated, found)
        if request.resampling.draws
        else Places(),
        judged={kind: each[0] for kind, each in judged.items()},
    )
    return basis, judged


def with_parents(request: PartRequest, parts: Iterable[Part]) -> PartRequest:
    """Return the request with the broader labels that findings of any part carry.

    Parameters
    ----------
    request : PartRequest
        As it was given to the parts.

    Returns
    -------
    PartRequest
        For `basis_of`: a reason may be that the label is too broad.
    """
    known: Sets = {name: frozenset(above) for name, above in request.broader.items()}
    for part in parts:
        known = united(known, part.parents)
    return replace(request, broader={n: tuple(sorted(above)) for n, above in known.items()})


def part_of(request: PartRequest, findings: Findings, annotations: Annotations) -> Part:
    """Judge one part.

    Parameters
    ----------
    findings, annotations
        Of one part; both may be empty.

    Returns
    -------
    Part
        In columns, to be sent elsewhere.
    """
    basis, judged = _judged_basis(request, findings, annotations)
    found, annotated = basis.findings, basis.annotations
    covered = sorted(annotated.image.used())
    answered = set(found.image.used())
    return Part(
        kinds={
            kind: _kind_part(basis, scope, judged[kind]) for kind, scope in basis.scopes.items()
        },
        covered=tuple(covered),
        answered=len(answered),
        parents=carried_parents(found),
        repeats=repeats_of(found),
        places=basis.places.keys,
        totals=Totals(
            unanswered=len(set(covered) - answered),
            uncovered=len(answered - set(covered)),
            unjudged_kinds=unjudged_kinds(found, annotated, covered, basis.cuts[0])
            if request.every
            else {},
            notes=notes_of(basis, list(basis.scopes.values()), part=True),
        ),
        decided=decided(basis) if "unsafe" in basis.judged else None,
    )


def _kind_part(basis: Basis, scope: Scope, judged: Sequence[Judged]) -> KindPart:
    ignored = scope.annotations.take(scope.ignore)
    return KindPart(
        about=about_of(basis, scope),
        judged=packed(judged),
        top=_highest(basis.findings, scope),
        ignored=(ignored.label, ignored.image),
    )


def _highest(findings: Findings, scope: Scope) -> Floats:
    """Return the highest confidence of the kind in each image in scope, whatever its label."""
    top = np.full(len(scope.images), -np.inf)
    image = findings.image.onto(scope.images)
    rows = findings.kind.among([scope.kind]) & ~findings.blank & (image >= 0)
    confidence = findings.confidence[rows]
    np.maximum.at(top, image[rows], np.where(np.isnan(confidence), np.inf, confidence))
    return top


def measured(request: PartRequest, parts: Sequence[Part], asked: MeasureAsked) -> PartedMeasure:
    """Return the result of all parts together.

    Parameters
    ----------
    asked : MeasureAsked
        Asks further questions of the parts.

    Returns
    -------
    PartedMeasure
        Counts, measures and intervals are those of all parts read as one table.

    Raises
    ------
    TableError
        If an image is in two parts.
    ScopeError
        If there are images on both sides and none in common.
    """
    _check_parts(parts)
    order = {name: place for place, name in enumerate(sorted(_covered(parts)))}
    whole = {kind: _whole(kind, parts) for kind in request.kinds}
    basis = _basis(request, parts, list(order), whole)
    work = [worked_out(basis, one.about, one.judged) for one in whole.values()]
    result = assembled(basis, work, _totals(request, parts, whole), PartedMeasure)
    return replace(
        result,
        asked=asked,
        decided=_decided(parts, whole.get("unsafe")),
        orders={kind: one.order for kind, one in whole.items()},
    )


def _covered(parts: Sequence[Part]) -> Iterable[str]:
    return chain.from_iterable(part.covered for part in parts)


def _check_parts(parts: Sequence[Part]) -> None:
    """Refuse parts that share an image, and findings next to the annotations of another part."""
    seen: dict[str, int] = {}
    for number, part in enumerate(parts):
        if part.answered and part.covered and part.answered == part.totals.uncovered:
            raise ScopeError(
                f"none of the {part.answered} images with findings is among the "
                f"{len(part.covered)} annotated ones of the same part",
                place=f"part {number + 1}",
                allowed=[repr(name) for name in part.covered[:3]],
                next_step="Give each part as a pair: findings, then annotations of those images.",
            )
        for name in part.covered:
            if seen.setdefault(name, number) != number:
                raise TableError(
                    "an image is annotated in two parts",
                    place=f"parts {seen[name] + 1} and {number + 1}",
                    got=name,
                    next_step="Each part holds whole images: put all rows of an image into one.",
                )


@dataclass(frozen=True, eq=False, kw_only=True)
class _Whole:
    """One kind of all parts together."""

    about: About
    judged: list[Any]
    top: Floats
    ignored: tuple[Ints, Ints]
    order: Ints


def _whole(kind: str, parts: Sequence[Part]) -> _Whole:
    """Put the parts of a kind together; images stand sorted, as in one table."""
    mine = [part.kinds[kind] for part in parts]
    names = [name for part in mine for name in part.about.images]
    order = np.array(sorted(range(len(names)), key=names.__getitem__), dtype=np.intp)
    place = np.empty(len(names), dtype=np.intp)
    place[order] = np.arange(len(names))
    ends = np.cumsum([len(part.about.images) for part in mine])
    places = np.split(place, ends[:-1])
    ignored = [
        (part.ignored[0], own[part.ignored[1]]) for part, own in zip(mine, places, strict=True)
    ]
    unjudged: Counter[str] = Counter()
    for part in mine:
        unjudged.update(part.about.unjudged)
    return _Whole(
        about=About(
            kind=kind,
            labels=mine[0].about.labels,
            images=tuple(names[i] for i in order.tolist()),
            covered=sum(part.about.covered for part in mine),
            unanswered=sum(part.about.unanswered for part in mine),
            unjudged=dict(sorted(unjudged.items())),
            without_box=sum(part.about.without_box for part in mine),
        ),
        judged=joined([part.judged for part in mine], places),
        top=np.concatenate([part.top for part in mine])[order],
        ignored=(
            np.concatenate([label for label, _ in ignored]),
            np.concatenate([image for _, image in ignored]),
        ),
        order=order,
    )


def _basis(
    request: PartRequest, parts: Sequence[Part], covered: list[str], whole: Mapping[str, _Whole]
) -> Basis:
    """Return what results are worked out from: columns, and of the tables only names."""
    empty: Ints = np.zeros(0, dtype=np.intp)
    annotations = Annotations(
        image=Coded(np.arange(len(covered)), tuple(covered)),
        kind=Coded(np.zeros(len(covered), dtype=np.intp), ("",)),
        label=Coded(np.zeros(len(covered), dtype=np.intp), ("",)),
        box=np.full((len(covered), 4), np.nan),
        ignore=np.zeros(len(covered), dtype=bool),
    )
    places = Places()
    if request.resampling.draws:
        keys = [part.places for part in parts if part.covered]
        places = Places(tuple(_covered(parts)), np.concatenate(keys) if keys else np.zeros((0, 0)))
    nothing = Side(row=empty, image=empty, label=empty, box=np.zeros((0, 4)))
    services = {one.service for one in request.facts.origins}
    whose = Origin(service=services.pop()) if len(services) == 1 else None
    return Basis(
        findings=replace(_tops(whole), origin=whose),
        annotations=annotations,
        scopes={
            kind: Scope(
                kind=kind,
                labels=one.about.labels,
                images=one.about.images,
                answered=np.ones(len(one.about.images), dtype=bool),
                unanswered=one.about.unanswered,
                findings=nothing,
                annotations=_ignored(*one.ignored),
                confidence=np.zeros(0),
                ignore=np.ones(len(one.ignored[0]), dtype=bool),
                unjudged=empty,
                without_box=empty,
            )
            for kind, one in whole.items()
        },
        overlaps=request.overlaps,
        cuts=request.cuts,
        pairing="confidence",
        broader=request.broader,
        credited=False,
        floor=request.floor,
        resampling=request.resampling,
        places=places,
    )


def _ignored(label: Ints, image: Ints) -> Side:
    box = np.full((len(label), 4), np.nan)
    return Side(row=np.full(len(label), -1), image=image, label=label, box=box)


def _tops(whole: Mapping[str, _Whole]) -> Findings:
    """Return one finding for each kind and image, as confident as the most confident there.

    A sweep asks no more of the findings that are not judged.
    """
    images, kinds, confidences = [np.zeros(0, dtype=np.intp)], [np.zeros(0, dtype=np.intp)], []
    names: list[str] = []
    for number, one in enumerate(whole.values()):
        there = np.flatnonzero(one.top > -np.inf)
        images.append(there + len(names))
        kinds.append(np.full(len(there), number))
        confidences.append(one.top[there])
        names += one.about.images
    confidence = np.concatenate([np.zeros(0), *confidences])
    rows = len(confidence)
    return Findings(
        image=Coded(np.concatenate(images), tuple(names)),
        kind=Coded(np.concatenate(kinds), tuple(whole)),
        label=Coded(np.zeros(rows, dtype=np.intp), ("any",)),
        confidence=np.where(np.isinf(confidence), np.nan, confidence),
        box=np.full((rows, 4), np.nan),
    )


def _decided(parts: Sequence[Part], unsafe: _Whole | None) -> Decided | None:
    if unsafe is None:
        return None
    known = [part.decided for part in parts if part.decided is not None]
    columns = {
        name: np.concatenate([getattr(one, name) for one in known])[unsafe.order]
        for name in ("unsafe", "safe", "stopped")
    }
    return Decided(**columns)


def _totals(request: PartRequest, parts: Sequence[Part], whole: Mapping[str, _Whole]) -> Totals:
    kinds: Counter[str] = Counter()
    for part in parts:
        kinds.update(part.totals.unjudged_kinds)
    return Totals(
        unanswered=sum(part.totals.unanswered for part in parts),
        uncovered=sum(part.totals.uncovered for part in parts),
        unjudged_kinds=dict(sorted(kinds.items())) if request.every else {},
        notes=_notes(parts, whole),
    )


def _notes(parts: Sequence[Part], whole: Mapping[str, _Whole]) -> tuple[str, ...]:
    counts: Counter[str] = Counter()
    for part in parts:
        counts.update(part.totals.notes)
    notes = [
        note if count == len(parts) else f"{note} (said of {count} of {len(parts)} parts)"
        for note, count in counts.items()
    ]
    abouts = [one.about for one in whole.values()]
    sizes = [(about.kind, len(about.images), about.without_box) for about in abouts]
    return (*notes, *size_notes(sizes, sum(part.repeats for part in parts)))
