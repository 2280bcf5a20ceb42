"""The XMP packet inside an image file: taking it out, and putting another in.

XMP Specification Part 3, "Storage in Files": in JPEG an APP1 segment that begins with the XMP name,
in PNG an ``iTXt`` chunk with the keyword ``XML:com.adobe.xmp``. The pixels are not touched.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator

from PIL import Image

from dotledger.errors import ImageError
from dotledger.images.image_facts import open_image
from dotledger.images.image_segments import PNG, jpeg_segments, png_chunk, png_chunks

__all__ = ["read_packet", "with_packet"]

_NAME = b"http://ns.adobe.com/xap/1.0/\x00"
_KEYWORD = b"XML:com.adobe.xmp"
# A packet of a few kilobytes can unpack to gigabytes.
_MOST_UNPACKED = 16 << 20
# A segment's length is written in 16 bits, and counts itself and the name.
_MOST_IN_A_SEGMENT = 65_502 - len(_NAME)


def read_packet(data: bytes) -> bytes | None:
    """Return the XMP packet of an image file; None if there is none.

    Of every format in which Pillow finds one: JPEG, PNG, WebP, TIFF, GIF, AVIF.

    Raises
    ------
    ImageError
        If the bytes are no image, or break off before the pixels begin.
    """
    image = open_image(data)
    if _KEYWORD in data and "xmp" not in image.info:
        _load(image)  # in PNG the packet may stand behind the pixels
    packet = image.info.get("xmp")
    return packet.encode() if isinstance(packet, str) else packet


def _load(image: Image.Image) -> None:
    try:
        image.load()
    except Exception as error:  # decoders fail with whatever broken bytes lead them to
        raise ImageError("the file breaks off", got=str(error)) from error


def with_packet(data: bytes, packet: bytes) -> bytes:
    """Return the file with `packet` instead of its XMP packet.

    Parameters
    ----------
    packet : bytes
        XMP, in UTF-8.

    Returns
    -------
    bytes
        A new file; pixels and all else as before.

    Raises
    ------
    ImageError
        If the bytes are neither JPEG nor PNG, or the packet does not fit into a JPEG segment.
    """
    if data.startswith(b"\xff\xd8"):
        return _jpeg_with(data, packet)
    if data.startswith(PNG):
        return _png_with(data, packet)
    raise ImageError("XMP is written into JPEG and PNG only", got=f"{len(data):,} bytes")


def _jpeg_with(data: bytes, packet: bytes) -> bytes:
    if len(packet) > _MOST_IN_A_SEGMENT:
        raise ImageError(
            "the XMP packet is too large for a JPEG segment",
            got=f"{len(packet)} bytes",
            allowed=[f"up to {_MOST_IN_A_SEGMENT}"],
        )
    segment = b"\xff\xe1" + struct.pack(">H", len(_NAME) + len(packet) + 2) + _NAME + packet
    kept, place, after = bytearray(data[:2]), 2, 2
    for start, end, marker, body in jpeg_segments(data):
        xmp = marker == 0xE1 and body.startswith(_NAME)
        kept += b"" if xmp else data[start:end]
        place = end
        if marker in (0xE0, 0xE1) and not xmp:
            after = len(kept)  # EXIF and JFIF come first
    return bytes(kept[:after]) + segment + bytes(kept[after:]) + data[place:]


def _png_packets(data: bytes) -> Iterator[tuple[int, int, bytes]]:
    for start, end, kind, body in png_chunks(data):
        if kind == b"iTXt" and body.startswith(_KEYWORD + b"\x00"):
            compressed = body[len(_KEYWORD) + 1] == 1
            text = body[len(_KEYWORD) + 3 :].split(b"\x00", 2)[-1]
            yield start, end, _inflated(text) if compressed else text


def _inflated(text: bytes) -> bytes:
    try:
        return zlib.decompressobj().decompress(text, _MOST_UNPACKED)
    except zlib.error as error:
        raise ImageError(f"the XMP packet cannot be unpacked ({error})") from error


def _png_with(data: bytes, packet: bytes) -> bytes:
    # From the back, so that the places in front stay true.
    for start, end, _ in reversed(list(_png_packets(data))):
        data = data[:start] + data[end:]
    chunk = png_chunk(b"iTXt", _KEYWORD + b"\x00" * 5 + packet)
    first_end = next(png_chunks(data)).end
    return data[:first_end] + chunk + data[first_end:]
