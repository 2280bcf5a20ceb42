"""Prints of what images look like, for telling near-copies; see `dotledger.core.copies`."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from PIL import Image, ImageOps

from dotledger.core.copies.image_fingerprints import PARTS, Bits, Prints, joined
from dotledger.errors import DotLedgerError, ImageError, MissingExtra
from dotledger.images.image_facts import open_image
from dotledger.images.image_gathering import Item

__all__ = ["print_of", "prints_of"]

_SIDE = 512
"""A print sees no more of an image than its coarse pattern: larger ones are shrunk first."""
_BITS = 12


def prints_of(items: Iterable[Item]) -> Prints:
    """Return the prints of images.

    Parameters
    ----------
    items : iterable of Item
        Gathered images, read one at a time.

    Returns
    -------
    Prints
        With the images that cannot be read or decoded, and why.

    Raises
    ------
    MissingExtra
        If the package that makes them is not installed.
    """
    made, unreadable = [], []
    for item in items:
        try:
            made.append(print_of(item.name, item.read()))
        except MissingExtra:
            raise
        except (DotLedgerError, OSError) as error:
            unreadable.append((item.name, str(error)))
    every = joined(made)
    return Prints(
        names=every.names,
        whole=every.whole,
        mirrored=every.mirrored,
        parts=every.parts,
        unreadable=tuple(unreadable),
    )


def print_of(name: str, data: bytes) -> Prints:
    """Return the print of one image.

    Raises
    ------
    ImageError
        If it cannot be decoded.
    MissingExtra
        If the package that makes prints is not installed.
    """
    hashing = _hashing()
    picture = _small(data)
    width, height = picture.size
    parts = []
    for share, across, down in PARTS:
        left, top = width * (1 - share) * across, height * (1 - share) * down
        box = (left, top, left + width * share, top + height * share)
        parts.append(_bits(hashing, picture.crop(tuple(round(side) for side in box))))  # type: ignore[arg-type]
    return Prints(
        names=(name,),
        whole=_bits(hashing, picture)[None],
        mirrored=_bits(hashing, ImageOps.mirror(picture))[None],
        parts=np.array(parts)[None],
    )


def _hashing() -> Any:
    try:
        import imagehash
    except ImportError as error:
        raise MissingExtra(
            "near-copies need imagehash", next_step="Run: pip install 'dot-ledger[copies]'"
        ) from error
    return imagehash


def _bits(hashing: Any, picture: Image.Image) -> Bits:
    return np.packbits(hashing.phash(picture, hash_size=_BITS).hash.ravel())


def _small(data: bytes) -> Image.Image:
    """Return a picture upright, in grey, no larger than needed, on white where it is clear."""
    opened = open_image(data)
    try:
        opened.draft("RGB", (_SIDE, _SIDE))
        upright = ImageOps.exif_transpose(opened)
        if "A" in upright.getbands() or "transparency" in upright.info:
            clear = upright.convert("RGBA")
            ground = Image.new("RGBA", clear.size, "white")
            upright = Image.alpha_composite(ground, clear)
        grey = upright.convert("L")
        # At least two pixels a side, so that every part holds one.
        size = tuple(max(2, round(s * min(1, _SIDE / max(grey.size)))) for s in grey.size)
        return grey.resize(size, Image.Resampling.BOX) if size != grey.size else grey  # type: ignore[arg-type]
    except Exception as error:  # decoders fail with whatever broken bytes lead them to
        raise ImageError("cannot be decoded", got=str(error)[:80]) from error
