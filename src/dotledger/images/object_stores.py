"""Images in object storage and other far places, through fsspec: listed, and read one by one."""

from __future__ import annotations

from collections import Counter
from pathlib import PurePosixPath
from typing import Any, NamedTuple

from dotledger.errors import MissingExtra

__all__ = ["Stored", "looks_like_a_folder", "read_stored", "stored_in"]

_TIMES = ("ETag", "etag", "LastModified", "last_modified", "mtime", "created")
"""What stores call that by which a file is known to have changed."""


class Stored(NamedTuple):
    """One file of a folder: its name below it, its address, its size, what tells of a change."""

    name: str
    address: str
    size: int
    mark: str


def looks_like_a_folder(address: str) -> bool:
    """Tell whether an address is to be listed: it ends in a slash, or its last part has no ending.

    Parameters
    ----------
    address : str
        Such as ``s3://bucket/photos/``.

    Returns
    -------
    bool
        One that ends like a file is read as it is, without asking the store.
    """
    return address.endswith("/") or not PurePosixPath(address.partition("://")[2]).suffix


def stored_in(
    address: str, shown: str, endings: tuple[str, ...], skipped: Counter[str]
) -> list[Stored]:
    """Return the images below a folder, in no order.

    Parameters
    ----------
    address : str
        Of the folder; a file without an ending is its own only one.
    shown : str
        The address as it may be written down.
    skipped : Counter
        Files with other endings are counted here.

    Raises
    ------
    MissingExtra
        Without fsspec, or what it needs for this kind of address.
    OSError
        If the store cannot be asked.
    """
    system, root = _system(address, shown)
    try:
        found: dict[str, Any] = system.find(root, detail=True)
    except Exception as error:  # every store has errors of its own
        raise OSError(f"cannot be listed ({type(error).__name__}: {error})") from error
    listed = []
    for path, facts in found.items():
        name = path[len(root.rstrip("/")) :].lstrip("/") or PurePosixPath(path).name
        if any(part.startswith(".") for part in PurePosixPath(name).parts):
            skipped["hidden"] += 1
        elif not name.lower().endswith(endings) and path != root:
            skipped[PurePosixPath(name).suffix.lower() or "without ending"] += 1
        else:
            size = int(facts.get("size") or 0)
            mark = next((str(facts[name]) for name in _TIMES if facts.get(name)), "")
            listed.append(Stored(name, system.unstrip_protocol(path), size, f"{size}/{mark}"))
    return listed


def read_stored(address: str, shown: str, most: int) -> bytes:
    """Return a file's bytes; of a large one the first of them, and one more than the most allowed.

    Parameters
    ----------
    shown : str
        The address as it may be written down.

    Raises
    ------
    MissingExtra
        Without fsspec, or what it needs for this kind of address.
    """
    system, path = _system(address, shown)
    with system.open(path, "rb") as file:
        data: bytes = file.read(most + 1)
    return data


def _system(address: str, shown: str) -> tuple[Any, str]:
    try:
        import fsspec

        found: tuple[Any, str] = fsspec.core.url_to_fs(address)
    except ImportError as error:
        raise MissingExtra(
            "this kind of address needs fsspec",
            place=shown,
            got=error.name,
            next_step="Run: pip install 'dot-ledger[fsspec]', and what the store needs next to it.",
        ) from error
    except ValueError as error:
        raise OSError(f"nobody knows this kind of address ({error})") from error
    else:
        return found
