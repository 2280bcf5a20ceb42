"""What a CSV file's columns are, in a file next to it that other programs read.

W3C Recommendation "Metadata Vocabulary for Tabular Data" (17 December 2015): the file is called
like the table with ``-metadata.json`` behind.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.file_kinds import read_json
from dotledger.formats.tables.csv_columns import first_names
from dotledger.json_codec import to_json
from dotledger.safe_files import whole_file

__all__ = ["metadata_file", "write_csv_metadata"]

_PIXELS = "in pixels of the upright original, from the top left corner"
_BETWEEN = {"base": "number", "minimum": 0, "maximum": 1}
_COLUMNS: Mapping[str, tuple[Any, str]] = {
    "image": ("string", "the image's name"),
    "kind": ("string", "what was asked for: label, object, face, unsafe, text and similar"),
    "label": ("string", "what it is; empty: the image was looked at and holds nothing"),
    "confidence": (_BETWEEN, "how sure the service is; empty where it simply asserts"),
    "x0": ("number", f"left edge of the box, {_PIXELS}"),
    "y0": ("number", f"upper edge of the box, {_PIXELS}"),
    "x1": ("number", f"right edge of the box, {_PIXELS}"),
    "y1": ("number", f"lower edge of the box, {_PIXELS}"),
    "ignore": ("boolean", "doubtful: neither found nor missed"),
    "details": ("json", "attributes, points, outline and broader labels"),
}


def metadata_file(path: str | os.PathLike[str]) -> Path:
    """Return where the metadata of a table stands."""
    return Path(f"{os.fspath(path)}-metadata.json")


def write_csv_metadata(
    table: Findings | Annotations, path: str | os.PathLike[str], *, created: str = ""
) -> Path:
    """Write next to a CSV file what its columns are, where it comes from and what was cut from it.

    Parameters
    ----------
    path : path-like
        Of a ``.csv`` file that was written.
    created : str, optional
        When, such as ``2026-11-26``.

    Returns
    -------
    Path
        Of the metadata; an older one of ours is replaced.

    Raises
    ------
    TableError
        If it is no ``.csv`` file.
    ArgumentError
        If something else has the metadata's name.
    """
    target = Path(path)
    if target.suffix.lower() != ".csv":
        raise TableError(
            "metadata for tabular data is of a .csv file", place=str(target), got=target.suffix
        )
    beside = metadata_file(target)
    if beside.exists() and not _is_ours(beside):
        raise ArgumentError(
            "another file has the name of the metadata", place=str(beside),
            next_step="Move it away, or write the table elsewhere.",
        )  # fmt: skip
    origin = table.origin if isinstance(table, Findings) else None
    plain = {
        "@context": ["http://www.w3.org/ns/csvw", {"@language": "en"}],
        "url": target.name,
        "dc:title": _title(table, origin),
        **({"dc:created": {"@value": created, "@type": "xsd:date"}} if created else {}),
        **_told(origin),
        "dialect": {"encoding": "utf-8", "header": True},
        "tableSchema": {"columns": [_column(name) for name in first_names(target)]},
    }
    with whole_file(beside) as draft:
        draft.write_bytes(to_json(plain, indent=True) + b"\n")
    return beside


def _is_ours(path: Path) -> bool:
    try:
        found = read_json(path)
    except TableError:
        return False
    return isinstance(found, dict) and "tableSchema" in found


def _title(table: Findings | Annotations, origin: Origin | None) -> str:
    if isinstance(table, Annotations):
        return "annotations"
    named = f" of {origin.service}" if origin is not None and origin.service else ""
    batch = f", batch {origin.batch}" if origin is not None and origin.batch is not None else ""
    return f"findings{named}{batch}"


def _told(origin: Origin | None) -> dict[str, Any]:
    """Return what is known of where findings come from, and of what was cut, in notes."""
    if origin is None:
        return {}
    notes = origin.lines()
    if origin.floor is not None:
        notes.append(f"The service was asked for confidences from {origin.floor:g} on.")
    return {
        **({"dc:source": origin.service} if origin.service else {}),
        **({"notes": notes} if notes else {}),
    }


def _column(name: str) -> dict[str, Any]:
    datatype, about = _COLUMNS.get(name, ("string", ""))
    return {
        "name": name,
        "titles": name,
        "datatype": datatype,
        **({"required": True} if name in ("image", "kind") else {}),
        **({"dc:description": about} if about else {}),
    }
