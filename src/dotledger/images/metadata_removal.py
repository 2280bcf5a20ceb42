"""Removing metadata: only the picture itself is sent.

This is an allow list. Of each format only the parts stay that determine how the picture looks:
pixels, their tables, the colour profile, the orientation. Everything else goes, known or not: the
place, the camera, previews, comments, other pictures, bytes after the end. Each format is parsed by
its own grammar, and pixels are not touched:

- JPEG: ITU-T T.81, annex B; JFIF 1.02; Adobe's APP14; ICC.1, annex B.4; Exif (CIPA DC-008).
- PNG: W3C, third edition, section 11. WebP: its container specification. GIF: version 89a.
- TIFF and BMP, in which anything may stand anywhere, are written anew without loss.

Packages that cut metadata leave some of it, touch the pixels, or come under a licence that their
users would have to take over. Bytes inside the compressed pixels that no decoder reads (after the
last block of a JPEG's scan, for example) look like pixels, and stay.
"""

from __future__ import annotations

import io
import re
import struct
import zlib
from collections.abc import Callable, Iterator
from typing import NamedTuple

from PIL import Image

from dotledger.errors import ImageError
from dotledger.images.image_segments import PNG, png_chunk, png_chunks

__all__ = ["Cleaned", "is_profile", "without_metadata"]


class Cleaned(NamedTuple):
    """A file without metadata, what went, in words, and how it is turned (1 to 8)."""

    data: bytes
    removed: tuple[str, ...]
    turned: int


def without_metadata(data: bytes, format: str, orientation: int) -> Cleaned:
    """Return a file with its picture only.

    Parameters
    ----------
    format : str
        ``"jpeg"``, ``"png"``, ``"webp"``, ``"gif"``, ``"tiff"`` or ``"bmp"``.
    orientation : int
        Of its Exif, from 1 to 8; one that turns the picture is kept.

    Returns
    -------
    Cleaned
        Pixels, colour profile and orientation as before.

    Raises
    ------
    ImageError
        If the file does not follow its format's grammar: nobody knows what it holds then.
    """
    try:
        kept, removed = _CLEANERS[format](data, orientation)
    except (struct.error, IndexError, ValueError, KeyError, zlib.error) as error:
        raise _not_told_apart(format) from error
    turned = 1 if format == "tiff" else orientation  # a TIFF is decoded upright, and written so
    return Cleaned(data if kept == data else kept, tuple(dict.fromkeys(removed)), turned)


def _not_told_apart(format: str) -> ImageError:
    return ImageError(f"this {format} file does not follow the grammar of its format")


Parts = tuple[bytes, list[str]]

# -- Exif and colour profiles ----------------------------------------------------------------------

_ORIENTATION = 0x0112
_LOOKS = {_ORIENTATION, 0x011A, 0x011B, 0x0128, 0x0213}
"""Tags of Exif that tell nothing of anybody: orientation, resolution, how colours are sampled."""


def _only_turned(orientation: int) -> bytes:
    """Return the shortest Exif that says how the picture is turned; none if it is not."""
    if orientation == 1:
        return b""
    entry = struct.pack(">HHIHH", _ORIENTATION, 3, 1, orientation, 0)
    return b"MM\x00\x2a" + struct.pack(">IH", 8, 1) + entry + bytes(4)


def _tells(exif: bytes) -> bool:
    """Tell whether Exif (without its name) holds more than what a picture looks like by."""
    try:
        order = {b"MM": ">", b"II": "<"}[exif[:2]]
        place = struct.unpack(f"{order}I", exif[4:8])[0]
        count = struct.unpack(f"{order}H", exif[place : place + 2])[0]
        entries = [place + 2 + 12 * number for number in range(count)]
        tags = {struct.unpack(f"{order}H", exif[entry : entry + 2])[0] for entry in entries}
    except (KeyError, struct.error):
        return True
    return not tags <= _LOOKS or any(exif[place + 2 + 12 * count : place + 6 + 12 * count])


