"""What a folder's own files may say before the user has agreed to them.

A folder may come from anybody: a download, a repository, a shared disk. Its ``dotledger.toml`` may
set what output looks like. What says where images, keys or money go is taken from it only after
``dotledger doctor --trust``, which remembers the file as it is: a changed file is asked about anew.
"""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dotledger.errors import ConnectError
from dotledger.safe_files import read_regular, remembered
from dotledger.services.description_trust import remember_agreement

if TYPE_CHECKING:
    from dotledger.services.service_description import Description

__all__ = [
    "agree_to_keys",
    "is_trusted",
    "may_set",
    "owned_project",
    "remember_keys",
    "trust_files",
]

_AGREE = "DOTLEDGER_AGREE_KEYS"
"""A variable for machines without a terminal: 1 agrees to every description's keys."""

_OUTPUT_ONLY = frozenset(
    {
        "json",
        "overlap",
        "threshold",
        "most",
        "rows",
        "draws",
        "seed",
        "each",
        "order",
        "by",
        "also",
        "labels",
        "confidence",
        "side",
        "title",
        "matters",
        "details",
        "notes",
        "strongest",
        "pairing",
        "every",
        "no-intervals",
        "tolerance",
        "smallest",
    }
)
"""Options that change what is shown or computed, and neither read, send, write nor pay."""

_ACTS = frozenset(
    {
        "send",
        "try",
        "forecast",
        "simulate",
        "demo",
        "draft",
        "cover",
        "sort",
        "screen",
        "review",
        "copies",
        "gate",
    }
)
"""Commands that send, act or decide: a folder's file sets no more than ``json`` of theirs."""


def may_set(command: str, option: str) -> bool:
    """Tell whether an untrusted file may set an option.

    Returns
    -------
    bool
        True for what changes output only.
    """
    return option == "json" or (option in _OUTPUT_ONLY and command not in _ACTS)


def owned_project(folder: Path) -> bool:
    """Tell whether a folder is a project of the user's own: with a ``.git`` that the user owns.

    Parameters
    ----------
    folder : Path
        A parent of the current one.

    Returns
    -------
    bool
        False where the owner is not known.
    """
    try:
        owner = (folder / ".git").stat().st_uid
        return not hasattr(os, "getuid") or owner == os.getuid() == folder.stat().st_uid
    except OSError:
        return False


def is_trusted(path: Path) -> bool:
    """Tell whether the user has agreed to a file as it is now.

    Returns
    -------
    bool
        False if it cannot be read.
    """
    try:
        return _digest_of(path) in remembered("trusted-files")
    except OSError:
        return False


def trust_files(paths: Iterable[Path]) -> None:
    """Remember files as they are now; what descriptions among them say of keys, too.

    Raises
    ------
    ConnectError
        If the agreement cannot be saved.
    """
    from dotledger.services.service_description import read_description

    for path in paths:
        remember_agreement("trusted-files", _digest_of(path))
        if path.name != "dotledger.toml":
            remember_keys(read_description(path))


def remember_keys(description: Description) -> None:
    """Remember that the user agrees to where a description's key comes from and goes to.

    Raises
    ------
    ConnectError
        If the agreement cannot be saved.
    """
    remember_agreement("agreed-keys", _keys_digest(description))


def agree_to_keys(description: Description, *, name: str, place: Path | None) -> None:
    """Show where a description takes a key from and sends it, and have that agreed to once.

    Parameters
    ----------
    place : Path or None
        Its file; None for one that a ledger holds.

    Raises
    ------
    ConnectError
        If the user does not agree, or cannot be asked.
    """
    from dotledger.services.description_trust import facts_of

    facts = facts_of(description)
    sources = [one for one in facts.keys if not one.startswith("call:")]
    if not sources or os.environ.get(_AGREE) == "1" or (place and _is_users_own(place)):
        return
    if _keys_digest(description) in remembered("agreed-keys"):
        return
    what = (
        f"{name} takes a key from {', '.join(sources)} and sends it to {', '.join(facts.addresses)}"
    )
    if sys.stdin.isatty() and sys.stderr.isatty() and click.confirm(f"{what}. Agree?", err=True):
        remember_keys(description)
        return
    raise ConnectError(
        f"{what}: agree to that once",
        place="--service",
        next_step=f"Run: dotledger doctor --trust {name}",
    )


def _is_users_own(path: Path) -> bool:
    from platformdirs import user_config_path

    folder = user_config_path("dotledger").resolve()
    return folder in path.resolve().parents


def _keys_digest(description: Description) -> str:
    from dotledger.services.description_trust import facts_of

    facts = facts_of(description)
    said = (facts.addresses, facts.keys, facts.hosts, facts.authorities)
    return hashlib.sha256(repr(said).encode()).hexdigest()


def _digest_of(path: Path) -> str:
    """Return a file's digest, with its place: a copy elsewhere is another file."""
    digest = hashlib.sha256(os.fsencode(path.resolve()) + b"\0")
    digest.update(read_regular(path))
    return digest.hexdigest()
