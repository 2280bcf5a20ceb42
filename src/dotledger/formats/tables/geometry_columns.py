"""Tables of other people: their column names and box convention, declared."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from dotledger.core.boxes.box_forms import BOX_FORMS, BOX_UNITS, TO_CORNERS, enclosing
from dotledger.core.kinds import KINDS
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.well_known_text import outer_rings
from dotledger.reading.confidence_scales import SCALES
from dotledger.reading.strict_toml import TomlPart, load_strictly, unknown

__all__ = ["OUR_SHAPE", "Shape", "read_shape"]

Floats = NDArray[np.float64]
Where = Any
Rings = tuple[tuple[tuple[float, float], ...], ...]
_CORNERS = BOX_FORMS["corners"]


class Shape(TomlPart, frozen=True, kw_only=True):
    """How a table is written: our column names with theirs, and what their numbers mean.

    Attributes
    ----------
    columns : mapping of str to str
        Theirs by ours: ``image``, ``kind``, ``label``, ``confidence``, ``ignore``, the four
        numbers of the box form, and ``image_width`` and ``image_height``.
    always : mapping of str to str
        Values that every row has and no column holds: ``kind``, ``label``.
    form : str
        One of `BOX_FORMS`.
    unit : str
        One of `BOX_UNITS`; all but pixels need the image's size.
    scale : str
        Of the confidence: one of `SCALES`.
    outline : str
        Their column of polygons as well-known text, instead of the four numbers: the box is
        the smallest around each.
    """

    columns: Mapping[str, str] = msgspec.field(default_factory=dict)
    always: Mapping[str, str] = msgspec.field(default_factory=dict)
    form: str = "corners"
    unit: str = "pixels"
    scale: str = "fraction"
    outline: str = ""

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        for what, value, known in (
            ("form", self.form, BOX_FORMS),
            ("unit", self.unit, BOX_UNITS),
            ("scale", self.scale, SCALES),
        ):
            if value not in known:
                raise ValueError(unknown(what, value, known))
        if self.outline and self.form != "corners":
            raise ValueError("a column of outlines takes the place of a form of boxes")
        ours = _PLAIN if self.outline else (*_PLAIN, *BOX_FORMS[self.form])
        for name in self.columns:
            if name not in ours:
                raise ValueError(unknown("column", name, ours))
        for name in self.always:
            if name not in ("kind", "label"):
                raise ValueError(unknown("constant", name, ("kind", "label")))
        if self.always.get("kind", "object") not in KINDS:
            raise ValueError(unknown("kind", self.always["kind"], KINDS))

    def theirs(self, ours: str) -> str:
        """Return the name of a column in the table."""
        return self.columns.get(ours, ours)

    def wanted(self, ours: Sequence[str]) -> list[str]:
        """Return our names of the columns to read for a table that needs `ours`."""
        plain = [name for name in ours if name not in _CORNERS]
        sizes = ["image_width", "image_height"] if self.unit != "pixels" else []
        if self.outline:
            return [*plain, *sizes]
        return [*plain, *BOX_FORMS[self.form], *sizes]

    def applied(
        self, columns: dict[str, Any], where: Where, sizes: Mapping[str, Mapping[str, Any]]
    ) -> dict[str, Any]:
        """Return columns in the common shape.

        Parameters
        ----------
        columns : dict of str to column
            By our name, boxes in their own form and unit.
        sizes : mapping of str to mapping
            Known facts of images, for units other than pixels.

        Raises
        ------
        TableError
            If a box needs its image's size and nothing tells it.
        """
        length = len(columns["image"])
        for name, value in self.always.items():
            columns.setdefault(name, [value] * length)
        if self.scale != "fraction" and "confidence" in columns:
            columns["confidence"] = self._confidences(columns["confidence"])
        if self.form == "corners" and self.unit == "pixels":
            return columns
        numbers = [
            np.asarray(columns.pop(name, np.full(length, np.nan)), dtype=np.float64)
            for name in BOX_FORMS[self.form]
        ]
        corners: Any = TO_CORNERS[self.form](*numbers)  # type: ignore[arg-type]
        across, down = self._factors(columns, length, where, sizes, ~np.isnan(corners[0]))
        scaled = (corners[0] * across, corners[1] * down, corners[2] * across, corners[3] * down)
        return {**columns, **dict(zip(_CORNERS, scaled, strict=True))}

    def outlined(
        self, columns: dict[str, Any], own: list[dict[str, Any]] | None, where: Where
    ) -> list[Rings]:
        """Put the boxes around outlines into columns; return the outlines, in the shape's unit.

        Parameters
        ----------
        own : list of dict, or None
            Of each row, what stands in columns that are not ours; the outline is taken out of it.

        Raises
        ------
        TableError
            If no row has the column, or a cell holds no polygon.
        """
        rows = own or []
        if not any(self.outline in row for row in rows):
            raise TableError(
                f"the file has no column {self.outline!r} with outlines",
                place=where(0, self.outline),
                got=sorted({name for row in rows for name in row}),
            )
        texts = [row.pop(self.outline, "") for row in rows]
        outlines = outer_rings(texts, lambda row: str(where(row, self.outline)))
        boxes = np.full((len(outlines), 4), np.nan)
        for row, rings in enumerate(outlines):
            if rings:
                boxes[row] = enclosing([point for ring in rings for point in ring])
        columns.update(zip(_CORNERS, boxes.T, strict=True))
        return outlines

    def _confidences(self, values: Any) -> Floats:
        scale = SCALES[self.scale]
        return np.array([v if v != v else scale(v) for v in np.asarray(values, float).tolist()])

    def _factors(
        self,
        columns: dict[str, Any],
        length: int,
        where: Where,
        sizes: Mapping[str, Mapping[str, Any]],
        boxed: NDArray[np.bool_],
    ) -> tuple[Floats, Floats]:
        full = BOX_UNITS[self.unit]
        given = [columns.pop(name, None) for name in ("image_width", "image_height")]
        if full is None:
            return np.ones(length), np.ones(length)
        known = [
            np.asarray(column, float)
            if column is not None
            else _sizes(columns["image"], sizes, side)
            for column, side in zip(given, ("width", "height"), strict=True)
        ]
        lacking = boxed & (np.isnan(known[0]) | np.isnan(known[1]))
        if lacking.any():
            row = int(np.argmax(lacking))
            raise TableError(
                f"a box in {self.unit} needs the size of its image",
                place=where(row, "image"),
                row=row,
                next_step="Declare the columns image_width and image_height, or give a table "
                "of images with width and height.",
            )
        return known[0] / full, known[1] / full


_PLAIN = ("image", "kind", "label", "confidence", "ignore", "image_width", "image_height")

OUR_SHAPE = Shape()
"""The common shape itself."""


def _sizes(images: Any, sizes: Mapping[str, Mapping[str, Any]], side: str) -> Floats:
    names = images.values().tolist() if hasattr(images, "values") else list(images)
    return np.array([sizes.get(name, {}).get(side, np.nan) for name in names], dtype=np.float64)


@dataclass(frozen=True)
class _Option:
    key: str
    value: str


def read_shape(given: str | os.PathLike[str]) -> Shape:
    """Return a shape from a TOML file, or from text such as ``image=file,x0=left,form=corners``.

    In text, ``always.kind=object`` stands for a value that every row has.

    Parameters
    ----------
    given : path-like or str
        Text that holds an equals sign is the shape itself.

    Raises
    ------
    DescriptionError
        Naming file, line and key.
    ArgumentError
        If text is not written so.
    """
    text = os.fspath(given)
    if "=" not in text:
        return load_strictly(Path(text), Shape)
    columns: dict[str, str] = {}
    plain: dict[str, Any] = {"columns": columns, "always": {}}
    for option in _options(text):
        if option.key in ("form", "unit", "scale", "outline"):
            plain[option.key] = option.value
        elif option.key.startswith("always."):
            plain["always"][option.key.removeprefix("always.")] = option.value
        else:
            columns[option.key] = option.value
    try:
        return msgspec.convert(plain, Shape, strict=True)
    except msgspec.ValidationError as error:
        raise ArgumentError(str(error).partition(" - at")[0], place="columns", got=text) from None


def _options(text: str) -> list[_Option]:
    parts = [part.partition("=") for part in text.split(",")]
    for key, equals, value in parts:
        if not (key.strip() and equals and value.strip()):
            raise ArgumentError(
                "columns are written OURS=THEIRS with commas between", place="columns", got=text
            )
    return [_Option(key.strip(), value.strip()) for key, _, value in parts]
