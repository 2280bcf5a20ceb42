"""Annotations out of the records of a Croissant description."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from dotledger.core.boxes.box_forms import TO_CORNERS, Box
from dotledger.core.kinds import KINDS
from dotledger.core.spelling import nearest
from dotledger.core.tables.finding_details import Details
from dotledger.errors import TableError
from dotledger.formats.annotations.annotation_collecting import (
    CollectedRows,
    Loaded,
    folder_of_images,
)
from dotledger.formats.croissant.croissant_document import (
    Described,
    Field,
    RecordSet,
    read_document,
)
from dotledger.formats.croissant.croissant_records import Records
from dotledger.formats.tables.geometry_columns import Shape
from dotledger.json_codec import NotJSON, from_json

__all__ = ["ALL", "FORMS", "NOT_LOOKED_FOR", "read_croissant"]

FORMS: dict[str, tuple[str, bool]] = {
    "XYXY": ("corners", False),
    "REL_XYXY": ("corners", True),
    "XYWH": ("corner+size", False),
    "REL_XYWH": ("corner+size", True),
    "CENTER_XYWH": ("centre+size", False),
    "YXYX": ("corners", False),
    "REL_YXYX": ("corners", True),
}
"""How a box's four numbers may be written, and whether they are shares of the image's sides."""
_IMAGE_NAMES = (
    *("image", "image_name", "image_filename", "image_file", "image_path", "image_id", "imageid"),
    *("file_name", "filename", "file", "filepath", "path", "img", "img_path"),
)
_LABEL_NAMES = (
    "label",
    "labels",
    "category",
    "category_name",
    "category_id",
    "class",
    "class_name",
)
NOT_LOOKED_FOR, ALL = "not_annotated_for", "all"
"""The field of ours that tells for which kinds an image was not looked at, and its word for all."""
_NAMED = ("image", "label", "kind", "ignore")
Facts = Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True, kw_only=True)
class _Roles:
    """Which field of a record set is what."""

    image: Field
    label: Field | None
    box: Field | None
    others: Mapping[str, Field]


def read_croissant(
    data: Mapping[str, Any],
    place: Path,
    *,
    shape: Shape | None = None,
    images: Facts | None = None,
    image_folder: Path | None = None,
) -> Loaded:
    """Read the annotations that a Croissant description leads to.

    Every record set is read that has a field for the image and one for a box or a label. The box is
    the field of type ``BoundingBox``, which says how it is written; the label is the one of type
    ``Label``, else the one of a usual name (``label``, ``category``, ``class``); the image is one
    of type ``ImageObject``, one that refers to a record set of images, else one of a usual name.

    Parameters
    ----------
    place : Path
        Where it stands; its files lie in the same folder.
    shape : Shape, optional
        The names of fields by ours (``image``, ``label``, ``kind``, ``ignore``), where they have
        other names, and a kind or label that every record has.
    images : mapping, optional
        What is known about images: sizes, where boxes are shares of them.
    image_folder : Path, optional
        Of the images, for their sizes and for the report.

    Returns
    -------
    Loaded
        Boxes are of kind ``object`` and labels without a box of kind ``label`` where no field
        ``kind`` says otherwise. Images of a record set without annotations are covered and empty.

    Raises
    ------
    TableError
        If nothing in it is an annotation, a box does not say how it is written, a file is not
        there or not the described one, or `shape` names a field that there is not.
    """
    described = read_document(data, place)
    shape = shape or Shape()
    _check_names(described, shape)
    sets = _annotated(described, shape.columns)
    reading = _Reading(described, images or {}, image_folder, shape.always)
    for records in described.record_sets.values():
        reading.cover(records)
    for records, roles in sets:
        reading.add(records, roles)
    return reading.gathered.loaded(str(place), on_disk=folder_of_images(image_folder))


def _check_names(described: Described, shape: Shape) -> None:
    """Refuse a name that no field has, and what a description says itself."""
    if replace(shape, columns={}, always={}) != Shape() or shape.columns.keys() - {*_NAMED}:
        raise TableError(
            "how boxes are written is said by the description itself",
            place="columns",
            got=shape.columns,
            allowed=[f"{ours}=THEIRS" for ours in _NAMED],
        )
    there = {field.name.lower() for one in described.record_sets.values() for field in one.fields}
    for ours, theirs in shape.columns.items():
        if theirs.lower() not in there:
            raise TableError(
                f"no field has the name given for {ours}",
                place=str(described.place),
                got=theirs,
                allowed=nearest(theirs, there, most=3) or sorted(there),
            )


def _annotated(described: Described, names: Mapping[str, str]) -> list[tuple[RecordSet, _Roles]]:
    chosen = list(described.record_sets.values())
    found = [(one, roles) for one in chosen if (roles := _roles(one, names)) is not None]
    found = [(one, roles) for one, roles in found if roles.box or roles.label]
    if not found:
        fields = {one.id: [field.name for field in one.fields] for one in chosen}
        raise TableError(
            "no record set has a field for the image and one for a box or a label",
            place=str(described.place),
            got=fields,
            next_step="Name the fields: `columns={'image': THEIRS, 'label': THEIRS}`.",
        )
    return found


def _roles(records: RecordSet, names: Mapping[str, str]) -> _Roles | None:
    by_name = {field.name.lower(): field for field in records.fields}

    def named(ours: str, usual: Sequence[str]) -> Field | None:
        if ours in names:
            return by_name.get(names[ours].lower())
        return next((by_name[name] for name in usual if name in by_name), None)

    def typed(name: str) -> Field | None:
        return next((field for field in records.fields if name in field.types), None)

    box = typed("BoundingBox")
    label = (None if "label" in names else typed("Label")) or named("label", _LABEL_NAMES)
    image = None if "image" in names else typed("ImageObject")
    image = image or named("image", _IMAGE_NAMES)
    if image is None:
        others = (box, label)
        image = next((f for f in records.fields if f.refers_to and f not in others), None)
    if image is None:
        return None
    extra = ("kind", "ignore", "width", "height", "details")
    others_found = {name: field for name in extra if (field := named(name, (name,)))}
    return _Roles(image=image, label=label, box=box, others=others_found)


class _Reading:
    """Reads the record sets of one description into one table."""

    def __init__(
        self, described: Described, facts: Facts, folder: Path | None, always: Mapping[str, str]
    ) -> None:
        self.gathered = CollectedRows()
        self._always = {"kind": "", "label": "", **always}
        self._described = described
        self._records = Records(described)
        self._facts = facts
        self._folder = folder

    def cover(self, records: RecordSet) -> None:
        """Note the images of a record set without annotations, and what else it tells of them."""
        roles = _roles(records, {})
        if roles is None or roles.box or roles.label:
            return
        values = self._records.of(records.id)
        told = [f for f in records.fields if f is not roles.image and f.id in values]
        for row, name in enumerate(self._images(roles.image, values)):
            if name:
                facts = {field.name: _fact(field, values[field.id][row]) for field in told}
                open_kinds = str(facts.pop(NOT_LOOKED_FOR, None) or "").split()
                self.gathered.cover(name, **facts)
                for kind in open_kinds:
                    self.gathered.leave_open(name, "" if kind == ALL else kind)

    def add(self, records: RecordSet, roles: _Roles) -> None:
        """Add the annotations of a record set; raises TableError for a box without a form."""
        if roles.box is not None and roles.box.form not in FORMS:
            raise TableError(
                "the box does not say how its four numbers are written",
                place=f"{self._described.place}, {roles.box.id}, format",
                got=roles.box.form,
                allowed=list(FORMS),
                next_step="Add `format` next to its source.",
            )
        values = self._records.of(records.id)
        images = self._images(roles.image, values)
        labels = self._labels(roles.label, values, len(images))
        boxes = values.get(roles.box.id) if roles.box else None
        table = {name: values.get(field.id) for name, field in roles.others.items()}
        for row, image in enumerate(images):
            if not image:
                self.gathered.refuse("", "the record names no image", str(row + 1))
                continue
            self.gathered.cover(image, **self._sizes(image, table, row))
            own = _at(table, "kind", row) or self._always["kind"]
            kind = str(own or ("object" if roles.box else "label"))
            ignore = str(_at(table, "ignore", row)).lower() in ("true", "1")
            details = _details(_at(table, "details", row))
            pairs = _pairs(labels[row], None if boxes is None else boxes[row])
            if pairs is None:
                self.gathered.refuse(image, "not as many labels as boxes", str(labels[row]), kind)
                continue
            for label, box in pairs:
                self._one(roles, image, kind, label, box, ignore=ignore, details=details)

    def _one(
        self, roles: _Roles, image: str, kind: str, label: Any, box: Any, *, ignore: bool,
        details: Details | None,
    ) -> None:  # fmt: skip
        if kind not in KINDS:
            self.gathered.refuse(image, "unknown kind", kind)
            return
        name = str(label or self._always["label"] or ("face" if kind == "face" else ""))
        if not name.strip():
            if box is not None or roles.box is None:
                self.gathered.refuse(image, "no label", str(label), kind)
            return
        corners = None
        if roles.box is not None:
            corners = self._box(image, roles.box.form, box, kind)
            if corners is None:
                return
        self.gathered.add(image, kind, name, corners, ignore=ignore, details=details)

    def _box(self, image: str, form: str, value: Any, kind: str) -> Box | None:
        numbers = _four(value)
        if numbers is None:
            self.gathered.refuse(image, "box is not four numbers", str(value), kind)
            return None
        way, shares = FORMS[form]
        if "YXYX" in form:
            numbers = (numbers[1], numbers[0], numbers[3], numbers[2])
        box = TO_CORNERS[way](*numbers)
        if shares:
            known = self.gathered.images.get(image, {})
            if not {"width", "height"} <= known.keys():
                self.gathered.refuse(image, "the image's size is not known", str(value), kind)
                return None
            width, height = known["width"], known["height"]
            box = (box[0] * width, box[1] * height, box[2] * width, box[3] * height)
        return self.gathered.clipped_box(image, box, str(value), kind)

    def _sizes(self, image: str, table: Mapping[str, Any], row: int) -> dict[str, float | None]:
        own = {side: _number(_at(table, side, row)) for side in ("width", "height")}
        if None not in own.values():
            return own
        known = self._facts.get(image, {})
        if not known and self._folder is not None and image not in self.gathered.images:
            from dotledger.formats.annotations.import_descriptions import size_on_disk

            known = size_on_disk(self._folder, image)
        return {side: known.get(side) for side in ("width", "height")}

    def _images(self, field: Field, values: Mapping[str, list[Any]]) -> list[str]:
        """Return the name of each record's image, through the record set that it refers to."""
        found = values.get(field.id, [])
        names = self._looked_up(field, found, _IMAGE_NAMES, image=True)
        return [_image_name(one) for one in names]

    def _labels(
        self, field: Field | None, values: Mapping[str, list[Any]], count: int
    ) -> Sequence[Any]:
        if field is None:
            return [None] * count
        return self._looked_up(field, values.get(field.id, [None] * count), ("name", *_LABEL_NAMES))

    def _looked_up(
        self, field: Field, values: list[Any], usual: Sequence[str], *, image: bool = False
    ) -> list[Any]:
        """Return what values stand for, where they name records of another set."""
        other = next(
            (
                one
                for one in self._described.record_sets.values()
                if any(field.refers_to == f.id for f in one.fields)
            ),
            None,
        )
        if other is None:
            return values
        theirs = self._records.of(other.id)
        by_name = {f.name.lower(): f for f in other.fields if f.id != field.refers_to}
        naming = next((f for f in by_name.values() if image and "ImageObject" in f.types), None)
        naming = naming or next((by_name[name] for name in usual if name in by_name), None)
        if naming is None or naming.id not in theirs:
            return values
        keys = theirs[field.refers_to]
        table = {str(key): name for key, name in zip(keys, theirs[naming.id], strict=True)}
        return [_each(value, lambda one: table.get(str(one))) for value in values]


