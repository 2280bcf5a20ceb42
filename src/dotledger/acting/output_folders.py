"""Folders that images go to: safe names, and nothing written over."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from dotledger.safe_files import safe_file_name, whole_file

__all__ = [
    "NOBODY",
    "NOTHING",
    "UNDECIDED",
    "UNSEEN",
    "WITHOUT",
    "Place",
    "folder_names",
    "names_apart",
    "put_bytes",
]

NOTHING, UNDECIDED, WITHOUT = "nothing found", "undecided", "no answer"
NOBODY, UNSEEN = "nobody named", "not reviewed"
"""Places of their own: a label of the same name gets another folder."""
Place = tuple[str, str]


def folder_names(places: set[str]) -> dict[str, str]:
    """Return a safe folder name for each place; two places never fall together.

    Letter case does not tell folders apart everywhere.
    """
    own = {NOTHING: "nothing-found", UNDECIDED: "undecided", WITHOUT: "no-answer"}
    own |= {NOBODY: "nobody-named", UNSEEN: "not-reviewed"}
    return own | names_apart(sorted(places - set(own)), {name.casefold() for name in own.values()})


def names_apart(names: Sequence[str], taken: set[str]) -> dict[str, str]:
    """Return a safe name of its own for each name.

    Parameters
    ----------
    taken : set of str
        Names that are not free, in small letters; what is given out is added.
    """
    found = {}
    for given in names:
        plain = safe_file_name(given)
        stem, dot, ending = plain.rpartition(".")
        name, number = plain, 2
        while name.casefold() in taken:
            name = f"{stem}-{number}.{ending}" if dot else f"{plain}-{number}"
            number += 1
        taken.add(name.casefold())
        found[given] = name
    return found


def put_bytes(data: bytes, path: Path) -> tuple[Path | None, str]:
    """Write a new file, whole, over nothing that holds other bytes.

    Returns
    -------
    tuple of Path or None and str
        Where it is, and ``new`` or ``there already``; or None and what went wrong.
    """
    try:
        if path.exists() or path.is_symlink():
            same = path.is_file() and path.read_bytes() == data
            return (path, "there already") if same else (None, f"something else is there: {path}")
        path.parent.mkdir(parents=True, exist_ok=True)
        with whole_file(path) as draft:
            draft.write_bytes(data)
    except OSError as error:
        return None, str(error)
    return path, "new"
