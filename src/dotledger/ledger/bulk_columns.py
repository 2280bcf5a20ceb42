"""Whole columns out of a ledger: by ADBC in a process apart, else a part of the rows at a time.

Row by row a finding costs ten objects of Python; a column costs none. ADBC (Arrow Database
Connectivity, https://arrow.apache.org/adbc) reads a SQLite file without them. It must not do so in
this process: see `dotledger.ledger.separate_databases`.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from importlib.util import find_spec
from itertools import pairwise
from subprocess import DEVNULL, PIPE
from typing import TYPE_CHECKING, Any

import numpy as np
from sqlalchemy import Select, func, literal_column, select

from dotledger.core.tables.name_codes import Coded
from dotledger.errors import LedgerError
from dotledger.ledger.ledger_store import LedgerStore

if TYPE_CHECKING:
    from sqlalchemy.sql.elements import ColumnElement

__all__ = ["columns_of", "number", "parts_of", "text"]

_AT_ONCE = 65_536
_ENOUGH_PARTS = 20
_ENOUGH = 200_000
"""Rows from which on a process apart is worth its start."""
_NONE = -9e300
"""Stands for NULL among numbers on the way: far below any confidence and any side of a box. Without
it a column that begins with nothing would be taken for one of another type."""


def number(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return a column of numbers for `columns_of`: NULL becomes NaN.

    Returns
    -------
    column of SQLAlchemy
        It keeps its place, and loses its name.
    """
    return func.coalesce(column, literal_column(repr(_NONE)))


