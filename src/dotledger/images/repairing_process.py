"""Decodes a damaged image as far as it goes, in a process that `acting.image_repair` starts.

Pillow has one switch, for the whole process, that makes it give what it can decode of a broken
file. Where images are sent beside it, in another thread, that switch would let broken files through
unnoticed. A decoder that hangs or dies over broken bytes does no harm here either. Standard input
is the file; standard output is one line of JSON and then, if there is a picture, the new file.
"""

from __future__ import annotations

import io
import json
import re
import sys
from typing import Any

__all__ = ["main", "repaired"]

_JPEG_BEGINS = b"\xff\xd8\xff"
_BEGINNINGS = re.compile(rb"\xff\xd8\xff|\x89PNG\r\n\x1a\n|GIF8[79]a|II\*\0|MM\0\*")
_LEAD = 4096
"""Bytes before an image, at most: what a broken transfer or a text header put there."""
_LEAST_KEPT = 0.01
_QUALITY = 95


def main() -> None:
    """Answer one request."""
    facts, data = repaired(sys.stdin.buffer.read())
    sys.stdout.buffer.write(json.dumps(facts).encode() + b"\n" + data)


def repaired(data: bytes) -> tuple[dict[str, Any], bytes]:
    """Return what was found out about a broken file, and a whole file of its picture.

    Parameters
    ----------
    data : bytes
        The broken file.

    Returns
    -------
    tuple of dict and bytes
        ``problem`` (empty if there is a file), ``format``, ``kept`` (the share of rows that were
        decoded, at most 1) and ``done`` (what was done). No bytes where there is no picture.
    """
    from PIL import ImageFile, ImageOps

    from dotledger.images.colour_profiles import in_srgb
    from dotledger.images.image_facts import open_image

    ImageFile.LOAD_TRUNCATED_IMAGES = True
    done = []
    lead = _BEGINNINGS.search(data[: _LEAD + 8])
    if lead is not None and lead.start():
        done.append(f"{lead.start()} bytes before the image left out")
        data = data[lead.start() :]
    try:
        opened = open_image(data)
        stored = opened.format or ""
        opened.load()
        upright = ImageOps.exif_transpose(opened)
        picture, colours = in_srgb(upright)
        kept = _rows_kept(picture)
    except Exception as error:  # whatever broken bytes lead a decoder to
        return {"problem": f"no picture can be decoded of it ({error})"}, b""
    if kept < _LEAST_KEPT:
        return {"problem": "none of its rows can be decoded"}, b""
    named = "jpeg" if stored == "JPEG" else "png"
    if kept < 1:
        done.append(f"about {kept:.0%} of its rows kept, the rest is one colour")
    held = io.BytesIO()
    if named == "jpeg":
        plain = picture if picture.mode in ("L", "RGB") else picture.convert("RGB")
        plain.save(held, "JPEG", quality=_QUALITY, subsampling=0)
    else:
        modes = ("1", "L", "LA", "P", "RGB", "RGBA", "I;16")
        plain = picture if picture.mode in modes else picture.convert("RGB")
        plain.save(held, "PNG")
    done += [*colours, f"saved again as {named}"]
    return {"problem": "", "format": named, "kept": kept, "done": done}, held.getvalue()


def _rows_kept(picture: Any) -> float:
    """Return the share of rows that do not have the one colour that decoders fill in.

    They fill the end, or the beginning where rows are stored from the last to the first (BMP). A
    picture with rows of one colour there of its own seems to have lost them: the share is never
    too large.
    """
    import numpy as np

    pixels = np.asarray(picture.convert("RGB")).astype(int)
    lost = max(_flat_rows(pixels), _flat_rows(pixels[::-1]))
    # One row, or a few, may end so in a whole picture; a decoder loses blocks of rows.
    return 1.0 if lost < 8 and lost < len(pixels) else 1 - lost / len(pixels)


def _flat_rows(pixels: Any) -> int:
    """Return how many rows from the last upwards have the colour of the last pixel only."""
    import numpy as np

    flat = (np.abs(pixels - pixels[-1, -1]).max(axis=(1, 2)) <= 2)[::-1]
    return len(flat) if flat.all() else int(np.argmin(flat))


if __name__ == "__main__":
    main()