def _each(value: Any, change: Callable[[Any], Any]) -> Any:
    return [change(one) for one in value] if isinstance(value, list) else change(value)


def _at(table: Mapping[str, Any], name: str, row: int) -> Any:
    values = table.get(name)
    return None if values is None else values[row]


def _pairs(labels: Any, boxes: Any) -> list[tuple[Any, Any]] | None:
    """Return each label with its box: a record may hold one, or lists of both.

    None where the lists are not of one length: which box has which label is then not known.
    """
    several = isinstance(boxes, list) and all(isinstance(b, list) for b in boxes)
    if not several and not isinstance(labels, list):
        return [(labels, boxes)]
    each = boxes if several else [boxes] * len(labels)
    named = labels if isinstance(labels, list) else [labels] * len(each)
    return list(zip(named, each, strict=True)) if len(named) == len(each) else None


def _image_name(value: Any) -> str:
    """Return an image's name from a text, or from a part of a table that holds the image itself."""
    if isinstance(value, dict):
        value = value.get("path") or value.get("filename")
    return "" if value is None else str(value).strip()


def _fact(field: Field, value: Any) -> Any:
    """Return what is known about an image; None where nothing is told."""
    if field.name in ("width", "height") or {"Float", "Integer", "Number"} & set(field.types):
        return _number(value)
    return value if isinstance(value, str) and value else None


def _number(value: Any) -> float | None:
    try:
        found = float(value)
    except (TypeError, ValueError, OverflowError):
        return None
    return found if 0 < found < float("inf") else None


_SEPARATED = re.compile(r"[\s,;]+")


def _four(value: Any) -> tuple[float, float, float, float] | None:
    """Return four numbers from a list, or from a text that holds one."""
    if isinstance(value, str):
        value = _SEPARATED.split(value.strip(" []()"))
    if not isinstance(value, list | tuple) or len(value) != 4:
        return None
    try:
        a, b, c, d = (float(one) for one in value)
    except (TypeError, ValueError, OverflowError):
        return None
    return a, b, c, d


# A field of this name in a description of somebody else's need not hold what ours does.
def _details(value: Any) -> Details | None:
    if not isinstance(value, str) or not value:
        return None
    try:
        return Details.from_dict(from_json(value))
    except (NotJSON, TableError, TypeError, ValueError):
        return None
