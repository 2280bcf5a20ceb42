"""A digest of what a table holds, whatever the order of its rows."""

from __future__ import annotations

import hashlib

import numpy as np

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

__all__ = ["digest_of"]


def digest_of(table: Findings | Annotations) -> str:
    """Return a digest of images, kinds, labels, boxes and confidences (or ignore marks).

    Parameters
    ----------
    table : Findings or Annotations
        May be empty. Rows in another order give the same digest; attributes and points do not
        count.

    Returns
    -------
    str
        ``sha256:`` and 64 hexadecimal digits.
    """
    last = table.confidence if isinstance(table, Findings) else table.ignore.astype(np.float64)
    hashed = hashlib.sha256()
    columns = []
    for column in (table.image, table.kind, table.label):
        names, place = _sorted_names(column)
        hashed.update("\0".join(names).encode("utf-8", "surrogateescape") + b"\1")
        columns.append(place.astype(np.float64))
    # -1 stands for "none", which no confidence is, so that rows can be put in order.
    rows = np.column_stack([*columns, np.nan_to_num(table.box, nan=-1e300), last])
    rows = np.nan_to_num(rows, nan=-1.0)
    order = np.lexsort(rows.T)
    hashed.update(np.ascontiguousarray(rows[order] + 0.0).astype("<f8").tobytes())
    return f"sha256:{hashed.hexdigest()}"


def _sorted_names(column: Coded) -> tuple[list[str], np.ndarray[tuple[int], np.dtype[np.intp]]]:
    names = sorted(column.used())
    return names, column.onto(names)
