"""W3C Web Annotation (JSON-LD) with Media Fragments and SVG polygons.

Web Annotation Data Model, W3C Recommendation, 23 February 2017; Media Fragments URI 1.0, W3C
Recommendation, 25 September 2012, section 4.2.2. A label is a textual body with the purpose
``tagging``, the kind one with the purpose ``classifying``. An annotation with the motivation
``questioning`` is doubtful (`ignore`); one of a whole image, without a label and with the
motivation ``assessing``, says that the image was looked at; one of a whole image that is doubtful
and has no label, that the image is not covered for its kind.
"""

from __future__ import annotations

import math
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from itertools import chain
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

from dotledger.core.boxes.box_forms import Box, enclosing
from dotledger.core.kinds import KINDS
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.errors import TableError
from dotledger.formats.annotations.annotation_collecting import (
    CollectedRows,
    Loaded,
    folder_of_images,
)
from dotledger.json_codec import to_json
from dotledger.safe_files import whole_file
from dotledger.xml_parsing import xml_root

__all__ = ["is_web_annotation", "read_items", "read_web_annotations", "write_web_annotations"]

CONTEXT = "http://www.w3.org/ns/anno.jsonld"
_MEDIA_FRAGMENTS = "http://www.w3.org/TR/media-frags/"
_XYWH = re.compile(r"xywh=(?:(pixel|percent):)?([-\d.eE+,]+)")
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_POINTS = re.compile(rf"(?:[\s,]*{_NUMBER.pattern})*[\s,]*")

_REFUSED = "refused and noted"

Facts = Mapping[str, Mapping[str, Any]]


def is_web_annotation(data: Any) -> bool:
    """Tell whether a JSON document declares itself as Web Annotation.

    Returns
    -------
    bool
        By its ``@context``.
    """
    top = data[0] if isinstance(data, list) and data else data
    context = top.get("@context") if isinstance(top, dict) else None
    return CONTEXT in (context if isinstance(context, list) else [context])


def read_web_annotations(
    data: Any,
    place: Path,
    *,
    images: Facts | None = None,
    image_folder: Path | None = None,
    kind: str = "object",
) -> Loaded:
    """Read Web Annotations: one, a list, or a page or collection that holds its items.

    Parameters
    ----------
    place : Path
        Where it stands, for messages and the report.
    images : mapping of str to mapping, optional
        Width and height of images, for selectors in percent.
    kind : str, default "object"
        Of annotations with a place that do not say; without a place it is ``label``.

    Raises
    ------
    TableError
        If they are not written so.
    """
    reader = _Reader(CollectedRows(), images or {}, image_folder, kind)
    for item in _items(data, str(place)):
        reader.read(item)
    return reader.gathered.loaded(str(place), folder_of_images(image_folder))


def read_items(items: Sequence[dict[str, Any]], gathered: CollectedRows, kind: str) -> None:
    """Read single annotations of sources whose sizes are known.

    Parameters
    ----------
    items : sequence of dict
        Each with a ``target``.
    gathered : CollectedRows
        Has the sources covered, with their sizes; takes what is read.
    kind : str
        See `read_web_annotations`.
    """
    reader = _Reader(gathered, {}, None, kind)
    for item in items:
        reader.read(item)


def _items(data: Any, place: str) -> Iterator[dict[str, Any]]:
    """Yield single annotations out of lists, pages and collections."""
    if isinstance(data, list):
        for part in data:
            yield from _items(part, place)
    elif isinstance(data, dict) and "items" in data:
        yield from _items(data["items"], place)
    elif isinstance(data, dict) and isinstance(data.get("first"), dict):
        yield from _items(data["first"], place)
    elif isinstance(data, dict) and "target" in data:
        yield data
    else:
        raise TableError(
            "not a Web Annotation: there is no target",
            place=place,
            got=data,
            allowed=["an annotation", "a list", "a page", "a collection with its items"],
        )


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [] if value is None else [value]