def _is_plain(exif: bytes) -> bool:
    """Tell whether Exif (without its name) is harmless to the last byte: it stays as it is then.

    One table behind the head, of numbers that stand in it or right behind it, and nothing more.
    """
    if _tells(exif) or exif[2:8] not in _PLAIN_HEADS:
        return False
    order = ">" if exif[:2] == b"MM" else "<"
    count = struct.unpack(f"{order}H", exif[8:10])[0]
    kinds = [struct.unpack(f"{order}HI", exif[12 + 12 * n : 18 + 12 * n]) for n in range(count)]
    if any(kind not in _SIZES or number != 1 for kind, number in kinds):
        return False
    return len(exif) == 14 + 12 * count + sum(_SIZES[kind] for kind, _ in kinds)


_PLAIN_HEADS = (b"\x00\x2a\x00\x00\x00\x08", b"\x2a\x00\x08\x00\x00\x00")
_SIZES = {1: 0, 3: 0, 4: 0, 5: 8}
"""Kinds of numbers (byte, short, long, rational), and the bytes that they take behind the table."""


def is_profile(profile: bytes) -> bool:
    """Tell whether bytes are one colour profile, with nothing behind it (ICC.1, 7.2).

    Returns
    -------
    bool
        By its own length and signature.
    """
    return (
        len(profile) >= 128
        and int.from_bytes(profile[:4], "big") == len(profile)
        and profile[36:40] == b"acsp"
    )


# -- JPEG ------------------------------------------------------------------------------------------

_NEXT_MARKER = re.compile(rb"\xff+([\x01-\xcf\xd8-\xfe])")
"""In compressed pixels: not a stuffed zero, not a restart; any number of fill bytes before it."""
_SCAN, _END = 0xDA, 0xD9
_FRAMES = frozenset(range(0xC0, 0xD0)) - {0xC4, 0xC8, 0xCC}
_EXIF, _XMP, _ICC = b"Exif\x00\x00", b"http://ns.adobe.com/", b"ICC_PROFILE\x00"


class _Jpeg(NamedTuple):
    """One part of a JPEG: its marker, what its segment holds, and the pixels behind a scan head."""

    marker: int
    body: bytes
    pixels: bytes


def _jpeg_parts(data: bytes) -> Iterator[_Jpeg]:
    """Yield the parts up to the end marker; what stands behind that is none."""
    place = 2
    while True:
        found = _NEXT_MARKER.match(data, place)
        if found is None:
            raise _not_told_apart("jpeg")
        marker, place = found[1][0], found.end()
        if marker == _END:
            yield _Jpeg(marker, b"", data[place:])
            return
        end = place + (data[place] << 8 | data[place + 1])
        if end > len(data) or end < place + 2 or marker in (0x01, 0xD8):
            raise _not_told_apart("jpeg")
        body, pixels = data[place + 2 : end], b""
        if marker == _SCAN:
            following = _NEXT_MARKER.search(data, end)
            if following is None:
                raise _not_told_apart("jpeg")
            pixels, end = data[end : following.start()], following.start()
        yield _Jpeg(marker, body, pixels)
        place = end


def _jpeg(data: bytes, orientation: int) -> Parts:
    parts = list(_jpeg_parts(data))
    removed: list[str] = []
    profile = is_profile(b"".join(p.body[14:] for p in parts if _is_icc(p)))
    kept = [data[:2]]
    plain = next((p for p in parts if p.marker == 0xE1 and _is_plain_part(p)), None)
    turned = b"" if plain or orientation == 1 else _segment(0xE1, _EXIF + _only_turned(orientation))
    for number, part in enumerate(parts):
        body = _jpeg_body(part.marker, part.body, profile=profile)
        first = number == 0 and part.marker == 0xE0 and body is not None
        if part is plain:
            kept.append(_segment(0xE1, part.body))
        elif body is None:
            harmless = part.body.startswith(_EXIF) and not _tells(part.body[len(_EXIF) :])
            removed += [] if harmless else [_jpeg_name(part)]
        elif part.marker == _END:
            kept.append(b"\xff\xd9")
            removed += ["bytes behind the end"] if part.pixels else []
        else:
            kept.append(_segment(part.marker, body) + part.pixels)
            shorter = part.body[len(body) - 2 :].strip(b"\0") if body != part.body else b""
            removed += [_SHORTENED[part.marker]] if shorter else []
        if turned and number == 0:  # behind the segment that says which file this is
            kept.insert(2 if first else 1, turned)
    return b"".join(kept), removed


