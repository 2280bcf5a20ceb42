"""Findings and annotations as CSV, JSON Lines and Parquet."""

from __future__ import annotations

import csv
import math
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from dotledger.core.boxes.box_forms import BOX_FORMS
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.column_checks import ANNOTATION_COLUMNS
from dotledger.core.tables.column_headings import check_headings
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import FINDING_COLUMNS, Findings
from dotledger.errors import MissingExtra, TableError
from dotledger.formats.tables.csv_columns import first_names, guard, read_csv, read_json_lines
from dotledger.formats.tables.fast_csv import quick_columns
from dotledger.formats.tables.geometry_columns import OUR_SHAPE, Shape, read_shape
from dotledger.formats.tables.origin_files import check_origin_place, read_origin, write_origin
from dotledger.json_codec import from_json, to_json
from dotledger.safe_files import whole_file

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "SUFFIXES",
    "parquet_frame",
    "read_annotation_table",
    "read_findings",
    "with_parquet",
    "write_rows",
    "write_table",
]

SUFFIXES = (".csv", ".jsonl", ".parquet")
"""The file endings understood, each with its format."""

_OPTIONAL = {
    *("confidence", "ignore", "details", "image_width", "image_height"),
    *(name for form in BOX_FORMS.values() for name in form),
}
PathLike = str | os.PathLike[str]
_PLAIN = (str, int, float, bool)


def _suffix(path: Path) -> str:
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise TableError(
            "the file's ending names no known format", place=str(path), got=suffix, allowed=SUFFIXES
        )
    return suffix


@dataclass(frozen=True)
class _Table:
    """Columns read from a file, by our names; `own` holds the cells of all other columns."""

    columns: dict[str, Any]
    where: Callable[[int, str], str]
    own: list[dict[str, Any]] | None


def _load(path: Path, ours: Sequence[str], shape: Shape, *, keep_own: bool) -> _Table:
    wanted = shape.wanted(ours)
    suffix = _suffix(path)
    mapped = {theirs: name for name, theirs in shape.columns.items()}
    if suffix != ".parquet":
        named = [mapped.get(name, name) for name in first_names(path)]
        ours_only = [name for name in ours if name != "details"]
        check_headings([*named, *shape.always], ours_only, place=str(path))
    if suffix == ".parquet":
        return _load_parquet(path, wanted, shape, keep_own)
    read = read_csv if suffix == ".csv" else read_json_lines
    columns = read(path, wanted, theirs=shape.columns, keep_own=keep_own)
    _require(columns.given, wanted, shape, path)
    result = {n: c for n, c in columns.result().items() if not _all_empty(n, c)}
    return _Table(result, columns.where, columns.own_rows())


T = TypeVar("T")


def _built(
    path: Path,
    ours: Sequence[str],
    shape: Shape,
    build: Callable[[_Table], T],
    *,
    keep_own: bool,
) -> T:
    """Build a table from whole columns where that goes; what is wrong is named by reading anew."""
    _suffix(path)
    quick = None
    if not shape.outline:
        quick = quick_columns(path, shape.wanted(ours), shape.columns, keep_own=keep_own)
    if quick is not None:
        with suppress(TableError):
            return build(
                _Table(quick, lambda row, column: f"{path}, row {row + 1}, {column}", None)
            )
    return build(_load(path, ours, shape, keep_own=keep_own or bool(shape.outline)))


def _all_empty(name: str, column: Any) -> bool:
    """Tell whether a JSON Lines file simply does not have a field."""
    return name in ("image_width", "image_height") and bool(np.isnan(column).all())


def _require(given: Iterable[str], wanted: Sequence[str], shape: Shape, path: Path) -> None:
    have = {*given, *shape.always}
    needed = [name for name in wanted if name not in _OPTIONAL]
    missing = [name for name in needed if name not in have]
    missing += [n for n in shape.columns if n not in given and n not in missing]
    if missing:
        raise TableError(
            f"the file has no column {shape.theirs(missing[0])!r}",
            place=str(path),
            got=sorted(given),
            allowed=[name for name in wanted if name != "details"],
            next_step="Name its columns: `columns={'image': THEIRS}`.",
        )


