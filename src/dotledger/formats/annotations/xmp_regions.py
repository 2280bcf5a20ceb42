"""IPTC Image Regions, kept in the image's own XMP.

IPTC Photo Metadata Standard 2019.1 and newer, "Image Region": a bag of structures, each with a
boundary (rectangle, circle or polygon; relative to the stored image's size or in its pixels), a
name and a content type. Boundaries are of the image as stored; ours are upright.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from lxml import etree

from dotledger.core.boxes.box_forms import enclosing, turn_upright, upright_size
from dotledger.core.kinds import KINDS
from dotledger.core.spelling import counted
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ImageError, TableError
from dotledger.formats.annotations.annotation_collecting import CollectedRows, Loaded, Written
from dotledger.images.image_facts import ImageFacts, read_facts
from dotledger.images.image_gathering import SUFFIXES
from dotledger.images.image_metadata import read_packet, with_packet
from dotledger.safe_files import read_regular, whole_file
from dotledger.xml_parsing import xml_root

__all__ = ["read_regions", "write_regions"]

Element = Any  # of lxml

_RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
_IPTC = "http://iptc.org/std/Iptc4xmpExt/2008-02-29/"
_DC = "http://purl.org/dc/elements/1.1/"
_META = "adobe:ns:meta/"
_XMP = "http://ns.adobe.com/xap/1.0/"
_OURS = "urn:dotledger:kind:"
_DOUBTFUL = "urn:dotledger:doubtful"
_LOOKED_AT = "urn:dotledger:looked-at"
_BUT = ":but:"
# EXIF orientation that undoes each: 6 and 8 undo one another, all others undo themselves.
_UNDO = {6: 8, 8: 6}

Points = list[tuple[float, float]]


def _tag(space: str, name: str) -> str:
    return f"{{{space}}}{name}"


def read_regions(path: str | os.PathLike[str], *, kind: str = "object") -> Loaded:
    """Read the regions of one image, or of all images in a folder.

    Parameters
    ----------
    path : path-like
        An image, or a folder, whose images are named relative to it. Images without any region
        are covered only if their XMP says that they were looked at, as ours does.
    kind : str, default "object"
        Of regions that do not say.

    Raises
    ------
    TableError
        If there is no such image, its XMP is not well-formed, or no image says anything.
    """
    place = Path(path)
    gathered = CollectedRows()
    files = _image_files(place)
    for name, file in files:
        _read_image(name, file, gathered, kind, alone=place.is_file())
    if not gathered.images:
        bad = gathered.refused[:1]
        first = f"; the first refused is {bad[0][0]}: {bad[0][1]}, {bad[0][2]}" if bad else ""
        looked = f"looked into {counted(len(files), 'image')}"
        raise TableError(
            f"no image holds image regions or says it was looked at ({looked}{first})",
            place=str(place),
            next_step="Name a table of annotations; for other files give `description=FILE`.",
        )
    return gathered.loaded(str(place))


def _image_files(place: Path) -> list[tuple[str, Path]]:
    if place.is_file():
        return [(place.name, place)]
    from dotledger.core.spelling import naturally_sorted

    files = {str(p.relative_to(place)): p for p in place.rglob("*") if p.suffix.lower() in SUFFIXES}
    if not files:
        raise TableError("there is no image", place=str(place))
    names = list(files)
    return [(names[place], files[names[place]]) for place in naturally_sorted(names)]


def _read_image(name: str, file: Path, gathered: CollectedRows, kind: str, *, alone: bool) -> None:
    try:
        data = read_regular(file)
        facts, packet = read_facts(data), read_packet(data)
        root = _parsed(packet, str(file)) if packet else None
    except (OSError, ImageError, TableError) as error:
        if alone and isinstance(error, TableError):
            raise
        gathered.refuse(
            name, "image cannot be read", getattr(error, "strerror", None) or str(error)
        )
        return
    if root is None:
        return
    regions = list(_regions(root))
    looked_at = _looked_at(root)
    if regions or looked_at is not None:
        gathered.cover(name, width=facts.width, height=facts.height)
    for other in looked_at or ():
        gathered.leave_open(name, other)
    for region in regions:
        _read_region(region, name, facts, gathered, kind)


def _parsed(packet: bytes, place: str) -> Element:
    try:
        return xml_root(packet.strip(b"\x00 \r\n\t"))
    except ValueError as error:
        raise TableError(f"the image's XMP is not well-formed ({error})", place=place) from error


def _looked_at(root: Element) -> list[str] | None:
    """Return the kinds that the image is not covered for; None if it does not say so at all."""
    for element in root.iter(_tag(_XMP, "Label")):
        word, _, but = (element.text or "").partition(_BUT)
        if word == _LOOKED_AT:
            return ["" if kind == "all" else kind for kind in but.split(",") if kind]
    return None


def _regions(root: Element) -> Iterator[Element]:
    """Yield each region's element; RDF may write a structure in two ways."""
    for bag in root.iter(_tag(_IPTC, "ImageRegion")):
        for item in bag.iter(_tag(_RDF, "li")):
            inner = item.find(_tag(_RDF, "Description"))
            region = item if inner is None else inner
            if _field(region, "RegionBoundary") is not None:
                yield region


