"""Which images a threshold is chosen on, and which it is judged on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Ints
from dotledger.core.spelling import nearest
from dotledger.core.tables.cell_checks import says_yes
from dotledger.errors import ArgumentError, ScopeError

__all__ = ["Splits", "crossed", "held_out"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Splits:
    """Parts of the images: each judged part by what was chosen on all other images.

    Attributes
    ----------
    part : ndarray of intp, shape (images,)
        Of each image, from 0.
    judged : tuple of int
        Parts that are judged.
    chosen_on : ndarray of bool, shape (images,)
        What the final thresholds are chosen on: all, unless some images are held out.
    """

    part: Ints
    judged: tuple[int, ...]
    chosen_on: Flags


_PARTS, _PARTS_OF_FEW, _FEW = 5, 20, 200
"""Below 200 images 20 parts, and below 20 one for each image: the fewer images, the more is lost by
choosing on fewer still (with 30 images in 5 parts the honest precision is 0.03 too low)."""


def crossed(place: Ints, parts: int | None, seed: int) -> Splits:
    """Return so many parts of equal size, at random, for cross-fitting.

    Parameters
    ----------
    place : ndarray of intp, shape (images,)
        An order of the images made from what is in them, so that renaming them changes nothing.
    parts : int or None
        At least 2; no more than there are images. None for 20 below 200 images, else 5; never more
        than there are images.
    seed : int
        The same seed gives the same parts.

    Raises
    ------
    ScopeError
        If there are fewer images than parts.
    """
    usual = _PARTS_OF_FEW if len(place) < _FEW else _PARTS
    parts = max(2, min(usual, len(place))) if parts is None else parts
    if len(place) < parts:
        raise ScopeError(
            f"too few images in scope to choose on some and judge on others, in {parts} parts",
            place="choose",
            got=len(place),
            allowed=[f"{parts} or more"],
            next_step="Annotate more images, or ask for fewer parts.",
        )
    shuffled = np.random.default_rng(seed).permutation(len(place))
    return Splits(
        part=shuffled[place] % parts,
        judged=tuple(range(parts)),
        chosen_on=np.ones(len(place), dtype=bool),
    )


def held_out(images: Sequence[str], facts: Mapping[str, Mapping[str, Any]], column: str) -> Splits:
    """Return two parts by a column of the user's: what it marks is judged, on the rest is chosen.

    Parameters
    ----------
    facts : mapping of str to mapping
        What is known about images, by name.
    column : str
        One of the facts: true, 1 or yes for images to judge on.

    Raises
    ------
    ArgumentError
        If no image has the column, or it marks none or all of them.
    """
    known = sorted({name for one in facts.values() for name in one})
    if column not in known:
        near = nearest(column, known)
        raise ArgumentError(
            "no image has this column" + (f"; did you mean {near[0]!r}?" if near else ""),
            place="held_out",
            got=column,
            allowed=known,
        )
    marked = np.array([says_yes(facts.get(name, {}).get(column)) for name in images], dtype=bool)
    if marked.all() or not marked.any():
        raise ArgumentError(
            "the column marks " + ("all images" if marked.all() else "no image"),
            place="held_out",
            got=column,
            next_step="Mark some images to judge on, and leave others to choose on.",
        )
    return Splits(part=marked.astype(np.intp), judged=(1,), chosen_on=~marked)