class _Reader:
    """Reads annotations one by one."""

    def __init__(
        self, gathered: CollectedRows, facts: Facts, folder: Path | None, kind: str
    ) -> None:
        self.gathered = gathered
        self._facts = facts
        self._folder = folder
        self._kind = kind

    def read(self, item: dict[str, Any]) -> None:
        for target in _listed(item["target"]):
            self._read_target(item, target)

    def _read_target(self, item: dict[str, Any], target: Any) -> None:
        source, selectors = _source(target)
        if not source:
            self.gathered.refuse("", "target without a source", target)
            return
        image = source if source in self.gathered.images else unquote(source)
        if image not in self.gathered.images:
            self.gathered.cover(image, **self._known(image))
        kind, labels = _bodies(item)
        boxed = kind or self._kind
        box, outline, problem = self._place(image, selectors, boxed if boxed in KINDS else "")
        if problem:
            if problem != _REFUSED:
                self.gathered.refuse(image, problem, selectors, boxed if boxed in KINDS else "")
            return
        named = kind or (self._kind if box else "label")
        if named not in KINDS:
            self.gathered.refuse(image, "unknown kind", named)
            return
        doubtful = "questioning" in _listed(item.get("motivation"))
        if doubtful and not labels and not selectors:
            self.gathered.leave_open(image, kind)
        details = Details(polygon=outline) if outline else None
        for label in labels:
            self.gathered.add(image, named, label, box, ignore=doubtful, details=details)

    def _known(self, image: str) -> dict[str, Any]:
        from dotledger.formats.annotations.import_descriptions import size_on_disk

        known = dict(self._facts.get(image, {}))
        if self._folder is not None and "width" not in known:
            known |= size_on_disk(self._folder, image)
        return known

    def _place(
        self, image: str, selectors: Sequence[Any], kind: str
    ) -> tuple[Box | None, tuple[tuple[float, float], ...], str]:
        """Return box, outline and what is wrong, of the first selector that is understood."""
        for selector in selectors:
            value = selector.get("value", "") if isinstance(selector, dict) else str(selector)
            if found := _XYWH.search(str(value)):
                box, problem = self._fragment(image, found)
            elif isinstance(selector, dict) and selector.get("type") == "SvgSelector":
                outline = _outline(str(value))
                if not outline:
                    return None, (), "SVG selector without a polygon"
                box, problem = enclosing(outline), ""
                kept = self.gathered.clipped_box(image, box, value, kind)
                return kept, outline, "" if kept else _REFUSED
            else:
                continue
            if problem or box is None:
                return None, (), problem
            kept = self.gathered.clipped_box(image, box, value, kind)
            return kept, (), "" if kept else _REFUSED
        return (None, (), "selector not understood") if selectors else (None, (), "")

    def _fragment(self, image: str, found: re.Match[str]) -> tuple[Box | None, str]:
        try:
            written = [Decimal(part) for part in found[2].split(",")]
            x, y, w, h = map(float, written)
        except (ValueError, ArithmeticError):
            return None, "xywh is not four numbers"
        if found[1] == "percent":
            facts = self.gathered.images[image]
            if not {"width", "height"} <= facts.keys():
                return None, "percent, and the image's size is not known"
            across, down = facts["width"] / 100, facts["height"] / 100
            x, y, w, h = x * across, y * down, w * across, h * down
            return (x, y, x + w, y + h), ""
        # As decimals: the sum of two doubles may miss the side that was written by its last bit.
        return (x, y, float(written[0] + written[2]), float(written[1] + written[3])), ""


def _source(target: Any) -> tuple[str, list[Any]]:
    """Return what a target is about, and its selectors; a fragment in the address is one."""
    if isinstance(target, str):
        address, _, fragment = target.partition("#")
        return address, [fragment] if fragment else []
    if not isinstance(target, dict):
        return "", []
    source = target.get("source", target.get("id", ""))
    source = source.get("id", "") if isinstance(source, dict) else source
    address, _, fragment = str(source).partition("#")
    return address, [*_listed(target.get("selector")), *([fragment] if fragment else [])]


def _bodies(item: dict[str, Any]) -> tuple[str, list[str]]:
    """Return the kind and the labels that an annotation's bodies give."""
    kind, labels = "", []
    for body in _listed(item.get("body", item.get("bodyValue"))):
        text = (
            body
            if isinstance(body, str)
            else body.get("value", "")
            if isinstance(body, dict)
            else ""
        )
        purpose = body.get("purpose") if isinstance(body, dict) else None
        if purpose == "classifying":
            kind = str(text).strip()
        elif purpose in (None, "tagging", "identifying") and str(text).strip():
            labels.append(str(text))
    return kind, labels


def _outline(svg: str) -> tuple[tuple[float, float], ...]:
    """Return the points of the first SVG polygon, rectangle or path of straight lines, else none.

    SVG 2, sections 9.3 and 10. Nothing is returned for what is moved by ``transform``.
    """
    try:
        root = xml_root(svg)
    except ValueError:
        return ()
    shapes = ((element, element.tag.rpartition("}")[2]) for element in root.iter())
    first = next(((one, name) for one, name in shapes if name in _SHAPES), None)
    if first is None or any("transform" in element.keys() for element in root.iter()):  # noqa: SIM118 - an element is no mapping
        return ()
    return _SHAPES[first[1]](first[0])


