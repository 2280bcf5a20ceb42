"""Annotations as a Croissant description with its tables next to it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from dotledger.core.kinds import KINDS
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError
from dotledger.formats.croissant.croissant_document import CONFORMS
from dotledger.formats.croissant.croissant_reading import ALL, NOT_LOOKED_FOR
from dotledger.formats.tables.findings_files import write_rows
from dotledger.json_codec import to_json
from dotledger.safe_files import whole_file

__all__ = ["croissant_files", "write_croissant"]

_OURS = (
    *("citeAs", "column", "dataBiases", "dataCollection", "equivalentProperty", "examples"),
    *("extract", "field", "fileProperty", "fileObject", "fileSet", "format", "includes"),
    *("isLiveDataset", "jsonPath", "key", "md5", "parentField", "path"),
    *("personalSensitiveInformation", "recordSet", "references", "regex", "repeated", "replace"),
    *("separator", "source", "subField", "transform"),
)
_CONTEXT: dict[str, Any] = {
    "@language": "en",
    "@vocab": "https://schema.org/",
    **{name: f"cr:{name}" for name in _OURS},
    "conformsTo": "dct:conformsTo",
    "cr": "http://mlcommons.org/croissant/",
    "data": {"@id": "cr:data", "@type": "@json"},
    "dataType": {"@id": "cr:dataType", "@type": "@vocab"},
    "dct": "http://purl.org/dc/terms/",
    "rai": "http://mlcommons.org/croissant/RAI/",
    "sc": "https://schema.org/",
}
_Columns = Sequence[tuple[str, list[str] | str, str]]
"""Name, type and description of each."""
_Table = tuple[_Columns, list[Sequence[Any]]]


def croissant_files(target: Path) -> dict[str, Path]:
    """Return the files that are written for a description.

    Returns
    -------
    dict of str to Path
        ``images``, ``boxes`` and ``labels``, next to it.
    """
    return {n: target.with_name(f"{target.stem}-{n}.csv") for n in ("images", "boxes", "labels")}


def write_croissant(annotations: Annotations, path: Path) -> tuple[Path, ...]:
    """Write annotations as a Croissant description (version 1.0) and the tables that it describes.

    A table of the images looked at, one of annotations with a box, one of those without. What only
    the publisher knows (license, creator, address, how to cite it) is left for them to add.

    Parameters
    ----------
    path : Path
        Of the description, ``.json``; see `croissant_files` for the others.

    Returns
    -------
    tuple of Path
        The description first. It is written last: where it stands, its tables are whole.

    Raises
    ------
    ArgumentError
        If another file has the name of one of the tables; see `dotledger.safe_files.whole_file`.
    OSError
        If the folder cannot be written.
    """
    files = croissant_files(path)
    if not path.exists() and (taken := [str(one) for one in files.values() if one.exists()]):
        raise ArgumentError(
            "another file has the name of a table that belongs to the description",
            place=str(path),
            got=taken,
            next_step="Move it away, or give the description another name.",
        )
    there = ~annotations.blank
    boxed = there & (annotations.box == annotations.box).all(axis=1)
    tables: dict[str, _Table] = {"images": _images(annotations)}
    if boxed.any():
        tables["boxes"] = _boxes(annotations.take(boxed))
    if (there & ~boxed).any():
        tables["labels"] = _labels(annotations.take(there & ~boxed))
    for name, (columns, rows) in tables.items():
        with whole_file(files[name]) as draft:
            write_rows(draft, [column for column, _, _ in columns], rows)
    described = {name: columns for name, (columns, _) in tables.items()}
    document = _document(annotations, path, {name: files[name] for name in described}, described)
    with whole_file(path) as draft:
        draft.write_bytes(to_json(document, indent=True) + b"\n")
    return (path, *(files[name] for name in described))


def _images(annotations: Annotations) -> _Table:
    images = sorted(annotations.image.used())
    facts = {name: annotations.images.get(name, {}) for name in images}
    own = {fact for one in facts.values() for fact in one}
    known = sorted(own, key=lambda fact: (fact not in ("width", "height"), fact != "width", fact))
    left_open = _left_open(annotations)
    columns: list[tuple[str, list[str] | str, str]] = [("image", "sc:Text", "The image's file.")]
    for name in known:
        told = _ABOUT.get(name, "Known about the image.")
        columns.append((name, _type_of(one.get(name) for one in facts.values()), told))
    if left_open:
        columns.append((NOT_LOOKED_FOR, "sc:Text", f"Kinds, or {ALL!r}: nobody looked."))
    rows: list[Sequence[Any]] = [
        (
            name,
            *(facts[name].get(fact, "") for fact in known),
            *([left_open.get(name, "")] if left_open else ()),
        )
        for name in images
    ]
    return columns, rows


_ABOUT = {"width": "Pixels, upright.", "height": "Pixels, upright."}


def _type_of(values: Iterable[Any]) -> str:
    known = [value for value in values if value is not None]
    numbers = all(isinstance(value, int | float) for value in known)
    return "sc:Float" if numbers else "sc:Text"


def _left_open(annotations: Annotations) -> dict[str, str]:
    """Return the kinds that nobody looked for, by image; every other image is covered for all."""
    found: dict[str, list[str]] = {}
    covered = {kind: set(annotations.covered(kind)) for kind in KINDS}
    for image in annotations.image.used():
        kinds = [kind for kind in KINDS if image not in covered[kind]]
        if kinds:
            found[image] = [ALL] if len(kinds) == len(KINDS) else kinds
    return {image: " ".join(kinds) for image, kinds in found.items()}


_FIRST: _Columns = (
    ("image", "sc:Text", "The image that it is in."),
    ("kind", "sc:Text", "What was looked for: object, face, label, unsafe and similar."),
    ("label", ["sc:Text", "cr:Label"], "What it is."),
)
_BOX: _Columns = (
    (
        "box",
        "cr:BoundingBox",
        "Left, upper, right, lower edge in pixels of the upright image, from its top left corner.",
    ),
)
_LAST: _Columns = (("ignore", "sc:Boolean", "Doubtful: neither found nor missed."),)
_DETAILS: _Columns = (("details", "sc:Text", "Attributes, points and outline, as JSON."),)


def _boxes(table: Annotations) -> _Table:
    return _rows(table, [(" ".join(map(str, box)),) for box in table.box.tolist()])


def _labels(table: Annotations) -> _Table:
    return _rows(table, [()] * len(table))


def _rows(table: Annotations, boxes: Sequence[tuple[str, ...]]) -> _Table:
    names = [column.values().tolist() for column in (table.image, table.kind, table.label)]
    details: Sequence[Details | None] = table.details or ()
    if not any(details):
        details = ()
    box = _BOX if boxes and boxes[0] else ()
    columns: _Columns = (*_FIRST, *box, *_LAST, *(_DETAILS if details else ()))
    flags = ["True" if ignored else "False" for ignored in table.ignore.tolist()]
    texts = [(to_json(one.to_dict()).decode() if one else "{}",) for one in details]
    last: Sequence[tuple[str, ...]] = texts or [()] * len(flags)
    rows: list[Sequence[Any]] = [
        (*row, *place, flag, *more)
        for *row, place, flag, more in zip(*names, boxes, flags, last, strict=True)
    ]
    return columns, rows


def _document(
    annotations: Annotations, path: Path, files: dict[str, Path], columns: dict[str, _Columns]
) -> dict[str, Any]:
    images = len(set(annotations.image.used()))
    kinds = sorted(set(annotations.kind.take(~annotations.blank).used()))
    return {
        "@context": _CONTEXT,
        "@type": "sc:Dataset",
        "conformsTo": CONFORMS,
        "name": path.stem,
        "description": f"Annotations of {images} images: {', '.join(kinds) or 'none'}.",
        "distribution": [
            {
                "@type": "cr:FileObject",
                "@id": f"{name}.csv",
                "name": f"{name}.csv",
                "contentUrl": file.name,
                "encodingFormat": "text/csv",
                "sha256": hashlib.sha256(file.read_bytes()).hexdigest(),
            }
            for name, file in files.items()
        ],
        "recordSet": [
            {
                "@type": "cr:RecordSet",
                "@id": name,
                "name": name,
                **({"key": {"@id": "images/image"}} if name == "images" else {}),
                "field": [_field(name, *column) for column in columns[name]],
            }
            for name in files
        ],
    }


def _field(records: str, name: str, types: list[str] | str, about: str) -> dict[str, Any]:
    refers = {"references": {"field": {"@id": "images/image"}}}
    return {
        "@type": "cr:Field",
        "@id": f"{records}/{name}",
        "name": name,
        "description": about,
        "dataType": types,
        "source": {
            "fileObject": {"@id": f"{records}.csv"},
            "extract": {"column": name},
            **({"format": "XYXY"} if types == "cr:BoundingBox" else {}),
        },
        **(refers if name == "image" and records != "images" else {}),
    }
