"""Cells of the common shape: recognised, checked, and refused by row and column."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.kinds import KINDS
from dotledger.core.tables.name_codes import Coded
from dotledger.errors import TableError

__all__ = [
    "BOX",
    "Where",
    "blank_rows",
    "check_boxed",
    "check_boxes",
    "check_confidences",
    "check_kinds",
    "check_lengths",
    "check_names",
    "codes_of",
    "flags_of",
    "numbers_of",
    "refuse_rows",
    "row_place",
    "says_yes",
    "stack_boxes",
]

BOX = ("x0", "y0", "x1", "y1")
_MOST_ROWS = 20
_LINE = re.compile(r"\b(line|row) \d+")

Where = Callable[[int, str], str]
"""Names a cell for people, from a row (0-based) and a column."""


def row_place(row: int, column: str) -> str:
    """Name a cell of a table in memory, rows from 0.

    Parameters
    ----------
    row : int
        From 0.

    Returns
    -------
    str
        For the message of an error.
    """
    return f"row {row}, column {column}"


def codes_of(values: Iterable[Any] | Coded, column: str, where: Where) -> Coded:
    """Return a column of names, coded; None, NaN and NA are empty; raises TableError for others.

    Parameters
    ----------
    values : iterable, or Coded
        What is coded already comes back as it is.
    where : callable
        Names a cell, for the message.

    Returns
    -------
    Coded, shape (n,)
        Names in the order in which they first come.

    Raises
    ------
    TableError
        Naming the cell that is no text.
    """
    if isinstance(values, Coded):
        return values
    rows = list(values)
    if set(map(type, rows)) - {str}:
        rows = _as_text(rows, column, where)
    return Coded.of(rows)


def _as_text(rows: list[Any], column: str, where: Where) -> list[str]:
    for position, value in enumerate(rows):
        if isinstance(value, str):
            rows[position] = str(value)
        elif value is None or (isinstance(value, float) and value != value) or _is_missing(value):
            rows[position] = ""
        else:
            raise TableError(
                "a name must be text", place=where(position, column), got=value, row=position
            )
    return rows


def _is_missing(value: Any) -> bool:
    """Tell whether a cell is pandas' NA or NaT, without importing pandas."""
    return type(value).__name__ in ("NAType", "NaTType")


def numbers_of(values: Any, column: str, where: Where) -> NDArray[np.float64]:
    """Return a column as float64, empty cells as NaN; raises TableError for any other cell.

    Parameters
    ----------
    values : array-like
        Numbers, text that holds them, or empty.
    where : callable
        Names a cell, for the message.

    Returns
    -------
    ndarray of float64, shape (n,)
        NaN for empty.

    Raises
    ------
    TableError
        Naming the cell.
    """
    try:
        array = np.asarray(_in_digits(values), dtype=np.float64)
    except (TypeError, ValueError):
        array = np.array(
            [_number(v, i, column, where) for i, v in enumerate(values)], dtype=np.float64
        )
    if array.ndim != 1:
        raise TableError(
            "a column holds one number a row", place=where(0, column), got=f"shape {array.shape}"
        )
    _refuse(np.isinf(array), array, column, where, "a number must be finite")
    return array


def _in_digits(values: Any) -> Any:
    """Return short floats as the numbers they are written as: 0.9 in 32 bits is 0.9, not less.

    Otherwise a confidence of exactly the threshold would fall below it.
    """
    dtype = getattr(values, "dtype", None)
    if dtype not in (np.float32, np.float16):
        return values
    return np.asarray(values).astype(str).astype(np.float64)


def _number(value: Any, row: int, column: str, where: Where) -> float:
    if _is_missing(value) or value is None or (isinstance(value, str) and not value.strip()):
        return np.nan
    try:
        return float(value)
    except (TypeError, ValueError):
        raise TableError("not a number", place=where(row, column), got=value, row=row) from None


def refuse_rows(
    rows: Sequence[int], value: Any, column: str, where: Where, message: str, **more: Any
) -> None:
    """Name all of `rows`; raises TableError, at the first of them, whose cell holds `value`.

    Parameters
    ----------
    rows : sequence of int
        At least one, from 0.
    where : callable
        Names a cell, for the message.
    more : object
        Further facts of the error, such as `allowed`.

    Raises
    ------
    TableError
        Always.
    """
    row = int(rows[0])
    if len(rows) > 1:
        shown = ", ".join(_short(where(int(r), column)) for r in rows[:_MOST_ROWS])
        dots = ", ..." if len(rows) > _MOST_ROWS else ""
        message = f"{message} ({len(rows):,} such rows: {shown}{dots})"
    raise TableError(message, place=where(row, column), got=value, row=row, **more)


def _short(place: str) -> str:
    """Return the line or row of a place: twenty times the file's name would hide them."""
    found = _LINE.search(place)
    return found[0] if found else place


def _refuse(
    bad: NDArray[np.bool_], values: Any, column: str, where: Where, message: str, **more: Any
) -> None:
    if bad.any():
        rows = np.flatnonzero(bad)
        value = values[rows[0]]
        got = tuple(value.tolist()) if isinstance(value, np.ndarray) else value
        refuse_rows(rows.tolist(), got, column, where, message, **more)


def check_kinds(kind: Coded, where: Where, *, blank: NDArray[np.bool_] | None) -> None:
    """Refuse kinds that are not among `KINDS`; rows in `blank` may have none.

    Parameters
    ----------
    kind : Coded, shape (n,)
        Kind of each row, or of this one.
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the rows.
    """
    known = np.array([name in KINDS for name in kind.names], dtype=bool)
    bad = ~known[kind.codes] if len(known) else np.zeros(0, dtype=bool)
    if blank is not None:
        empty = np.array([not name for name in kind.names], dtype=bool)
        bad &= ~(blank & (empty[kind.codes] if len(empty) else bad))
    _refuse(bad, kind.values(), "kind", where, "unknown kind", allowed=KINDS)


