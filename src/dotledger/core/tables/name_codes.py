"""Columns of names stored as codes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import compress, repeat
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Coded"]


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

    def respelt(self, spell: Callable[[str], str]) -> Coded:
        """Return the column with each name as `spell` writes it; what becomes equal is one name."""
        spelt = [spell(name) for name in self.names]
        if tuple(spelt) == self.names:
            return self
        index = {name: code for code, name in enumerate(dict.fromkeys(spelt))}
        moved = np.array([index[name] for name in spelt], dtype=np.intp)
        return Coded(moved[self.codes], tuple(index))

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

    def placed(self, names: Sequence[str]) -> NDArray[np.intp]:
        """Return for each name of the table its index in `names`, or -1 if it is not among them."""
        # Tables of a million names are looked up by loops in C, and not at all where they are one.
        if len(names) == len(self.names) and tuple(names) == self.names:
            return np.arange(len(names), dtype=np.intp)
        index = dict(zip(names, range(len(names)), strict=True))
        found = map(index.get, self.names, repeat(-1))
        return np.fromiter(found, dtype=np.intp, count=len(self.names))

    def onto(self, names: Sequence[str]) -> NDArray[np.intp]:
        """Return each row's index in `names`, or -1 where it is not among them."""
        table = self.placed(names)
        return table[self.codes] if len(table) else self.codes

    def among(self, names: Sequence[str]) -> NDArray[np.bool_]:
        """Return which rows hold one of `names`: ndarray of bool, shape (n,)."""
        # Codes are compared with names only once for each name, and a byte a row is fetched then.
        return (self.placed(names) >= 0)[self.codes] if self.names else np.zeros(0, dtype=bool)

    def present(self) -> NDArray[np.bool_]:
        """Return which names of the table some row uses: ndarray of bool, shape (names,)."""
        present = np.zeros(len(self.names), dtype=bool)
        present[self.codes] = True
        return present

    def used(self) -> list[str]:
        """Return the names that some row uses, in table order."""
        present = self.present()
        return list(self.names if present.all() else compress(self.names, present.tolist()))

    def uses(self, names: Sequence[str]) -> NDArray[np.bool_]:
        """Return which of `names` some row uses: ndarray of bool, shape (names,)."""
        # The place behind the last takes in what is not among them.
        there = np.zeros(len(names) + 1, dtype=bool)
        there[self.placed(names)[self.present()]] = True
        return there[:-1]
