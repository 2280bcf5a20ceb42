"""Confidence mappings as JSON files."""

from __future__ import annotations

from pathlib import Path

from dotledger.core.thresholds.confidence_map import ConfidenceMap
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.file_kinds import read_json
from dotledger.json_codec import to_json
from dotledger.safe_files import whole_file

__all__ = ["read_map", "write_map"]


def read_map(path: Path) -> ConfidenceMap:
    """Read a confidence mapping.

    Parameters
    ----------
    path : Path
        JSON, from `write_map`.

    Raises
    ------
    TableError
        If the file cannot be read or is no such mapping.
    """
    plain = read_json(path)
    try:
        return ConfidenceMap.from_dict(plain)
    except (AttributeError, TypeError, ValueError) as error:
        reason = error.message if isinstance(error, ArgumentError) else "not a confidence map"
        raise TableError(
            reason,
            place=str(path),
            next_step="Make one with `dotledger.fit_confidence_map`.",
        ) from error


def write_map(mapping: ConfidenceMap, path: Path) -> None:
    """Write a confidence mapping, whole or not at all.

    Raises
    ------
    OSError
        If the folder cannot be written.
    """
    with whole_file(path) as draft:
        draft.write_bytes(to_json(mapping.to_dict(), indent=True))
