"""Slices by what a service says of its own findings: the mood, the age, what somebody wears.

Such a slice holds findings, right and wrong ones, so precision has a meaning in it. What was missed
has no finding, and so no attribute: recall is undefined. To slice what is annotated by what is
annotated of it, see `dotledger.core.questions.slices`.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.tables.finding_details import (
    attribute_cells,
    attribute_list,
    entries_of,
)
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from dotledger.core.arrays import Ints
    from dotledger.core.questions.question_basis import Basis

__all__ = ["FOUND", "finding_slice_names", "finding_values", "matched_codes"]

FOUND = "found."
"""The beginning of such a slice's name, as in ``found.mood``."""
_MOST_VALUES = 20


def finding_slice_names(basis: Basis) -> list[str]:
    """Return the slices by attributes of findings, such as ``found.mood`` or ``found.worn=hat``.

    Returns
    -------
    list of str
        In the order of the alphabet; of a list one for each entry. Empty where no kind with boxes
        is judged.
    """
    names: set[str] = set()
    if not any(scope.boxed for scope in basis.scopes.values()):
        return []
    for details in basis.findings.details or ():
        for name, value in details.attributes.items() if details is not None else ():
            if attribute_list(value) is None:
                names.add(f"{FOUND}{name}")
            else:
                names |= {f"{FOUND}{name}={entry}" for entry in entries_of(value)}
        if details is not None and details.person()[0]:
            names |= {f"{FOUND}person", f"{FOUND}similarity"}
    return sorted(names)


def finding_values(basis: Basis, kind: str, name: str, edges: Sequence[float] | None) -> list[Any]:
    """Return the value of each finding judged, in the order of the judgement; None for none.

    Parameters
    ----------
    name : str
        With `FOUND` before it.
    edges : sequence of float, or None
        Ends of bands of numbers.

    Raises
    ------
    ArgumentError
        If numbers are to be sliced without edges, and there are many of them.
    """
    attribute, is_entry, entry = name.removeprefix(FOUND).partition("=")
    details = basis.findings.details or ()
    values: list[Any] = []
    for row in basis.scopes[kind].findings.row.tolist():
        own = details[row] if details else None
        if is_entry:
            told = None if own is None else own.attributes.get(attribute)
            values.append(None if told is None else _with(entry, told))
        else:
            values.append(attribute_cells(own).get(attribute))
    numbers = {v for v in values if isinstance(v, int | float) and not isinstance(v, bool)}
    if edges is None and len(numbers) > _MOST_VALUES:
        raise ArgumentError(
            "a slice for each number would hold next to nothing",
            place="by",
            got=name,
            next_step=f"Give edges, such as {name}:{_example(sorted(numbers))}.",
        )
    return values


def _with(entry: str, told: object) -> str:
    return "with" if entry in entries_of(told) else "without"


def _example(numbers: Sequence[float]) -> str:
    return ",".join(f"{numbers[len(numbers) * part // 3]:.2g}" for part in (1, 2))


def matched_codes(basis: Basis, kind: str, found: Ints) -> Ints:
    """Return a slice for each countable annotation: that of its finding, else the first.

    Parameters
    ----------
    found : ndarray of intp
        The slice of each finding judged.
    """
    judged, ignored = basis.judged[kind], basis.scopes[kind].ignore
    codes = np.zeros(len(ignored), dtype=np.intp)
    codes[judged.annotation] = found[judged.hit]  # which counts ignored ones, too
    return codes[~ignored]
