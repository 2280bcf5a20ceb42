"""Sentences that a reader should see before trusting the numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import slices
from dotledger.core.measurement.suspicious_readings import suspicions
from dotledger.core.pairing.measure_scope import Scope, counts_by_name
from dotledger.core.questions.box_conventions import ImageSize, convention_lines
from dotledger.core.questions.question_basis import Basis
from dotledger.core.spelling import counted, first_of, nearest
from dotledger.core.tables.annotations_table import Annotations, not_covered_lines
from dotledger.core.tables.findings_table import Findings

__all__ = [
    "SMALL_SET",
    "form_lines",
    "notes_of",
    "repeats_of",
    "size_notes",
    "sizes_in",
    "suspicious_lines",
]

SMALL_SET = 30
"""Below this many images in scope, a result says that the set is small."""


def notes_of(basis: Basis, scopes: list[Scope], *, part: bool = False) -> tuple[str, ...]:
    """Return what a reader should know before trusting the numbers, in sentences.

    Parameters
    ----------
    part : bool, default False
        Leave out what can only be said of all parts together; see `size_notes`.

    Returns
    -------
    tuple of str
        Empty if nothing is worth a note.
    """
    counts = [(s.kind, len(s.images), len(s.without_box)) for s in scopes]
    notes = [note for scope in scopes for note in _scope_notes(basis, scope)]
    notes += [] if part else _left_out(counts)
    kept = basis.findings
    notes += kept.origin.lines() if kept.origin else []
    notes += not_covered_lines(basis.annotations.not_covered())
    notes += suspicious_lines(kept, basis.annotations, conventions=not part)
    if len(kept) and not kept.blank.all() and np.isnan(kept.confidence[~kept.blank]).all():
        notes.append("No finding has a confidence: each of them passes every threshold.")
    notes += [] if part else _counted(counts, repeats_of(basis.findings))
    if basis.pairing == "total-overlap":
        notes.append("Paired one-to-one by greatest total overlap, not by falling confidence.")
    if basis.credited:
        notes.append("Findings with a broader or narrower label were credited as right.")
    return tuple(notes)


def suspicious_lines(
    findings: Findings, annotations: Annotations, *, conventions: bool = True
) -> list[str]:
    """Return what looks wrong in findings as a whole, and in how their boxes fit annotations.

    Parameters
    ----------
    annotations : Annotations
        With what is known about images; sizes make more visible.
    conventions : bool, default True
        Also whether boxes should be read in another way.
    """
    sizes = sizes_in(annotations)
    found = suspicions(findings, {name: (s.width, s.height) for name, s in sizes.items()})
    if conventions:
        found += convention_lines(findings, annotations, sizes)
    return [f"Suspicious: {line}" for line in found]


def sizes_in(annotations: Annotations) -> dict[str, ImageSize]:
    """Return the sizes of images that annotations know, by name.

    Parameters
    ----------
    annotations : Annotations
        Their facts about images come from files, a ledger or a table.

    Returns
    -------
    dict of str to ImageSize
        Images without both sides are left out.
    """
    facts = annotations.images.items()
    return {name: _size_of(f) for name, f in facts if {"width", "height"} <= f.keys()}


def _size_of(facts: Mapping[str, Any]) -> ImageSize:
    """Return what is known of an image; out of a ledger also what was sent, and how turned."""
    width, height = facts["width"], facts["height"]
    return ImageSize(
        width=width,
        height=height,
        sent_width=facts.get("sent_width", width),
        sent_height=facts.get("sent_height", height),
        orientation=facts.get("orientation", 1),
    )


def form_lines(labels: Sequence[str]) -> list[str]:
    """Return a note on labels that were normalised to NFC."""
    if not labels:
        return []
    listed = first_of(labels, 5)
    return [f"Written in another Unicode form somewhere, and taken as one label: {listed}."]


Sizes = Sequence[tuple[str, int, int]]


def size_notes(sizes: Sizes, repeats: int) -> list[str]:
    """Return the notes that depend on how much there is.

    Parameters
    ----------
    sizes : sequence of (str, int, int)
        Of each kind: its name, its images in scope, and its findings that lack a box.
    """
    return [*_left_out(sizes), *_counted(sizes, repeats)]


def _left_out(sizes: Sizes) -> list[str]:
    notes = []
    for kind, images, without_box in sizes:
        if not images:
            notes.append(f"{kind}: no annotated image has an answer for this kind.")
        if without_box:
            notes.append(f"{kind}: {without_box} findings without a box were set aside.")
    if not any(images for _, images, _ in sizes):
        notes.append("Nothing is measured: no image has both an answer and annotations of a kind.")
    return notes


def _counted(sizes: Sizes, repeats: int) -> list[str]:
    notes = []
    if repeats:
        notes.append(f"{counted(repeats, 'duplicate finding')}; each counts as a false positive.")
    small = ", ".join(f"{kind} {images}" for kind, images, _ in sizes if 0 < images < SMALL_SET)
    if small:
        notes.append(f"The set is small, fewer than {SMALL_SET} images in scope: {small}.")
    return notes


def repeats_of(findings: Findings) -> int:
    """Return how many findings are, in every column, what another one is."""
    # Sorting by eight columns takes longer than pairing; so only rows that may be equal are sorted.
    parts = slices(len(findings))
    mixed = [_mixed(_columns(findings, part))[_boxed(findings, part)] for part in parts]
    alike = _not_single(np.concatenate([_NONE, *mixed]))
    if not len(alike):
        return 0  # as mostly
    keys = _columns(findings, np.flatnonzero(_boxed(findings, slice(None)))[alike])
    order = np.lexsort(keys)
    same = np.ones(max(len(order) - 1, 0), dtype=bool)
    for key in keys:
        same &= key[order][1:] == key[order][:-1]
    return int(same.sum())


_ODD = np.uint64(0x9E3779B97F4A7C15)
_NONE = np.empty(0, dtype=np.uint64)


def _boxed(findings: Findings, part: slice) -> NDArray[np.bool_]:
    return ~np.isnan(findings.box[part, 0])


def _columns(findings: Findings, rows: NDArray[np.intp] | slice) -> list[NDArray[Any]]:
    """Return every column of some rows, as numbers."""
    confidence = np.nan_to_num(findings.confidence[rows], nan=2.0)
    names = (findings.label.codes, findings.kind.codes, findings.image.codes)
    return [*findings.box[rows].T, confidence, *(name[rows] for name in names)]


def _mixed(keys: Sequence[NDArray[Any]]) -> NDArray[np.uint64]:
    """Return a number for each row; rows that are equal in all columns have the same.

    As D. E. Knuth's multiplicative hashing ("The Art of Computer Programming", 3, 6.4).
    """
    mixed = np.zeros(len(keys[0]), dtype=np.uint64)
    for key in keys:
        # Adding zero makes -0.0, which equals 0.0, have the same bits.
        numbers = np.ascontiguousarray(key, dtype=np.float64) + 0.0
        mixed = (mixed ^ numbers.view(np.uint64)) * _ODD
        mixed ^= mixed >> np.uint64(29)
    return mixed


def _not_single(mixed: NDArray[np.uint64]) -> NDArray[np.intp]:
    """Return the places whose number stands at another place too."""
    # Values alone are sorted several times as fast as places; mostly no two are equal.
    ordered = np.sort(mixed)
    twice = ordered[1:][ordered[1:] == ordered[:-1]]
    return np.flatnonzero(np.isin(mixed, np.unique(twice))) if len(twice) else twice.astype(np.intp)


def _outside_vocabulary(annotations: Annotations, scope: Scope) -> dict[str, int]:
    """Return how many annotations of a kind have a label that is not in its vocabulary."""
    rows = annotations.kind.among([scope.kind]) & ~annotations.blank
    return counts_by_name(annotations.label.take(rows & ~annotations.label.among(scope.labels)))


def _scope_notes(basis: Basis, scope: Scope) -> list[str]:
    notes = []
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
    return notes
