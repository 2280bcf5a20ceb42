"""What looks wrong in the findings of a whole batch, though each of them could be read.

A confidence of 0.087 or a box of four pixels is nothing odd by itself. That no confidence of a
thousand is above 0.1, or that every box lies in one corner, is: another scale or unit is likely.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, slices
from dotledger.core.kinds import BROADER, LANDMARKS
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings

__all__ = ["suspicions"]

# Nine findings may all be small or doubtful by chance, and a note that cries wolf is not read.
_ENOUGH = 10
_LOW = 0.1
_CORNER = 0.1


def suspicions(
    findings: Findings,
    sizes: Mapping[str, tuple[float, float]],
    attributes: Mapping[str, Iterable[str]] | None = None,
) -> list[str]:
    """Return a sentence for each thing that is odd about all findings of a kind.

    Parameters
    ----------
    findings : Findings
        Of one batch; kinds with fewer than ten are passed over.
    sizes : mapping of str to (float, float)
        Width and height of images, upright; those that are missing are not looked at.
    attributes : mapping of str to iterable of str, optional
        By kind the attributes that the description names; `LANDMARKS` and `BROADER` stand for
        those parts of a finding.
    """
    if findings.origin is not None and findings.origin.questions:
        return []  # people answer yes or no: that all are alike says nothing of a scale
    notes: list[str] = []
    for kind in sorted(findings.kind.used()):
        wanted = tuple((attributes or {}).get(kind, ()))
        notes += [f"{kind}: {what}" for what in _of_kind(findings, kind, sizes, wanted)]
    return notes


def _of_kind(
    findings: Findings,
    kind: str,
    sizes: Mapping[str, tuple[float, float]],
    attributes: Sequence[str],
) -> list[str]:
    there, known, highest = _confidences(findings, kind)
    if there < _ENOUGH:
        return []
    notes = []
    if known >= _ENOUGH and highest <= _LOW:
        notes.append(f"no confidence of {known:,} is above {highest:.3g}: another scale?")
    if not known:
        notes.append("no finding has a confidence")
    rows = np.flatnonzero(findings.kind.among([kind]) & ~findings.blank)
    confidence = findings.confidence[rows]
    confidence = confidence[np.isfinite(confidence)]
    if len(confidence) >= _ENOUGH:
        notes += _piled(findings, rows, confidence) or _squeezed(confidence)
    if sizes:
        notes += _of_places(findings, rows, sizes)
    notes += _repeated(findings, rows, sizes)
    missing = _missing(findings, rows, attributes) if attributes else []
    return notes + [f"no finding has {_named(name)}: another path?" for name in missing]


def _confidences(findings: Findings, kind: str) -> tuple[int, int, float]:
    """Return how many findings of a kind there are, how many have a confidence, and the highest."""
    of_kind = findings.kind.placed([kind]) == 0
    named = np.array([bool(name) for name in findings.label.names], dtype=bool)
    there, known, highest = 0, 0, -np.inf
    for part in slices(len(findings)):
        rows = of_kind[findings.kind.codes[part]] & named[findings.label.codes[part]]
        confidence = findings.confidence[part][rows]
        finite = confidence[np.isfinite(confidence)]
        there, known = there + len(confidence), known + len(finite)
        highest = max(highest, float(finite.max(initial=-np.inf)))
    return there, known, highest


def _piled(findings: Findings, rows: Ints, known: Floats) -> list[str]:
    """Return a note if many confidences are exactly 0, 0.5 or 1, as from a misread scale."""
    details = findings.details
    if details is not None and any(
        (one := details[row]) is not None and isinstance(one.own_confidence, str) for row in rows
    ):
        return []  # words have few values, and pile up by themselves
    for value, share, why in _PILES:
        count = int((known == value).sum())
        if count >= share * len(known):
            return [f"{count:,} of {len(known):,} confidences are exactly {value:g}: {why}"]
    return []


_PILES = (
    (0.0, 0.5, "another scale, such as log-odds?"),
    (0.5, 0.5, "the middle of a range, or a scale that is read wrongly?"),
    (1.0, 0.9, "another scale, such as log-odds or percent?"),
)


def _squeezed(known: Floats) -> list[str]:
    """Return a note if confidences keep to a part of 0 to 1 that a misread scale would leave."""
    if known.min() == known.max():
        return []
    if known.min() >= _HALF and known.max() <= _ODDS_OF_ONE:
        return [
            f"all {len(known):,} confidences lie between 0.5 and 0.73: fractions read as log-odds?"
        ]
    if len(known) >= _MANY and _LOW < known.max() <= _HALF:
        return [f"no confidence of {len(known):,} is above {known.max():.3g}: another range?"]
    return []


_HALF = 0.5
_ODDS_OF_ONE = 0.7311
_MANY = 50


def _of_places(
    findings: Findings, rows: Ints, sizes: Mapping[str, tuple[float, float]]
) -> list[str]:
    """Return notes on where in their images boxes end, as shares of width and height."""
    unknown = (np.nan, np.nan)
    size = np.array([sizes.get(name, unknown) for name in findings.image.names], dtype=float)
    image = findings.image.codes[rows]
    ends = findings.box[rows, 2:] / size[image]
    known = ~np.isnan(ends).any(axis=1)
    ends, image = ends[known], image[known]
    if len(ends) < _ENOUGH:
        return []
    if (ends <= _CORNER).all():
        return ["every box lies in the first tenth of its image: another unit?"]
    far = float(ends.max())
    if len(ends) >= _MANY and far <= _MIDDLE:
        return [f"no box of {len(ends)} reaches beyond {far:.2f} of its image: another unit?"]
    return [*_clipped(ends, findings.box[rows[known]]), *_at_an_edge(ends, size[image], far)]


def _clipped(ends: Floats, box: Floats) -> list[str]:
    """Return a note if many boxes end exactly at an edge: they reached further, and were cut."""
    at_edge = (ends >= 1).any(axis=1) | (box[:, :2] <= 0).any(axis=1)
    count = int(at_edge.sum())
    if len(ends) < 2 * _ENOUGH or count < _CLIPPED * len(ends):
        return []
    return [
        f"{count:,} of {len(ends):,} boxes end exactly at an edge of their image: another form?"
    ]


def _at_an_edge(ends: Floats, sizes: Floats, far: float) -> list[str]:
    """Return a note if boxes end where the edge of the image would be in another grid.

    A box at the edge of its image ends at 1. If many end at 1000 of 1024, whatever the image's
    size, and none beyond, the edge is likely there.
    """
    there = (ends > far - _SAME_PLACE).any(axis=1)
    if int(there.sum()) < _AT_EDGE or len(np.unique(sizes[there], axis=0)) < 2:
        return []
    for counted, read_as in _GRIDS:
        if abs(counted / read_as - far) < _SAME_PLACE / 2:
            return [
                f"{int(there.sum())} boxes end at {far:.4f} of a side, and none beyond: a grid of "
                f"{counted} read as one of {read_as}?"
            ]
    return []


_MIDDLE = 0.6
_CLIPPED = 0.5
_SAME_PLACE = 6e-4
_AT_EDGE = 5
_GRIDS = ((999, 1000), (1000, 1024), (999, 1024), (640, 1000), (640, 1024))
"""What a whole side counts, and what it is read as."""


def _repeated(
    findings: Findings, rows: Ints, sizes: Mapping[str, tuple[float, float]]
) -> list[str]:
    """Return a note if images have exactly the findings of another image."""
    rows = rows[_tells_apart(findings, rows)[findings.image.codes[rows]]]
    if len(rows):
        rows = rows[_may_be_repeated(findings, rows, sizes)]
    if not len(rows):
        return []
    codes = findings.image.codes[rows]
    numbers = np.column_stack(
        [
            findings.label.codes[rows],
            np.nan_to_num(findings.confidence[rows], nan=-1.0),
            _in_fractions(findings, rows, sizes),
        ]
    )
    order = np.lexsort((*numbers.T[::-1], codes))
    starts = np.flatnonzero(np.diff(codes[order], prepend=-1))
    seen: dict[bytes, list[str]] = {}
    for start, stop in zip(starts, [*starts[1:], len(order)], strict=True):
        own = numbers[order[start:stop]].tobytes()
        seen.setdefault(own, []).append(findings.image.names[codes[order[start]]])
    alike = [names for names in seen.values() if len(names) > 1]
    if not alike:
        return []
    count = sum(len(names) for names in alike)
    first = " and ".join(sorted(alike[0])[:2])
    return [
        f"{count:,} images have exactly the findings of another one ({first}): copies, or an "
        "answer given twice?"
    ]


def _tells_apart(findings: Findings, rows: Ints) -> Flags:
    """Tell of which images equal findings mean that one answer was given twice.

    Those with a box. Confidences alone mean it if they have more than two digits and hardly any
    occurs twice (those of words do), and only three or more together.
    """
    images = len(findings.image.names)
    codes, confidence = findings.image.codes[rows], findings.confidence[rows]
    boxed = np.isfinite(findings.box[rows, 0])
    fine = np.isfinite(confidence) & (np.abs(100 * confidence - np.round(100 * confidence)) > 1e-6)
    fine &= ~boxed
    values = confidence[fine]
    if 2 * len(np.unique(values)) <= len(values):
        fine[:] = False
    has_box = np.bincount(codes[boxed], minlength=images) > 0
    found: Flags = has_box | (np.bincount(codes[fine], minlength=images) >= _SEVERAL)
    return found


_SEVERAL = 3


def _may_be_repeated(
    findings: Findings, rows: Ints, sizes: Mapping[str, tuple[float, float]]
) -> Flags:
    """Tell which rows are of images whose sums are those of another image: hardly any."""
    images = len(findings.image.names)
    sums, counts = np.zeros(images), np.zeros(images, dtype=np.intp)
    # Whatever the order of the rows, equal findings have equal sums, but for the last digits.
    for part in slices(len(rows)):
        some = rows[part]
        columns = [
            np.nan_to_num(findings.confidence[some]),
            *_in_fractions(findings, some, sizes).T,
        ]
        weighted = sum(weight * one for weight, one in zip(_WEIGHTS, columns, strict=True))
        codes = findings.image.codes[some]
        sums += np.bincount(codes, weighted, minlength=images)
        counts += np.bincount(codes, minlength=images)
    keys = np.round(sums, 6) + np.where(counts > 0, 0.0, np.nan)
    order = np.argsort(keys, kind="stable")
    near = np.diff(keys[order]) <= _SUMS_APART
    alike = np.zeros(len(sums), dtype=bool)
    alike[order[1:][near]] = alike[order[:-1][near]] = True
    found: Flags = alike[findings.image.codes[rows]]
    return found


_WEIGHTS = (1.0, 2.7182818, 3.1415927, 1.6180340, 1.4142136)
_SUMS_APART = 1e-5


def _in_fractions(
    findings: Findings, rows: Ints, sizes: Mapping[str, tuple[float, float]]
) -> Floats:
    """Return boxes as shares of their image's sides: of other sizes the pixels would differ."""
    box = np.nan_to_num(findings.box[rows])
    if not sizes:
        return box
    names = findings.image.names
    size = np.array([sizes.get(name, (1.0, 1.0)) for name in names], dtype=float).reshape(-1, 2)
    share: Floats = np.round(box / np.tile(size[findings.image.codes[rows]], 2), 9)
    return share


def _named(name: str) -> str:
    return name if name in (LANDMARKS, BROADER) else f"the attribute {name!r}"


def _missing(findings: Findings, rows: Ints, attributes: Sequence[str]) -> list[str]:
    every = findings.details
    details = [] if every is None else [one for n in rows if (one := every[n]) is not None]
    return [name for name in attributes if not _has(details, name)]


def _has(details: Iterable[Details], name: str) -> bool:
    if name == LANDMARKS:
        return any(one.points for one in details)
    if name == BROADER:
        return any(one.parents for one in details)
    return any(name in one.attributes for one in details)
