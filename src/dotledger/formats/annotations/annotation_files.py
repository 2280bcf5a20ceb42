"""Ground truth in and out, whatever it is written in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from dotledger.core.boxes.image_frames import LEAST_SIDE, MOST_SIDE
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.box_clipping import clip_annotations
from dotledger.core.tables.reviewed_annotations import Reviewed, annotations_from_review
from dotledger.core.tables.table_inputs import as_annotations
from dotledger.errors import TableError
from dotledger.formats.annotations.annotation_collecting import (
    Loaded,
    Written,
    report_of,
)
from dotledger.formats.annotations.annotation_formats import (
    FORMATS,
    AnnotationSource,
    read_source,
)
from dotledger.formats.annotations.import_descriptions import read_by_description, size_on_disk
from dotledger.formats.tables.csv_columns import read_csv, read_json_lines
from dotledger.formats.tables.findings_files import (
    PathLike,
    parquet_rows,
    read_findings,
)
from dotledger.formats.tables.geometry_columns import Shape

__all__ = [
    "load_annotations",
    "read_annotations",
    "read_image_facts",
    "read_review",
    "write_annotations",
]

Facts = Mapping[str, Mapping[str, Any]]


def read_annotations(
    path: PathLike,
    *,
    columns: Shape | PathLike | None = None,
    description: PathLike | None = None,
    images: Facts | PathLike | None = None,
    vocabulary: Mapping[str, Iterable[str]] | None = None,
) -> Annotations:
    """Read annotations; see `load_annotations`, which also tells what was read.

    Parameters
    ----------
    path, columns, description, images, vocabulary
        As `load_annotations` takes them.

    Returns
    -------
    Annotations
        What `load_annotations` reads, without its report.

    Raises
    ------
    TableError, DescriptionError, MissingExtra
        See `load_annotations`.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.read_annotations("truth.csv").labels("face")
    ('face',)
    """
    return load_annotations(
        path, columns=columns, description=description, images=images, vocabulary=vocabulary
    ).annotations


def load_annotations(
    path: PathLike,
    *,
    columns: Shape | PathLike | None = None,
    description: PathLike | None = None,
    images: Facts | PathLike | None = None,
    vocabulary: Mapping[str, Iterable[str]] | None = None,
) -> Loaded:
    """Read annotations and say what was read.

    Parameters
    ----------
    path : path-like
        A table (``.csv``, ``.jsonl``, ``.parquet``); Web Annotations (``.jsonld``, or ``.json``
        that declares itself so); a IIIF manifest or a Croissant description (``.json``); ALTO or
        PAGE (``.xml``, or a folder of them); images that carry IPTC Image Regions, or a folder of
        them; with `description` any JSON or XML file, or a folder of them.
    columns : Shape, path-like or str, optional
        How a table names its columns and writes boxes; see `read_shape`.
    description : path-like, optional
        An import description; see `dotledger.formats.annotations.import_descriptions`.
    images : mapping, or path-like, optional
        What is known about images: a table with a column ``image``, or the folder of the images
        themselves, from which sizes are taken and against which names are checked.
    vocabulary : mapping of str to iterable of str, optional
        Labels in scope by kind; by default those that occur.

    Returns
    -------
    Loaded
        The annotations, and a report of what was read, clipped and refused.

    Raises
    ------
    TableError
        Naming the place, if something cannot be read or breaks the common shape.
    DescriptionError
        If a file of columns or an import description is not written as it should be.
    MissingExtra
        For Parquet without pyarrow.

    Examples
    --------
    >>> import dotledger
    >>> loaded = load_annotations("truth.csv")
    >>> loaded.report.images
    35
    """
    place = Path(path)
    folder = None if images is None or isinstance(images, Mapping) else Path(images)
    folder = folder if folder is not None and folder.is_dir() else None
    facts = _facts(images, folder)
    loaded = _read(place, columns, description, facts, folder)
    found = loaded.annotations
    if facts:
        found = found.with_images(facts)
    if folder is not None:
        found = _with_sizes(found, folder)
    loaded = _clipped(Loaded(annotations=found, report=loaded.report))
    found = loaded.annotations
    return Loaded(annotations=_declared(found, vocabulary), report=loaded.report)


def _declared(found: Annotations, vocabulary: Mapping[str, Iterable[str]] | None) -> Annotations:
    if vocabulary is None:
        return found
    declared = {kind: tuple(labels) for kind, labels in vocabulary.items()}
    return replace(found, vocabulary=declared)


def _clipped(loaded: Loaded) -> Loaded:
    """Clip boxes to images whose size has become known; list those that lie outside."""
    found = loaded.annotations
    inside = clip_annotations(found)
    if not len(inside.clipped) and not len(inside.outside):
        return loaded
    refused = [
        (str(image), "box outside the image", str(tuple(box)))
        for image, box in zip(
            found.image.take(inside.outside).values(),
            found.box[inside.outside].tolist(),
            strict=True,
        )
    ]
    report = report_of(
        inside.table,
        loaded.report.source,
        clipped=loaded.report.clipped + len(inside.clipped),
        refused=[*loaded.report.refused, *refused],
    )
    return Loaded(annotations=inside.table, report=replace(report, missing=loaded.report.missing))


def _facts(images: Facts | PathLike | None, folder: Path | None) -> Facts:
    if images is None or folder is not None:
        return {}
    return images if isinstance(images, Mapping) else read_image_facts(images)


def _read(
    place: Path,
    columns: Shape | PathLike | None,
    description: PathLike | None,
    facts: Facts,
    folder: Path | None,
) -> Loaded:
    if description is not None:
        return read_by_description(place, description, images=facts, image_folder=folder)
    return read_source(AnnotationSource(place=place, columns=columns, facts=facts, images=folder))


def _with_sizes(annotations: Annotations, folder: Path) -> Annotations:
    """Return the annotations with the sizes of images that are on disk."""
    lacking = [n for n in annotations.image.used() if "width" not in annotations.images.get(n, {})]
    return annotations.with_images({name: size_on_disk(folder, name) for name in lacking})


def read_image_facts(path: PathLike) -> dict[str, dict[str, Any]]:
    """Read what is known about images from a ``.csv``, ``.jsonl`` or ``.parquet`` table.

    Parameters
    ----------
    path : path-like
        With a column ``image``; ``width`` and ``height`` are those of the upright image in
        pixels; every other column can be sliced by.

    Returns
    -------
    dict of str to dict
        By image; empty cells are left out.

    Raises
    ------
    TableError
        If it cannot be read, an image occurs twice, or a size is not a number above 0.

    Examples
    --------
    >>> import dotledger
    >>> sorted(dotledger.read_image_facts("images.csv")["crowd-01.jpg"])
    ['height', 'scene', 'sky', 'width']
    """
    file = Path(path)
    readers = {".csv": read_csv, ".jsonl": read_json_lines, ".parquet": None}
    if file.suffix.lower() not in readers:
        raise TableError(
            "the file's ending names no known format",
            place=str(file),
            got=file.suffix,
            allowed=[*readers, "a folder of images"],
        )
    read_rows = readers[file.suffix.lower()]
    if read_rows is None:
        return _checked_facts(*_of_parquet(file))
    columns = read_rows(file, ["image", "width", "height"], keep_own=True)
    read = columns.result()
    if "image" not in read:
        raise TableError("the table has no column 'image'", place=str(file))
    names = read["image"].values().tolist()
    rows: list[dict[str, Any]] = columns.own_rows() or [{} for _ in names]
    sides: dict[str, Any] = {side: read[side] for side in ("width", "height") if side in read}
    return _checked_facts(names, sides, rows, columns.where)


_Read = tuple[list[str], dict[str, Any], list[dict[str, Any]], Callable[[int, str], str]]


def _of_parquet(file: Path) -> _Read:
    """Return names, sizes, own columns, and how a cell is named, of a Parquet file."""
    import numpy as np

    frame = parquet_rows(file)
    if "image" not in frame.columns:
        raise TableError("the table has no column 'image'", place=str(file))
    sides = {}
    for side in {"width", "height"} & set(frame.columns):
        try:
            sides[side] = frame[side].to_numpy(dtype=np.float64)
        except (TypeError, ValueError):
            raise TableError("a column of numbers holds others", place=f"{file}: {side}") from None
    own = frame.drop(columns=["image", *sides]).astype(object)
    rows = own.where(own.notna(), None).to_dict("records")
    kept = [{str(n): v for n, v in row.items() if v is not None and v != ""} for row in rows]
    names = [str(name) for name in frame["image"]]
    return names, sides, kept, lambda row, column: f"{file}: row {row + 1}: {column}"


def _checked_facts(
    names: list[str],
    sides: dict[str, Any],
    rows: list[dict[str, Any]],
    where: Callable[[int, str], str],
) -> dict[str, dict[str, Any]]:
    facts: dict[str, dict[str, Any]] = {}
    for row, (name, own) in enumerate(zip(names, rows, strict=True)):
        if name in facts:
            raise TableError("the image is listed twice", place=where(row, "image"), got=name)
        sizes = {side: float(values[row]) for side, values in sides.items()}
        for side, value in sizes.items():
            if value < LEAST_SIDE or value > MOST_SIDE:
                raise TableError(
                    "no size of an image",
                    place=where(row, side),
                    got=value,
                    allowed=[f"{LEAST_SIDE:g} to {MOST_SIDE:g} pixels"],
                )
        facts[name] = {**own, **{side: value for side, value in sizes.items() if value == value}}
    return facts


def read_review(
    path: PathLike,
    *,
    columns: Shape | PathLike | None = None,
    vocabulary: Mapping[str, Iterable[str]] | None = None,
) -> Reviewed:
    """Read findings that a person has looked at, as annotations.

    Parameters
    ----------
    path : path-like
        A ``.csv`` or ``.jsonl`` findings table with a column ``review``; see
        `dotledger.core.tables.reviewed_annotations.REVIEWS`.
    columns : Shape, path-like or str, optional
        How the columns are written; see `read_findings`.
    vocabulary : mapping of str to iterable of str, optional
        The labels that were looked for, by kind; by default those that stand in the table.

    Returns
    -------
    Reviewed
        The annotations, counts by word, and the images left out.

    Raises
    ------
    TableError
        If it cannot be read, is of another format, has no column ``review``, or holds an
        unknown word there.

    Examples
    --------
    >>> import dotledger
    >>> frame = dotledger.read_findings("found.csv").filter(kind="label").frame()
    >>> frame.assign(review="confirmed").to_csv("review.csv", index=False)
    >>> sorted(dotledger.read_review("review.csv").counts)
    ['confirmed']
    """
    file = Path(path)
    if file.suffix.lower() not in (".csv", ".jsonl"):
        raise TableError(
            "a review is read from a table that a person can edit",
            place=str(file),
            got=file.suffix,
            allowed=[".csv", ".jsonl"],
        )
    findings = read_findings(file, columns=columns)
    reader = read_csv if file.suffix.lower() == ".csv" else read_json_lines
    table = reader(file, ["review"])
    words = table.result().get("review")
    if words is None:
        raise TableError(
            "the table has no column 'review'",
            place=str(file),
            next_step="Write findings with `dotledger.write_table`, add the column, fill it.",
        )
    try:
        review = annotations_from_review(findings, words)
    except TableError as error:
        row = error.facts.get("row")
        if row is None:
            raise
        raise TableError(
            error.message, place=table.where(row, "review"), got=error.got, allowed=error.allowed
        ) from error
    return replace(review, annotations=_declared(review.annotations, vocabulary))


def write_annotations(
    annotations: Annotations, path: PathLike, *, images: PathLike | None = None
) -> Written:
    """Write annotations, whole or not at all.

    Parameters
    ----------
    annotations : Annotations
        The ground truth to write.
    path : path-like
        ``.csv``, ``.jsonl``, ``.parquet``; ``.jsonld`` for Web Annotations; ``.json`` for a
        Croissant description with its tables next to it; or a folder for copies of the images that
        carry IPTC Image Regions.
    images : path-like, optional
        The folder of the images, for copies that carry regions.

    Returns
    -------
    Written
        The files, and the images that no copy could be made of, with the reason.

    Raises
    ------
    ArgumentError
        If copies are asked for and `images` is not given.
    TableError
        If the ending names no format, or an image is missing.
    OSError
        If the folder cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> written = dotledger.write_annotations(dotledger.read_annotations("truth.csv"), "copy.jsonl")
    >>> [path.name for path in written.files]
    ['copy.jsonl']
    """
    annotations = as_annotations(annotations, "write_annotations(annotations, path)")
    target = Path(path)
    ending = target.suffix.lower()
    # A table is also what refuses an ending that nothing is written as.
    writers = {one: form.write for form in FORMATS if form.write for one in form.written_as}
    return writers.get(ending, writers[".csv"])(annotations, target, images)
