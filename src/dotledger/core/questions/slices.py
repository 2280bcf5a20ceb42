"""Measures by slice: by size, crowding, the image's edge, or any column the user has.

The pairing stays that of the whole; slices only sort what it gave. What is right or missed goes
with its annotation. What is wrong goes with the finding's own box where that has the property
(size, edge) and with its image for columns of images; where it can go with neither, precision is
undefined for the slice.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.displays import Displayed
from dotledger.core.measures.intervals import Spread, spread_of
from dotledger.core.measures.measure_rows import Row, row_of
from dotledger.core.measures.registry import MEASURES, records_for
from dotledger.core.measures.resampling import Interval, Resampling, placed
from dotledger.core.measures.share_limits import mean_of_shares_limits_by_image
from dotledger.core.measures.tally import tally
from dotledger.core.pairing.measure_scope import Scope
from dotledger.core.pairing.pair_judging import Judged, Ranked
from dotledger.core.questions.finding_slices import (
    FOUND,
    finding_slice_names,
    finding_values,
    matched_codes,
)
from dotledger.core.questions.image_properties import area_shares, at_edge, crowding_of
from dotledger.core.tables.finding_details import attribute_list, entries_of
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis
    from dotledger.core.tables.annotations_table import Annotations

__all__ = [
    "SLICES",
    "SliceCodes",
    "SliceMeasure",
    "check_slice",
    "joined_codes",
    "slice_codes",
    "slice_measure",
    "slice_names",
    "sliced",
]


SLICES: Mapping[str, tuple[float, ...]] = {
    "size": (0.001, 0.01, 0.1),
    "crowding": (1e-9, 0.1, 0.3),
    "edge": (),
}
"""The slices that need no column, with their edges: shares of the image's area; overlaps."""

_UNKNOWN = "not known"


