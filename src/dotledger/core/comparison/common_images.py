"""Several tables of findings on the images that all of them answered."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dotledger.core.tables.findings_table import Findings

__all__ = ["on_common_images"]


def on_common_images(tables: Sequence[Findings]) -> list[Findings]:
    """Return findings tables reduced to what can be compared.

    For each kind only the images are kept that every table has an answer for.

    Parameters
    ----------
    tables : sequence of Findings
        One a service, blank rows among them.

    Returns
    -------
    list of Findings
        In the same order; without tables an empty list.
    """
    answered = [_answered(table) for table in tables]
    common = set.intersection(*(set(names) for names, _ in answered)) if answered else set()
    return [
        table.take(np.array([pair in common for pair in names], dtype=bool)[place])
        if len(table)
        else table
        for table, (names, place) in zip(tables, answered, strict=True)
    ]


def _answered(table: Findings) -> tuple[list[tuple[str, str]], NDArray[np.intp]]:
    """Return each kind and image that a table answers, and for each row which of them it is of."""
    width = max(len(table.image.names), 1)
    codes, place = np.unique(table.kind.codes * width + table.image.codes, return_inverse=True)
    kinds, images = table.kind.names, table.image.names
    return [(kinds[code // width], images[code % width]) for code in codes.tolist()], place
