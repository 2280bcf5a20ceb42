"""Prints of images, and which are near-copies of which.

A print is 144 bits of an image's coarse pattern; copies share nearly all of them, two different
photographs about half. Cutting the edges off moves the pattern, so that each known image has
prints of its own parts, too: a new image that was cut out of it is like one of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from dotledger.core.arrays import Ints
from dotledger.core.displays import Displayed
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError

__all__ = [
    "LEAST",
    "PARTS",
    "PRINT_BYTES",
    "NearCopy",
    "Prints",
    "joined",
    "nearest_copies",
    "pairs_alike",
]

if TYPE_CHECKING:
    import pandas as pd

Bits = npt.NDArray[np.uint8]
PRINT_BYTES = 18
LEAST = 0.8
"""The share of equal bits from which on images count as copies. Measured (`benchmarks copying`):
no two of 19 different photographs reach 0.7; drawn scenes, which share one sky and ground, are
told apart less well: one pair in 200 reaches it."""
PARTS: tuple[tuple[float, float, float], ...] = tuple(
    (share, across, down)
    for share in (0.95, 0.9, 0.8)
    for across, down in ((0, 0), (1, 0), (0, 1), (1, 1), (0.5, 0.5))
)
"""(share of each side, where across, where down) of the parts that have prints of their own."""
_ROWS = 1 << 14
"""Known prints compared at a time: 10 MB as numbers."""


@dataclass(frozen=True, eq=False, kw_only=True, repr=False)
class Prints(Displayed):
    """Prints of images.

    Attributes
    ----------
    names : tuple of str
        Of the images.
    whole, mirrored : ndarray of uint8, shape (images, 18)
        Packed bits, of the image as it is and left to right.
    parts : ndarray of uint8, shape (images, 15, 18)
        Of its parts, as `PARTS` says.
    unreadable : tuple of (name, reason)
        Images that have none.
    """

    names: tuple[str, ...]
    whole: Bits
    mirrored: Bits
    parts: Bits
    unreadable: tuple[tuple[str, str], ...] = field(default=())

    def __post_init__(self) -> None:
        """Raise ArgumentError if the shapes do not fit the names."""
        number = len(self.names)
        shapes = (self.whole.shape, self.mirrored.shape, self.parts.shape)
        wanted = ((number, PRINT_BYTES),) * 2 + ((number, len(PARTS), PRINT_BYTES),)
        if shapes != wanted:
            raise ArgumentError(
                "prints of another shape", place="prints", got=shapes, allowed=[str(wanted)]
            )

    def __len__(self) -> int:
        """How many images have prints."""
        return len(self.names)

    def of(self, image: str) -> Prints:
        """Return the prints of one image, without any if it has none."""
        rows = [place for place, name in enumerate(self.names) if name == image]
        return Prints(
            names=tuple(self.names[row] for row in rows),
            whole=self.whole[rows],
            mirrored=self.mirrored[rows],
            parts=self.parts[rows],
            unreadable=tuple(one for one in self.unreadable if one[0] == image),
        )

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame: ``image, print`` in hexadecimal, and ``why`` there is none."""
        import pandas as pd

        rows = [
            (name, bits.tobytes().hex(), "")
            for name, bits in zip(self.names, self.whole, strict=True)
        ]
        rows += [(name, "", why) for name, why in self.unreadable]
        return pd.DataFrame(rows, columns=["image", "print", "why"])

    def to_dict(self) -> dict[str, Any]:
        """Return plain values: the print of each image in hexadecimal, and why others have none."""
        prints = (bits.tobytes().hex() for bits in self.whole)
        return {
            "prints": dict(zip(self.names, prints, strict=True)),
            "unreadable": dict(self.unreadable),
        }

    def _head(self) -> str:
        more = f", {len(self.unreadable)} unreadable" if self.unreadable else ""
        return f"<Prints: {counted(len(self), 'image')}{more}>"


@dataclass(frozen=True, kw_only=True)
class NearCopy:
    """One new image that is a near-copy of a known one.

    Attributes
    ----------
    image, known : str
        The new image, and the known one that it is most like.
    likeness : float
        Share of equal bits, 0 to 1.
    mirrored : bool
        Whether it is left to right.
    """

    image: str
    known: str
    likeness: float
    mirrored: bool


