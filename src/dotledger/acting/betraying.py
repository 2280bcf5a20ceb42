"""Metadata without what would betray something covered: thumbnails, regions, places, serials."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from PIL import Image

from dotledger.markup import xml_root

__all__ = ["cleaned_exif", "cleaned_packet"]

_GPS, _ORIENTATION, _EXIF, _INTEROP = 0x8825, 0x0112, 0x8769, 0xA005
_SERIALS = {
    0x927C: "maker's note",
    0xA420: "image id",
    0xA430: "owner's name",
    0xA431: "camera's serial number",
    0xA435: "lens's serial number",
    0xC62F: "camera's serial number",
}
_XMP = {
    "Regions": "regions",
    "RegionInfo": "regions",
    "ImageRegion": "regions",
    "Thumbnails": "thumbnail",
    "SerialNumber": "serial number",
    "BodySerialNumber": "serial number",
    "LensSerialNumber": "serial number",
    "PersonInImage": "names of persons",
    "PersonInImageWDetails": "names of persons",
    "LocationShown": "place",
    "LocationCreated": "place",
}
"""Local names of XMP properties that go, in words."""


def cleaned_exif(opened: Image.Image) -> tuple[bytes | None, list[str]]:
    """Return Exif without what betrays, upright, and what was taken out.

    Parameters
    ----------
    opened : Image
        Of the original file.

    Returns
    -------
    (bytes or None, list of str)
        None if the original has no Exif.
    """
    if "exif" not in opened.info:
        return None, []
    exif = opened.getexif()
    removed = ["place (GPS)"] if exif.get_ifd(_GPS) else []
    removed += ["thumbnail"] if _has_thumbnail(opened) else []
    kept = Image.Exif()
    for tag, value in _harmless(exif.items(), removed):
        kept[tag] = 1 if tag == _ORIENTATION else value
    own = kept.get_ifd(_EXIF)
    for tag, value in _harmless(exif.get_ifd(_EXIF).items(), removed):
        own[tag] = value
    return kept.tobytes(), removed


_LEFT_OUT = (_GPS, _EXIF, _INTEROP, 0x014A, 0x0201, 0x0202, 0x00FE)
"""Other tables, which are looked at by themselves, and places of previews."""


def _harmless(items: Iterable[tuple[int, Any]], removed: list[str]) -> Iterator[tuple[int, Any]]:
    """Yield what may stay, and note what may not."""
    for tag, value in items:
        if word := _SERIALS.get(tag):
            removed.append(word)
        elif tag not in _LEFT_OUT:
            yield tag, value


def _has_thumbnail(opened: Image.Image) -> bool:
    try:
        return bool(opened.getexif().get_ifd(1))
    except (KeyError, ValueError, SyntaxError):
        return False


def cleaned_packet(packet: Any) -> tuple[bytes | None, list[str]]:
    """Return an XMP packet without what betrays, and what was taken out.

    Parameters
    ----------
    packet : bytes, str or None
        Of the original.

    Returns
    -------
    (bytes or None, list of str)
        None if there is none, or it cannot be read: then it goes whole.
    """
    if not packet:
        return None, []
    from lxml import etree

    raw = packet.encode() if isinstance(packet, str) else packet
    try:
        root = xml_root(raw.strip(b"\x00 \t\r\n"))
    except ValueError:
        return None, ["XMP that cannot be read"]
    removed = []
    for element in list(root.iter(etree.Element)):
        for name in list(element.attrib):
            if word := _betraying(etree.QName(name).localname):
                removed.append(word)
                del element.attrib[name]
        word = _betraying(etree.QName(element).localname)
        parent = element.getparent()
        if word and parent is not None:
            removed.append(word)
            parent.remove(element)
    return etree.tostring(root, encoding="utf-8"), list(dict.fromkeys(removed))


def _betraying(name: str) -> str:
    return "place (GPS)" if name.startswith("GPS") else _XMP.get(name, "")
