"""Sentences that a reader should see before trusting the numbers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.measuring.suspicions import suspicions
from dotledger.core.pairing.scope import Scope, counts_by_name
from dotledger.core.questions.basis import Basis
from dotledger.core.spelling import counted, nearest
from dotledger.core.tables.annotations import Annotations, not_covered_lines
from dotledger.core.tables.findings import Findings

__all__ = ["SMALL_SET", "notes_of"]

SMALL_SET = 30
"""Below this many images in scope, a result says that the set is small."""


def notes_of(basis: Basis, scopes: list[Scope]) -> tuple[str, ...]:
    """Return what a reader should know before trusting the numbers, in sentences.

    Parameters
    ----------
    basis : Basis
        Of the whole measure.
    scopes : list of Scope
        Those that are judged.

    Returns
    -------
    tuple of str
        Empty if nothing is worth a note.
    """
    notes = [note for scope in scopes for note in _scope_notes(basis, scope)]
    if not any(scope.images for scope in scopes):
        notes.append("Nothing is measured: no image has both an answer and annotations of a kind.")
    kept = basis.findings
    notes += kept.origin.lines() if kept.origin else []
    notes += not_covered_lines(basis.annotations.not_covered())
    facts = basis.annotations.images.items()
    sizes = {
        name: (f["width"], f["height"]) for name, f in facts if {"width", "height"} <= f.keys()
    }
    notes += [f"Suspicious: {what}" for what in suspicions(kept, sizes)]
    if len(kept) and not kept.blank.all() and np.isnan(kept.confidence[~kept.blank]).all():
        notes.append("No finding has a confidence: each of them passes every threshold.")
    if repeats := _repeats(basis.findings):
        notes.append(f"{counted(repeats, 'duplicate finding')}; each counts as a false positive.")
    small = [s for s in scopes if 0 < len(s.images) < SMALL_SET]
    if small:
        kinds = ", ".join(f"{s.kind} {len(s.images)}" for s in small)
        notes.append(f"The set is small, fewer than {SMALL_SET} images in scope: {kinds}.")
    if basis.pairing == "total-overlap":
        notes.append("Paired one-to-one by greatest total overlap, not by falling confidence.")
    if basis.credited:
        notes.append("Findings with a broader or narrower label were credited as right.")
    return tuple(notes)


def _repeats(findings: Findings) -> int:
    """Return how many findings are, in every column, what another one is."""
    boxed = np.flatnonzero(~np.isnan(findings.box[:, 0]))
    confidence = np.nan_to_num(findings.confidence[boxed], nan=2.0)
    names = (findings.label.codes, findings.kind.codes, findings.image.codes)
    keys = [*findings.box[boxed].T, confidence, *(name[boxed] for name in names)]
    # Sorting by eight columns takes longer than pairing; so only rows that may be equal are sorted.
    alike = _same_mix(keys)
    keys = [key[alike] for key in keys]
    order = np.lexsort(keys)
    same = np.ones(max(len(order) - 1, 0), dtype=bool)
    for key in keys:
        same &= key[order][1:] == key[order][:-1]
    return int(same.sum())


_ODD = np.uint64(0x9E3779B97F4A7C15)


def _same_mix(keys: Sequence[NDArray[Any]]) -> NDArray[np.intp]:
    """Return the rows whose columns mix to a number that another row has: all equal ones, few more.

    As D. E. Knuth's multiplicative hashing ("The Art of Computer Programming", 3, 6.4).
    """
    mixed = np.zeros(len(keys[0]), dtype=np.uint64)
    for key in keys:
        # Adding zero makes -0.0, which equals 0.0, have the same bits.
        numbers = np.ascontiguousarray(key, dtype=np.float64) + 0.0
        mixed = (mixed ^ numbers.view(np.uint64)) * _ODD
        mixed ^= mixed >> np.uint64(29)
    order = np.argsort(mixed)
    equal = mixed[order][1:] == mixed[order][:-1]
    again = np.zeros(len(order), dtype=bool)
    again[1:] |= equal
    again[:-1] |= equal
    return order[again]


def _outside_vocabulary(annotations: Annotations, scope: Scope) -> dict[str, int]:
    """Return how many annotations of a kind have a label that is not in its vocabulary."""
    rows = (annotations.kind.onto([scope.kind]) == 0) & ~annotations.blank
    return counts_by_name(annotations.label.take(rows & (annotations.label.onto(scope.labels) < 0)))


def _scope_notes(basis: Basis, scope: Scope) -> list[str]:
    notes = []
    if not scope.images:
        notes.append(f"{scope.kind}: no annotated image has an answer for this kind.")
    if len(scope.unjudged) and not len(scope.findings):
        name = next(iter(counts_by_name(basis.findings.take(scope.unjudged).label)))
        near = nearest(name, scope.labels)
        hint = f" The nearest to {name!r} is {near[0]!r}." if near else ""
        notes.append(f"{scope.kind}: no finding has a label of the annotations' vocabulary.{hint}")
    if outside := _outside_vocabulary(basis.annotations, scope):
        listed = ", ".join(f"{label} {count}" for label, count in outside.items())
        notes.append(
            f"{scope.kind}: the vocabulary is narrower than the annotations; not judged: {listed}."
        )
    if len(scope.without_box):
        notes.append(
            f"{scope.kind}: {len(scope.without_box)} findings without a box were set aside."
        )
    return notes
