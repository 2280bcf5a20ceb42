"""Small tables of any columns, as they are written."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from dotledger.errors import TableError
from dotledger.formats.tables.findings_files import parquet_rows
from dotledger.safe_files import check_regular

__all__ = ["columns_of_file", "words_of_file"]

PathLike = str | os.PathLike[str]


def columns_of_file(path: PathLike) -> dict[str, list[Any]]:
    """Return the columns of a ``.csv``, ``.jsonl`` or ``.parquet`` file, as they are written.

    Raises
    ------
    TableError
        If it is none of these, or cannot be read.
    """
    import pandas as pd

    where = Path(path)
    check_regular(where)
    suffix = where.suffix.lower()
    if suffix not in (".csv", ".jsonl", ".parquet"):
        raise TableError(
            "not a table that is read", place=str(path), allowed=[".csv", ".jsonl", ".parquet"]
        )
    try:
        if suffix == ".parquet":
            frame = parquet_rows(where)
        elif suffix == ".csv":
            frame = pd.read_csv(where, dtype=str, keep_default_na=False, encoding="utf-8-sig")
        else:
            frame = pd.read_json(where, lines=True, dtype=False, convert_dates=False)
    except (ValueError, OSError) as error:
        if isinstance(error, TableError):
            raise
        raise TableError(f"cannot be read: {error}", place=str(path)) from None
    return {str(name): list(frame[name]) for name in frame.columns}


def words_of_file(path: PathLike) -> dict[str, str]:
    """Return what is written for a word: a table with the columns ``word`` and ``written``.

    Raises
    ------
    TableError
        If a column is missing, or one word has two different texts.
    """
    columns = columns_of_file(path)
    for name in ("word", "written"):
        if name not in columns:
            raise TableError(
                f"a table of words has no column {name}",
                place=str(path),
                got=", ".join(columns),
                allowed=["word", "written"],
            )
    found: dict[str, str] = {}
    for word, written in zip(columns["word"], columns["written"], strict=True):
        plain = str(word).strip()
        if found.setdefault(plain, str(written)) != str(written):
            raise TableError("a word is written in two ways", place=str(path), got=plain)
    return found
