"""Reading CSV and JSON Lines into columns, with the line of every row kept for messages."""

from __future__ import annotations

import csv
import math
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from types import MappingProxyType
from typing import Any, TextIO

import numpy as np

from dotledger.core.tables.cell_checks import refuse_rows
from dotledger.core.tables.name_codes import Coded
from dotledger.errors import TableError
from dotledger.json_codec import NotJSON, from_json
from dotledger.safe_files import check_regular

__all__ = ["Columns", "first_names", "guard", "read_csv", "read_json_lines", "unguard"]

_ROWS_AT_ONCE = 20_000
_LONGEST_HEADER = 100_000
_NAMES = ("image", "kind", "label")
_NUMBERS = (
    *("confidence", "x0", "y0", "x1", "y1", "cx", "cy", "width", "height"),
    *("image_width", "image_height"),
)
_FORMULA = re.compile(r"'*(?:\s*[=+\-@]|[\t\r])")

_SAME: Mapping[str, str] = MappingProxyType({})

csv.field_size_limit(10_000_000)


# A name that starts like a formula gets an apostrophe in CSV, which reading takes away again: a
# spreadsheet would run it.
def guard(text: str) -> str:
    """Return `text` so that no spreadsheet takes it for a formula; `unguard` gives it back.

    Returns
    -------
    str
        With an apostrophe before it, where that is needed.
    """
    return f"'{text}" if _FORMULA.match(text) else text


def unguard(text: str) -> str:
    """Undo `guard`.

    Returns
    -------
    str
        Without the apostrophe that `guard` set; other text as it is.
    """
    return text[1:] if text.startswith("'") and _FORMULA.match(text) else text


@dataclass
class Columns:
    """Columns gathered chunk by chunk.

    Attributes
    ----------
    path : Path
        Where they come from.
    given : tuple of str
        The columns that the file has, of those wanted.
    lines : list of int
        The file's line of each row, from 1.
    own : tuple of str
        Columns beyond those wanted, kept as they are.
    theirs : mapping of str to str
        The file's name of a column where it is not ours.
    """

    path: Path
    given: tuple[str, ...]
    lines: list[int] = field(default_factory=list)
    own: tuple[str, ...] = ()
    theirs: Mapping[str, str] = field(default_factory=dict)
    _index: dict[str, dict[str, int]] = field(default_factory=dict)
    _parts: dict[str, list[Any]] = field(default_factory=dict)

    def add(self, column: str, values: Sequence[Any], start: int) -> None:
        """Append one chunk of one column, whose first row is `start`."""
        self._parts.setdefault(column, []).append(self._convert(column, values, start))

    def _convert(self, column: str, values: Sequence[Any], start: int) -> Any:
        if column in _NAMES and column not in self.own:
            index = self._index.setdefault(column, {})
            for name in dict.fromkeys(values):
                index.setdefault(name, len(index))
            return np.fromiter(map(index.__getitem__, values), dtype=np.intp, count=len(values))
        if column in _NUMBERS and column not in self.own:
            return self._as_numbers(column, values, start)
        return list(values)

    def _as_numbers(self, column: str, values: Sequence[Any], start: int) -> Any:
        try:
            numbers = np.array([_fast(v) for v in values], dtype=np.float64)
        except (TypeError, ValueError):
            numbers = np.array([_lenient(v) for v in values], dtype=np.float64)
        odd = np.flatnonzero(~np.isfinite(numbers)).tolist()
        if bad := [offset for offset in odd if not _is_empty(values[offset])]:
            refuse_rows(
                [start + offset for offset in bad],
                values[bad[0]],
                column,
                self.where,
                "not a finite number",
                allowed=["a number, with a decimal point", "empty for none"],
            )
        return numbers

    def where(self, row: int, column: str) -> str:
        """Name a cell for people."""
        line = self.lines[row] if row < len(self.lines) else row + 1
        return f"{self.path}, line {line}, column {self.theirs.get(column, column)}"

    def result(self) -> dict[str, Any]:
        """Return what was gathered, by column."""
        return {column: self._column(column) for column in self.given}

    def own_rows(self) -> list[dict[str, Any]] | None:
        """Return for each row the cells of columns that were not asked for; None without any."""
        if not self.own:
            return None
        columns = [self._column(column) for column in self.own]
        return [
            {n: v for n, v in zip(self.own, row, strict=True) if v is not None and v != ""}
            for row in zip(*columns, strict=True)
        ]

    def _column(self, column: str) -> Any:
        parts = self._parts.get(column, [])
        if column in _NAMES and column not in self.own:
            codes = np.concatenate([np.zeros(0, dtype=np.intp), *parts])
            return Coded(codes, tuple(self._index.get(column, ())))
        if column in _NUMBERS and column not in self.own:
            return np.concatenate([np.zeros(0), *parts])
        return [value for part in parts for value in part]


