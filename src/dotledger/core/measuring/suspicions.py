"""What looks wrong in the findings of a whole batch, though each of them could be read.

A confidence of 0.087 or a box of four pixels is nothing odd by itself. That no confidence of a
thousand is above 0.1, or that every box lies in one corner, is: another scale or unit is likely.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from dotledger.core.kinds import BROADER, LANDMARKS
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
    found = findings.take(~findings.blank)
    kinds = [(kind, found.kind.onto([kind]) == 0) for kind in sorted(found.kind.used())]
    notes: list[str] = []
    for kind, rows in kinds:
        if rows.sum() >= _ENOUGH:
            one = found.take(rows)
            wanted = tuple((attributes or {}).get(kind, ()))
            notes += [f"{kind}: {what}" for what in _of_kind(one, sizes, wanted)]
    return notes


def _of_kind(
    found: Findings, sizes: Mapping[str, tuple[float, float]], attributes: Sequence[str]
) -> list[str]:
    confidence = found.confidence[np.isfinite(found.confidence)]
    notes = []
    if len(confidence) >= _ENOUGH and confidence.max() <= _LOW:
        notes.append(
            f"no confidence of {len(confidence):,} is above {confidence.max():.3g}: another scale?"
        )
    if not len(confidence):
        notes.append("no finding has a confidence")
    if _in_a_corner(found, sizes):
        notes.append("every box lies in the first tenth of its image: another unit?")
    missing = [name for name in attributes if not _has(found, name)]
    return notes + [f"no finding has {_named(name)}: another path?" for name in missing]


def _named(name: str) -> str:
    return name if name in (LANDMARKS, BROADER) else f"the attribute {name!r}"


def _in_a_corner(found: Findings, sizes: Mapping[str, tuple[float, float]]) -> bool:
    if not sizes or not found.image.names:
        return False
    size = np.array([sizes.get(name, (np.nan, np.nan)) for name in found.image.names], dtype=float)
    ends = found.box[:, 2:] / size[found.image.codes]
    known = ~np.isnan(ends).any(axis=1)
    return int(known.sum()) >= _ENOUGH and bool((ends[known] <= _CORNER).all())


def _has(found: Findings, name: str) -> bool:
    details = [one for one in found.details or () if one is not None]
    if name == LANDMARKS:
        return any(one.points for one in details)
    if name == BROADER:
        return any(one.parents for one in details)
    return any(name in one.attributes for one in details)