@dataclass(frozen=True, kw_only=True, repr=False)
class SliceMeasure(Displayed):
    """The measures of one kind by slice.

    Attributes
    ----------
    name : str
        What it is sliced by.
    kind : str
        One of `KINDS`.
    rows : mapping of str to Row
        By slice, in order. Where wrong findings cannot be told to a slice (`judges_wrong` is
        false) only what concerns annotations is defined; where misses cannot (`judges_missed` is
        false), only what concerns findings.
    judges_wrong, judges_missed : bool
        Whether every wrong finding, and every annotation that was missed, belongs to a slice.
    """

    name: str
    kind: str
    rows: Mapping[str, Row]
    judges_wrong: bool
    judges_missed: bool = True

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        rows = {name: self._plain(row) for name, row in self.rows.items()}
        judges = {"judges_wrong": self.judges_wrong, "judges_missed": self.judges_missed}
        return {**judges, "slices": rows}

    def _plain(self, row: Row) -> dict[str, Any]:
        plain = row.to_dict()
        for judged, counts, measures in (
            (self.judges_wrong, ("false_positives", "set_aside", "true_negatives"), _OF_WRONG),
            (self.judges_missed, ("annotated", "misses"), _OF_MISSED),
        ):
            if not judged:
                plain |= dict.fromkeys((*counts, *measures))
                if "intervals" in plain:
                    plain["intervals"] |= dict.fromkeys(measures)
        return plain

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each slice; NaN where undefined."""
        import pandas as pd

        rows = [{"slice": name, **self._plain(row)} for name, row in self.rows.items()]
        for row in rows:
            row.pop("contributing_images", None)
            for name, ends in (row.pop("intervals", None) or {}).items():
                row[f"{name}_low"], row[f"{name}_high"] = ends or (None, None)
        frame = pd.DataFrame(rows, columns=None if rows else ["slice"])
        return frame.astype({name: float for name in frame.columns if name != "slice"})


_OF_WRONG = tuple(name for name, one in MEASURES.items() if not one.ratios or "found" in one.needs)
"""What counts wrong findings, or is made of their curve."""
_OF_MISSED = tuple(
    name for name, one in MEASURES.items() if not one.ratios or "actual" in one.needs
)
"""What counts annotations, or is made of their curve."""


def slice_names(basis: Basis) -> list[str]:
    """Return what can be sliced by: size, crowding and edge, and the user's columns.

    Returns
    -------
    list of str
        Columns in the order of the alphabet.
    """
    annotations = basis.annotations
    boxed = any(scope.boxed for scope in basis.scopes.values())
    columns = {name for facts in annotations.images.values() for name in facts}
    for details in annotations.details or ():
        columns |= set(details.attributes) if details is not None else set()
    for listed in _lists(basis) & columns:
        columns = columns - {listed} | _entry_names(annotations, listed)
    columns -= {"width", "height", "sent_width", "sent_height", "orientation", *SLICES}
    return [*(SLICES if boxed else ()), *sorted(columns)]


def _lists(basis: Basis) -> set[str]:
    """Return the attributes that are lists somewhere: text in annotations may be one, too."""
    return {
        name
        for table in (basis.findings, basis.annotations)
        for details in table.details or ()
        if details is not None
        for name, value in details.attributes.items()
        if attribute_list(value) is not None
    }


def _entry_names(annotations: Annotations, name: str) -> set[str]:
    """Return a slice for each entry of a list: ``accessories=hat`` has those with and without."""
    told = (d.attributes.get(name) for d in annotations.details or () if d is not None)
    return {f"{name}={entry}" for value in told if value is not None for entry in entries_of(value)}


def sliced(basis: Basis, name: str, edges: Sequence[float] | None) -> dict[str, SliceMeasure]:
    """Return the measures by slice, for each kind; see `Measure.by`.

    Parameters
    ----------
    edges : sequence of float, or None
        Ends of bands, rising; None for our own.

    Returns
    -------
    dict of str to SliceMeasure
        By kind; empty if the slice concerns none.

    Raises
    ------
    ArgumentError
        If there is no such slice or column, or the edges do not rise or are not taken.
    """
    check_slice(name, edges, [*slice_names(basis), *finding_slice_names(basis)])
    by_kind = {
        kind: slice_codes(basis, kind, name, edges)
        for kind, scope in basis.scopes.items()
        if scope.boxed or (name not in SLICES and not name.startswith(FOUND))
    }
    return {
        kind: slice_measure(basis, kind, name, codes)
        for kind, codes in by_kind.items()
        # A kind none of whose findings has the attribute has nothing to be sliced.
        if not name.startswith(FOUND) or (codes.found < len(codes.names) - 1).any()
    }


def check_slice(name: str, edges: Sequence[float] | None, known: Sequence[str]) -> None:
    """Refuse a slice before anything is worked out or shown.

    Parameters
    ----------
    edges : sequence of float, or None
        Ends of bands, rising; None for our own.
    known : sequence of str
        From `slice_names`.

    Raises
    ------
    ArgumentError
        If there is no such slice or column, or the edges do not rise or are not taken.
    """
    if name not in known:
        raise ArgumentError("nothing to slice by", place="by", got=name, allowed=known)
    if edges is not None and name == "edge":
        raise ArgumentError("this slice takes no edges", place="by", got=name)
    if edges is not None and any(b <= a for a, b in itertools.pairwise(edges)):
        raise ArgumentError("edges must rise", place="edges", got=tuple(edges))


@dataclass(frozen=True, eq=False, kw_only=True)
class SliceCodes:
    """Which slice each finding, annotation and image of one kind is in.

    Attributes
    ----------
    names : tuple of str
        Of the slices; codes count into them.
    found : ndarray of intp, shape (n,)
        Of each finding judged; -1 for one that is in none.
    annotated : ndarray of intp, shape (m,)
        Of each countable annotation.
    images : ndarray of intp, shape (images,), or None
        Of each image in scope, where the slice is one of images.
    judges_wrong, judges_missed : bool
        Whether every wrong finding, and every annotation that was missed, belongs to a slice.
    """

    names: tuple[str, ...]
    found: Ints
    annotated: Ints
    images: Ints | None
    judges_wrong: bool
    judges_missed: bool = True


def slice_codes(
    basis: Basis,
    kind: str,
    name: str,
    edges: Sequence[float] | None,
    *,
    of_images: bool | None = None,
) -> SliceCodes:
    """Sort what was judged into slices.

    Parameters
    ----------
    edges : sequence of float, or None
        Ends of bands, rising; None for our own.
    of_images : bool, optional
        Whether it is a column of images; by default if some image has it.

    Returns
    -------
    SliceCodes
        What has no value is in the last slice.
    """
    scope, judged = basis.scopes[kind], basis.judged[kind]
    if name.startswith(FOUND):
        own, found = _coded(finding_values(basis, kind, name, edges), edges)
        return SliceCodes(
            names=tuple(own),
            found=found,
            annotated=matched_codes(basis, kind, found),
            images=None,
            judges_wrong=True,
            judges_missed=False,
        )
    names, of_annotations, of_findings, of_image = _assigned(
        basis, scope, judged, (name, edges, of_images)
    )
    return SliceCodes(
        names=tuple(names),
        found=_found_in(scope, judged, of_annotations, of_findings),
        annotated=of_annotations[~scope.ignore] if scope.boxed else of_annotations,
        images=of_image,
        judges_wrong=of_findings is not None,
    )


def joined_codes(parts: Sequence[SliceCodes]) -> SliceCodes:
    """Return the slices of several parts of the images, one after another.

    Parameters
    ----------
    parts : sequence of SliceCodes
        Of one kind and slice; at least one.

    Returns
    -------
    SliceCodes
        Slices that only some parts have are sorted among the others, the unknown last.
    """
    if len({part.names for part in parts}) == 1:
        names = parts[0].names
    else:
        names = (*sorted({n for p in parts for n in p.names} - {_UNKNOWN}), _UNKNOWN)
    place = {name: code for code, name in enumerate(names)}

    def together(columns: Sequence[Ints]) -> Ints:
        # One place more, so that -1 stays -1.
        tables = [np.array([*(place[n] for n in part.names), -1]) for part in parts]
        return np.concatenate([t[own] for t, own in zip(tables, columns, strict=True)])

    images = [part.images for part in parts if part.images is not None]
    return SliceCodes(
        names=names,
        found=together([part.found for part in parts]),
        annotated=together([part.annotated for part in parts]),
        images=together(images) if images else None,
        judges_wrong=all(part.judges_wrong for part in parts),
        judges_missed=all(part.judges_missed for part in parts),
    )


def slice_measure(basis: Basis, kind: str, name: str, codes: SliceCodes) -> SliceMeasure:
    """Count and measure by slice.

    Parameters
    ----------
    basis : Basis
        Judged; its tables are not looked at.
    """
    scope, judged = basis.scopes[kind], basis.judged[kind]
    names, of_image = codes.names, codes.images
    anew = _relabelled(judged, codes)
    passes = basis.passing(kind)
    counts = tally(anew, passes)
    resampling = basis.resampling
    spread = (
        spread_of([anew], passes, resampling, placed(scope.images, basis.places))
        if resampling.draws and scope.images and names
        else None
    )
    rows = [row_of(counts, i, *_sure(spread, i)) for i in range(len(names))]
    if not scope.boxed:
        rows = [_without_overlap(row) for row in rows]
    if not scope.boxed and of_image is not None:
        rows = _with_absences(rows, judged, passes, of_image, resampling)
    kept = {n: r for n, r in zip(names, rows, strict=True) if _says_anything(r, codes)}
    return SliceMeasure(
        name=name,
        kind=kind,
        rows=kept,
        judges_wrong=codes.judges_wrong,
        judges_missed=codes.judges_missed,
    )


def _says_anything(row: Row, codes: SliceCodes) -> bool:
    expected = row.annotated if codes.judges_missed else row.true_positives
    return bool(expected or row.false_positives or row.true_negatives or row.set_aside)


def _with_absences(
    rows: list[Row], judged: Judged, passes: Flags, of_image: Ints, resampling: Resampling
) -> list[Row]:
    """Return the rows of slices of images with what is rightly absent there.

    A case is an image and a label that is not annotated there; a slice of images made to trick a
    service has nothing but these.
    """
    findings = judged.findings
    wrong = passes.copy()
    wrong[judged.hit] = wrong[judged.aside] = False
    alarms = np.bincount(findings.image[wrong], minlength=findings.images)
    hits = np.bincount(findings.image[judged.hit[passes[judged.hit]]], minlength=findings.images)
    present = np.bincount(findings.true_image, minlength=findings.images)
    doubtful = np.bincount(findings.doubtful_image, minlength=findings.images)
    absent = findings.labels - present - doubtful
    columns = {"hits": hits, "found": hits + alarms, "actual": present, "absent": absent}
    columns = {name: one.astype(np.float64) for name, one in columns.items()}
    added = {n: one for n, one in records_for(presence=True).items() if "absent" in one.needs}
    found = []
    for code, row in enumerate(rows):
        mine = of_image == code
        intervals, images = dict(row.intervals), dict(row.images)
        if resampling.draws:
            for name, record in added.items():
                pairs = record.pairs({n: one[mine] for n, one in columns.items()})
                low, high = mean_of_shares_limits_by_image(pairs, resampling.level)
                intervals[name] = float(low), float(high)
                images[name] = int(np.any([m > 0 for _, m in pairs], axis=0).sum())
        negatives = int(absent[mine].sum() - alarms[mine].sum())
        found.append(replace(row, true_negatives=negatives, intervals=intervals, images=images))
    return found


def _sure(spread: Spread | None, place: int) -> tuple[Mapping[str, Interval], Mapping[str, int]]:
    return (spread.labels[place], spread.label_images[place]) if spread else ({}, {})


def _without_overlap(row: Row) -> Row:
    """Return a row of a kind without boxes, whose overlaps mean nothing."""
    intervals = {name: ends for name, ends in row.intervals.items() if name != "mean_overlap"}
    return replace(row, mean_overlap=float("nan"), intervals=intervals)


def _assigned(
    basis: Basis,
    scope: Scope,
    judged: Judged,
    wanted: tuple[str, Sequence[float] | None, bool | None],
) -> tuple[list[str], Ints, Ints | None, Ints | None]:
    """Return the slices' names, and the slice of each annotation, finding and image.

    Rows of findings and images have none (None) where the property is not theirs. For presence,
    annotations and findings are units.
    """
    annotations, (name, edges, of_images) = basis.annotations, wanted
    if name in SLICES:
        of_annotations, of_findings = _property(annotations, scope, name)
        ends = SLICES[name] if edges is None else tuple(edges)
        if name == "edge":
            names, ends = ["away from the edge", "at the edge"], (0.5,)
        else:
            names = _band_names(ends, "{:.3g}", percent=name == "size")
        bands = _banded(of_annotations, ends)
        finding_bands = None if of_findings is None else _banded(of_findings, ends)
        return [*names, _UNKNOWN], bands, finding_bands, None
    annotation_values = _column(annotations, scope, name)
    by_image = _image_column(annotations, scope, name, of_images)
    finding_values = None if by_image is None else [by_image[i] for i in judged.findings.image]
    if not scope.boxed:
        annotation_values = _unit_values(scope, judged, annotation_values, by_image)
    names, codes = _coded([*annotation_values, *(finding_values or []), *(by_image or [])], edges)
    split = len(annotation_values)
    if finding_values is None:
        return names, codes[:split], None, None
    last = split + len(finding_values)
    return names, codes[:split], codes[split:last], codes[last:]


def _found_in(scope: Scope, judged: Judged, of_annotations: Ints, of_findings: Ints | None) -> Ints:
    """Return the slice of each finding: what is right goes with its annotation."""
    findings = judged.findings
    label = (
        np.full(len(findings.label), -1, dtype=np.intp)
        if of_findings is None
        else of_findings.copy()
    )
    if scope.boxed:
        label[judged.hit] = of_annotations[judged.annotation]
    else:
        place = dict(
            zip(
                zip(findings.true_image.tolist(), findings.true_label.tolist(), strict=True),
                of_annotations.tolist(),
                strict=True,
            )
        )
        units = zip(
            findings.image[judged.hit].tolist(), findings.label[judged.hit].tolist(), strict=True
        )
        label[judged.hit] = [place[unit] for unit in units]
    return label


# Slices never pair anew, so that they add up to the whole.
def _relabelled(judged: Judged, codes: SliceCodes) -> Judged:
    """Return the judgement with slices instead of labels."""
    findings = judged.findings
    homeless = np.flatnonzero(codes.found < 0)
    nothing = np.zeros(0, dtype=np.intp)
    return Judged(
        findings=Ranked(
            labels=len(codes.names),
            images=findings.images,
            label=np.maximum(codes.found, 0),
            image=findings.image,
            confidence=findings.confidence,
            true_label=codes.annotated,
            true_image=findings.true_image,
            units=None,
            doubtful_label=nothing,
            doubtful_image=nothing,
        ),
        required=judged.required,
        hit=judged.hit,
        overlap=np.nan_to_num(judged.overlap),
        annotation=judged.annotation,
        aside=np.union1d(judged.aside, homeless),
    )


def _banded(values: Floats, edges: Sequence[float]) -> Ints:
    bands = np.searchsorted(np.array(edges), values, side="right")
    return np.where(np.isnan(values), len(edges) + 1, bands).astype(np.intp)


def _band_names(edges: Sequence[float], form: str, *, percent: bool) -> list[str]:
    shown = [f"{100 * e:.3g} %" if percent else form.format(e) for e in edges]
    if not shown:
        return ["all"]
    if tuple(edges) == SLICES["crowding"]:
        return ["alone", f"under {shown[1]}", *_between(shown[1:]), f"{shown[-1]} and more"]
    return [f"under {shown[0]}", *_between(shown), f"{shown[-1]} and more"]


def _between(shown: Sequence[str]) -> list[str]:
    return [f"{a} to {b}" for a, b in itertools.pairwise(shown)]


def _property(annotations: Annotations, scope: Scope, name: str) -> tuple[Floats, Floats | None]:
    """Return a property of each annotated box, and of each finding's if it has it."""
    if name == "crowding":
        return crowding_of(scope.annotations), None
    of = area_shares if name == "size" else at_edge
    return of(annotations, scope, scope.annotations), of(annotations, scope, scope.findings)