def _is_plain_part(part: _Jpeg) -> bool:
    return part.body.startswith(_EXIF) and _is_plain(part.body[len(_EXIF) :])


def _segment(marker: int, body: bytes) -> bytes:
    return struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body


def _is_icc(part: _Jpeg) -> bool:
    return part.marker == 0xE2 and part.body.startswith(_ICC)


def _jpeg_body(marker: int, body: bytes, *, profile: bool) -> bytes | None:
    """Return what stays of a segment; None if it goes. Tables with anything behind them are odd."""
    if marker in _TABLES or marker in _FRAMES:
        sound = _TABLES.get(marker, _is_frame)
        if not sound(body):
            raise _not_told_apart("jpeg")
        return body
    if marker == 0xE0 and body.startswith(b"JFIF\x00") and len(body) >= 14:
        return body[:12] + bytes(2)  # without its preview
    if marker == 0xE2 and body.startswith(_ICC) and profile:
        return body
    if marker == 0xEE and body.startswith(b"Adobe") and len(body) >= 12:
        return body[:12]
    return b"" if marker == _END else None


def _is_frame(body: bytes) -> bool:
    return len(body) == 6 + 3 * body[5]


def _are_quantities(body: bytes) -> bool:
    while body:
        if body[0] >> 4 > 1 or body[0] & 15 > 3:
            return False
        size = 1 + 64 * (1 + (body[0] >> 4))
        if len(body) < size:
            return False
        body = body[size:]
    return True


def _are_codes(body: bytes) -> bool:
    while body:
        size = 17 + sum(body[1:17])
        if body[0] >> 4 > 1 or body[0] & 15 > 3 or len(body) < size:
            return False
        body = body[size:]
    return True


_TABLES: dict[int, Callable[[bytes], bool]] = {
    0xDB: _are_quantities,
    0xC4: _are_codes,
    0xCC: lambda body: len(body) % 2 == 0 and len(body) <= 2 * 8,
    0xDD: lambda body: len(body) == 2,
    0xDC: lambda body: len(body) == 2,
    _SCAN: lambda body: len(body) == 4 + 2 * body[0],
}
"""Segments that decoding needs, and whether one is whole and no longer than that."""


_SHORTENED = {0xE0: "preview", 0xEE: "odd parts"}


def _jpeg_name(part: _Jpeg) -> str:
    if part.marker == 0xE1 and part.body.startswith(_EXIF):
        return "Exif"
    if part.marker == 0xE1 and part.body.startswith(_XMP):
        return "XMP"
    known = {0xFE: "comment", 0xED: "IPTC"}
    return known.get(
        part.marker, f"APP{part.marker - 0xE0}" if part.marker >= 0xE0 else "odd parts"
    )


# -- PNG -------------------------------------------------------------------------------------------

_PNG_SIZES: dict[bytes, Callable[[int], bool]] = {
    b"IHDR": lambda size: size == 13,
    b"PLTE": lambda size: 0 < size <= 768 and size % 3 == 0,
    b"tRNS": lambda size: 0 < size <= 256,
    b"gAMA": lambda size: size == 4,
    b"cHRM": lambda size: size == 32,
    b"sRGB": lambda size: size == 1,
    b"cICP": lambda size: size == 4,
    b"sBIT": lambda size: 0 < size <= 4,
    b"pHYs": lambda size: size == 9,
    b"bKGD": lambda size: size in (1, 2, 6),
    b"IEND": lambda size: size == 0,
}
"""Chunks that stay, with their sizes; pixels, profile and orientation have code of their own."""
_PROFILE_NAME = b"ICC Profile"
_MOST_PROFILE = 16 << 20
_PNG_NAMES = {b"eXIf": "Exif", b"tEXt": "text", b"zTXt": "text", b"iTXt": "text", b"tIME": "time"}


