"""Masking what lines of text hold: telephone numbers, addresses, terms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from dotledger.core.decisions.linear_patterns import LinearPattern, linear_pattern
from dotledger.core.decisions.rule_conditions import PATTERNS
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_inputs import as_findings

__all__ = ["Masked", "mask_text"]

_KINDS = ("text", "caption")


@dataclass(frozen=True, kw_only=True)
class Masked:
    """One place in a line of text that was masked.

    Attributes
    ----------
    image, what : str
        The image; the ready pattern's name, or ``masked``.
    row, start, end : int
        Of the findings; of the line's characters, as it was.
    box : tuple of float or None
        Of the line, in pixels of the upright original.
    """

    image: str
    what: str
    row: int
    start: int
    end: int
    box: tuple[float, ...] | None


def mask_text(findings: Findings, patterns: Sequence[str]) -> tuple[Findings, tuple[Masked, ...]]:
    """Put ``[telephone]`` and similar where lines of text match.

    Parameters
    ----------
    findings : Findings
        Lines of text and captions are masked; other kinds stay.
    patterns : sequence of str
        Names of `PATTERNS`, or regular expressions; letter case aside. The first that matches at
        a place wins.

    Returns
    -------
    tuple of Findings and tuple of Masked
        A new table, and every place that was masked, in order.

    Raises
    ------
    ArgumentError
        If a pattern is no regular expression.

    Notes
    -----
    Raw answers in the ledger stay as they came.

    Examples
    --------
    >>> import dotledger, pandas as pd
    >>> row = {"image": "a.jpg", "kind": "text", "label": "Ring 0171 555 0199", "confidence": 0.9}
    >>> table = dotledger.Findings.from_frame(pd.DataFrame([row]))
    >>> masked, places = dotledger.mask_text(table, ["telephone"])
    >>> masked.label.values()[0], places[0].start
    ('Ring [telephone]', 5)
    """
    findings = as_findings(findings, "mask_text(findings, patterns)")
    search = [(name if name in PATTERNS else "masked", _compiled(name)) for name in patterns]
    rows = np.flatnonzero(findings.kind.among(_KINDS) & ~findings.blank).tolist()
    labels = findings.label.values().tolist()
    images = findings.image.values()
    found: list[Masked] = []
    for row in rows:
        places = _places(labels[row], search)
        box = findings.box[row]
        found += [
            Masked(
                image=str(images[row]),
                what=what,
                row=row,
                start=start,
                end=end,
                box=None if np.isnan(box[0]) else tuple(box.tolist()),
            )
            for start, end, what in places
        ]
        for start, end, what in reversed(places):
            labels[row] = f"{labels[row][:start]}[{what}]{labels[row][end:]}"
    return replace(findings, label=Coded.of(labels)), tuple(found)


def _compiled(name: str) -> LinearPattern:
    return linear_pattern(PATTERNS.get(name, name), place="patterns", allowed=tuple(PATTERNS))


def _places(line: str, search: Sequence[tuple[str, LinearPattern]]) -> list[tuple[int, int, str]]:
    """Return where a line matches, in order, without overlap."""
    kept: list[tuple[int, int, str]] = []
    for what, pattern in search:
        for start, end in pattern.places(line):
            if start < end and all(end <= s or start >= e for s, e, _ in kept):
                kept.append((start, end, what))
    return sorted(kept)
