"""Names as codes, and the nearest name to a misspelt one."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Coded", "natural_key", "nearest"]

_DIGITS = re.compile(r"(\d+)")


@dataclass(frozen=True, eq=False)
class Coded:
    """A column of names stored as integers into a small table of distinct names.

    Attributes
    ----------
    codes : ndarray of intp, shape (n,)
        Index into `names` for each row.
    names : tuple of str
        The distinct names; a name need not be used by any row.
    """

    codes: NDArray[np.intp]
    names: tuple[str, ...]

    @classmethod
    def of(cls, values: Iterable[str]) -> Coded:
        """Code `values` by first appearance."""
        rows = values if isinstance(values, (list, tuple)) else list(values)
        index = {name: code for code, name in enumerate(dict.fromkeys(rows))}
        codes = np.fromiter(map(index.__getitem__, rows), dtype=np.intp, count=len(rows))
        return cls(codes, tuple(index))

    def __len__(self) -> int:
        return len(self.codes)

    def values(self) -> NDArray[np.object_]:
        """Return the column spelt out: an object array of shape (n,)."""
        return self._table()[self.codes]

    def _table(self) -> NDArray[Any]:
        table = np.empty(len(self.names), dtype=object)
        table[:] = self.names
        return table

    def take(self, rows: NDArray[Any]) -> Coded:
        """Return the column reduced to `rows` (indices or a mask); the table of names is shared."""
        return Coded(self.codes[rows], self.names)

    def onto(self, names: Sequence[str]) -> NDArray[np.intp]:
        """Return each row's index in `names`, or -1 where it is not among them."""
        index = {name: code for code, name in enumerate(names)}
        table = np.array([index.get(name, -1) for name in self.names], dtype=np.intp)
        return table[self.codes] if len(table) else self.codes

    def used(self) -> list[str]:
        """Return the names that some row uses, in table order."""
        present = np.bincount(self.codes, minlength=len(self.names)) > 0
        return [name for name, there in zip(self.names, present, strict=True) if there]


def nearest(name: str, known: Iterable[str], *, most: int = 1) -> list[str]:
    """Return up to `most` names of `known` that are spelt most like `name`, letter case aside."""
    folded: dict[str, str] = {}
    for other in known:
        folded.setdefault(other.casefold(), other)
    close = difflib.get_close_matches(name.casefold(), list(folded), n=most, cutoff=0.6)
    return [folded[key] for key in close]


def natural_key(text: str) -> tuple[tuple[int, int | str], ...]:
    """Return a sort key under which ``walk-9`` comes before ``walk-10``."""
    parts = _DIGITS.split(text.casefold())
    return tuple((0, int(part)) if part.isdigit() else (1, part) for part in parts if part)
