"""Metadata of a covered copy: an allow list of what cannot show or name what was covered.

Kept are numbers of the camera's settings, and moments. Everything else goes, known or not: places,
names, serial numbers, descriptions, maker's notes, previews, XMP, texts. Any of them may hold the
very face that is covered, or say whose it is.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from PIL import Image

__all__ = ["harmless_exif"]

_ORIENTATION, _EXIF, _GPS, _THUMBNAIL = 0x0112, 0x8769, 0x8825, 1
_MOMENT = re.compile(r"\d{4}:\d\d:\d\d \d\d:\d\d:\d\d")
_KEPT = frozenset(
    {_ORIENTATION, 0x011A, 0x011B, 0x0128, 0x0213}  # orientation, resolution, sampling
    | {0x829A, 0x829D, 0x8822, 0x8827, 0x8830, 0x8832}  # exposure, aperture, sensitivity
    | {0x9201, 0x9202, 0x9203, 0x9204, 0x9205, 0x9206, 0x9207, 0x9208, 0x9209, 0x920A}  # settings
    | {0xA001, 0xA20E, 0xA20F, 0xA210, 0xA217}  # colours, the sensor
    | {0xA401, 0xA402, 0xA403, 0xA404, 0xA405, 0xA406, 0xA407, 0xA408, 0xA409, 0xA40A, 0xA40C}
)
"""Numbers that the camera sets (CIPA DC-008, tables 4 and 7)."""
_MOMENTS = frozenset({0x0132, 0x9003, 0x9004})
"""When it was taken: kept if it is a moment, and not some other text."""
_NAMES = {
    0x010E: "description",
    0x010F: "camera",
    0x0110: "camera",
    0x013B: "artist",
    0x8298: "copyright",
    0x927C: "maker's note",
    0x9286: "comment",
    0xA420: "image id",
    0xA430: "owner's name",
    0xA431: "camera's serial number",
    0xA435: "lens's serial number",
    0xC62F: "camera's serial number",
}


def harmless_exif(opened: Image.Image) -> tuple[bytes | None, list[str]]:
    """Return Exif with nothing but harmless values, upright, and what went, in words.

    Returns
    -------
    (bytes or None, list of str)
        None if nothing is kept.
    """
    if "exif" not in opened.info and opened.format not in ("TIFF", "WEBP"):
        return None, []
    try:
        exif = opened.getexif()
        own, place = exif.get_ifd(_EXIF), exif.get_ifd(_GPS)
        preview = exif.get_ifd(_THUMBNAIL)
    except Exception:  # damaged metadata of a sound picture
        return None, ["Exif that cannot be read"]
    removed = (["place (GPS)"] if place else []) + (["thumbnail"] if preview else [])
    kept = Image.Exif()
    _keep(dict(exif.items()), kept, removed)
    inner: dict[int, Any] = {}
    _keep(own, inner, removed)
    if inner:
        kept.get_ifd(_EXIF).update(inner)
    if _ORIENTATION in kept:
        kept[_ORIENTATION] = 1
    return (kept.tobytes() if len(kept) or inner else None), removed


_STRUCTURE = frozenset({_EXIF, _GPS, 0xA005, 0x014A, 0x0201, 0x0202, 0x00FE, 0x9000, 0xA000})
"""Places of other tables and versions: made anew where they are needed, and nothing to be said."""


def _keep(values: Mapping[int, Any], kept: Any, removed: list[str]) -> None:
    for tag, value in values.items():
        moment = tag in _MOMENTS and isinstance(value, str) and _MOMENT.fullmatch(value)
        if moment or (tag in _KEPT and _is_number(value)):
            kept[tag] = value
        elif tag not in _STRUCTURE and tag not in _PIXELS:
            removed.append(_NAMES.get(tag, f"Exif tag 0x{tag:04X}"))


_PIXELS = frozenset(range(0x0100, 0x010E)) | {
    0x0111,
    0x0115,
    0x0116,
    0x0117,
    0x011C,
    0x013D,
    0x0140,
}
"""Tags by which a TIFF stores its pixels: the copy has its own."""


def _is_number(value: Any) -> bool:
    """Tell whether a value is a number, or a few of them: no text and no bytes."""
    if isinstance(value, tuple):
        return len(value) <= _FEW and all(_is_number(one) for one in value)
    return not isinstance(value, str | bytes) and hasattr(value, "__float__")


_FEW = 4
