"""Broader and narrower labels: findings that name the right thing too loosely or too finely."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from dotledger.core.arrays import Ints
from dotledger.core.pairing.greedy_pairing import pair_edges
from dotledger.core.pairing.measure_scope import Scope, scope_of
from dotledger.core.pairing.overlapping_pairs import Boxes, edges_of, visiting_order
from dotledger.core.pairing.pair_judging import Judged, judge
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.threshold_values import Thresholds

__all__ = [
    "BROAD",
    "NARROW",
    "Broader",
    "Related",
    "carried_parents",
    "credited",
    "lineage",
    "open_sides",
    "related_of",
    "related_pairs",
    "relation_table",
]

Broader = Mapping[str, Iterable[str]]
"""Broader labels of each label; what is broader still follows by itself."""

BROAD, NARROW = 1, 2


@dataclass(frozen=True, eq=False, kw_only=True)
class Related:
    """Findings in the right place whose label is broader or narrower than the annotated one.

    Attributes
    ----------
    finding : ndarray of intp, shape (r,)
        Rows of the findings table.
    annotation : ndarray of intp, shape (r,)
        Rows of the scope's annotations.
    relation : ndarray of int, shape (r,)
        `BROAD` or `NARROW`.
    """

    finding: Ints
    annotation: Ints
    relation: Ints


def lineage(findings: Findings, broader: Broader | None = None) -> dict[str, frozenset[str]]:
    """Return all broader labels of each label: those given, those findings carry, and theirs.

    Returns
    -------
    dict of str to frozenset of str
        A label is never broader than itself, rings included.
    """
    direct: dict[str, set[str]] = {name: set(above) for name, above in (broader or {}).items()}
    for name, above in carried_parents(findings).items():
        direct.setdefault(name, set()).update(above)
    return {name: frozenset(_above(name, direct)) for name in direct}


def carried_parents(findings: Findings) -> dict[str, frozenset[str]]:
    """Return the broader labels that findings carry, by label.

    Returns
    -------
    dict of str to frozenset of str
        Only of labels that have some.
    """
    found: dict[str, set[str]] = {}
    for code, details in zip(findings.label.codes, findings.details or (), strict=False):
        if details is not None and details.parents:
            found.setdefault(findings.label.names[code], set()).update(details.parents)
    return {name: frozenset(above) for name, above in found.items()}


def _above(name: str, direct: Mapping[str, Iterable[str]]) -> set[str]:
    seen: set[str] = set()
    waiting = [*direct.get(name, ())]
    while waiting:
        if (label := waiting.pop()) not in seen and label != name:
            seen.add(label)
            waiting += direct.get(label, ())
    return seen


def relation_table(
    found: tuple[str, ...], annotated: tuple[str, ...], above: Mapping[str, frozenset[str]]
) -> Ints:
    """Return `BROAD`, `NARROW` or 0 for each pair of names: shape (found, annotated).

    Parameters
    ----------
    above : mapping of str to frozenset of str
        See `lineage`.

    Returns
    -------
    ndarray of intp
        All 0 if `above` is empty.
    """
    table = np.zeros((len(found), len(annotated)), dtype=np.intp)
    if not above:
        return table
    for i, name in enumerate(found):
        for j, true in enumerate(annotated):
            if name in above.get(true, ()):
                table[i, j] = BROAD
            elif true in above.get(name, ()):
                table[i, j] = NARROW
    return table


def related_pairs(
    scope: Scope,
    findings: Findings,
    open_findings: Ints,
    open_annotations: Ints,
    required: float,
    above: Mapping[str, frozenset[str]],
) -> Related:
    """Pair what exact pairing left, where labels are broader or narrower.

    Parameters
    ----------
    findings : Findings
        The table the scope was made from.
    open_findings : ndarray of intp
        Rows of `findings` that pass the threshold and are not right, unjudged ones too.
    open_annotations : ndarray of intp
        Rows of the scope's annotations that are missed.
    required : float
        The required overlap; of no account for presence.
    above : mapping of str to frozenset of str
        See `lineage`.
    """
    names = findings.label.names
    table = relation_table(names, scope.labels, above)
    if not table.any():
        nothing = np.zeros(0, dtype=np.intp)
        return Related(finding=nothing, annotation=nothing, relation=nothing)
    found = Boxes(
        group=findings.image.take(open_findings).onto(scope.images), box=findings.box[open_findings]
    )
    annotations = scope.annotations.take(open_annotations).by_image()
    code, label = findings.label.codes[open_findings], scope.annotations.label[open_annotations]
    if not scope.boxed:
        found, annotations = _everywhere(found), _everywhere(annotations)
    order = visiting_order(annotations)
    edges = edges_of(found, annotations, order, required)
    kept = edges.take(table[code[edges.finding], label[edges.annotation]] > 0)
    pairs = pair_edges(kept, found, findings.confidence[open_findings], order, required)
    return Related(
        finding=open_findings[pairs.finding],
        annotation=open_annotations[pairs.annotation],
        relation=table[code[pairs.finding], label[pairs.annotation]],
    )


def _everywhere(boxes: Boxes) -> Boxes:
    """Give everything the same place: without boxes, being in the image is enough."""
    return Boxes(group=boxes.group, box=np.tile([0.0, 0.0, 1.0, 1.0], (len(boxes), 1)))


def open_sides(
    scope: Scope, findings: Findings, cut: Thresholds, hits: Ints, annotations: Ints
) -> tuple[Ints, Ints]:
    """Return the findings that pass and are not right, and the truth that is missed.

    Parameters
    ----------
    findings : Findings
        The table the scope was made from.
    hits, annotations : ndarray of intp
        Rows of the scope's sides that are right and found, at the threshold.
    """
    wrong = np.ones(len(scope.findings), dtype=bool)
    wrong[hits] = False
    rows = np.concatenate([scope.findings.row[wrong], scope.unjudged])
    rows = np.sort(rows[cut.passes(findings, rows)])
    if scope.boxed:
        rows = rows[~np.isnan(findings.box[rows, 0])]
    missed = ~scope.ignore
    missed[annotations] = False
    return rows, np.flatnonzero(missed)


def credited(
    findings: Findings,
    annotations: Annotations,
    kinds: Iterable[str],
    required: float,
    cut: Thresholds,
    broader: Broader | None,
) -> Findings:
    """Return the findings with related labels in the right place renamed to the annotated ones.

    Parameters
    ----------
    required : float
        The required overlap, above 0 up to 1.
    broader : mapping of str to iterable of str, or None
        Broader labels of a label, next to those the findings carry.

    Returns
    -------
    Findings
        Of the same rows in the same order.
    """
    above = lineage(findings, broader)
    labels = findings.label.values().copy()
    for kind in kinds:
        scope = scope_of(findings, annotations, kind)
        [judged] = judge(scope, (required,))
        found = related_of(scope, findings, judged, cut, above)
        names = np.array(scope.labels, dtype=object)
        labels[found.finding] = names[scope.annotations.label[found.annotation]]
    return replace(findings, label=Coded.of(labels.tolist()))


def related_of(
    scope: Scope,
    findings: Findings,
    judged: Judged,
    cut: Thresholds,
    above: Mapping[str, frozenset[str]],
) -> Related:
    """Return the related pairs of one kind among what a judgement leaves at a threshold.

    Parameters
    ----------
    findings : Findings
        The table the scope was made from.
    judged : Judged
        Of one kind, at one required overlap.
    above : mapping of str to frozenset of str
        See `lineage`.

    Returns
    -------
    Related
        Empty if no label is related to another.
    """
    if judged.required is None:
        return _related_presence(scope, findings, cut, above)
    keep = judged.findings.passing(cut.least(scope.kind, scope.labels))[judged.hit]
    sides = open_sides(scope, findings, cut, judged.hit[keep], judged.annotation[keep])
    return related_pairs(scope, findings, *sides, judged.required, above)


def _related_presence(
    scope: Scope, findings: Findings, cut: Thresholds, above: Mapping[str, frozenset[str]]
) -> Related:
    least = cut.least(scope.kind, scope.labels)
    labels = max(len(scope.labels), 1)
    units, annotated = (
        scope.findings.grouped(labels).group,
        scope.annotations.grouped(labels).group,
    )
    passing = scope.confidence >= least[scope.findings.label]
    hits = np.flatnonzero(passing & np.isin(units, annotated))
    found = np.flatnonzero(np.isin(annotated, units[passing]))
    return related_pairs(
        scope, findings, *open_sides(scope, findings, cut, hits, found), 1.0, above
    )
