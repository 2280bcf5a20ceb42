"""What both tables can do as rows: count, choose, join, compare, show, go to other libraries."""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import NDArray

from dotledger.core.tables.cell_checks import BOX, blank_rows
from dotledger.core.tables.finding_details import Details, attribute_cells
from dotledger.core.tables.name_codes import Coded
from dotledger.errors import ArgumentError, MissingExtra

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Rows", "details_columns", "joined"]

_SHOWN = 10


class Rows:
    """The rows of a table of findings or annotations."""

    image: Coded
    kind: Coded
    label: Coded
    box: NDArray[np.float64]
    details: tuple[Details | None, ...] | None

    def __len__(self) -> int:
        return len(self.label)

    def __iter__(self) -> Iterator[tuple[str, Self]]:
        """Yield (name, its rows) for each image, in the order in which images first occur."""
        codes, first = np.unique(self.image.codes, return_index=True)
        order = np.argsort(self.image.codes, kind="stable")
        ends = np.searchsorted(self.image.codes[order], codes, side="right")
        starts = np.r_[0, ends[:-1]] if len(ends) else ends
        for place in np.argsort(first):
            name = self.image.names[codes[place]]
            yield name, self.take(order[starts[place] : ends[place]])

    def __getitem__(self, rows: slice | Sequence[int] | Sequence[bool] | NDArray[Any]) -> Self:
        """Return some rows: a slice, a mask of the table's length, or places of rows.

        Only the rows asked for are there then: an image all of whose rows are left out does not
        count as answered any more. `filter` keeps that.
        """
        if isinstance(rows, slice):
            return self.take(np.arange(len(self))[rows])
        chosen = np.asarray(rows)
        if chosen.dtype == np.bool_ and len(chosen) != len(self):
            raise ArgumentError(
                "a mask has another length than the table",
                place="rows",
                got=len(chosen),
                allowed=[str(len(self))],
            )
        return self.take(chosen if chosen.size else chosen.astype(np.intp))

    def __eq__(self, other: object) -> bool:
        if type(other) is not type(self):
            return NotImplemented
        assert isinstance(other, Rows)
        return len(self) == len(other) and self._plain_rows() == other._plain_rows()

    __hash__ = None  # type: ignore[assignment]  # equal by content, and arrays can be changed

    def take(self, rows: NDArray[Any]) -> Self:
        """Return the table reduced to `rows` (indices or a mask)."""
        raise NotImplementedError

    def frame(self, *, details: str | None = None) -> pd.DataFrame:
        """Return a pandas frame."""
        raise NotImplementedError

    @property
    def blank(self) -> NDArray[np.bool_]:
        """Rows without a label, which say that nothing is there: ndarray of bool, shape (n,)."""
        return blank_rows(self.label)

    def row_ids(self) -> list[str]:
        """Return a name for each row that is made of its content: sixteen hexadecimal digits.

        It does not depend on the order of rows or on other rows; of rows that are equal in every
        column the second and later ones have ``-2`` and so on behind it.
        """
        seen: Counter[str] = Counter()
        ids = []
        for row in self._plain_rows():
            text = json.dumps(row, ensure_ascii=False, default=str)
            digest = hashlib.sha256(text.encode("utf-8", "replace")).hexdigest()[:16]
            seen[digest] += 1
            ids.append(digest if seen[digest] == 1 else f"{digest}-{seen[digest]}")
        return ids

    def _plain_rows(self) -> list[list[Any]]:
        """Return rows as plain values, NaN as None, details as JSON."""
        frame = self.frame(details="json").astype(object)
        return frame.where(frame.notna(), None).to_numpy().tolist()

    def _chosen(
        self,
        kind: str | Iterable[str] | None,
        image: str | Iterable[str] | None,
    ) -> NDArray[np.bool_]:
        rows = np.ones(len(self), dtype=np.bool_)
        for column, wanted in ((self.kind, kind), (self.image, image)):
            if wanted is not None:
                rows &= column.among([wanted] if isinstance(wanted, str) else list(wanted))
        return rows

    def _shape_columns(self) -> dict[str, Any]:
        names = {c: getattr(self, c).values() for c in ("image", "kind", "label")}
        return names | dict(zip(BOX, self.box.T, strict=True))

    def _repr_html_(self) -> str:
        """Show the first rows as a table in a notebook."""
        more = f"<p>{len(self) - _SHOWN:,} more rows</p>" if len(self) > _SHOWN else ""
        return f"{self[:_SHOWN].frame().to_html(index=False, na_rep='', escape=True)}{more}"

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """Give the table to any library that reads Arrow streams (the Arrow PyCapsule interface).

        Raises
        ------
        MissingExtra
            Without pyarrow.
        """
        try:
            import pyarrow as pa
        except ImportError as error:
            raise MissingExtra(
                "Arrow needs pyarrow", next_step="Run: pip install 'dot-ledger[parquet]'"
            ) from error
        table = pa.Table.from_pandas(self.frame(details="json"), preserve_index=False)
        return table.__arrow_c_stream__(requested_schema)


def details_columns(table: Rows, how: str | None) -> dict[str, list[Any]]:
    """Return what rows have next to the common shape, as columns.

    Parameters
    ----------
    how : {"json", "columns"} or None
        One column ``details`` of JSON; a column for each plain attribute and ``NAME_x``, ``NAME_y``
        for each point; or nothing.

    Raises
    ------
    ArgumentError
        If `how` is another word.
    """
    if how not in ("json", "columns", None):
        raise ArgumentError(
            "unknown way of showing details", place="details", got=how, allowed=["json", "columns"]
        )
    if how is None or table.details is None:
        return {}
    if how == "json":
        parts = [one.to_dict() if one else {} for one in table.details]
        return {"details": [json.dumps(p, ensure_ascii=False) if p else None for p in parts]}
    rows = [_flat(one) for one in table.details]
    names = dict.fromkeys(name for row in rows for name in row)
    return {name: [row.get(name) for row in rows] for name in names}


def _flat(details: Details | None) -> dict[str, Any]:
    if details is None:
        return {}
    cells = attribute_cells(details)
    flat = {name: value for name, value in cells.items() if value is not None}
    for name, (x, y) in details.points.items():
        flat |= {f"{name}_x": x, f"{name}_y": y}
    return flat


def joined(columns: Sequence[Coded]) -> Coded:
    """Return columns of names one below the other."""
    return Coded.of([name for column in columns for name in column.values().tolist()])
