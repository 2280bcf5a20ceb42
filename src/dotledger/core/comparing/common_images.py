"""Several tables of findings on the images that all of them answered."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from dotledger.core.tables.findings import Findings

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
    answered = [
        set(zip(t.kind.values().tolist(), t.image.values().tolist(), strict=True)) for t in tables
    ]
    common = set.intersection(*answered) if answered else set()
    return [
        t.take(
            np.array(
                [pair in common for pair in zip(t.kind.values(), t.image.values(), strict=True)],
                dtype=bool,
            )
        )
        for t in tables
    ]