def _load_parquet(path: Path, wanted: Sequence[str], shape: Shape, keep_own: bool) -> _Table:
    frame = parquet_rows(path)
    places = {name: shape.theirs(name) for name in wanted}
    mapped = {theirs: name for name, theirs in places.items()}
    ours = [name for name in wanted if name not in ("details", "image_width", "image_height")]
    named = [mapped.get(name, name) for name in frame.columns]
    check_headings([*named, *shape.always], ours, place=str(path))
    given = [name for name in wanted if places[name] in frame.columns]
    _require(given, wanted, shape, path)
    columns = {n: frame[places[n]].tolist() for n in given}
    rest = [c for c in frame.columns if c not in {places[name] for name in given}]
    own = None
    if keep_own and rest:
        plain: Any = frame[rest].astype(object).where(frame[rest].notna(), None).to_dict("records")
        own = [{n: v for n, v in row.items() if v is not None and v != ""} for row in plain]

    def where(row: int, column: str) -> str:
        return f"{path}, row {row + 1}, column {shape.theirs(column)}"

    return _Table(columns, where, own)


def parquet_rows(path: Path) -> pd.DataFrame:
    """Return a Parquet file's rows as a frame of objects.

    Raises
    ------
    TableError
        If it is not Parquet, or damaged.
    MissingExtra
        Without pyarrow.
    """
    pandas = with_parquet()
    try:
        frame: pd.DataFrame = pandas.read_parquet(path)
        return frame.astype(object)  # decodes every value: damage shows here
    except Exception as error:  # damaged files make the package fail in many ways
        raise TableError(
            f"the file cannot be read as Parquet ({error})", place=str(path)
        ) from error


def with_parquet() -> Any:
    """Return pandas, where Parquet can be read and written; raises MissingExtra without pyarrow."""
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


def read_findings(
    path: PathLike,
    *,
    columns: Shape | PathLike | None = None,
    images: Mapping[str, Mapping[str, Any]] | None = None,
) -> Findings:
    """Read findings from a ``.csv``, ``.jsonl`` or ``.parquet`` file.

    Parameters
    ----------
    path : path-like
        A file with the columns of `FINDING_COLUMNS`; the confidence and box columns may be
        missing, other columns are left out.
    columns : Shape, path-like or str, optional
        How the file names its columns and writes boxes; see `read_shape`.
    images : mapping of str to mapping, optional
        Width and height of images, for boxes that are not in pixels.

    Returns
    -------
    Findings
        Without rows if the file has a header only. Their `origin` is what is in the file
        beside (see `dotledger.formats.tables.origin_files`), if there is one.

    Raises
    ------
    TableError
        Naming file, line and column, for anything that breaks the common shape. Nothing is
        read as if the bad row were not there.
    DescriptionError
        If `columns` is a file that is not written as it should be.
    MissingExtra
        For Parquet without pyarrow.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.read_findings("found.csv").origin.service
    'flint'
    """
    shape = _shape(columns)

    def built(table: _Table) -> Findings:
        details = table.columns.pop("details", None)
        read = _read_details(details, table.where) if _any_of(details) else None
        common, read = _in_pixels(shape, table, images or {}, read)
        return Findings.from_columns(
            **_filled(common, FINDING_COLUMNS), details=read, where=table.where
        )

    found = _built(Path(path), (*FINDING_COLUMNS, "details"), shape, built, keep_own=False)
    return replace(found, origin=read_origin(Path(path)))


def _in_pixels(
    shape: Shape,
    table: _Table,
    images: Mapping[str, Mapping[str, Any]],
    details: list[Details | None] | None,
) -> tuple[dict[str, Any], list[Details | None] | None]:
    """Return columns in the common shape, and details with what is outlined in pixels too."""
    if not shape.outline:
        return shape.applied(table.columns, table.where, images), details
    outlines = shape.outlined(table.columns, table.own, table.where)
    ends = [np.asarray(table.columns[side], dtype=np.float64) for side in ("x1", "y1")]
    common = shape.applied(table.columns, table.where, images)
    kept = details or [None] * len(outlines)
    for row, rings in enumerate(outlines):
        # Several parts have a box around them, and no one outline.
        if len(rings) == 1:
            across, down = (
                float(common[side][row] / end[row]) if end[row] else 1.0
                for side, end in zip(("x1", "y1"), ends, strict=True)
            )
            polygon = tuple((x * across, y * down) for x, y in rings[0])
            kept[row] = (kept[row] or Details())._replace(polygon=polygon)
    return common, kept