def check_boxes(box: NDArray[np.float64], where: Where) -> None:
    """Refuse boxes with some of their numbers, and those without width or height; shape (n, 4).

    Parameters
    ----------
    box : ndarray of float64, shape (n, 4)
        NaN for none.
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the rows.
    """
    given = ~np.isnan(box)
    partial = np.asarray(given.any(axis=1) & ~given.all(axis=1))
    column = BOX[int(np.argmin(given[np.argmax(partial)]))] if partial.any() else ""
    _refuse(partial, box, column, where, "a box needs all four numbers or none")
    for low, high, column in ((0, 2, "x1"), (1, 3, "y1")):
        _refuse(
            box[:, low] >= box[:, high],
            box,
            column,
            where,
            f"a box must have {BOX[low]} < {column}",
            next_step="Boxes are corners in pixels; convert other conventions first.",
        )


def check_confidences(confidence: NDArray[np.float64], where: Where) -> None:
    """Refuse confidences below 0 or above 1; NaN stands for none.

    Parameters
    ----------
    confidence : ndarray of float64, shape (n,)
        From 0 to 1.
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the rows.
    """
    bad = (confidence < 0) | (confidence > 1)
    _refuse(
        bad,
        confidence,
        "confidence",
        where,
        "a confidence is out of range",
        allowed=["0 to 1", "empty for none"],
    )


def check_lengths(columns: Mapping[str, Any]) -> None:
    """Compare the lengths of columns; raises TableError if they differ.

    Raises
    ------
    TableError
        With all lengths.
    """
    lengths = {name: len(column) for name, column in columns.items()}
    if len(set(lengths.values())) > 1:
        raise TableError("columns differ in length", got=lengths)


def blank_rows(label: Coded) -> NDArray[np.bool_]:
    """Return which rows have no label: ndarray of bool, shape (n,).

    Returns
    -------
    ndarray of bool, shape (n,)
        True where an image was looked at and holds nothing.
    """
    empty = np.array([not name for name in label.names], dtype=bool)
    return empty[label.codes] if len(empty) else np.zeros(0, dtype=bool)


def flags_of(values: Any, column: str, where: Where) -> NDArray[np.bool_]:
    """Return a column of yes and no as bool, empty as no; raises TableError for other words.

    Parameters
    ----------
    values : array-like
        Yes and no as bool, numbers or words.
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the cell.
    """
    words = {
        "": False,
        "0": False,
        "false": False,
        "no": False,
        "1": True,
        "true": True,
        "yes": True,
    }
    array = np.asarray(values)
    if array.dtype == np.bool_:
        return array
    result = np.zeros(len(array), dtype=bool)
    for row, value in enumerate(array.tolist()):
        nothing = value is None or _is_missing(value) or value != value
        plain = "" if nothing else str(value).strip().lower()
        plain = plain.removesuffix(".0")
        if plain not in words:
            raise TableError(
                "not a yes or no",
                place=where(row, column),
                got=value,
                row=row,
                allowed=["true", "false", "1", "0", "yes", "no", "empty for false"],
            )
        result[row] = words[plain]
    return result


def stack_boxes(x0: Any, y0: Any, x1: Any, y1: Any, where: Where) -> NDArray[np.float64]:
    """Return four columns as boxes: ndarray of float64, shape (n, 4).

    Parameters
    ----------
    where : callable
        Names a cell, for the message.

    Returns
    -------
    ndarray of float64, shape (n, 4)
        In pixels, unchecked; NaN for empty.

    Raises
    ------
    TableError
        If a cell is no number, or the columns differ in length.
    """
    columns = {c: numbers_of(v, c, where) for c, v in zip(BOX, (x0, y0, x1, y1), strict=True)}
    check_lengths(columns)
    return np.stack(list(columns.values()), axis=1)


def check_names(image: Coded, where: Where) -> None:
    """Refuse rows without the name of an image.

    Parameters
    ----------
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the rows.
    """
    empty = np.array([not name for name in image.names], dtype=bool)
    if empty.any():
        _refuse(empty[image.codes], image.values(), "image", where, "an image needs a name")


def check_boxed(kind: Coded, label: Coded, box: NDArray[np.float64], where: Where) -> None:
    """Refuse annotations without a box where their kind is judged by boxes.

    Parameters
    ----------
    kind : Coded, shape (n,)
        Kind of each row, or of this one.
    box : ndarray of float64, shape (n, 4)
        NaN for none.
    where : callable
        Names a cell, for the message.

    Raises
    ------
    TableError
        Naming the rows.
    """
    boxed = np.array([n in KINDS and KINDS[n].judged == "boxes" for n in kind.names], dtype=bool)
    if not len(boxed):
        return
    bad = boxed[kind.codes] & ~blank_rows(label) & np.isnan(box[:, 0])
    _refuse(
        bad,
        [""] * len(bad),
        "x0",
        where,
        "an annotation of this kind needs a box",
        next_step="Give x0, y0, x1, y1, or use the kind 'label' for what has no place.",
    )


def says_yes(value: Any) -> bool:
    """Return whether a cell that is a flag is set: true, 1, yes or y, letter case apart.

    Parameters
    ----------
    value : object
        As it was read; what is missing, or any other word, is not set.
    """
    if isinstance(value, str):
        return value.strip().casefold() in ("true", "1", "yes", "y")
    return value is not None and value == value and bool(value)
