"""A figure that somebody claims, next to one's own with its interval."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.registry import MEASURES, RANKED, RATIOS
from dotledger.core.measures.share_limits import mean_of_shares_limits_by_image
from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from dotledger.core.comparison.run_alignment import JudgedRun

__all__ = ["Checked", "PublishedClaim", "check_claims", "read_claim"]

CLAIMED = tuple(name for name in RANKED if name in RATIOS and RATIOS[name].judged == "all")


@dataclass(frozen=True, kw_only=True)
class PublishedClaim:
    """A claimed figure.

    Attributes
    ----------
    measure : str
        ``recall``, ``precision`` or ``f1``.
    of : str
        A kind or ``kind:label``; empty for everything pooled.
    value : float
        From 0 to 1.
    """

    measure: str
    of: str
    value: float


@dataclass(frozen=True, kw_only=True)
class Checked:
    """A claim next to what one run showed.

    Attributes
    ----------
    run : str
        Its name.
    claim : PublishedClaim
        What is claimed.
    value, low, high : float
        One's own figure with its 95 % interval; NaN where undefined.
    compatible : bool or None
        Whether the claim lies in the interval; None without one.
    """

    run: str
    claim: PublishedClaim
    value: float
    low: float
    high: float
    compatible: bool | None

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        own = {n: defined(getattr(self, n)) for n in ("value", "low", "high")}
        claimed = {"measure": self.claim.measure, "of": self.claim.of, "claimed": self.claim.value}
        return {"run": self.run, **claimed, **own, "compatible": self.compatible}


_FORM = re.compile(r"(\w+)(?: of (.+?))?\s+(\d*\.?\d+)\s*(%?)")


def read_claim(text: str) -> PublishedClaim:
    """Return a claim from its text.

    Parameters
    ----------
    text : str
        Such as ``recall 0.92``, ``precision of face 92%`` or ``f1 of object:lantern 0.8``.

    Raises
    ------
    ArgumentError
        If it cannot be read.
    """
    match = _FORM.fullmatch(" ".join(text.split()))
    value = math.nan if match is None else float(match[3]) / (100 if match[4] else 1)
    if match is None or match[1].casefold() not in CLAIMED or not 0 <= value <= 1:
        raise ArgumentError(
            "not a claim",
            place="claim",
            got=text,
            allowed=["'recall 0.92'", "'precision of face 92%'", "'f1 of object:lantern 0.8'"],
        )
    return PublishedClaim(measure=match[1].casefold(), of=match[2] or "", value=value)


def check_claims(
    claims: Sequence[PublishedClaim], runs: Sequence[JudgedRun]
) -> tuple[Checked, ...]:
    """Return each claim next to each run.

    Returns
    -------
    tuple of Checked
        Claims in their order, each with every run.

    Raises
    ------
    ArgumentError
        If a claim names a kind or label that is not measured.
    """
    return tuple(_checked(claim, run) for claim in claims for run in runs)


def _checked(claim: PublishedClaim, run: JudgedRun) -> Checked:
    sides = [_cases(run, kind, label) for kind, label in _named(claim, run)]
    names = sorted({name for _, _, images in sides for name in images})
    index = {name: place for place, name in enumerate(names)}
    sums = np.zeros((3, len(names)))
    for hits, (found, actual), images in sides:
        at = [index[name] for name in images]
        sums[:, at] += np.stack([hits, found, actual])
    hits, found, actual = sums
    record = MEASURES[claim.measure]
    counts = {"hits": hits, "found": found, "actual": actual}
    low, high = map(float, mean_of_shares_limits_by_image(record.pairs(counts)))
    value = float(record.value({name: one.sum() for name, one in counts.items()}))
    known = not math.isnan(low)
    return Checked(
        run=run.name,
        claim=claim,
        value=value,
        low=low,
        high=high,
        compatible=low <= claim.value <= high if known else None,
    )


def _named(claim: PublishedClaim, run: JudgedRun) -> list[tuple[str, int | None]]:
    """Return the kinds, with the label if it names one, that a claim is about."""
    scopes = run.basis.scopes
    if not claim.of:
        return [(kind, None) for kind in scopes]
    known = [*scopes, *(f"{kind}:{label}" for kind, s in scopes.items() for label in s.labels)]
    kind, _, label = claim.of.partition(":")
    if claim.of not in known:
        near = nearest(claim.of, known)
        raise ArgumentError(
            "a claim names what is not measured" + (f"; did you mean {near[0]!r}?" if near else ""),
            place="claim",
            got=claim.of,
            allowed=known[:20],
        )
    return [(kind, scopes[kind].labels.index(label) if label else None)]


def _cases(run: JudgedRun, kind: str, label: int | None) -> Any:
    judged, scope = run.basis.judged[kind], run.basis.scopes[kind]
    found = judged.findings
    rows = run.passes[kind].copy()
    rows[judged.aside] = False
    right = np.zeros(len(rows), dtype=bool)
    right[judged.hit] = True
    mine = np.ones(len(rows), dtype=bool) if label is None else found.label == label
    true = found.true_image if label is None else found.true_image[found.true_label == label]
    size = len(scope.images)
    return (
        np.bincount(found.image[rows & right & mine], minlength=size),
        (np.bincount(found.image[rows & mine], minlength=size), np.bincount(true, minlength=size)),
        scope.images,
    )