def _any_of(details: Sequence[Any] | None) -> bool:
    return details is not None and any(value not in (None, "") for value in details)


def _shape(given: Shape | PathLike | None) -> Shape:
    if given is None:
        return OUR_SHAPE
    return given if isinstance(given, Shape) else read_shape(given)


def _read_details(values: Sequence[Any], where: Callable[[int, str], str]) -> list[Details | None]:
    return [_one_details(value, row, where) for row, value in enumerate(values)]


def _one_details(value: Any, row: int, where: Callable[[int, str], str]) -> Details | None:
    if value is None or value == "" or value != value:
        return None
    try:
        return Details.from_dict(from_json(value) if isinstance(value, str) else value)
    except ValueError as error:
        raise TableError(
            f"details are JSON as Dot Ledger writes it ({error})",
            place=where(row, "details"),
            got=value,
            row=row,
            next_step="Correct the cell, or leave it empty.",
        ) from None


def read_annotation_table(
    path: PathLike,
    *,
    columns: Shape | PathLike | None = None,
    vocabulary: Mapping[str, Iterable[str]] | None = None,
    images: Mapping[str, Mapping[str, Any]] | None = None,
) -> Annotations:
    """Read annotations from a ``.csv``, ``.jsonl`` or ``.parquet`` file.

    Parameters
    ----------
    path : path-like
        A file with the columns of `ANNOTATION_COLUMNS`; the box columns and ``ignore`` may be
        missing, other columns become attributes.
    columns : Shape, path-like or str, optional
        How the file names its columns and writes boxes; see `read_shape`.
    vocabulary : mapping of str to iterable of str, optional
        Labels in scope by kind; by default those that occur.
    images : mapping of str to mapping, optional
        What is known about images, such as width and height.

    Raises
    ------
    TableError
        Naming file, line and column, for anything that breaks the common shape, and for a row
        that occurs twice.
    DescriptionError
        If `columns` is a file that is not written as it should be.
    MissingExtra
        For Parquet without pyarrow.
    """
    shape = _shape(columns)

    def built(table: _Table) -> Annotations:
        details = table.columns.pop("details", None)
        common, outlined = _in_pixels(shape, table, images or {}, None)
        common.setdefault("ignore", [False] * len(common["image"]))
        result = Annotations.from_columns(
            **_filled(common, ANNOTATION_COLUMNS),
            vocabulary=vocabulary,
            details=_with_own(details, table.own, table.where, outlined),
            images=images,
            where=table.where,
        )
        _refuse_repeats(result, table.where)
        return result

    return _built(Path(path), (*ANNOTATION_COLUMNS, "details"), shape, built, keep_own=True)


def _with_own(
    details: Sequence[Any] | None,
    own: list[dict[str, Any]] | None,
    where: Callable[[int, str], str],
    outlined: list[Details | None] | None,
) -> list[Details | None] | None:
    """Return details with the user's own columns among their attributes."""
    read = _read_details(details or (), where) if _any_of(details) else outlined
    if own is None or not any(own):
        return read
    base = read or [None] * len(own)
    return [
        (one or Details())._replace(attributes={**(one.attributes if one else {}), **cells})
        for one, cells in zip(base, own, strict=True)
    ]


# A duplicate of ours is refused, since a table of ours is read whole or not at all; foreign files
# lose single annotations, each listed with its reason.
def _refuse_repeats(table: Annotations, where: Callable[[int, str], str]) -> None:
    """Refuse a duplicate of an earlier row: it could never be found twice."""
    box = np.nan_to_num(table.box, nan=-1.0)
    keys = (*box.T, table.label.codes, table.kind.codes, table.image.codes)
    order = np.lexsort(keys)
    same = np.ones(max(len(order) - 1, 0), dtype=bool)
    for key in keys:
        same &= key[order][1:] == key[order][:-1]
    if same.any():
        place = int(np.argmax(same))
        first, row = sorted((int(order[place]), int(order[place + 1])))
        raise TableError(
            "duplicate of an earlier row",
            place=where(row, "image"),
            row=row,
            got=str(table.image.values()[row]),
            next_step=f"Remove one of them; the first is {where(first, 'image')}.",
        )