def _column(annotations: Annotations, scope: Scope, name: str) -> list[Any]:
    """Return the user's value for each annotation in scope, its own or its image's.

    Of ``accessories=hat`` it is whether the list of the attribute has that entry.
    """
    found = []
    listed, is_entry, entry = name.partition("=")
    for row, image in zip(
        scope.annotations.row.tolist(), scope.annotations.image.tolist(), strict=True
    ):
        details = annotations.details[row] if annotations.details else None
        told = details.attributes if details is not None else {}
        own = told.get(name)
        if is_entry and own is None and told.get(listed) is not None:
            own = "with" if entry in entries_of(told[listed]) else "without"
        facts = annotations.images.get(scope.images[image], {})
        found.append(facts.get(name) if own is None else own)
    return found


def _image_column(
    annotations: Annotations, scope: Scope, name: str, of_images: bool | None
) -> list[Any] | None:
    """Return the user's value for each image in scope; None if it is no column of images."""
    if of_images is None:
        of_images = any(name in facts for facts in annotations.images.values())
    if not of_images:
        return None
    return [annotations.images.get(image, {}).get(name) for image in scope.images]


def _unit_values(
    scope: Scope, judged: Judged, values: list[Any], by_image: list[Any] | None
) -> list[Any]:
    """Return the value of each present unit: the first by name, if its annotations differ."""
    findings = judged.findings
    first: dict[tuple[int, int], Any] = {}
    places = zip(
        scope.annotations.image.tolist(), scope.annotations.label.tolist(), values, strict=True
    )
    for image, label, value in sorted(places, key=lambda entry: str(entry[2])):
        first.setdefault((image, label), value)
    units = zip(findings.true_image.tolist(), findings.true_label.tolist(), strict=True)
    return [first[unit] if by_image is None else by_image[unit[0]] for unit in units]


def _coded(values: Iterable[Any], edges: Sequence[float] | None) -> tuple[list[str], Ints]:
    """Return the slices of a column, and each value's; numbers are banded if edges are given."""
    kept = list(values)
    if edges is not None:
        numbers = np.array([_number(value) for value in kept], dtype=np.float64)
        return [*_band_names(edges, "{:.6g}", percent=False), _UNKNOWN], _banded(numbers, edges)
    texts = [_UNKNOWN if value is None or value == "" else str(value) for value in kept]
    names = sorted(set(texts) - {_UNKNOWN})
    index = {name: code for code, name in enumerate([*names, _UNKNOWN])}
    return list(index), np.array([index[text] for text in texts], dtype=np.intp)


def _number(value: Any) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return float("nan")
