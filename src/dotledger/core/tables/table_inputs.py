"""Where tables come in: one of the other sort, or none at all, is refused by name."""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from unicodedata import is_normalized, normalize

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError

__all__ = ["as_annotations", "as_findings", "in_one_form"]


def as_findings(given: Any, call: str = "", *, place: str = "findings") -> Findings:
    """Return findings: as they are, or made of a dataframe.

    Parameters
    ----------
    call : str, optional
        How the call is written, for the message: ``"pair_tables(findings, annotations)"``.

    Raises
    ------
    ArgumentError
        If these are annotations.
    TableError
        If it is no table, or breaks the common shape.
    """
    if isinstance(given, Annotations):
        raise _other(given, "annotations", "findings", place, call)
    return given if isinstance(given, Findings) else Findings.from_frame(given)


def as_annotations(given: Any, call: str = "", *, place: str = "annotations") -> Annotations:
    """Return annotations: as they are, or made of a dataframe.

    Parameters
    ----------
    call : str, optional
        How the call is written, for the message.

    Raises
    ------
    ArgumentError
        If these are findings.
    TableError
        If it is no table, or breaks the common shape.
    """
    if isinstance(given, Findings):
        raise _other(given, "findings", "annotations", place, call)
    return given if isinstance(given, Annotations) else Annotations.from_frame(given)


def in_one_form(
    findings: Findings, annotations: Annotations
) -> tuple[Findings, Annotations, tuple[str, ...]]:
    """Return tables whose labels are in Unicode NFC, and the labels that were not.

    Parameters
    ----------
    annotations : Annotations
        As given; the vocabulary is brought into NFC, too.

    Returns
    -------
    tuple of Findings, Annotations, tuple of str
        An accented letter may be written as one character or as two that look the same: these are
        one label.
    """
    names = {*findings.label.names, *annotations.label.names}
    names |= {name for labels in annotations.vocabulary.values() for name in labels}
    odd = tuple(sorted({_nfc(name) for name in names if not is_normalized("NFC", name)}))
    if not odd:
        return findings, annotations, ()
    words = {k: tuple(map(_nfc, labels)) for k, labels in annotations.vocabulary.items()}
    return (
        replace(findings, label=findings.label.respelt(_nfc)),
        replace(annotations, label=annotations.label.respelt(_nfc), vocabulary=words),
        odd,
    )


def _nfc(name: str) -> str:
    return normalize("NFC", name)


def _other(given: Any, given_sort: str, wanted: str, place: str, call: str) -> ArgumentError:
    return ArgumentError(
        f"these are {given_sort}, and {wanted} are needed here",
        place=place,
        got=given,
        allowed=[wanted.capitalize(), "a dataframe of them"],
        next_step=f"Perhaps they are swapped: write {call}." if call else "",
    )
