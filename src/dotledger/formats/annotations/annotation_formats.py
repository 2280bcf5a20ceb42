"""The formats of ground truth: one record for each, with its endings and what reads and writes it.

Reading, writing, what a refusal allows and what the documentation lists come from `FORMATS`. Adding
a format is adding a record; of several that fit, the first reads.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from dotledger.core.tables.annotations_table import Annotations
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.annotations.alto_page_text import are_pages, read_pages
from dotledger.formats.annotations.annotation_collecting import (
    Loaded,
    Written,
    folder_of_images,
    report_of,
)
from dotledger.formats.annotations.iiif_annotations import read_manifest
from dotledger.formats.annotations.web_annotations import (
    is_web_annotation,
    read_web_annotations,
    write_web_annotations,
)
from dotledger.formats.annotations.xmp_regions import read_regions, write_regions
from dotledger.formats.croissant.croissant_document import is_croissant
from dotledger.formats.croissant.croissant_reading import read_croissant
from dotledger.formats.croissant.croissant_writing import write_croissant
from dotledger.formats.file_kinds import read_json
from dotledger.formats.tables.findings_files import (
    SUFFIXES,
    PathLike,
    read_annotation_table,
    write_table,
)
from dotledger.formats.tables.geometry_columns import Shape, read_shape
from dotledger.images.iiif_manifests import is_manifest

__all__ = ["FOLDER", "FORMATS", "AnnotationFormat", "AnnotationSource", "read_source"]

FOLDER = "a folder"
"""Stands among the endings of a format that reads folders."""
_JSON = (".json", ".jsonld")


@dataclass(frozen=True, kw_only=True)
class AnnotationSource:
    """A file or folder of annotations, and what the caller knows next to it.

    Attributes
    ----------
    place : Path
        The file or folder.
    columns : Shape or path, optional
        How the columns of somebody else's table are to be read.
    facts : mapping
        Of images, by name: such as their sizes.
    images : Path, optional
        The folder of the images.
    """

    place: Path
    columns: Shape | PathLike | None = None
    facts: Mapping[str, Mapping[str, Any]]
    images: Path | None = None

    @cached_property
    def document(self) -> Any:
        """What a JSON file holds; read once, however many formats look at it."""
        return read_json(self.place)

    @property
    def ending(self) -> str:
        """The ending in lower case; `FOLDER` for a folder."""
        return FOLDER if self.place.is_dir() else self.place.suffix.lower()


@dataclass(frozen=True, kw_only=True)
class AnnotationFormat:
    """One format of annotations.

    Attributes
    ----------
    name : str
        For people.
    endings : tuple of str
        Of its files, in lower case; `FOLDER` if it may be a folder.
    read : callable
        Takes an `AnnotationSource`, returns what was loaded.
    fits : callable
        Whether a source with such an ending is of this format.
    written_as : tuple of str
        The endings of what it writes, ``""`` for a folder; empty if it is only read.
    write : callable, optional
        Takes annotations, the path to write and the folder of the images.
    """

    name: str
    endings: tuple[str, ...]
    read: Callable[[AnnotationSource], Loaded]
    fits: Callable[[AnnotationSource], bool] = lambda _: True
    written_as: tuple[str, ...] = ()
    write: Callable[[Annotations, Path, PathLike | None], Written] | None = None


def _read_table(source: AnnotationSource) -> Loaded:
    table = read_annotation_table(source.place, columns=source.columns, images=source.facts)
    on_disk = folder_of_images(source.images)
    return Loaded(annotations=table, report=report_of(table, str(source.place), on_disk=on_disk))


def _read_croissant(source: AnnotationSource) -> Loaded:
    columns = source.columns
    shape = read_shape(columns) if isinstance(columns, str | os.PathLike) else columns
    return read_croissant(
        source.document,
        source.place,
        shape=shape,
        images=source.facts,
        image_folder=source.images,
    )


def _read_web(source: AnnotationSource) -> Loaded:
    return read_web_annotations(
        source.document, source.place, images=source.facts, image_folder=source.images
    )


def _read_pages(source: AnnotationSource) -> Loaded:
    return read_pages(source.place, images=source.facts, image_folder=source.images)


def _hold_pages(source: AnnotationSource) -> bool:
    # The images' own folder is looked at for regions; pages next to them are given by their folder.
    return source.place != source.images and are_pages(source.place)


def _write_regions(annotations: Annotations, target: Path, images: PathLike | None) -> Written:
    if images is None:
        raise ArgumentError(
            "copies that carry regions need the folder of the images", place="images"
        )
    return write_regions(annotations, images, target)


FORMATS: tuple[AnnotationFormat, ...] = (
    AnnotationFormat(
        name="a table",
        endings=SUFFIXES,
        read=_read_table,
        written_as=SUFFIXES,
        write=lambda annotations, target, _: Written(files=(write_table(annotations, target),)),
    ),
    AnnotationFormat(
        name="IIIF manifest",
        endings=_JSON,
        fits=lambda source: is_manifest(source.document),
        read=lambda source: read_manifest(source.document, source.place),
    ),
    AnnotationFormat(
        name="Croissant",
        endings=_JSON,
        fits=lambda source: is_croissant(source.document),
        read=_read_croissant,
        written_as=(".json",),
        write=lambda annotations, target, _: Written(files=write_croissant(annotations, target)),
    ),
    AnnotationFormat(
        name="Web Annotation",
        endings=_JSON,
        fits=lambda source: source.ending == ".jsonld" or is_web_annotation(source.document),
        read=_read_web,
        written_as=(".jsonld",),
        write=lambda annotations, target, _: Written(
            files=(write_web_annotations(annotations, target),)
        ),
    ),
    AnnotationFormat(
        name="ALTO or PAGE", endings=(".xml", FOLDER), fits=_hold_pages, read=_read_pages
    ),
    AnnotationFormat(
        name="IPTC Image Regions inside images",
        endings=(".jpg", ".jpeg", ".png", FOLDER),
        read=lambda source: read_regions(source.place),
        written_as=("",),
        write=_write_regions,
    ),
)
"""Every format, in the order in which they are tried."""


def read_source(source: AnnotationSource) -> Loaded:
    """Read annotations by the first format that fits.

    Raises
    ------
    TableError
        If no format fits, or the file breaks the rules of its format.
    """
    known = [one for one in FORMATS if source.ending in one.endings]
    for one in known:
        if one.fits(source):
            return one.read(source)
    if source.ending in _JSON:
        raise TableError(
            "the file does not declare itself as Web Annotation",
            place=str(source.place),
            next_step="Say how it is to be read: `description=FILE`, an import description.",
        )
    raise TableError(
        "the file's ending names no known format",
        place=str(source.place),
        got=source.place.suffix.lower(),
        allowed=[f"{one.name} ({', '.join(one.endings)})" for one in FORMATS],
        next_step="For any other JSON or XML file give an import description: `description=FILE`.",
    )