def nearest_copies(new: Prints, known: Prints, *, least: float = LEAST) -> list[NearCopy]:
    """Return the new images that are near-copies, each with the known image most like it.

    Parameters
    ----------
    new, known : Prints
        Time grows with the product of both; memory with the new ones only.
    least : float, default 0.8
        Share of equal bits, from 0 to 1.

    Returns
    -------
    list of NearCopy
        The most alike first; empty if there are none.

    Raises
    ------
    ArgumentError
        If `least` is out of range.
    """
    if not 0 <= least <= 1:
        raise ArgumentError("out of range", place="likeness", got=least, allowed=["0 to 1"])
    if not len(new) or not len(known):
        return []
    best, place = _most_alike(np.concatenate([new.whole, new.mirrored]), known)
    half = len(new)
    mirrored = best[half:] > best[:half]
    likeness = np.where(mirrored, best[half:], best[:half])
    at = np.where(mirrored, place[half:], place[:half])
    found = [
        NearCopy(
            image=new.names[row],
            known=known.names[at[row]],
            likeness=float(likeness[row]),
            mirrored=bool(mirrored[row]),
        )
        for row in np.flatnonzero(likeness >= least).tolist()
    ]
    return sorted(found, key=lambda one: (-one.likeness, one.image))


def _most_alike(asked: Bits, known: Prints) -> tuple[npt.NDArray[np.float64], Ints]:
    """Return for each print the greatest share of equal bits, and the known image it is of."""
    rows = np.concatenate([known.whole[:, None], known.parts], axis=1)
    each = rows.shape[1]
    flat = rows.reshape(-1, PRINT_BYTES)
    bits = PRINT_BYTES * 8
    signs = _signs(asked)
    best = np.full(len(asked), -np.inf, dtype=np.float32)
    place = np.zeros(len(asked), dtype=np.intp)
    for start in range(0, len(flat), _ROWS):
        # Products of signs count equal bits less unequal ones: whole numbers, exact as floats.
        agree = signs @ _signs(flat[start : start + _ROWS]).T
        top = agree.argmax(axis=1)
        value = agree[np.arange(len(asked)), top]
        better = value > best
        best[better], place[better] = value[better], top[better] + start
    return (best.astype(float) / bits + 1) / 2, place // each


def _signs(packed: Bits) -> npt.NDArray[np.float32]:
    return np.unpackbits(packed, axis=1).astype(np.float32) * 2 - 1


def joined(parts: Sequence[Prints]) -> Prints:
    """Return the prints of several sets as one."""
    none = Prints(
        names=(),
        whole=np.zeros((0, PRINT_BYTES), dtype=np.uint8),
        mirrored=np.zeros((0, PRINT_BYTES), dtype=np.uint8),
        parts=np.zeros((0, len(PARTS), PRINT_BYTES), dtype=np.uint8),
    )
    every = [none, *parts]
    return Prints(
        names=tuple(name for one in every for name in one.names),
        whole=np.concatenate([one.whole for one in every]),
        mirrored=np.concatenate([one.mirrored for one in every]),
        parts=np.concatenate([one.parts for one in every]),
        unreadable=tuple(pair for one in every for pair in one.unreadable),
    )


def pairs_alike(known: Prints, *, least: float = LEAST, most: int = 2000) -> tuple[int, int]:
    """Count pairs of different images that would be taken for copies of each other.

    Parameters
    ----------
    known : Prints
        The first `most` are looked at.

    Returns
    -------
    tuple of int and int
        Pairs that are alike, and all pairs.
    """
    number = min(len(known), most)
    rows = np.concatenate([known.whole[:, None], known.parts], axis=1)[:number]
    alike = np.zeros((number, number), dtype=bool)
    for asked in (known.whole[:number], known.mirrored[:number]):
        signs = _signs(asked)
        for place in range(rows.shape[1]):
            agree = signs @ _signs(rows[:, place]).T
            alike |= (agree / (PRINT_BYTES * 8) + 1) / 2 >= least
    alike |= alike.T
    return int(np.triu(alike, 1).sum()), number * (number - 1) // 2
