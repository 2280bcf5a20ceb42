"""What a file says beside its picture, and no service needs: where it was taken, by which camera.

It is cut out of JPEG, PNG and WebP without touching the pixels. What the picture looks like by is
kept: the orientation, and the colour profile. Exif (CIPA DC-008) stands in an APP1 segment of JPEG,
the ``eXIf`` chunk of PNG and the ``EXIF`` chunk of WebP; XMP, IPTC and plain text likewise.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from dotledger.errors import ImageError
from dotledger.images.parts import PNG, jpeg_places, jpeg_segments, png_chunk, png_chunks

__all__ = ["without_private"]

_ORIENTATION = 0x0112
_HARMLESS = {_ORIENTATION, 0x011A, 0x011B, 0x0128, 0x0213}
"""Tags of Exif that tell nothing of anybody: orientation, resolution, how colours are sampled."""
_PNG_TEXTS = (b"eXIf", b"tEXt", b"zTXt", b"iTXt", b"tIME")
_WEBP_TEXTS = {b"EXIF": 0x08, b"XMP ": 0x04}
"""Chunks of WebP, each with the bit in the header's flags that says it is there."""
_EXIF = b"Exif\x00\x00"


def without_private(data: bytes, format: str, orientation: int) -> bytes:
    """Return a file without places, names, serial numbers, dates and embedded previews.

    Parameters
    ----------
    data : bytes
        The file, which decodes.
    format : str
        Such as ``"jpeg"``; other formats than JPEG, PNG and WebP stay as they are.
    orientation : int
        Of its Exif, from 1 to 8; one that turns the picture is kept.

    Returns
    -------
    bytes
        The same object if there is nothing to cut, or if the file is built in another way than
        its standard says.
    """
    cut = _CUTS.get(format)
    try:
        kept = data if cut is None else cut(data, orientation)
    except (ImageError, struct.error, IndexError, ValueError):
        return data
    return data if len(kept) >= len(data) else kept


def _only_turned(orientation: int) -> bytes:
    """Return the shortest Exif that says how the picture is turned; none if it is not."""
    if orientation == 1:
        return b""
    entry = struct.pack(">HHIHH", _ORIENTATION, 3, 1, orientation, 0)
    return b"MM\x00\x2a" + struct.pack(">IH", 8, 1) + entry + bytes(4)


def _tells(exif: bytes) -> bool:
    """Tell whether Exif (without its name) holds more than what a picture looks like by."""
    order = {b"MM": ">", b"II": "<"}.get(exif[:2])
    if order is None:
        return True
    place = struct.unpack(f"{order}I", exif[4:8])[0]
    count = struct.unpack(f"{order}H", exif[place : place + 2])[0]
    entries = [place + 2 + 12 * number for number in range(count)]
    tags = {struct.unpack(f"{order}H", exif[entry : entry + 2])[0] for entry in entries}
    more = exif[place + 2 + 12 * count : place + 6 + 12 * count]
    return not tags <= _HARMLESS or any(more)


def _jpeg(data: bytes, orientation: int) -> bytes:
    if not any(_may_tell(data, start, marker) for start, _, marker in jpeg_places(data)):
        return data  # as nearly all that were made for a page: nothing of them is copied for it
    parts, after, pixels, told = [data[:2]], 1, 2, False
    for start, end, marker, body in jpeg_segments(data):
        pixels = end
        if _is_private(marker, body):
            told |= body.startswith(_EXIF)
            continue
        parts.append(data[start:end])
        # The segment that says which file this is comes first, where there is one.
        after = len(parts) if marker == 0xE0 else after
    turned = _EXIF + _only_turned(orientation)
    if told and orientation != 1:
        parts.insert(after, b"\xff\xe1" + struct.pack(">H", 2 + len(turned)) + turned)
    return b"".join(parts) + data[pixels:]


def _may_tell(data: bytes, start: int, marker: int) -> bool:
    return marker in (0xE1, 0xED) or (marker == 0xE0 and data.startswith(b"JFXX\x00", start + 4))


def _is_private(marker: int, body: bytes) -> bool:
    """Tell whether a segment is Exif that tells something, XMP, IPTC, or a preview."""
    if marker == 0xE1 and body.startswith(_EXIF):
        return _tells(body[len(_EXIF) :])
    return marker in (0xE1, 0xED) or (marker == 0xE0 and body.startswith(b"JFXX\x00"))


def _png(data: bytes, orientation: int) -> bytes:
    kept, last = bytearray(PNG), len(PNG)
    turned = _only_turned(orientation)
    for start, end, kind, body in png_chunks(data):
        last = end
        harmless = kind == b"eXIf" and not _tells(body)
        turned = b"" if harmless else turned
        if kind == b"IDAT" and turned:  # as early as it may stand
            kept += png_chunk(b"eXIf", turned)
            turned = b""
        if harmless or kind not in _PNG_TEXTS:
            kept += data[start:end]
    return bytes(kept) + data[last:]


def _webp(data: bytes, orientation: int) -> bytes:
    kept = bytearray()
    chunks = list(_webp_chunks(data))
    if not any(_webp_tells(kind, chunk) for kind, chunk in chunks):
        return data
    turned = _only_turned(orientation)
    for kind, chunk in chunks:
        if kind == b"VP8X":
            gone = sum(_WEBP_TEXTS.values())
            flags = (chunk[8] & ~gone) | (_WEBP_TEXTS[b"EXIF"] if turned else 0)
            kept += chunk[:8] + bytes([flags]) + chunk[9:]
        elif kind not in _WEBP_TEXTS:
            kept += chunk
    if turned:
        kept += b"EXIF" + struct.pack("<I", len(turned)) + turned + bytes(len(turned) % 2)
    return b"RIFF" + struct.pack("<I", 4 + len(kept)) + b"WEBP" + bytes(kept)


def _webp_tells(kind: bytes, chunk: bytes) -> bool:
    return kind == b"XMP " or (kind == b"EXIF" and _tells(chunk[8:].removeprefix(_EXIF)))


def _webp_chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    place = 12
    while place + 8 <= len(data):
        size = struct.unpack("<I", data[place + 4 : place + 8])[0]
        end = place + 8 + size + size % 2
        yield data[place : place + 4], data[place:end]
        place = end


_CUTS: dict[str, Callable[[bytes, int], bytes]] = {"jpeg": _jpeg, "png": _png, "webp": _webp}
