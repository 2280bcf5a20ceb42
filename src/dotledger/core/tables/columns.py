"""Columns of the common shape, and taking them out of a pandas frame."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.tables.cells import (
    BOX,
)
from dotledger.core.tables.headings import check_headings
from dotledger.errors import TableError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["ANNOTATION_COLUMNS", "frame_columns"]

ANNOTATION_COLUMNS = ("image", "kind", "label", "x0", "y0", "x1", "y1", "ignore")


def frame_columns(frame: pd.DataFrame, columns: Sequence[str]) -> dict[str, Any]:
    """Return the columns of the common shape out of a frame; raises TableError if one lacks."""
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