def _fast(value: Any) -> float:
    return math.nan if value is None or value == "" else float(value)


def _is_empty(value: Any) -> bool:
    return value is None or (isinstance(value, str) and not value.strip())


def _lenient(value: Any) -> float:
    if _is_empty(value):
        return math.nan
    try:
        return float(value)
    except (TypeError, ValueError):
        return math.inf


def read_csv(
    path: Path,
    wanted: Sequence[str],
    *,
    theirs: Mapping[str, str] = _SAME,
    keep_own: bool = False,
) -> Columns:
    """Read the `wanted` columns of a CSV file (UTF-8, with or without a byte-order mark).

    A header without any comma may be divided by semicolons or tabs, and so is the file then.

    Parameters
    ----------
    wanted : sequence of str
        Our names of the columns to read.
    theirs : mapping of str to str
        The file's names, where they are not ours.
    keep_own : bool
        Keep all other columns too, as they are.

    Raises
    ------
    TableError
        Naming the line, for a row with too few or too many cells, a file that is not UTF-8 or
        a cell that should be a number and is not.
    """
    try:
        check_regular(path)
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.reader(file, strict=True, delimiter=_divider(file))
            return _read_rows(reader, path, wanted, theirs, keep_own)
    except UnicodeDecodeError as error:
        raise _not_utf8(path, error) from error
    except OSError as error:
        raise _unreadable(path, error) from error


def _divider(file: TextIO) -> str:
    """Return what stands between the cells of a header, and go back to its start.

    Spreadsheets write semicolons wherever the comma divides decimals.
    """
    header = file.readline(_LONGEST_HEADER)
    file.seek(0)
    return next((sign for sign in ",;\t" if sign in header), ",")


def first_names(path: Path) -> list[str]:
    """Return the names in the header of a CSV file, or in the first object of JSON Lines.

    What cannot be read gives none; reading the whole says why.

    Parameters
    ----------
    path : Path
        A ``.csv`` or ``.jsonl`` file.

    Returns
    -------
    list of str
        In the order of the file.
    """
    try:
        check_regular(path)
        with path.open(encoding="utf-8-sig", newline="") as file:
            if path.suffix.lower() == ".csv":
                reader = csv.reader(file, delimiter=_divider(file))
                return [unguard(cell.strip()) for cell in next(reader, [])]
            first = from_json(next((line for line in file if line.strip()), "{}"))
    except (OSError, ValueError, csv.Error):
        return []
    return list(first) if isinstance(first, dict) else []


def _read_rows(
    reader: Any, path: Path, wanted: Sequence[str], theirs: Mapping[str, str], keep_own: bool
) -> Columns:
    header = [unguard(cell.strip()) for cell in _next_row(reader, path) or ()]
    _refuse_repeated(header, path)
    places = {name: theirs.get(name, name) for name in wanted}
    at = {name: place for place, name in enumerate(header)}
    given = tuple(name for name in wanted if places[name] in at)
    used = {places[name] for name in given}
    own = tuple(name for name in header if name not in used and name) if keep_own else ()
    columns = Columns(path, given, own=own, theirs=theirs)
    start = 0
    while rows := list(islice(_checked(reader, columns, len(header)), _ROWS_AT_ONCE)):
        table = list(zip(*rows, strict=True))
        for name in columns.given:
            values: Iterable[str] = table[at[places[name]]]
            columns.add(name, _names(values) if name in _NAMES else list(values), start)
        for name in own:
            columns.add(name, _names(table[at[name]]), start)
        start += len(rows)
    return columns


