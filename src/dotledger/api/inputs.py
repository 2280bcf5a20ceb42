"""What callers give: tables, dataframes or paths; thresholds, or their file."""

from __future__ import annotations

import os
from typing import Any

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_annotations, as_findings

__all__ = ["annotations_given", "findings_given", "threshold_given"]


def threshold_given(given: Any) -> Any:
    """Return a threshold, read from its file if it is given as one.

    Parameters
    ----------
    given : threshold or path
        A path ends in ``.toml``.
    """
    if isinstance(given, os.PathLike) or (isinstance(given, str) and given.endswith(".toml")):
        from dotledger.formats.thresholds_files import read_thresholds

        return read_thresholds(given)
    return given


def findings_given(given: Any, call: str = "", *, place: str = "findings") -> Findings:
    """Return findings: as they are, read from a path, or made of a dataframe.

    Parameters
    ----------
    call : str, optional
        How the call is written, for the message when a table of the other sort is given.

    Raises
    ------
    ArgumentError
        If these are annotations.
    TableError
        If a file or frame breaks the common shape.
    """
    if isinstance(given, str | os.PathLike):
        from dotledger.formats.tables.findings_files import read_findings

        return read_findings(given)
    return as_findings(given, call, place=place)


def annotations_given(given: Any, call: str = "") -> Annotations:
    """Return annotations: as they are, read from a path, or made of a dataframe.

    Parameters
    ----------
    call : str, optional
        How the call is written, for the message when a table of the other sort is given.

    Raises
    ------
    ArgumentError
        If these are findings.
    TableError
        If a file or frame breaks the common shape.
    """
    if isinstance(given, str | os.PathLike):
        from dotledger.formats.annotations.annotation_files import read_annotations

        return read_annotations(given)
    return as_annotations(given, call)
