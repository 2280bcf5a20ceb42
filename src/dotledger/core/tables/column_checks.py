"""Columns of the common shape, and taking them out of a pandas frame."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.tables.cell_checks import BOX, Where
from dotledger.core.tables.column_headings import check_headings
from dotledger.core.tables.finding_details import Details
from dotledger.errors import TableError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["ANNOTATION_COLUMNS", "as_pandas", "details_of", "frame_columns"]

ANNOTATION_COLUMNS = ("image", "kind", "label", "x0", "y0", "x1", "y1", "ignore")


def as_pandas(frame: Any) -> pd.DataFrame:
    """Return any eager dataframe as one of pandas; raises TableError for what is none.

    Parameters
    ----------
    frame : dataframe
        Of pandas, polars, Arrow or another library that narwhals knows.

    Returns
    -------
    DataFrame
        Of pandas; the same one if it is that already.

    Raises
    ------
    TableError
        If it is no table, or one that is not worked out yet.
    """
    import pandas as pd

    if isinstance(frame, pd.DataFrame):
        return frame
    import narwhals as nw

    try:
        known = nw.from_native(frame, eager_only=True)
    except TypeError:
        raise TableError(
            "not a table",
            got=frame,
            allowed=["Findings or Annotations", "a dataframe"],
            next_step="A file is read by read_findings or read_annotations.",
        ) from None
    return pd.DataFrame(known.to_dict(as_series=False))


def details_of(frame: pd.DataFrame, where: Where) -> list[Details | None] | None:
    """Return a column ``details`` of JSON as `Details`; None if there is none.

    Parameters
    ----------
    frame : DataFrame
        As `frame` made it.
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the row, if a cell is not written as `frame` writes it.
    """
    if "details" not in frame.columns:
        return None
    found: list[Details | None] = []
    for row, cell in enumerate(frame["details"].tolist()):
        try:
            plain = json.loads(cell) if isinstance(cell, str) and cell else None
            found.append(None if plain is None else Details.from_dict(plain))
        except ValueError as error:
            raise TableError(
                f"details are JSON as Dot Ledger writes it ({error})",
                place=where(row, "details"),
                got=cell,
            ) from None
    return found


def frame_columns(frame: pd.DataFrame, columns: Sequence[str]) -> dict[str, Any]:
    """Return the columns of the common shape out of a frame; raises TableError if one lacks.

    Returns
    -------
    dict of str to column
        Those that are there; own columns are not among them.

    Raises
    ------
    TableError
        Naming what lacks, stands there twice, or is nearly one of ours.
    """
    optional = {"confidence", "ignore", *BOX}
    check_headings(frame.columns, columns)
    twice = [c for c in columns if (frame.columns == c).sum() > 1]
    if twice:
        raise TableError(
            f"the table has {(frame.columns == twice[0]).sum()} columns of this name",
            place=f"column {twice[0]}",
            next_step="Keep one of them.",
        )
    missing = [c for c in columns if c not in frame.columns and c not in optional]
    if missing:
        raise TableError(
            f"the table has no column {missing[0]!r}",
            got=[str(c) for c in frame.columns],
            allowed=columns,
            next_step="Rename the column to match.",
        )
    fill: dict[str, Any] = {"ignore": False}
    return {
        c: frame[c].tolist()
        if c in ("image", "kind", "label")
        else frame[c].to_numpy()
        if c in frame.columns
        else np.full(len(frame), fill.get(c, np.nan))
        for c in columns
    }