def write_table(table: Findings | Annotations, path: PathLike, *, details: bool = False) -> Path:
    """Write a table to a ``.csv``, ``.jsonl`` or ``.parquet`` file, whole or not at all.

    Where findings come from and what was cut stands in a file beside, ``….origin.json``.
    JSON Lines and Parquet always keep details. CSV keeps them on request, as JSON in one cell;
    without, the plain attributes of annotations become columns. In CSV a name that a spreadsheet
    would take for a formula gets an apostrophe before it, which reading takes away again.

    Parameters
    ----------
    table : Findings or Annotations
        The rows to write.
    path : path-like
        A name that ends in ``.csv``, ``.jsonl`` or ``.parquet``.
    details : bool, default False
        Add the column ``details`` to CSV: attributes, points and similar, as JSON.

    Returns
    -------
    Path
        The file that was written.

    Raises
    ------
    TableError
        If the ending names no format.
    ArgumentError
        If the origin's file would go over something else.
    OSError
        If the folder cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.read_findings("found.csv")
    >>> dotledger.write_table(found, "again.jsonl").name
    'again.jsonl'
    """
    if not isinstance(table, Findings | Annotations):
        raise TableError(
            "not a table", place="table", got=table, allowed=["Findings", "Annotations"]
        )
    target = Path(path)
    suffix = _suffix(target)
    if isinstance(table, Findings):
        check_origin_place(target)
    with whole_file(target) as draft:
        if suffix == ".parquet":
            _write_parquet(table, draft)
        elif suffix == ".csv":
            _write_csv(table, draft, details)
        else:
            draft.write_bytes(b"".join(to_json(r) + b"\n" for r in _records(table)))
    if isinstance(table, Findings):
        write_origin(table.origin, target)
    return target


# Python writes the shortest text that reads back as the same double. Fifteen digits look better
# (0.0988 for 0.09880000000000001), but moved 70 of 2,000 confidences, and with them what passes a
# threshold.
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
    details = table.details
    for place, row in enumerate(zip(*columns.values(), strict=True)):
        record = {n: v for n, v in zip(columns, row, strict=True) if v == v}
        if details is not None and (more := details[place]) and (parts := more.to_dict()):
            record["details"] = parts
        yield record


def _write_csv(table: Findings | Annotations, path: Path, details: bool) -> None:
    columns = _columns(table)
    if details:
        columns["details"] = _details_as_text(table)
    elif isinstance(table, Annotations) and table.details is not None:
        columns |= _own_columns(table.details)
    write_rows(path, list(columns), zip(*columns.values(), strict=True))


def _own_columns(details: Sequence[Details | None]) -> dict[str, list[Any]]:
    """Return plain attributes as columns."""
    rows = [one.attributes if one is not None else {} for one in details]
    names = dict.fromkeys(n for row in rows for n, v in row.items() if isinstance(v, _PLAIN))
    return {
        name: [v if isinstance(v := row.get(name), _PLAIN) else None for row in rows]
        for name in names
        if name not in ANNOTATION_COLUMNS
    }


def _details_as_text(table: Findings | Annotations) -> list[str]:
    rows = table.details if table.details is not None else [None] * len(table)
    return [to_json(one.to_dict()).decode() if one else "" for one in rows]


def write_rows(path: PathLike, header: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Write CSV rows: NaN and None as empty cells, text guarded against formulas.

    Parameters
    ----------
    rows : iterable of sequence
        Each as long as the header.
    """
    with Path(path).open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow([guard(name) for name in header])
        writer.writerows([_cell(value) for value in row] for row in rows)


def _cell(value: Any) -> Any:
    if isinstance(value, str):
        return guard(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None or (isinstance(value, float) and math.isnan(value)) else value


def _write_parquet(table: Findings | Annotations, path: Path) -> None:
    with_parquet()
    parquet_frame(table, details=table.details is not None).to_parquet(path, index=False)


def parquet_frame(table: Findings | Annotations, *, details: bool) -> pd.DataFrame:
    """Return what a Parquet file holds of a table.

    Parameters
    ----------
    details : bool
        Add the column ``details``, as JSON, whether any row has some or not.

    Returns
    -------
    pandas.DataFrame
        In the order of the rows.
    """
    frame: pd.DataFrame = table.frame()
    if details:
        frame["details"] = _details_as_text(table)
    return frame
