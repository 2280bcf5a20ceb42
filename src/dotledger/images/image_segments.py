"""The parts of which JPEG and PNG files are made: segments before the pixels, and chunks."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from typing import NamedTuple

from dotledger.errors import ImageError

__all__ = [
    "PNG",
    "Chunk",
    "Segment",
    "jpeg_places",
    "jpeg_segments",
    "png_chunk",
    "png_chunks",
]

PNG = b"\x89PNG\r\n\x1a\n"
"""How a PNG file begins."""
_PIXELS = 0xDA


class Segment(NamedTuple):
    """A segment of JPEG: where it is in the file, its marker, and what it holds."""

    start: int
    end: int
    marker: int
    body: bytes


class Chunk(NamedTuple):
    """A chunk of PNG: where it is in the file, its kind, and what it holds."""

    start: int
    end: int
    kind: bytes
    body: bytes


def jpeg_segments(data: bytes) -> Iterator[Segment]:
    """Yield the segments before the pixels.

    Raises
    ------
    ImageError
        If one is longer than the file.
    """
    for place, end, marker in jpeg_places(data):
        yield Segment(place, end, marker, data[place + 4 : end])


def jpeg_places(data: bytes) -> Iterator[tuple[int, int, int]]:
    """Yield where the segments before the pixels begin and end, and their markers.

    Yields
    ------
    tuple of int
        Without what they hold: that may be most of the file.

    Raises
    ------
    ImageError
        If one is longer than the file.
    """
    place = 2
    while place + 4 <= len(data) and data[place] == 0xFF and data[place + 1] != _PIXELS:
        if data[place + 1] == 0xFF:  # fill bytes may stand before any marker (T.81, B.1.1.2)
            place += 1
            continue
        end = place + 2 + (data[place + 2] << 8 | data[place + 3])
        if end > len(data):
            raise ImageError("the file breaks off", got=f"{len(data)} bytes")
        yield place, end, data[place + 1]
        place = end


def png_chunks(data: bytes) -> Iterator[Chunk]:
    """Yield the chunks to the last one; what stands behind that is none.

    Raises
    ------
    ImageError
        If one is longer than the file.
    """
    place, kind = len(PNG), b""
    while place + 12 <= len(data) and kind != b"IEND":
        size = struct.unpack(">I", data[place : place + 4])[0]
        end, kind = place + 12 + size, data[place + 4 : place + 8]
        if end > len(data):
            raise ImageError("the file breaks off", got=f"{len(data)} bytes")
        yield Chunk(place, end, kind, data[place + 8 : end - 4])
        place = end


def png_chunk(kind: bytes, body: bytes) -> bytes:
    """Return a chunk as it is in a file."""
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