def text(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return a column of text for `columns_of`: NULL becomes empty; see `number`.

    Returns
    -------
    column of SQLAlchemy
        It keeps its place, and loses its name.
    """
    return func.coalesce(column, literal_column("''"))


def columns_of(
    ledger: LedgerStore,
    query: Select[Any],
    kinds: Sequence[str],
    *,
    by: ColumnElement[int] | None = None,
    among: ColumnElement[bool] | None = None,
    each: int = 1,
) -> list[Any]:
    """Run a query and return its columns whole.

    Parameters
    ----------
    query : Select
        Of SQLAlchemy; its numbers and texts by `number` and `text`.
    kinds : sequence of {'whole', 'number', 'name', 'text'}
        Of each column: whole numbers as int64, numbers as float64 with NaN, names that repeat as
        `Coded`, other text as a list.
    by : column of SQLAlchemy, optional
        A row's number: where there are many, a process apart reads them, divided by it.
    among : condition of SQLAlchemy, optional
        Among which rows the least and the greatest number are looked for; an index should hold it.
    each : int, default 1
        Rows that a number has, about: from how many on a process apart is worth its start depends
        on the rows.

    Returns
    -------
    list
        One column each, of equal length; in no order.

    Raises
    ------
    LedgerError
        If the ledger cannot be read.
    """
    parts = [] if by is None or among is None else _parts(ledger, query, by, among, each)
    found = _apart(ledger, parts, kinds) if parts else None
    return _by_rows(ledger, query, kinds) if found is None else found


def parts_of(
    ledger: LedgerStore,
    query: Select[Any],
    kinds: Sequence[str],
    *,
    by: ColumnElement[int],
    edges: Sequence[int],
) -> Iterator[list[Any]]:
    """Yield the columns of a query for one range after another; only one is held at a time.

    Parameters
    ----------
    query : Select
        Of SQLAlchemy; its first column is `by`.
    kinds : sequence of {'whole', 'number', 'name', 'text'}
        See `columns_of`.
    by : column of SQLAlchemy
        What divides the rows; an index should hold it.
    edges : sequence of int
        Rising: each range goes from one to before the next.

    Yields
    ------
    list
        Columns for each range, as from `columns_of`; in no order.

    Raises
    ------
    LedgerError
        If the ledger cannot be read.
    """
    queries = [query.where(by >= first, by < last) for first, last in pairwise(edges)]
    if len(queries) < _ENOUGH_PARTS or not _can_read_apart(ledger):
        for one in queries:
            yield _by_rows(ledger, one, kinds)
        return
    import pyarrow

    try:
        with _reader(ledger, queries, in_turn=True) as (reader, stream):
            for mine in _by_range(stream, edges):
                yield _whole_columns(mine, stream.schema, kinds)
    except (pyarrow.ArrowException, OSError) as error:
        raise LedgerError(_NOT_READ, place=ledger.where) from error
    if reader.returncode:
        raise LedgerError(_NOT_READ, place=ledger.where)


_NOT_READ = "the process that reads the ledger's columns failed"


def _by_range(stream: Iterable[Any], edges: Sequence[int]) -> Iterator[list[Any]]:
    """Yield the messages of each range; one holds rows of a single range; they come in order."""
    messages = (one for one in stream if one.num_rows)
    first = next(messages, None)
    for last in edges[1:]:
        mine = []
        while first is not None and first.column(0)[0].as_py() < last:
            mine.append(first)
            first = next(messages, None)
        yield mine


def _whole_columns(batches: Sequence[Any], schema: Any, kinds: Sequence[str]) -> list[Any]:
    import pyarrow

    table = pyarrow.Table.from_batches(batches, schema=schema)
    return [_from_arrow(table.column(place), kind) for place, kind in enumerate(kinds)]


def _can_read_apart(ledger: LedgerStore) -> bool:
    return ledger.path is not None and all(map(find_spec, ("pyarrow", "adbc_driver_sqlite")))


@contextmanager
def _reader(
    ledger: LedgerStore, queries: Sequence[Select[Any]], *, in_turn: bool
) -> Iterator[tuple[subprocess.Popen[bytes], Any]]:
    """Give the process apart, and what it answers as an Arrow stream."""
    import pyarrow

    assert ledger.path is not None
    options = {"literal_binds": True}
    said = [str(one.compile(dialect=ledger.dialect, compile_kwargs=options)) for one in queries]
    address = f"{ledger.path.absolute().as_uri()}?mode=ro"
    asked = {"address": address, "queries": said, "in_turn": in_turn}
    words = [sys.executable, "-m", "dotledger.ledger.separate_databases"]
    with subprocess.Popen(words, stdin=PIPE, stdout=PIPE, stderr=DEVNULL) as reader:
        assert reader.stdin is not None
        assert reader.stdout is not None
        reader.stdin.write(json.dumps(asked).encode())
        reader.stdin.close()
        yield reader, pyarrow.ipc.open_stream(reader.stdout)


def _apart(
    ledger: LedgerStore, parts: Sequence[Select[Any]], kinds: Sequence[str]
) -> list[Any] | None:
    """Return the columns that a process apart reads; None where it cannot, or not this."""
    if not _can_read_apart(ledger):
        return None
    import pyarrow

    try:
        with _reader(ledger, parts, in_turn=False) as (reader, stream):
            table = stream.read_all()
    except (pyarrow.ArrowException, OSError):
        return None
    if reader.returncode:
        return None
    return [_from_arrow(table.column(place), kind) for place, kind in enumerate(kinds)]


def _parts(
    ledger: LedgerStore,
    query: Select[Any],
    by: ColumnElement[int],
    among: ColumnElement[bool],
    each: int,
) -> list[Select[Any]]:
    """Return a query in as many parts as there are processors; none if it has few rows."""
    with ledger.reading() as connection:  # each by itself: only so does the index give it at once
        low = connection.scalar(select(func.min(by)).where(among))
        high = connection.scalar(select(func.max(by)).where(among))
    if low is None or high is None or (high - low) * each < _ENOUGH:
        return []
    count = min(os.cpu_count() or 1, 8)
    edges = np.linspace(low, high + 1, count + 1).astype(int).tolist()
    return [query.where(by >= first, by < last) for first, last in pairwise(edges)]


def _from_arrow(column: Any, kind: str) -> Any:
    if kind == "text":
        return column.to_pylist()
    if kind == "name":
        whole = column.dictionary_encode().unify_dictionaries()
        if not whole.chunks:
            return Coded(np.zeros(0, dtype=np.intp), ())
        rows = np.concatenate([chunk.indices.to_numpy() for chunk in whole.chunks])
        names = [str(name) for name in whole.chunks[-1].dictionary.to_pylist()]
        return Coded(rows.astype(np.intp), tuple(names))
    return _numbers(column.to_numpy(), kind)


def _numbers(values: Any, kind: str) -> Any:
    if kind == "whole":
        return np.asarray(values, dtype=np.int64)
    numbers = np.array(values, dtype=np.float64)
    numbers[numbers == _NONE] = np.nan
    return numbers


def _by_rows(ledger: LedgerStore, query: Select[Any], kinds: Sequence[str]) -> list[Any]:
    parts: list[list[Any]] = [[] for _ in kinds]
    index: list[dict[str, int]] = [{} for _ in kinds]
    with ledger.reading() as connection:
        result = connection.execution_options(yield_per=_AT_ONCE).execute(query)
        for rows in result.partitions(_AT_ONCE):
            for place, column in enumerate(zip(*rows, strict=True)):
                parts[place].append(_part(column, kinds[place], index[place]))
    known = [tuple(names) for names in index]
    return [_joined(*one) for one in zip(parts, kinds, known, strict=True)]


def _part(column: Sequence[Any], kind: str, index: dict[str, int]) -> Any:
    if kind == "text":
        return list(column)
    if kind == "name":
        return np.array([index.setdefault(name, len(index)) for name in column], dtype=np.intp)
    return _numbers(column, kind)


def _joined(parts: list[Any], kind: str, names: tuple[str, ...]) -> Any:
    if kind == "text":
        return [one for part in parts for one in part]
    if kind == "name":
        return Coded(np.concatenate([np.zeros(0, dtype=np.intp), *parts]), names)
    empty = np.zeros(0, dtype=np.int64 if kind == "whole" else np.float64)
    return np.concatenate([empty, *parts])