def _field(element: Element, name: str) -> Element | None:
    found = element.find(_tag(_IPTC, name))
    if found is None:
        return None
    inner = found.find(_tag(_RDF, "Description"))
    return found if inner is None else inner


def _value(element: Element, name: str) -> str:
    """Return a simple value, written as an attribute or as an element."""
    found = element.find(_tag(_IPTC, name))
    text = found.text if found is not None else element.get(_tag(_IPTC, name))
    return (text or "").strip()


def _read_region(
    region: Element, image: str, facts: ImageFacts, gathered: CollectedRows, kind: str
) -> None:
    boundary = _field(region, "RegionBoundary")
    name = _name(region)
    types = list(_identifiers(region, "rCtype"))
    told_kind = next((t.removeprefix(_OURS) for t in types if t.startswith(_OURS)), kind)
    if told_kind not in KINDS:
        gathered.refuse(image, "unknown kind", told_kind)
        return
    if boundary is None or not name:
        gathered.refuse(image, "region without a name", _value(region, "rId"), told_kind)
        return
    try:
        points, shape = _boundary(boundary, facts)
    except (KeyError, ValueError) as error:
        gathered.refuse(image, f"region's boundary cannot be read ({error})", name, told_kind)
        return
    box = gathered.clipped_box(image, enclosing(points), name, told_kind)
    if box is None:
        return
    details = Details(polygon=tuple(points)) if shape == "polygon" else None
    doubtful = _DOUBTFUL in list(_identifiers(region, "rRole"))
    gathered.add(image, told_kind, name, box, ignore=doubtful, details=details)


def _name(region: Element) -> str:
    found = region.find(_tag(_IPTC, "Name"))
    if found is None:
        return _value(region, "Name")
    items = [item.text for item in found.iter(_tag(_RDF, "li"))]
    return next((text.strip() for text in (*items, found.text) if text and text.strip()), "")


def _identifiers(region: Element, name: str) -> Iterator[str]:
    found = region.find(_tag(_IPTC, name))
    for element in found.iter() if found is not None else ():
        if element.tag in (_tag(_XMP, "Identifier"), _tag(_RDF, "li")) and element.text:
            yield element.text.strip()


def _stored_size(facts: ImageFacts) -> tuple[int, int]:
    return upright_size(facts.width, facts.height, facts.orientation)