def _polygon(element: Any) -> tuple[tuple[float, float], ...]:
    points = element.get("points", "")
    if not _POINTS.fullmatch(points):  # a percentage or another unit
        return ()
    numbers = [float(n) for n in _NUMBER.findall(points)]
    return tuple(zip(numbers[::2], numbers[1::2], strict=False))


def _rectangle(element: Any) -> tuple[tuple[float, float], ...]:
    try:
        x, y, w, h = (float(element.get(name, "0")) for name in ("x", "y", "width", "height"))
    except ValueError:  # a percentage or another unit
        return ()
    return ((x, y), (x + w, y), (x + w, y + h), (x, y + h))


def _straight_path(element: Any) -> tuple[tuple[float, float], ...]:
    """Return the corners of a path of straight lines; none for curves and invalid paths."""
    from svgelements import Close, Line, Move
    from svgelements import Path as SvgPath

    try:
        parts = list(SvgPath(element.get("d", "")))
    except (ValueError, IndexError, TypeError):
        return ()
    if not all(isinstance(part, Move | Line | Close) for part in parts):
        return ()
    ends = [(float(p.end.x), float(p.end.y)) for p in parts if not isinstance(p, Close)]
    return tuple(ends) if all(map(math.isfinite, chain(*ends))) else ()


_SHAPES = {
    "polygon": _polygon,
    "polyline": _polygon,
    "rect": _rectangle,
    "path": _straight_path,
}


def write_web_annotations(annotations: Annotations, path: str | os.PathLike[str]) -> Path:
    """Write annotations as a Web Annotation page, whole or not at all.

    Boxes become Media Fragments in pixels, outlines SVG polygons.

    Parameters
    ----------
    path : path-like
        A file that ends in ``.json`` or ``.jsonld``, by custom.

    Raises
    ------
    OSError
        If the folder cannot be written.
    """
    target = Path(path)
    page = {
        "@context": CONTEXT,
        "id": "urn:dotledger:annotations",
        "type": "AnnotationPage",
        "items": [_item(annotations, row) for row in range(len(annotations))],
    }
    with whole_file(target) as draft:
        draft.write_bytes(to_json(page, indent=True))
    return target


def _item(annotations: Annotations, row: int) -> dict[str, Any]:
    image, kind, label = (
        column.names[column.codes[row]]
        for column in (annotations.image, annotations.kind, annotations.label)
    )
    item: dict[str, Any] = {"id": f"urn:dotledger:annotation:{row + 1}", "type": "Annotation"}
    if not label and annotations.ignore[row]:
        body = [{"type": "TextualBody", "purpose": "classifying", "value": kind}] if kind else []
        open_one = {"motivation": "questioning", "body": body}
        return {**item, **open_one, "target": {"source": quote(image)}}
    if not label:
        return {**item, "motivation": "assessing", "target": {"source": quote(image)}}
    details = annotations.details[row] if annotations.details is not None else None
    selector = _selector(annotations.box[row].tolist(), details.polygon if details else ())
    bodies = [
        {"type": "TextualBody", "purpose": "tagging", "value": label},
        {"type": "TextualBody", "purpose": "classifying", "value": kind},
    ]
    return {
        **item,
        "motivation": "questioning" if annotations.ignore[row] else "tagging",
        "body": bodies,
        "target": {"source": quote(image), **({"selector": selector} if selector else {})},
    }


def _selector(
    box: Sequence[float], outline: Sequence[tuple[float, float]]
) -> dict[str, Any] | None:
    if outline:
        points = " ".join(f"{_shortest(x)},{_shortest(y)}" for x, y in outline)
        svg = f'<svg xmlns="http://www.w3.org/2000/svg"><polygon points="{points}"/></svg>'
        return {"type": "SvgSelector", "value": svg}
    if box[0] != box[0]:
        return None
    x0, y0, x1, y1 = box
    numbers = f"{_shortest(x0)},{_shortest(y0)},{_extent(x0, x1)},{_extent(y0, y1)}"
    return {
        "type": "FragmentSelector",
        "conformsTo": _MEDIA_FRAGMENTS,
        "value": f"xywh=pixel:{numbers}",
    }


def _shortest(number: float) -> str:
    """Return the shortest text that reads back as the same double."""
    return repr(float(number)).removesuffix(".0")


def _extent(first: float, last: float) -> str:
    """Return a width as text that, added to the first side as text, gives the last one exactly."""
    width = Decimal(repr(float(last))) - Decimal(repr(float(first)))
    return f"{width.normalize():f}"
