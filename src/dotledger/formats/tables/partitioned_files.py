"""Findings that come in parts, as one file: memory does not grow with their number."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_origin import Origin
from dotledger.formats.tables.findings_files import parquet_frame, with_parquet
from dotledger.formats.tables.origin_files import check_origin_place, write_origin
from dotledger.safe_files import whole_file

__all__ = ["write_in_parts"]

PathLike = str | os.PathLike[str]


def write_in_parts(parts: Iterable[Findings], path: PathLike, *, details: bool) -> int:
    """Write findings that come in parts to one ``.parquet`` file, whole or not at all.

    Parameters
    ----------
    parts : iterable of Findings
        At least one; each of other images, with origins that differ in what was cut away only.
    path : path-like
        A name that ends in ``.parquet``.
    details : bool
        Whether any part has details: the columns are the same in all of them.

    Raises
    ------
    ArgumentError
        If the origin's file would go over something else.
    MissingExtra
        Without pyarrow.
    OSError
        If the folder cannot be written.
    """
    with_parquet()
    import pyarrow
    from pyarrow import parquet

    target, rows = Path(path), 0
    check_origin_place(target)
    origin: Origin | None = None
    with whole_file(target) as draft, ExitStack() as open_file:
        writer: Any = None
        for part in parts:
            frame = parquet_frame(part, details=details)
            table = pyarrow.Table.from_pandas(frame, preserve_index=False)
            if writer is None:
                writer = open_file.enter_context(parquet.ParquetWriter(draft, table.schema))
            writer.write_table(table.cast(writer.schema))
            origin = part.origin if origin is None else _cut_together(origin, part.origin)
            rows += len(part)
    write_origin(origin, target)
    return rows


def _cut_together(origin: Origin, other: Origin | None) -> Origin:
    """Add up what was cut away from parts of one table."""
    if other is None or not other.cut:
        return origin
    pairs = zip(origin.cut, other.cut, strict=True)
    cut = tuple((at, _summed(some, more)) for (at, some), (_, more) in pairs)
    return replace(origin, cut=cut)


def _summed(some: Mapping[str, int], more: Mapping[str, int]) -> dict[str, int]:
    return {name: some.get(name, 0) + more.get(name, 0) for name in {**some, **more}}
