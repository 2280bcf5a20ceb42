"""How the answers of a described service are taken apart, before any rule reads them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from dotledger.reading.documents import document_reader
from dotledger.reading.paths import listed_names
from dotledger.services.description import Description

__all__ = ["opener"]


def opener(description: Description) -> Callable[[bytes], Any]:
    """Return what takes a service's answers apart into plain values.

    Parameters
    ----------
    description : Description
        Its envelope says how they are written.

    Returns
    -------
    callable
        From bytes; see `dotledger.reading.documents.document_reader`.
    """
    envelope = description.envelope
    paths = [envelope.images, *(rule.each for rule in description.read)]
    paths += [rule.lookup.table for rule in description.read if rule.lookup and rule.lookup.table]
    return document_reader(envelope.written, envelope.texts, listed_names(paths))
