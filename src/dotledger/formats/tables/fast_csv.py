"""Reading whole columns by Arrow, where it is there and the file is a plain one.

It is all or nothing: whatever is the least bit unusual (a cell that is no number, a quote in the
middle of a cell, a column of one's own, bytes that are not UTF-8) is left to the careful readers,
which name the line and the cell. Both give the same columns.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from dotledger.core.tables.name_codes import Coded
from dotledger.formats.tables.csv_columns import first_names, unguard

__all__ = ["quick_columns"]

NAMES = ("image", "kind", "label")
_TEXT = ("details", "ignore")
_ODD_QUOTE = re.compile(rb'(?<![,\n"])"(?=[^",\r\n])')
"""A quote that neither begins nor ends a cell and is not doubled: readers differ about it."""
_SMALL = 20_000
"""Bytes below which loading Arrow takes longer than reading carefully."""


def quick_columns(
    path: Path, wanted: Sequence[str], theirs: Mapping[str, str], *, keep_own: bool
) -> dict[str, Any] | None:
    """Return the wanted columns of a file by our names; None if it is one for the careful readers.

    Parameters
    ----------
    path : Path
        A ``.csv``, ``.jsonl`` or ``.parquet`` file.
    wanted : sequence of str
        Our names of the columns to read.
    theirs : mapping of str to str
        The file's names, where they are not ours.
    keep_own : bool
        Columns that are not wanted are: a file with such ones is none for here.

    Returns
    -------
    dict of str to column, or None
        Names as `Coded`, numbers as float64 with NaN for empty, other cells as a list of text.
    """
    try:
        import pyarrow
    except ImportError:
        return None
    reading = {".csv": _csv, ".jsonl": _json_lines, ".parquet": _parquet}[path.suffix.lower()]
    try:
        if path.stat().st_size < _SMALL:
            return None
        table = reading(path, wanted, theirs, keep_own)
        # Only in CSV a name may have an apostrophe that is not its own.
        own = unguard if reading is _csv else str
        return None if table is None else _converted(table, wanted, theirs, own)
    except (pyarrow.ArrowException, OSError, ValueError, TypeError, KeyError):
        return None


def _converted(
    table: Any, wanted: Sequence[str], theirs: Mapping[str, str], own: Callable[[str], str]
) -> dict[str, Any] | None:
    columns: dict[str, Any] = {}
    for name in wanted:
        place = theirs.get(name, name)
        if place in table.column_names:
            column = _column(name, table.column(place), own)
            if column is None:
                return None
            columns[name] = column
    return columns if all(name in columns for name in NAMES) else None


def _column(name: str, column: Any, own: Callable[[str], str]) -> Any:
    if name in NAMES:
        return _coded(column, own)
    if name in _TEXT:
        return column.to_pylist()
    numbers = column.to_numpy().astype(np.float64, copy=False)
    odd = len(numbers) - int(np.isfinite(numbers).sum())
    return numbers if odd == column.null_count else None


def _coded(column: Any, own: Callable[[str], str]) -> Coded | None:
    import pyarrow as pa

    if column.null_count:
        return None
    encoded = column if pa.types.is_dictionary(column.type) else column.dictionary_encode()
    chunks = encoded.unify_dictionaries().chunks
    if not chunks:
        return Coded(np.zeros(0, dtype=np.intp), ())
    index: dict[str, int] = {}
    names = [own(one) for one in chunks[-1].dictionary.to_pylist()]
    codes = np.array([index.setdefault(name, len(index)) for name in names], dtype=np.intp)
    rows = np.concatenate([chunk.indices.to_numpy() for chunk in chunks])
    return Coded(codes[rows], tuple(index))


def _csv(path: Path, wanted: Sequence[str], theirs: Mapping[str, str], keep_own: bool) -> Any:
    import pyarrow as pa
    from pyarrow import csv

    header = first_names(path)
    given = {theirs.get(name, name): name for name in wanted if theirs.get(name, name) in header}
    own = keep_own and any(name not in given for name in header)
    data = path.read_bytes()
    quoted = b'"' in data
    if own or len(set(header)) < len(header) or (quoted and _ODD_QUOTE.search(data)):
        return None
    first = data[: data.find(b"\n") + 1] if b"\n" in data else data
    if b'"' in first or first.count(b",") != len(header) - 1 or not header:
        return None
    text = pa.dictionary(pa.int32(), pa.string())
    types = {
        place: text if name in NAMES else pa.string() if name in _TEXT else pa.float64()
        for place, name in given.items()
    }
    return csv.read_csv(
        pa.py_buffer(data),
        read_options=csv.ReadOptions(column_names=header, skip_rows=1),
        parse_options=csv.ParseOptions(newlines_in_values=quoted),
        convert_options=csv.ConvertOptions(
            column_types=types,
            include_columns=list(given),
            null_values=[""],
            strings_can_be_null=False,
        ),
    )


def _json_lines(
    path: Path, wanted: Sequence[str], theirs: Mapping[str, str], keep_own: bool
) -> Any:
    import pyarrow as pa
    from pyarrow import json

    del keep_own  # a field that is not wanted ends the reading, whichever line has it
    plain = [name for name in wanted if name not in _TEXT]
    if not set(first_names(path)) <= {theirs.get(name, name) for name in plain}:
        return None
    fields = [
        (theirs.get(name, name), pa.string() if name in NAMES else pa.float64()) for name in plain
    ]
    return json.read_json(
        path,
        parse_options=json.ParseOptions(
            explicit_schema=pa.schema(fields), unexpected_field_behavior="error"
        ),
    )


def _parquet(path: Path, wanted: Sequence[str], theirs: Mapping[str, str], keep_own: bool) -> Any:
    import pyarrow as pa
    from pyarrow import parquet

    schema = parquet.read_schema(path)
    places = {theirs.get(name, name): name for name in wanted}
    given = [name for name in schema.names if name in places]
    if (keep_own and len(given) < len(schema.names)) or len(set(schema.names)) < len(schema):
        return None
    for place in given:
        kind, name = schema.field(place).type, places[place]
        plain = kind.value_type if pa.types.is_dictionary(kind) else kind
        text = pa.types.is_string(plain) or pa.types.is_large_string(plain)
        number = pa.types.is_floating(plain) or pa.types.is_integer(plain)
        if not (text if name in (*NAMES, "details") else number):
            return None
    return parquet.read_table(path, columns=given)