def _refuse_repeated(header: Sequence[str], path: Path) -> None:
    if len(set(header)) == len(header):
        return
    name, _ = Counter(header).most_common(1)[0]
    raise TableError("the header names a column more than once", place=f"{path}, line 1", got=name)


def _names(values: Iterable[str]) -> list[str]:
    return [unguard(v) if v[:1] == "'" else v for v in values]


def _next_row(reader: Any, path: Path) -> list[str] | None:
    try:
        row: list[str] | None = next(reader, None)
    except csv.Error as error:
        raise TableError(
            f"the file breaks off or is not CSV ({error})", place=f"{path}, line {reader.line_num}"
        ) from error
    return row


def _checked(reader: Any, columns: Columns, width: int) -> Iterator[list[str]]:
    while (row := _next_row(reader, columns.path)) is not None:
        if not row:
            continue
        if len(row) != width:
            raise TableError(
                f"the row has {len(row)} cells and the header {width}",
                place=f"{columns.path}, line {reader.line_num}",
                got=",".join(row),
                next_step="Nothing was read. Correct the row and read again.",
            )
        columns.lines.append(reader.line_num)
        yield row


def read_json_lines(
    path: Path,
    wanted: Sequence[str],
    *,
    theirs: Mapping[str, str] = _SAME,
    keep_own: bool = False,
) -> Columns:
    """Read the `wanted` fields of a file with one JSON object a line; see `read_csv`.

    Parameters
    ----------
    path : Path
        A file in UTF-8.
    theirs : mapping of str to str, optional
        The file's names, where they are not ours.
    keep_own : bool, default False
        Read plain fields that are not wanted too.

    Returns
    -------
    Columns
        A value a line; empty where a field lacks.

    Raises
    ------
    TableError
        Naming the line, if it is not a JSON object or a number is not finite.
    """
    try:
        check_regular(path)
        own = _own_fields(path, {theirs.get(n, n) for n in wanted}) if keep_own else ()
        columns = Columns(path, tuple(wanted), own=own, theirs=theirs)
        with path.open("rb") as file:
            _read_objects(file, columns)
    except OSError as error:
        raise _unreadable(path, error) from error
    return columns


def _read_objects(file: Iterable[bytes], columns: Columns) -> None:
    numbered = ((n, line) for n, line in enumerate(file, 1) if line.strip())
    start = 0
    while chunk := list(islice(numbered, _ROWS_AT_ONCE)):
        objects = [_object(line, f"{columns.path}, line {number}") for number, line in chunk]
        columns.lines.extend(number for number, _ in chunk)
        for name in columns.given:
            values = [_field(o, name, columns, start + i) for i, o in enumerate(objects)]
            columns.add(name, values, start)
        for name in columns.own:
            columns.add(name, [o.get(name) for o in objects], start)
        start += len(chunk)


def _own_fields(path: Path, used: set[str]) -> tuple[str, ...]:
    """Return the fields that some line has beyond those wanted, by first appearance."""
    with path.open("rb") as file:
        records = (
            _object(line, f"{path}, line {number}")
            for number, line in enumerate(file, 1)
            if line.strip()
        )
        fields = dict.fromkeys(name for record in records for name in record)
    return tuple(name for name in fields if name not in used)


def _field(record: dict[str, Any], name: str, columns: Columns, row: int) -> Any:
    value = record.get(columns.theirs.get(name, name))
    if name not in _NAMES:
        return value
    if value is None:
        return ""
    if not isinstance(value, str):
        raise TableError("a name must be text", place=columns.where(row, name), got=value)
    return value


def _object(line: bytes, place: str) -> dict[str, Any]:
    try:
        record = from_json(line)
    except NotJSON as error:
        raise TableError(
            f"not JSON ({error})", place=place, got=line[:60].decode("utf-8", "replace")
        ) from error
    if not isinstance(record, dict):
        raise TableError("not a JSON object", place=place, got=record)
    return record


def _not_utf8(path: Path, error: UnicodeDecodeError) -> TableError:
    return TableError(
        "the file is not UTF-8 text",
        place=str(path),
        got=error.object[error.start : error.start + 4].hex(" "),
        next_step="Save it as UTF-8 and read it again.",
    )


def _unreadable(path: Path, error: OSError) -> TableError:
    return TableError(f"the file cannot be read ({error.strerror})", place=str(path))
