"""What looks wrong in the findings of a whole batch, though each of them could be read.

A confidence of 0.087 or a box of four pixels is nothing odd by itself. That no confidence of a
thousand is above 0.1, or that every box lies in one corner, is: another scale or unit is likely.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from dotledger.core.arrays import Ints, slices
from dotledger.core.kinds import BROADER, LANDMARKS
from dotledger.core.tables.details import Details
from dotledger.core.tables.findings import Findings

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
    notes += _piled(findings, kind)
    if not sizes and not attributes:
        return notes  # as mostly; which rows they are is not needed then
    rows = np.flatnonzero(findings.kind.among([kind]) & ~findings.blank)
    if sizes and _in_a_corner(findings, rows, sizes):
        notes.append("every box lies in the first tenth of its image: another unit?")
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


def _piled(findings: Findings, kind: str) -> list[str]:
    """Return a note if many confidences are exactly 0, 0.5 or 1, as from a misread scale."""
    rows = np.flatnonzero(findings.kind.among([kind]) & ~findings.blank)
    details = findings.details
    if details is not None and any(
        (one := details[row]) is not None and isinstance(one.own_confidence, str) for row in rows
    ):
        return []  # words have few values, and pile up by themselves
    confidence = findings.confidence[rows]
    known = confidence[np.isfinite(confidence)]
    if len(known) < _ENOUGH:
        return []
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


def _named(name: str) -> str:
    return name if name in (LANDMARKS, BROADER) else f"the attribute {name!r}"


def _in_a_corner(findings: Findings, rows: Ints, sizes: Mapping[str, tuple[float, float]]) -> bool:
    unknown = (np.nan, np.nan)
    size = np.array([sizes.get(name, unknown) for name in findings.image.names], dtype=float)
    ends = findings.box[rows, 2:] / size[findings.image.codes[rows]]
    known = ~np.isnan(ends).any(axis=1)
    return int(known.sum()) >= _ENOUGH and bool((ends[known] <= _CORNER).all())


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
