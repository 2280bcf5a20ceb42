"""The arguments of a measure, checked once: behind this door nothing checks again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

import numpy as np

from dotledger.core.arguments import check_overlap, real_number
from dotledger.core.kinds import KINDS, check_kinds
from dotledger.core.spelling import nearest
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import Threshold, Thresholds, thresholds_of
from dotledger.errors import ArgumentError, ScopeError

__all__ = [
    "PAIRINGS",
    "Pairing",
    "check_pairing",
    "checked_overlaps",
    "checked_tolerances",
    "require_common_images",
    "thresholds_asked",
    "wanted_kinds",
]

Pairing = Literal["confidence", "total-overlap"]
PAIRINGS = ("confidence", "total-overlap")
"""Ways of pairing: by falling confidence, or one-to-one with the greatest total overlap."""


def checked_overlaps(value: float | Sequence[float]) -> tuple[float, ...]:
    """Return required overlaps, one or several; raises ArgumentError outside above 0 to 1.

    Returns
    -------
    tuple of float
        At least one, in the order given.
    """
    several = tuple(value) if isinstance(value, Sequence | np.ndarray) else (value,)
    if not several:
        raise ArgumentError("no required overlap is given", place="overlap", got=several)
    return tuple(check_overlap(one) for one in several)


def thresholds_asked(
    value: Threshold | Sequence[float],
    findings: Findings,
    annotations: Annotations,
    words: Mapping[str, float] | None,
    floor: float | None = None,
) -> tuple[Thresholds, ...]:
    """Return thresholds, one or several, words as numbers; raises ArgumentError for others.

    Parameters
    ----------
    value : number, word, mapping, sequence or None
        As the caller gave it; several numbers in a sequence.

    Raises
    ------
    ArgumentError
        If a number is out of range, a word or a name is not known, or the sequence is empty.
    """
    if value is not None and hasattr(value, "to_numpy"):  # a Series, whose index means nothing
        value = value.to_numpy()
    if isinstance(value, str | Mapping) or not isinstance(value, Sequence | np.ndarray):
        known = annotations.label.names
        return (thresholds_of(value, findings, words=words, labels=known, floor=floor),)
    if not len(value):
        raise ArgumentError("no threshold is given", place="threshold", got=value)
    return tuple(thresholds_of(one, findings, words=words, floor=floor) for one in value)


def checked_tolerances(given: Mapping[str, float]) -> dict[str, float]:
    """Return tolerances; raises ArgumentError for one below 0.

    A name that no attribute has is harmless, since it judges nothing.

    Parameters
    ----------
    given : mapping of str to float
        By name of the attribute, in its unit.

    Returns
    -------
    dict of str to float
        Each 0 or more.
    """
    found = {}
    for name, value in given.items():
        found[name] = real_number(value, place=f"tolerance: {name}")
        if found[name] < 0:
            raise ArgumentError(
                "a tolerance is out of range",
                place=f"tolerance: {name}",
                got=value,
                allowed=["0 or more"],
            )
    return found


def check_pairing(pairing: str) -> None:
    """Refuse a way of pairing that there is not; raises ArgumentError.

    Raises
    ------
    ArgumentError
        With the ways there are.
    """
    if pairing not in PAIRINGS:
        raise ArgumentError("unknown pairing", place="pairing", got=pairing, allowed=PAIRINGS)


def require_common_images(answered: list[str], covered: list[str]) -> None:
    """Refuse two sides without a common image.

    Parameters
    ----------
    covered : list of str
        Images with annotations. Without any on one side nothing is refused: a note says so.

    Raises
    ------
    ScopeError
        With the nearest pair of names, if there is one.
    """
    if not answered or not covered or not set(covered[:1000]).isdisjoint(answered):
        return  # as nearly always, and soon
    if not set(covered).isdisjoint(answered):
        return
    close = next(((n, near[0]) for n in answered[:50] if (near := nearest(n, covered))), None)
    hint = f"The nearest pair is {close[0]!r} and {close[1]!r}." if close else ""
    raise ScopeError(
        f"none of the {len(answered)} images with findings is among the {len(covered)} "
        "annotated ones",
        place="measure",
        got=answered[0],
        allowed=[repr(name) for name in covered[:3]],
        next_step=hint or "Image names must be equal on both sides.",
    )


def wanted_kinds(annotations: Annotations, kinds: Iterable[str] | None) -> tuple[str, ...]:
    """Return the kinds to judge: those asked for, or else those that the annotations hold.

    Parameters
    ----------
    kinds : iterable of str, or None
        None for all that are annotated.

    Returns
    -------
    tuple of str
        Without kinds that are carried only.

    Raises
    ------
    ArgumentError
        If one of them is not a kind.
    """
    if kinds is not None:
        wanted = check_kinds(kinds, place="kinds")
    else:
        wanted = check_kinds(
            {*annotations.kind.used(), *annotations.vocabulary} - {""}, place="kinds"
        )
    return tuple(kind for kind in wanted if KINDS[kind].judged != "carried")
