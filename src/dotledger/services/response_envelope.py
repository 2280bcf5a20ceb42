"""How the answers of a described service are taken apart, before any rule reads them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from dotledger.reading.answer_documents import document_reader
from dotledger.reading.answer_paths import listed_names
from dotledger.services.service_description import Description

__all__ = ["kept_headers", "opener"]


def opener(description: Description) -> Callable[[bytes], Any]:
    """Return what takes a service's answers apart into plain values.

    Parameters
    ----------
    description : Description
        Its envelope says how they are written.

    Returns
    -------
    callable
        From bytes; see `dotledger.reading.answer_documents.document_reader`.
    """
    envelope = description.envelope
    paths = [envelope.images, *(rule.each for rule in description.read)]
    paths += [rule.lookup.table for rule in description.read if rule.lookup and rule.lookup.table]
    return document_reader(envelope.written, envelope.texts, listed_names(paths))


_ALWAYS = ("x-request-id", "request-id", "x-correlation-id", "deprecation", "sunset")
"""Headers that are kept whoever sends them: what a service asks for when something went wrong, and
what it says of its own end (RFC 9745, RFC 8594)."""
_LONGEST = 500


def kept_headers(headers: Mapping[str, str], named: Iterable[str]) -> dict[str, str]:
    """Return what is kept of an answer's head.

    Parameters
    ----------
    named : iterable of str
        Further names that the description wants kept.

    Returns
    -------
    dict of str to str
        Each at most 500 characters.
    """
    wanted = (*_ALWAYS, *(name.casefold() for name in named))
    return {name: headers[name][:_LONGEST] for name in wanted if name in headers}