def _boundary(boundary: Element, facts: ImageFacts) -> tuple[Points, str]:
    """Return the points around a region in upright pixels, and its shape."""
    width, height = _stored_size(facts)
    unit, shape = _value(boundary, "rbUnit"), _value(boundary, "rbShape")
    if unit not in ("pixel", "relative"):
        raise ValueError(f"unit {unit!r}")
    across, down = (width, height) if unit == "relative" else (1, 1)

    def number(element: Element, name: str) -> float:
        return float(_value(element, name))

    if shape == "rectangle":
        x, y = number(boundary, "rbX"), number(boundary, "rbY")
        w, h = number(boundary, "rbW"), number(boundary, "rbH")
        corners = [(x, y), (x + w, y + h)]
    elif shape == "circle":
        x, y, r = (number(boundary, n) for n in ("rbX", "rbY", "rbRx"))
        ry = r * across / down  # a relative radius is a share of the width
        corners = [(x - r, y - ry), (x + r, y + ry)]
    elif shape == "polygon":
        vertices = boundary.find(_tag(_IPTC, "rbVertices"))
        items = list(vertices.iter(_tag(_RDF, "li"))) if vertices is not None else []
        corners = [(number(v, "rbX"), number(v, "rbY")) for v in map(_structure, items)]
        if len(corners) < 3:
            raise ValueError("fewer than three corners")
    else:
        raise ValueError(f"shape {shape!r}")
    stored = [(x * across, y * down) for x, y in corners]
    return turn_upright(stored, width, height, facts.orientation), shape


def _structure(item: Element) -> Element:
    inner = item.find(_tag(_RDF, "Description"))
    return item if inner is None else inner


def write_regions(
    annotations: Annotations, folder: str | os.PathLike[str], out: str | os.PathLike[str]
) -> Written:
    """Write copies of images that carry their annotations as regions; pixels are not touched.

    Parameters
    ----------
    annotations : Annotations
        Those with a box become regions; labels of a whole image cannot.
    folder : path-like
        Where the images are, by the annotations' names.
    out : path-like
        Where the copies go; never over the originals.

    Returns
    -------
    Written
        The copies, one for each annotated image; left out is what is neither JPEG nor PNG, or
        whose regions do not fit.

    Raises
    ------
    TableError
        If an image is missing or lies outside the folder, or if `out` is the folder itself.
    """
    source, target = Path(folder).resolve(), Path(out).resolve()
    if source == target:
        raise TableError("the copies would replace the images", place=str(out))
    files = {name: _inside(source, name) for name in annotations.image.used()}
    written, left_out = [], []
    for name, file in files.items():
        rows = annotations.take(annotations.image.among([name]))
        copy = target / file.relative_to(source)
        try:
            data = _with_regions(file, rows)
        except ImageError as error:
            left_out.append((name, str(error)))
            continue
        with whole_file(copy) as draft:
            draft.write_bytes(data)
        written.append(copy)
    return Written(files=tuple(written), left_out=tuple(left_out))


def _inside(folder: Path, name: str) -> Path:
    file = (folder / name).resolve()
    if not file.is_relative_to(folder) or not file.is_file():
        raise TableError("the annotated image is not in the folder", place=str(folder), got=name)
    return file


def _with_regions(file: Path, rows: Annotations) -> bytes:
    data = read_regular(file)
    facts, packet = read_facts(data), read_packet(data)
    root = _parsed(packet, str(file)) if packet else _empty_packet()
    _replace_regions(root, rows, facts)
    return with_packet(data, _serialised(root))


def _empty_packet() -> Element:
    root = etree.Element(_tag(_META, "xmpmeta"))
    rdf = etree.SubElement(root, _tag(_RDF, "RDF"))
    etree.SubElement(rdf, _tag(_RDF, "Description"), {_tag(_RDF, "about"): ""})
    return root


_PREFIXES = {"x": _META, "rdf": _RDF, "Iptc4xmpExt": _IPTC, "dc": _DC, "xmp": _XMP}


def _serialised(root: Element) -> bytes:
    for prefix, space in _PREFIXES.items():
        etree.register_namespace(prefix, space)
    body: bytes = etree.tostring(root, encoding="utf-8")
    begin = '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>'
    return begin.encode() + body + b'<?xpacket end="w"?>'