def _png(data: bytes, orientation: int) -> Parts:
    kept, removed, last = [PNG], list[str](), len(PNG)
    turned: bytes | None = _only_turned(orientation)
    pixels, head = _Pixels(), b""
    for start, end, kind, body in png_chunks(data):
        last, head = end, body if kind == b"IHDR" else head
        if kind == b"eXIf" and turned is not None and _is_plain(body):
            kept.append(data[start:end])
            turned = None
        elif kind == b"IDAT":
            if turned:  # as early as it may stand
                kept.append(png_chunk(b"eXIf", turned))
                turned = None
            pixels.take(body)
            kept.append(data[start:end])
        elif kind == b"iCCP" and (profile := _png_profile(data[start:end], body)):
            kept.append(profile)
            removed += [] if profile == data[start:end] else ["name of the colour profile"]
        elif kind in _PNG_SIZES:
            if not _PNG_SIZES[kind](len(body)):
                raise _not_told_apart("png")
            kept.append(png_chunk(kind, body))
        elif not (kind == b"eXIf" and not _tells(body)):
            name = kind.decode("ascii", "replace") if kind.isalpha() else "odd parts"
            removed.append(_PNG_NAMES.get(kind, name))
    if not kept[-1].endswith(png_chunk(b"IEND", b"")) or pixels.rest(_png_bytes(head)):
        raise _not_told_apart("png")
    return b"".join(kept), removed + (["bytes behind the end"] if data[last:] else [])


class _Pixels:
    """The pixels of a PNG, unpacked piece by piece and not kept, to see where they end."""

    def __init__(self) -> None:
        self._unpacking, self._size = zlib.decompressobj(), 0

    def take(self, body: bytes) -> None:
        while body and not self._unpacking.eof:
            self._size += len(self._unpacking.decompress(body, 1 << 20))
            body = self._unpacking.unconsumed_tail
        if body or self._unpacking.unused_data:
            raise _not_told_apart("png")

    def rest(self, wanted: int) -> bool:
        """Tell whether there is more, or less, than the picture's own pixels."""
        return not self._unpacking.eof or self._size != wanted


_ADAM7 = (
    *((0, 0, 8, 8), (4, 0, 8, 8), (0, 4, 4, 8), (2, 0, 4, 4)),
    *((0, 2, 2, 4), (1, 0, 2, 2), (0, 1, 1, 2)),
)
"""First column and row of each pass, and the steps between its pixels (PNG, 8.1)."""
_CHANNELS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}


