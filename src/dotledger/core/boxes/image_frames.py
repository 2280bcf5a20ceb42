"""How the image an answer is about relates to the original."""

from __future__ import annotations

from typing import NamedTuple

__all__ = ["LEAST_SIDE", "MOST_SIDE", "Frame"]

LEAST_SIDE, MOST_SIDE = 1e-3, 1e9
"""Sides of an image beyond these are none: boxes divided by them would be anywhere."""


class Frame(NamedTuple):
    """What the reader must know of the image an answer is about.

    `width` and `height` are the upright original's; `sent_width` and `sent_height` those of
    what was sent, upright too. `turned` is the EXIF orientation that the sent file still
    carried, 1 if none.
    """

    width: int
    height: int
    sent_width: int
    sent_height: int
    turned: int = 1
