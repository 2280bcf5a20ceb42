"""Tables in parts: each part holds all rows of its images."""

from __future__ import annotations

import os
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np

from dotledger.api.inputs import annotations_given, findings_given
from dotledger.core.arguments import whole_number
from dotledger.core.arrays import Ints
from dotledger.core.spelling import first_of
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError
from dotledger.formats.tables.findings_files import with_parquet, write_table
from dotledger.safe_files import check_output_folder, whole_file

__all__ = ["PartFiles", "parts_in", "write_parts"]

PathLike = str | os.PathLike[str]
_FINDINGS, _ANNOTATIONS, _IMAGES = "findings", "annotations", "images"
_MOST_PARTS = 100_000


class PartFiles(NamedTuple):
    """Where a part is.

    Attributes
    ----------
    findings : str
        A file that `dotledger.read_findings` takes, or a ledger: its newest batch.
    annotations : str
        What `dotledger.read_annotations` takes.
    images : str
        What it takes as ``images``: a table of sizes and own columns; "" for none.
    """

    findings: str
    annotations: str
    images: str = ""


def parts_in(folder: PathLike) -> list[PartFiles]:
    """Return the parts in a folder: files of one name below ``findings`` and ``annotations``.

    Parameters
    ----------
    folder : path-like
        Holds both folders, as `write_parts` makes them, and perhaps ``images``. Hidden files and
        origins are passed over.

    Raises
    ------
    ArgumentError
        If a folder is missing or empty, or a part is not in all of them.
    """
    root = Path(folder)
    names = [_FINDINGS, _ANNOTATIONS, *([_IMAGES] if (root / _IMAGES).is_dir() else [])]
    sides = [_files(root / name) for name in names]
    everywhere = set.intersection(*(set(side) for side in sides))
    alone = sorted(set().union(*sides) - everywhere)
    if alone:
        raise ArgumentError(
            f"parts that are not in each of {', '.join(names)}",
            place=os.fspath(folder),
            got=first_of(alone, 5),
            next_step="The files of a part have one name below all folders, but for the ending.",
        )
    return [PartFiles(*(os.fspath(side[name]) for side in sides)) for name in sorted(everywhere)]


def _files(folder: Path) -> dict[str, Path]:
    if not folder.is_dir():
        raise ArgumentError(
            "no such folder",
            place=os.fspath(folder),
            next_step=f"A folder of parts holds {_FINDINGS}/ and {_ANNOTATIONS}/.",
        )
    found: dict[str, Path] = {}
    for path in sorted(folder.iterdir()):
        if path.name.startswith(".") or path.name.endswith(".origin.json") or path.is_dir():
            continue
        if found.setdefault(path.stem, path) != path:
            raise ArgumentError(
                "two files of one part", place=os.fspath(folder), got=path.name,
                allowed=[found[path.stem].name],
            )  # fmt: skip
    if not found:
        raise ArgumentError("the folder holds no parts", place=os.fspath(folder))
    return found


def write_parts(
    findings: Findings | PathLike,
    annotations: Annotations | PathLike,
    folder: PathLike,
    *,
    parts: int = 64,
    replace: bool = False,
) -> list[PartFiles]:
    """Write two tables in parts that hold whole images, as Parquet.

    Which part an image goes to depends on its name alone, so that tables written one after another
    with the same number of parts can be put next to each other.

    Parameters
    ----------
    findings, annotations : table or path
        As `dotledger.measure` takes them.
    folder : path-like
        New or empty; the folder above must exist.
    parts : int, default 64
        How many; one to 100,000. A part without images is written too.
    replace : bool, default False
        Let the folder hold something; parts of the same names are replaced.

    Returns
    -------
    list of PartFiles
        See `parts_in`.

    Raises
    ------
    ArgumentError
        If the number is out of range or the folder cannot be used.
    MissingExtra
        Without pyarrow.
    """
    with_parquet()
    count = whole_number(parts, place="parts", least=1, most=_MOST_PARTS)
    found, annotated = findings_given(findings), annotations_given(annotations)
    target = check_output_folder(folder, place="folder", replace=replace)
    sides = [_FINDINGS, _ANNOTATIONS, *([_IMAGES] if annotated.images else [])]
    for side in sides:
        (target / side).mkdir(parents=True, exist_ok=True)
    part_of_finding = _part_of(found.image.names, count)[found.image.codes]
    part_of_annotation = _part_of(annotated.image.names, count)[annotated.image.codes]
    for number in range(count):
        name = f"part-{number:05}.parquet"
        write_table(found.take(part_of_finding == number), target / _FINDINGS / name)
        own = annotated.take(part_of_annotation == number)
        write_table(own, target / _ANNOTATIONS / name)
        if annotated.images:
            _write_images(own, target / _IMAGES / name)
    return parts_in(target)


def _write_images(annotations: Annotations, path: Path) -> None:
    import pandas as pd

    used = annotations.image.used()
    rows = [{"image": name, **annotations.images.get(name, {})} for name in used]
    with whole_file(path) as draft:
        pd.DataFrame(rows, columns=None if rows else ["image"]).to_parquet(draft, index=False)


def _part_of(names: Sequence[str], parts: int) -> Ints:
    numbers = [zlib.crc32(name.encode("utf-8", "replace")) % parts for name in names]
    return np.array(numbers, dtype=np.intp)
