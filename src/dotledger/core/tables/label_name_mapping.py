"""Bringing services' label names onto the user's vocabulary."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from dotledger.core.spelling import nearest
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

__all__ = ["Mapped", "NameMap", "map_names"]


@dataclass(frozen=True, kw_only=True)
class NameMap:
    """What happens to label names.

    Attributes
    ----------
    names : mapping of (service, kind, label) to str
        The name to use instead; an empty one leaves the finding out. A service or kind of
        ``""`` stands for any; the most particular entry counts.
    broader : mapping of str to tuple of str
        Broader labels of the user's own labels.
    """

    names: Mapping[tuple[str, str, str], str] = field(default_factory=dict)
    broader: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def targets(self) -> tuple[str, ...]:
        """The labels of the user's vocabulary, sorted."""
        return tuple(sorted({*self.names.values(), *self.broader} - {""}))

    def becomes(self, service: str, kind: str, label: str) -> str | None:
        """Return the name to use, "" to leave it out, or None if nothing is said about it."""
        for key in (
            (service, kind, label),
            (service, "", label),
            ("", kind, label),
            ("", "", label),
        ):
            if key in self.names:
                return self.names[key]
        return label if label in self.targets else None


@dataclass(frozen=True, eq=False, kw_only=True)
class Mapped:
    """What `map_names` returns.

    Attributes
    ----------
    findings : Findings
        With the user's names; labels that nothing is said about keep theirs.
    left_out : int
        Findings left out on purpose.
    unmapped : list of (kind, label, count, suggestion)
        Labels that nothing is said about, the most frequent first; the suggestion is the
        nearest spelling among the labels that the mapping names, or empty.
    unused : list of (kind, label, suggestion)
        Entries of the mapping for this service, or for any, whose label no finding has; the
        suggestion is the nearest spelling among the findings' labels, or empty.
    """

    findings: Findings
    left_out: int
    unmapped: list[tuple[str, str, int, str]]
    unused: list[tuple[str, str, str]]


def map_names(findings: Findings, names: NameMap, *, service: str = "") -> Mapped:
    """Bring label names onto the user's vocabulary.

    Parameters
    ----------
    findings : Findings
        An image and kind all of whose findings are left out keeps a blank row: it was answered.
    service : str
        Whose findings they are; by default what their origin says.
    """
    service = service or (findings.origin.service if findings.origin else "")
    pair = findings.kind.codes * max(len(findings.label.names), 1) + findings.label.codes
    distinct, place = np.unique(pair, return_inverse=True)
    kinds = [findings.kind.names[p // len(findings.label.names)] for p in distinct]
    labels = [findings.label.names[p % len(findings.label.names)] for p in distinct]
    fates = [
        names.becomes(service, kind, label) if label else label
        for kind, label in zip(kinds, labels, strict=True)
    ]
    new = [label if fate is None else fate for label, fate in zip(labels, fates, strict=True)]
    coded = Coded.of(new)
    renamed = replace(findings, label=Coded(coded.codes[place], coded.names))
    dropped = renamed.blank & ~findings.blank
    counts = Counter(place.tolist())
    entries = [(k, n) for s, k, n in names.names if s in ("", service)]
    written = {label for _, label in entries}
    unmapped = [
        (kinds[i], labels[i], counts[i], next(iter(nearest(labels[i], written)), ""))
        for i, fate in enumerate(fates)
        if fate is None
    ]
    return Mapped(
        findings=renamed.without(dropped),
        left_out=int(dropped.sum()),
        unmapped=sorted(unmapped, key=lambda row: (-row[2], row[0], row[1])),
        unused=_unused(entries, kinds, labels),
    )


def _unused(
    entries: list[tuple[str, str]], kinds: list[str], labels: list[str]
) -> list[tuple[str, str, str]]:
    """Return entries of a mapping that match no finding, with the nearest label there is."""
    there = {*zip(kinds, labels, strict=True), *(("", label) for label in labels)}
    known = sorted({label for label in labels if label})
    return [
        (kind, label, next(iter(nearest(label, known)), ""))
        for kind, label in sorted(set(entries))
        if (kind, label) not in there
    ]
