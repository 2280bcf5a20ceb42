"""Near-copies of known images: which of the new ones are the same picture again."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from dotledger.core.copies.image_fingerprints import LEAST, NearCopy, Prints, nearest_copies
from dotledger.images.image_gathering import gather
from dotledger.images.image_prints import prints_of

__all__ = ["image_prints", "near_copies"]


def image_prints(images: Any) -> Prints:
    """Return the prints of images: 144 bits of what each looks like, and of its parts.

    Parameters
    ----------
    images : folder, list of images, mapping of name to bytes, and so on
        As `gather` takes them.

    Returns
    -------
    Prints
        Also the images that cannot be decoded, and why.

    Raises
    ------
    GatherError
        If no image is there.
    MissingExtra
        If ``dot-ledger[copies]`` is not installed.

    Notes
    -----
    A perceptual hash: the signs of the 12 x 12 lowest frequencies of a discrete cosine transform,
    against their median.

    Examples
    --------
    >>> import dotledger
    >>> prints = dotledger.image_prints("photos")
    >>> [name for name, reason in prints.unreadable]
    ['damaged-01.jpg']
    """
    return prints_of(gather(images).items)


def near_copies(
    new: Prints | Any, known: Prints | Any, *, likeness: float = LEAST
) -> list[NearCopy]:
    """Return the new images that are near-copies of known ones.

    Scaled, compressed again, brighter, darker, grey, mirrored, or cut to about 0.9 of each
    side; not turned, and not pasted into another image.

    Parameters
    ----------
    new : Prints, or images
        Images as `gather` takes them, or an ``.npz`` file of prints.
    known : Prints, or images
        What is looked for.
    likeness : float, default 0.8
        Share of equal bits from which on one counts, 0 to 1.

    Returns
    -------
    list of NearCopy
        Each with the known image most like it, the most alike first; empty if there are none.

    Raises
    ------
    ArgumentError
        If `likeness` is out of range.
    GatherError, TableError
        If images or prints cannot be read.

    Examples
    --------
    >>> import dotledger
    >>> known = dotledger.gather("photos").items[1]
    >>> found = dotledger.near_copies({"again.jpg": known.read()}, {known.name: known.read()})
    >>> found[0].likeness
    1.0
    """
    return nearest_copies(_prints(new), _prints(known), least=likeness)


def _prints(given: Any) -> Prints:
    if isinstance(given, Prints):
        return given
    if isinstance(given, str | os.PathLike) and Path(given).suffix.lower() == ".npz":
        from dotledger.formats.fingerprint_files import read_prints

        return read_prints(given)
    return image_prints(given)
