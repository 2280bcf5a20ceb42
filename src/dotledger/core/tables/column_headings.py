"""What a table's column names say of it: swapped sides, and names that are nearly ours."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence

from dotledger.errors import TableError

__all__ = ["check_headings"]

_NEAR = 0.8
_CONFIDENCE = "confidence"
_OFTEN_CONFIDENCE = ("score", "scores", "probability", "prob", "conf", "certainty", "likelihood")


def check_headings(names: Iterable[str], ours: Sequence[str], *, place: str = "") -> None:
    """Refuse a table that is the other side's, or a column that is nearly one of ours.

    Parameters
    ----------
    names : iterable of str
        Of the columns, after those that are declared were renamed.
    ours : sequence of str
        The columns of the common shape: with ``confidence`` for findings, with ``ignore`` for
        annotations.

    Raises
    ------
    TableError
        If it looks like the other table, or a misspelt column would be left out in silence.
    """
    have = [name for name in names if isinstance(name, str)]
    _refuse_swapped(have, ours, place)
    missing = [name for name in ours if name not in have]
    for name in have:
        close = difflib.get_close_matches(name.casefold(), missing, n=1, cutoff=_NEAR)
        if name not in ours and close:
            raise _unclear(name, close[0], place)
    if _CONFIDENCE in missing:
        for name in have:
            if name.casefold() in _OFTEN_CONFIDENCE:
                raise _unclear(name, _CONFIDENCE, place)


def _refuse_swapped(have: Sequence[str], ours: Sequence[str], place: str) -> None:
    mine, other = ("confidence", "ignore") if "confidence" in ours else ("ignore", "confidence")
    if other in have and mine not in have:
        sides = ("findings", "annotations") if mine == "confidence" else ("annotations", "findings")
        raise TableError(
            f"these look like {sides[1]}, not {sides[0]}: there is a column {other!r} and no "
            f"{mine!r}: findings and annotations seem to be swapped",
            place=place,
            next_step=f"Give the {sides[0]} here, or rename the column {other!r} if it is yours.",
        )


def _unclear(name: str, ours: str, place: str) -> TableError:
    return TableError(
        f"the column {name!r} is nearly {ours!r}, and would be left out",
        place=place,
        got=name,
        next_step=f"If it is that, rename it, or say so: "
        f"`columns={{{ours!r}: {name!r}}}`. If it is your own, call it something else.",
    )
