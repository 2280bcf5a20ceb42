"""Calls that are deprecated, by name; what `dotledger` gives for them until they go."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from dotledger.deprecation import Deprecated, warn_deprecated
from dotledger.ledger.ledger_access import Ledger

__all__ = ["DEPRECATED"]


def _of_ledger(method: str) -> Callable[..., Any]:
    """Return a call that opens a ledger and calls its method."""

    def call(ledger: Any, **options: Any) -> Any:
        if isinstance(ledger, Ledger):
            return getattr(ledger, method)(**options)
        with Ledger(ledger, create=False, read_only=True) as opened:
            found = getattr(opened, method)(**options)
            return list(found) if isinstance(found, Iterator) else found

    return call


def _read_description(path: Any) -> Any:
    from dotledger.services.service_description import read_description

    return read_description(path)


def _load_annotations(path: Any, **options: Any) -> Any:
    from dotledger.formats.annotations.annotation_files import load_annotations

    return load_annotations(path, **options)


_RECORDS: dict[str, tuple[Callable[..., Any], str]] = {
    "batches": (_of_ledger("batches"), "dotledger.Ledger(path).batches()"),
    "failures": (_of_ledger("failures"), "dotledger.Ledger(path).failures()"),
    "load_annotations": (_load_annotations, "dotledger.read_annotations(path)"),
    "load_description": (_read_description, "dotledger.read_description(path)"),
    "raw_answers": (_of_ledger("answers"), "dotledger.Ledger(path).answers()"),
    "usage": (_of_ledger("usage"), "dotledger.Ledger(path).usage()"),
}


def _warning(name: str, call: Callable[..., Any], instead: str) -> Callable[..., Any]:
    about = Deprecated(name=f"dotledger.{name}", instead=instead, since="0.1", gone="0.3")

    def deprecated(*given: Any, **options: Any) -> Any:
        warn_deprecated(about)
        return call(*given, **options)

    deprecated.__name__ = deprecated.__qualname__ = name
    deprecated.__doc__ = f"Deprecated: write ``{instead}``."
    return deprecated


DEPRECATED = {name: _warning(name, *record) for name, record in _RECORDS.items()}
"""Every deprecated call by its name; each warns once in a process."""
