"""The first leg of every image: read, hash, look at, prepare. Written once.

Sending, forecast and trial differ in what they do with the outcome, never in the way there.
"""

from __future__ import annotations

import hashlib
from typing import NamedTuple

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import DotLedgerError, ImageError
from dotledger.images.image_facts import ImageFacts, read_facts
from dotledger.images.image_gathering import Item
from dotledger.images.image_preparation import Demands, Prepared, prepare

__all__ = ["LookedAt", "frame_of", "look_at", "made_ready", "why_not"]


class LookedAt(NamedTuple):
    """A file's bytes, their SHA-256 in hexadecimal, and what its header says."""

    data: bytes
    sha: str
    facts: ImageFacts


def look_at(item: Item) -> LookedAt:
    """Read and hash an image, and read its header.

    Returns
    -------
    LookedAt
        Bytes, their SHA-256 and facts.

    Raises
    ------
    OSError, MissingExtra
        If the bytes cannot be had.
    ImageError
        If they are no image.
    """
    data = item.read()
    return LookedAt(data, hashlib.sha256(data).hexdigest(), read_facts(data))


def made_ready(data: bytes, facts: ImageFacts, demands: Demands) -> tuple[Prepared, Frame]:
    """Return an image as it goes out, and how what is answered about it relates to the original.

    Raises
    ------
    ImageError
        If it cannot be sent; see `prepare`.
    """
    prepared = prepare(data, facts, demands)
    return prepared, frame_of(facts, prepared)


def frame_of(facts: ImageFacts, prepared: Prepared) -> Frame:
    """Return the frame of an image that was prepared."""
    return Frame(facts.width, facts.height, prepared.width, prepared.height, prepared.turned)


def why_not(error: Exception) -> str:
    """Return in words why an image is refused: it cannot be sent, or not even be read.

    Parameters
    ----------
    error : Exception
        What came of reading or preparing.
    """
    if isinstance(error, ImageError):
        return str(error)
    if isinstance(error, (OSError, DotLedgerError)):
        return f"cannot be read: {getattr(error, 'strerror', None) or error}"
    return f"cannot be read: unexpected {type(error).__name__}"
