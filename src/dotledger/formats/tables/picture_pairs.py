"""Tables of picture pairs: two pictures, whether they show one person, and how similar they are."""

from __future__ import annotations

import math
import os
from collections.abc import Mapping
from typing import Any

from dotledger.core.questions.pair_verification import PairMeasure, pair_measure
from dotledger.core.tables.cell_checks import says_yes
from dotledger.errors import TableError
from dotledger.formats.tables.plain_tables import columns_of_file

__all__ = ["measure_pairs"]

PathLike = str | os.PathLike[str]

_COLUMNS = ("left", "right", "same", "similarity")
_NO = ("", "false", "0", "no", "n")
_YES = ("true", "1", "yes", "y")


def measure_pairs(pairs: PathLike | Any) -> PairMeasure:
    """Measure "same person or not" over pairs of pictures, at every threshold of similarity.

    Parameters
    ----------
    pairs : path, dataframe or mapping of str to sequence
        With the columns ``left`` and ``right`` (names of pictures), ``same`` (yes or no: what is
        known) and ``similarity`` (in the service's own measure; empty where it gave no answer). A
        file is ``.csv``, ``.jsonl`` or ``.parquet``.

    Returns
    -------
    PairMeasure
        False-match and false-non-match rates with 95 % intervals; without rows where no pair has
        an answer.

    Raises
    ------
    TableError
        If a column is missing, ``same`` is neither yes nor no, a similarity is no number, or a
        picture of a pair is missing; it names the line.
    ScopeError
        If there are no pairs.
    MissingExtra
        For ``.parquet`` without ``dot-ledger[parquet]``.

    References
    ----------
    ISO/IEC 19795-1, "Biometric performance testing and reporting".

    Examples
    --------
    >>> import dotledger
    >>> pairs = {"left": ["a", "b"], "right": ["c", "d"], "same": ["yes", "no"]}
    >>> found = dotledger.measure_pairs(pairs | {"similarity": [0.9, 0.2]})
    >>> found.at(0.5).false_match_rate
    0.0
    """
    is_file = isinstance(pairs, str | os.PathLike)
    place = str(pairs) if is_file else "pairs"
    columns = columns_of_file(pairs) if is_file else _columns_of(pairs)
    missing = [name for name in _COLUMNS if name not in columns]
    if missing:
        raise TableError(
            f"a table of pairs has no column {', '.join(missing)}",
            place=place,
            got=", ".join(map(str, columns)),
            allowed=_COLUMNS,
        )
    first = 2 if place.endswith(".csv") else 1
    name = "line" if is_file else "row"
    left, right, same, similarity = (
        [_CELLS[column](value, f"{place}, {name} {row}, column {column}")
         for row, value in enumerate(columns[column], first)]
        for column in _COLUMNS
    )  # fmt: skip
    return pair_measure(left, right, same, similarity)


def _columns_of(table: Any) -> dict[str, list[Any]]:
    if not isinstance(table, Mapping) and not hasattr(table, "columns"):
        raise TableError(
            "not a table of pairs",
            place="pairs",
            got=type(table).__name__,
            allowed=["a path, a dataframe, or a mapping of columns"],
        )
    names = list(table) if isinstance(table, Mapping) else list(table.columns)
    return {str(name): list(table[name]) for name in names}


def _name(value: Any, place: str) -> str:
    text = "" if _is_empty(value) else str(value).strip()
    if not text:
        raise TableError(
            "a picture of the pair is missing",
            place=place,
            got=value,
            allowed=["the name of a picture"],
        )
    return text


def _flag(value: Any, place: str) -> bool:
    word = "" if _is_empty(value) else str(value).strip().casefold()
    if not word or word not in (*_YES, *_NO):
        raise TableError("neither yes nor no", place=place, got=value, allowed=["yes", "no"])
    return says_yes(word)


def _number(value: Any, place: str) -> float | None:
    if _is_empty(value) or (isinstance(value, str) and not value.strip()):
        return None
    try:
        number = float(value)
    except (TypeError, ValueError):
        number = math.nan
    if not math.isfinite(number):
        raise TableError(
            "not a finite number",
            place=place,
            got=value,
            allowed=["a number", "empty for no answer"],
        )
    return number


def _is_empty(value: Any) -> bool:
    """Return whether a cell holds nothing: None, NaN or NA, the values that dataframes have."""
    return value is None or type(value).__name__ == "NAType" or value != value


_CELLS: Mapping[str, Any] = {
    "left": _name,
    "right": _name,
    "same": _flag,
    "similarity": _number,
}