def _replace_regions(root: Element, rows: Annotations, facts: ImageFacts) -> None:
    """Put `rows` instead of the regions there are; everything else stays."""
    rdf = root if root.tag == _tag(_RDF, "RDF") else root.find(_tag(_RDF, "RDF"))
    if rdf is None:
        rdf = etree.SubElement(root, _tag(_RDF, "RDF"))
    for description in rdf.findall(_tag(_RDF, "Description")):
        for old in description.findall(_tag(_IPTC, "ImageRegion")):
            description.remove(old)
        for old in description.findall(_tag(_XMP, "Label")):
            if (old.text or "").partition(_BUT)[0] == _LOOKED_AT:
                description.remove(old)
    home = rdf.find(_tag(_RDF, "Description"))
    if home is None:
        home = etree.SubElement(rdf, _tag(_RDF, "Description"), {_tag(_RDF, "about"): ""})
    but = ",".join(kind or "all" for kind in rows.not_covered())
    _add(home, _XMP, "Label", f"{_LOOKED_AT}{_BUT}{but}" if but else _LOOKED_AT)
    boxed = [row for row in range(len(rows)) if rows.box[row, 0] == rows.box[row, 0]]
    if boxed:
        bag = _add(_add(home, _IPTC, "ImageRegion"), _RDF, "Bag")
        for number, row in enumerate(boxed, 1):
            _add_region(bag, rows, row, number, facts)


def _add(
    parent: Element, space: str, name: str, text: str | None = None,
    attributes: Mapping[str, str] | None = None,
) -> Element:  # fmt: skip
    element = etree.SubElement(parent, _tag(space, name), dict(attributes or {}))
    element.text = text
    return element


def _resource(parent: Element, space: str, name: str) -> Element:
    return _add(parent, space, name, attributes={_tag(_RDF, "parseType"): "Resource"})


def _add_region(bag: Element, rows: Annotations, row: int, number: int, facts: ImageFacts) -> None:
    region = _resource(bag, _RDF, "li")
    _add(region, _IPTC, "rId", f"region-{number}")
    named = _add(_add(region, _IPTC, "Name"), _RDF, "Alt")
    text = rows.label.names[rows.label.codes[row]]
    _add(named, _RDF, "li", text, {"{http://www.w3.org/XML/1998/namespace}lang": "x-default"})
    kind = rows.kind.names[rows.kind.codes[row]]
    _add_identifier(region, "rCtype", _OURS + kind)
    if rows.ignore[row]:
        _add_identifier(region, "rRole", _DOUBTFUL)
    details = rows.details[row] if rows.details is not None else None
    outline = list(details.polygon) if details is not None else []
    _add_boundary(region, rows.box[row].tolist(), outline, facts)


def _add_identifier(region: Element, name: str, identifier: str) -> None:
    entity = _resource(_add(_add(region, _IPTC, name), _RDF, "Bag"), _RDF, "li")
    names = _add(_add(entity, _XMP, "Identifier"), _RDF, "Bag")
    _add(names, _RDF, "li", identifier)


def _add_boundary(region: Element, box: list[float], outline: Points, facts: ImageFacts) -> None:
    boundary = _resource(region, _IPTC, "RegionBoundary")
    _add(boundary, _IPTC, "rbUnit", "pixel")
    if outline:
        _add(boundary, _IPTC, "rbShape", "polygon")
        vertices = _add(_add(boundary, _IPTC, "rbVertices"), _RDF, "Seq")
        for x, y in _as_stored(outline, facts):
            vertex = _resource(vertices, _RDF, "li")
            _numbers(vertex, (("rbX", x), ("rbY", y)))
        return
    _add(boundary, _IPTC, "rbShape", "rectangle")
    x0, y0, x1, y1 = enclosing(_as_stored([(box[0], box[1]), (box[2], box[3])], facts))
    _numbers(boundary, (("rbX", x0), ("rbY", y0), ("rbW", x1 - x0), ("rbH", y1 - y0)))


def _numbers(parent: Element, values: Iterable[tuple[str, float]]) -> None:
    for name, value in values:
        _add(parent, _IPTC, name, f"{value:.12g}")


def _as_stored(points: Points, facts: ImageFacts) -> Points:
    """Carry upright points back into the image as stored."""
    undo = _UNDO.get(facts.orientation, facts.orientation)
    return turn_upright(points, facts.width, facts.height, undo)
