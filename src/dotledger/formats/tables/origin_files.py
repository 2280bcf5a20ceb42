"""Where findings come from, kept in a file next to their table."""

from __future__ import annotations

import hashlib
import os
from dataclasses import replace
from pathlib import Path

from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, TableError
from dotledger.json_codec import from_json, to_json
from dotledger.safe_files import read_regular, whole_file

__all__ = ["check_origin_place", "origin_file", "read_origin", "write_origin"]

PathLike = str | os.PathLike[str]


def origin_file(path: PathLike) -> Path:
    """Return where the origin of a findings file is kept: ``found.csv.origin.json`` next to it.

    A file of its own, since a comment or a further column would break plain readers of the table.
    """
    return Path(f"{os.fspath(path)}.origin.json")


def read_origin(path: Path) -> Origin | None:
    """Return where the findings of a file come from, if that is known.

    Returns
    -------
    Origin or None
        `changed` if the table is not what was written.

    Raises
    ------
    TableError
        If the file next to it says nothing of the kind.
    """
    beside = origin_file(path)
    if not beside.exists():
        return None
    try:
        plain = from_json(read_regular(beside))
        origin = Origin.from_dict(plain["origin"])
        return replace(origin, changed=plain["sha256"] != _digest(path))
    except (ValueError, KeyError, TypeError) as error:
        raise TableError(
            f"this does not say where findings come from ({error})",
            place=str(beside),
            next_step="Remove it, or write the findings again.",
        ) from None


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def write_origin(origin: Origin | None, target: Path) -> None:
    """Write the origin next to a file just written; an older one would be wrong now.

    Parameters
    ----------
    origin : Origin or None
        Without one, what is there goes.
    """
    beside = origin_file(target)
    if origin is None:
        beside.unlink(missing_ok=True)
        return
    plain = {"origin": origin.to_dict(), "sha256": _digest(target)}
    with whole_file(beside) as draft:
        draft.write_bytes(to_json(plain, indent=True) + b"\n")


def check_origin_place(target: Path) -> None:
    """Refuse to replace a file that merely has the name of an origin file.

    Parameters
    ----------
    target : Path
        Of the table that is to be written.

    Raises
    ------
    ArgumentError
        If something else has that name.
    """
    beside = origin_file(target)
    try:
        ours = not beside.exists() or "origin" in from_json(read_regular(beside))
    except (OSError, ValueError, TypeError):
        ours = False
    if not ours:
        raise ArgumentError(
            "the origin of the findings is written next to them, and another file has that name",
            got=str(beside),
            next_step="Move it away, or write the findings elsewhere.",
        )
