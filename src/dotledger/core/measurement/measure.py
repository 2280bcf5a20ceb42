"""From two tables to a result: scope, judging, counting, and how sure."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, whole_number
from dotledger.core.kinds import KINDS
from dotledger.core.measurement.measure_arguments import (
    Pairing,
    check_pairing,
    checked_overlaps,
    checked_tolerances,
    require_common_images,
    thresholds_asked,
    wanted_kinds,
)
from dotledger.core.measurement.measure_notes import form_lines, notes_of
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.measurement.result_assembly import About, Totals, assembled, worked_out
from dotledger.core.measures.resampling import Places, Resampling, places_of_images
from dotledger.core.pairing.label_hierarchy import Broader, credited
from dotledger.core.pairing.measure_scope import Scope, counts_by_name, scope_of
from dotledger.core.pairing.pair_judging import judge
from dotledger.core.pairing.total_overlap_pairing import reassigned
from dotledger.core.questions.question_basis import Basis
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.asked_labels import annotations_asked, asked_labels
from dotledger.core.tables.box_clipping import clip_findings
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_annotations, as_findings, in_one_form
from dotledger.core.tables.table_origin import Origin
from dotledger.core.tables.threshold_values import Threshold, Thresholds

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["about_of", "measure", "unjudged_kinds"]

_CALL = "measure(findings, annotations)"


def measure(
    findings: Findings | pd.DataFrame,
    annotations: Annotations | pd.DataFrame,
    *,
    overlap: float | Sequence[float] = 0.5,
    threshold: Threshold | Sequence[float] = None,
    kinds: Iterable[str] | None = None,
    count_unanswered: bool = False,
    pairing: Pairing = "confidence",
    broader: Broader | None = None,
    credit_related: bool = False,
    floor: float | None = None,
    words: Mapping[str, float] | None = None,
    tolerances: Mapping[str, float] | None = None,
    draws: int = 1000,
    seed: int = 0,
) -> Measure:
    """Compare findings with annotations.

    Parameters
    ----------
    findings : Findings or DataFrame
        With the columns of `FINDING_COLUMNS`.
    annotations : Annotations or DataFrame
        With the columns of `ANNOTATION_COLUMNS`.
    overlap : float or sequence of float, default 0.5
        Required overlap for kinds judged by boxes; above 0, up to 1. Of several the first is
        the one shown; each has its `Point`, and the mean average precision is over all.
    threshold : float, str, mapping, sequence of float, or None
        Findings of lower confidence are left out of the counts (not of average precision).
        See `dotledger.core.tables.threshold_values.Threshold`; of several numbers the first is
        shown.
    kinds : iterable of str, optional
        Kinds to judge; by default every judged kind that the annotations hold.
    count_unanswered : bool, default False
        Count annotations of covered images without an answer as missed.
    pairing : {"confidence", "total-overlap"}
        By falling confidence, as defined; or, among what passes the threshold, one-to-one with
        the greatest total overlap (average precision then stays that of the first).
    broader : mapping of str to iterable of str, optional
        Broader labels of each label, next to those that findings carry.
    credit_related : bool, default False
        Count a finding with a broader or narrower label in the right place as right.
    floor : float, optional
        The lowest confidence that the service was asked for or is known to give.
    words : mapping of str to float, optional
        The service's ordered words with their numbers, for thresholds given as words; those
        that findings carry are known anyway.
    tolerances : mapping of str to float, optional
        For attributes that are numbers, such as ``age``: how far off still counts as right.
    draws, seed : int
        For the 95 % intervals: how many draws of images, and where they begin; no intervals
        with 0 draws.

    Returns
    -------
    Measure
        Undefined measures are NaN there and None in its `to_dict`.

    Raises
    ------
    ArgumentError
        If an argument is out of range.
    TableError
        If a frame breaks the common shape.
    ScopeError
        If both tables have images and none in common.
    """
    found = as_findings(findings, _CALL)
    annotated = as_annotations(annotations, _CALL)
    annotated = annotations_asked(annotated, asked_labels(found.origin))
    found, annotated, odd = in_one_form(found, annotated)
    found = clip_findings(found, annotated.images).table if annotated.images else found
    origin = found.origin or Origin()
    floor = origin.floor if floor is None else floor
    overlaps = checked_overlaps(overlap)
    cuts = thresholds_asked(threshold, found, annotated, {**origin.words, **(words or {})}, floor)
    check_pairing(pairing)
    draws = whole_number(draws, place="draws", least=0, most=MOST_DRAWS)
    seed = whole_number(seed, place="seed", least=0, most=MOST_SEED)
    covered = annotated.image.used()
    require_common_images(found.image.used(), covered)
    wanted = wanted_kinds(annotated, kinds)
    if credit_related:
        found = credited(found, annotated, wanted, overlaps[0], cuts[0], broader)
    basis = Basis(
        findings=found,
        annotations=annotated,
        scopes={
            k: scope_of(found, annotated, k, count_unanswered=count_unanswered) for k in wanted
        },
        overlaps=overlaps,
        cuts=cuts,
        pairing=pairing,
        broader={} if broader is None else {n: tuple(b) for n, b in broader.items()},
        credited=credit_related,
        floor=floor,
        resampling=Resampling(draws=draws, seed=seed),
        places=places_of_images(sorted(covered), annotated, found) if draws else Places(),
        tolerances=checked_tolerances(tolerances or {}),
    )
    return _measured(basis, found, annotated, covered, kinds is None, form_lines(odd))


def _measured(
    basis: Basis,
    findings: Findings,
    annotations: Annotations,
    covered: list[str],
    every: bool,
    lines: Sequence[str],
) -> Measure:
    work = []
    for scope in basis.scopes.values():
        judged = judge(scope, basis.overlaps)
        anew = None
        if basis.pairing == "total-overlap" and scope.boxed:
            anew = partial(reassigned, scope)
        work.append(worked_out(basis, about_of(basis, scope), judged, anew=anew))
    common = int(findings.image.uses(covered).sum())
    return assembled(
        basis,
        work,
        Totals(
            unanswered=len(covered) - common,
            uncovered=int(findings.image.present().sum()) - common,
            unjudged_kinds=unjudged_kinds(findings, annotations, covered, basis.cuts[0])
            if every
            else {},
            notes=(*notes_of(basis, list(basis.scopes.values())), *lines),
        ),
        Measure,
    )


def about_of(basis: Basis, scope: Scope) -> About:
    """Return what is known of one kind next to what is judged.

    Returns
    -------
    About
        Findings that are not judged are counted where they pass the first threshold.
    """
    findings, outside = basis.findings, scope.unjudged
    return About(
        kind=scope.kind,
        labels=scope.labels,
        images=scope.images,
        covered=len(basis.annotations.covered(scope.kind)),
        unanswered=scope.unanswered,
        unjudged=counts_by_name(
            findings.label.take(outside[basis.cuts[0].passes(findings, outside)])
        ),
        without_box=len(scope.without_box),
    )


# Findings of a kind that the annotations do not hold at all are unjudged too: nobody looked for
# it.
def unjudged_kinds(
    findings: Findings, annotations: Annotations, covered: list[str], cut: Thresholds
) -> dict[str, int]:
    """Return how many findings on covered images are of a kind that is not annotated, by kind."""
    judged = {*annotations.kind.used(), *annotations.vocabulary}
    other = [k for k in findings.kind.used() if k not in judged and KINDS[k].judged != "carried"]
    if not other:
        return {}  # as mostly, and a large table is not looked through for it
    rows = findings.kind.among(other) & findings.image.among(covered) & ~findings.blank
    outside = np.flatnonzero(rows)
    return counts_by_name(findings.kind.take(outside[cut.passes(findings, outside)]))