def _png_bytes(head: bytes) -> int:
    """Return how many bytes the pixels of a PNG come to, with a filter byte for each row."""
    width, height, depth, colours, _, _, interlaced = struct.unpack(">IIBBBBB", head)
    bits = depth * _CHANNELS[colours]
    passes = _ADAM7 if interlaced else ((0, 0, 1, 1),)
    total = 0
    for x, y, across, down in passes:
        columns, rows = -(-(width - x) // across), -(-(height - y) // down)
        if columns > 0 and rows > 0:
            total += rows * (1 + -(-columns * bits // 8))
    return total


def _png_profile(chunk: bytes, body: bytes) -> bytes:
    """Return a profile's chunk under a name that says nothing; empty if it is no profile."""
    name, _, packed = body.partition(b"\x00")
    unpacking = zlib.decompressobj()
    try:
        profile = unpacking.decompress(packed[1:], _MOST_PROFILE)
    except zlib.error:
        return b""
    if packed[:1] != b"\x00" or not unpacking.eof or not is_profile(profile):
        return b""
    if name == _PROFILE_NAME and not unpacking.unused_data:
        return chunk
    return png_chunk(b"iCCP", _PROFILE_NAME + b"\x00\x00" + zlib.compress(profile))


# -- WebP ------------------------------------------------------------------------------------------

_WEBP_PICTURE = (b"VP8 ", b"VP8L", b"ALPH")
_WEBP_FLAGS = {b"ICCP": 0x20, b"ALPH": 0x10, b"EXIF": 0x08, b"ANIM": 0x02}
_ALPHA = 0x10
_WEBP_KEPT: dict[bytes, Callable[[bytes], bool]] = {
    **dict.fromkeys(_WEBP_PICTURE, lambda _: True),
    b"VP8X": lambda body: len(body) == 10,
    b"ICCP": is_profile,
    b"ANIM": lambda body: len(body) == 6,
}


def _webp(data: bytes, orientation: int) -> Parts:
    size = 8 + struct.unpack("<I", data[4:8])[0]
    if size > len(data) or data[:4] != b"RIFF" or data[8:12] != b"WEBP":
        raise _not_told_apart("webp")
    removed = ["bytes behind the end"] if data[size:] else []
    turned, kept = _only_turned(orientation), list[tuple[bytes, bytes]]()
    plain = False
    for kind, body in _riff_chunks(data[12:size]):
        sound = _WEBP_KEPT.get(kind)
        if sound is not None and sound(body):
            kept.append((kind, body))
        elif kind == b"EXIF" and not plain and _is_plain(body):
            plain = True
            kept.append((kind, body))
        elif kind == b"ANMF":
            kept.append((kind, _frame(body)))
        elif not (kind == b"EXIF" and not _tells(body.removeprefix(_EXIF))):
            known = {b"EXIF": "Exif", b"XMP ": "XMP"}
            removed.append(known.get(kind, "odd parts"))
    if turned and not plain:
        kept.append((b"EXIF", turned))
    flags = sum(bit for kind, bit in _WEBP_FLAGS.items() if any(k == kind for k, _ in kept))
    whole = b"".join(
        _riff_chunk(kind, bytes([flags | body[0] & _ALPHA, 0, 0, 0]) + body[4:])
        if kind == b"VP8X"
        else _riff_chunk(kind, body)
        for kind, body in kept
    )
    return b"RIFF" + struct.pack("<I", 4 + len(whole)) + b"WEBP" + whole, removed


def _frame(body: bytes) -> bytes:
    """Return one picture of an animation with its pixels only."""
    inside = b"".join(_riff_chunk(k, b) for k, b in _riff_chunks(body[16:]) if k in _WEBP_PICTURE)
    return body[:16] + inside


def _riff_chunk(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)


def _riff_chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    place = 0
    while place < len(data):
        size = struct.unpack("<I", data[place + 4 : place + 8])[0]
        if place + 8 + size > len(data):
            raise _not_told_apart("webp")
        yield data[place : place + 4], data[place + 8 : place + 8 + size]
        place += 8 + size + size % 2


# -- GIF -------------------------------------------------------------------------------------------

_GIF_NAMES = {0xFE: "comment", 0x01: "text"}


def _gif(data: bytes, orientation: int) -> Parts:  # noqa: ARG001 - as all of them
    """Keep screen, colours, pictures and how they follow one another (GIF 89a, appendix B)."""
    place = 13 + _colours(data[10])
    kept, removed = [data[:place]], list[str]()
    while data[place] != 0x3B:
        start = place
        if data[place] == 0x2C:
            place = _sub_blocks(data, place + 11 + _colours(data[place + 9]))
            kept.append(data[start:place])
            continue
        if data[place] != 0x21:
            raise _not_told_apart("gif")
        label, place = data[place + 1], _sub_blocks(data, place + 2)
        if label == 0xF9 and place - start == 8:
            kept.append(data[start:place])
        else:
            removed.append(_GIF_NAMES.get(label, "odd parts"))
    removed += ["bytes behind the end"] if data[place + 1 :] else []
    return b"".join(kept) + b"\x3b", removed


def _colours(flags: int) -> int:
    return 3 << (flags & 7) + 1 if flags & 0x80 else 0


def _sub_blocks(data: bytes, place: int) -> int:
    while data[place]:
        place += 1 + data[place]
    return place + 1


# -- TIFF and BMP ----------------------------------------------------------------------------------


def _anew(data: bytes, orientation: int) -> Parts:  # noqa: ARG001 - as all of them
    """Write the first picture anew, without loss: in these formats anything may stand anywhere."""
    image = Image.open(io.BytesIO(data), formats=("TIFF", "BMP"))
    form, profile = image.format or "", image.info.get("icc_profile")
    several = getattr(image, "n_frames", 1) > 1
    image.load()
    options: dict[str, object] = {}
    if form == "TIFF":
        options = {"compression": "tiff_deflate"}
        options |= {"icc_profile": profile} if profile and is_profile(profile) else {}
    image.info = {}
    held = io.BytesIO()
    image.copy().save(held, form, **options)  # a copy has no tags of the original
    kept = held.getvalue()
    said = ["all but the pixels"] + (["other pictures"] if several else [])
    return kept, [] if kept == data else said


_CLEANERS: dict[str, Callable[[bytes, int], Parts]] = {
    "jpeg": _jpeg,
    "png": _png,
    "webp": _webp,
    "gif": _gif,
    "tiff": _anew,
    "bmp": _anew,
}
