"""Which labels a run was asked about, where that is not all that it might know.

A person who fills in a sheet of questions says nothing about what the sheet does not ask. Measured
against annotations of other labels, each of those would be a miss that nobody made.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np

from dotledger.core.arrays import Flags
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_origin import Origin

__all__ = [
    "annotations_asked",
    "asked_labels",
    "common_questions",
    "findings_asked",
    "questions_text",
]

Asked = Mapping[str, tuple[str, ...]]


def questions_text(asked: Asked) -> str:
    """Return labels by kind as one text: ``label: lantern | basket; unsafe: smoke``."""
    return "; ".join(f"{kind}: {' | '.join(labels)}" for kind, labels in asked.items())


def asked_labels(origin: Origin | None) -> dict[str, tuple[str, ...]]:
    """Return the labels that were asked about, by kind; see `Origin.questions`."""
    return {} if origin is None else origin.questions


def common_questions(tables: Iterable[Findings]) -> dict[str, tuple[str, ...]]:
    """Return the labels that every run was asked about, by kind; empty if all were asked all."""
    found: dict[str, tuple[str, ...]] = {}
    for table in tables:
        for kind, labels in asked_labels(table.origin).items():
            known = found.get(kind, labels)
            found[kind] = tuple(label for label in known if label in labels)
    return found


def findings_asked(findings: Findings, asked: Asked) -> Findings:
    """Return findings without labels that were not asked; images stay answered."""
    if not asked:
        return findings
    return replace(findings.without(_outside(findings, asked)), origin=findings.origin)


def annotations_asked(annotations: Annotations, asked: Asked) -> Annotations:
    """Return annotations without labels that were not asked, which leave the vocabulary too."""
    if not asked:
        return annotations
    kept = annotations.without(_outside(annotations, asked))
    return replace(kept, vocabulary={**kept.vocabulary, **asked})


def _outside(table: Findings | Annotations, asked: Asked) -> Flags:
    outside = np.zeros(len(table), dtype=np.bool_)
    for kind, labels in asked.items():
        outside |= table.kind.among([kind]) & ~table.label.among(labels) & ~table.blank
    return outside
