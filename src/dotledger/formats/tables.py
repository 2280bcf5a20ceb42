"""Findings and annotations as CSV, JSON Lines and Parquet."""

from __future__ import annotations

import csv
import math
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import orjson

from dotledger.core.details import Details
from dotledger.core.tables import ANNOTATION_COLUMNS, FINDING_COLUMNS, Annotations, Findings
from dotledger.errors import MissingExtra, TableError
from dotledger.formats.columns import guard, read_csv, read_json_lines
from dotledger.formats.files import whole_file

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["SUFFIXES", "read_annotations", "read_findings", "write_rows", "write_table"]

SUFFIXES = (".csv", ".jsonl", ".parquet")
"""The file endings understood, each with its format."""

_OPTIONAL = {"confidence", "x0", "y0", "x1", "y1", "ignore", "details"}
PathLike = str | os.PathLike[str]


def _suffix(path: Path) -> str:
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise TableError(
            "the file's ending names no known format", place=str(path), got=suffix, allowed=SUFFIXES
        )
    return suffix


def _load(path: Path, wanted: Sequence[str]) -> tuple[dict[str, Any], Callable[[int, str], str]]:
    suffix = _suffix(path)
    if suffix == ".parquet":
        return _load_parquet(
            path, wanted
        ), lambda row, column: f"{path}, row {row + 1}, column {column}"
    columns = read_csv(path, wanted) if suffix == ".csv" else read_json_lines(path, wanted)
    missing = [name for name in wanted if name not in columns.given and name not in _OPTIONAL]
    if missing:
        raise TableError(
            f"the file has no column {missing[0]!r}",
            place=str(path),
            got=list(columns.given),
            allowed=[name for name in wanted if name != "details"],
        )
    return columns.result(), columns.where


def _load_parquet(path: Path, wanted: Sequence[str]) -> dict[str, Any]:
    pd = _pandas_with_parquet()
    try:
        frame = pd.read_parquet(path)
    except (OSError, ValueError) as error:
        raise TableError(
            f"the file cannot be read as Parquet ({error})", place=str(path)
        ) from error
    missing = [n for n in wanted if n not in frame.columns and n not in _OPTIONAL]
    if missing:
        raise TableError(
            f"the file has no column {missing[0]!r}", place=str(path), got=list(frame.columns)
        )
    return {n: frame[n].tolist() for n in wanted if n in frame.columns}


def _pandas_with_parquet() -> Any:
    try:
        import pyarrow  # noqa: F401 - pandas finds it by itself; here it is only looked for
    except ImportError as error:
        raise MissingExtra(
            "Parquet files need pyarrow", next_step="Run: pip install 'dot-ledger[parquet]'"
        ) from error
    import pandas as pd

    return pd


def _filled(columns: Mapping[str, Any], names: Iterable[str]) -> dict[str, Any]:
    length = len(columns["image"])
    return {name: columns.get(name, np.full(length, np.nan)) for name in names}


def read_findings(path: PathLike) -> Findings:
    """Read findings from a ``.csv``, ``.jsonl`` or ``.parquet`` file.

    Parameters
    ----------
    path : path-like
        A file with the columns of `FINDING_COLUMNS`; the confidence and box columns may be
        missing, other columns are left out.

    Returns
    -------
    Findings
        Without rows if the file has a header only.

    Raises
    ------
    TableError
        Naming file, line and column, for anything that breaks the common shape. Nothing is
        read as if the bad row were not there.
    MissingExtra
        For Parquet without pyarrow.
    """
    columns, where = _load(Path(path), (*FINDING_COLUMNS, "details"))
    details = columns.pop("details", None)
    return Findings.from_columns(
        **_filled(columns, FINDING_COLUMNS),
        details=_read_details(details) if details and any(details) else None,
        where=where,
    )


def _read_details(values: Sequence[Any]) -> list[Details | None]:
    parsed = [orjson.loads(v) if isinstance(v, str) and v else v for v in values]
    return [Details.from_dict(value) if isinstance(value, dict) else None for value in parsed]


def read_annotations(
    path: PathLike, *, vocabulary: Mapping[str, Iterable[str]] | None = None
) -> Annotations:
    """Read annotations from a ``.csv``, ``.jsonl`` or ``.parquet`` file.

    Parameters
    ----------
    path : path-like
        A file with the columns of `ANNOTATION_COLUMNS`; the box columns and ``ignore`` may be
        missing, other columns are left out.
    vocabulary : mapping of str to iterable of str, optional
        Labels in scope by kind; by default those that occur.

    Raises
    ------
    TableError
        Naming file, line and column, for anything that breaks the common shape.
    MissingExtra
        For Parquet without pyarrow.
    """
    columns, where = _load(Path(path), ANNOTATION_COLUMNS)
    columns.setdefault("ignore", [False] * len(columns["image"]))
    return Annotations.from_columns(
        **_filled(columns, ANNOTATION_COLUMNS), vocabulary=vocabulary, where=where
    )


def write_table(table: Findings | Annotations, path: PathLike) -> Path:
    """Write a table to a ``.csv``, ``.jsonl`` or ``.parquet`` file, whole or not at all.

    JSON Lines and Parquet also keep the details of findings. In CSV a name that a spreadsheet
    would take for a formula gets an apostrophe before it, which reading takes away again.

    Raises
    ------
    TableError
        If the ending names no format.
    OSError
        If the folder cannot be written.
    """
    target = Path(path)
    suffix = _suffix(target)
    with whole_file(target) as draft:
        if suffix == ".parquet":
            _write_parquet(table, draft)
        elif suffix == ".csv":
            _write_csv(table, draft)
        else:
            draft.write_bytes(b"".join(orjson.dumps(r) + b"\n" for r in _records(table)))
    return target


def _columns(table: Findings | Annotations) -> dict[str, list[Any]]:
    columns: dict[str, list[Any]] = {
        name: getattr(table, name).values().tolist() for name in ("image", "kind", "label")
    }
    if isinstance(table, Findings):
        columns["confidence"] = table.confidence.tolist()
    columns |= dict(zip(("x0", "y0", "x1", "y1"), table.box.T.tolist(), strict=True))
    if isinstance(table, Annotations):
        columns["ignore"] = table.ignore.tolist()
    return columns


def _records(table: Findings | Annotations) -> Iterator[dict[str, Any]]:
    """Yield one plain record a row, without what the row does not have."""
    columns = _columns(table)
    details = table.details if isinstance(table, Findings) else None
    for place, row in enumerate(zip(*columns.values(), strict=True)):
        record = {n: v for n, v in zip(columns, row, strict=True) if v == v}
        if details is not None and (more := details[place]) and (parts := more.to_dict()):
            record["details"] = parts
        yield record


def _write_csv(table: Findings | Annotations, path: Path) -> None:
    columns = _columns(table)
    write_rows(path, list(columns), zip(*columns.values(), strict=True))


def write_rows(path: PathLike, header: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Write CSV rows: NaN and None as empty cells, text guarded against formulas."""
    with Path(path).open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(header)
        writer.writerows([_cell(value) for value in row] for row in rows)


def _cell(value: Any) -> Any:
    if isinstance(value, str):
        return guard(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None or (isinstance(value, float) and math.isnan(value)) else value


def _write_parquet(table: Findings | Annotations, path: Path) -> None:
    _pandas_with_parquet()
    frame: pd.DataFrame = table.frame()
    if isinstance(table, Findings) and table.details is not None:
        frame["details"] = [orjson.dumps(d.to_dict()).decode() if d else "" for d in table.details]
    frame.to_parquet(path, index=False)
