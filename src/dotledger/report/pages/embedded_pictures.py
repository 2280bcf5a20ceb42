"""Pictures for the report: small copies of the images, and crops of the worst places."""

from __future__ import annotations

import base64
import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from PIL import Image

from dotledger.core.boxes.box_forms import boxes_in_pixels
from dotledger.errors import DotLedgerError
from dotledger.images.image_facts import open_image

__all__ = ["Crop", "Shown", "crops_of", "small_copy"]

_QUALITY = 72
_CROP = 260
"""Pixels of a crop's longer side."""


@dataclass(frozen=True, kw_only=True)
class Shown:
    """A small copy of one image.

    Attributes
    ----------
    data : bytes
        A JPEG file.
    width, height : int
        Of the upright original, which boxes refer to.
    """

    data: bytes
    width: int
    height: int


def small_copy(read: Callable[[], bytes], side: int) -> Shown | str:
    """Return a small copy of an image, or why there is none.

    Parameters
    ----------
    read : callable
        Returns the bytes of its file.
    side : int
        Longest side in pixels; images that are smaller stay as large as they are.

    Returns
    -------
    Shown or str
        On white where it is clear.
    """
    try:
        opened, size = _opened(read, side)
        opened.thumbnail((side, side), Image.Resampling.LANCZOS)
        return Shown(data=_jpeg(opened), width=size[0], height=size[1])
    except (DotLedgerError, OSError) as error:
        return str(error)
    except Exception as error:  # decoders fail with whatever broken bytes lead them to
        return f"cannot be decoded ({type(error).__name__})"


def _opened(read: Callable[[], bytes], side: int) -> tuple[Image.Image, tuple[int, int]]:
    """Return a picture, upright, decoded no larger than needed, and its full size."""
    from PIL import ImageOps

    opened = open_image(read())
    full = opened.size
    if side:
        opened.draft("RGB", (2 * side, 2 * side))
    upright = ImageOps.exif_transpose(opened)
    turned = opened.getexif().get(0x0112, 1) in (5, 6, 7, 8)
    size = (full[1], full[0]) if turned else full
    if "A" in upright.getbands() or "transparency" in upright.info:
        clear = upright.convert("RGBA")
        upright = Image.alpha_composite(Image.new("RGBA", clear.size, "white"), clear)
    return upright.convert("RGB"), size


def _jpeg(picture: Image.Image) -> bytes:
    buffer = io.BytesIO()
    picture.save(buffer, "JPEG", quality=_QUALITY, optimize=True)
    return buffer.getvalue()


@dataclass(frozen=True, kw_only=True)
class Crop:
    """A place in an image, with surroundings.

    Attributes
    ----------
    source : str
        The picture, as a data address.
    width, height : int
        Of the crop in pixels of the original.
    box : (x0, y0, x1, y1)
        What it is about, within the crop.
    """

    source: str
    width: int
    height: int
    box: tuple[float, float, float, float]


def crops_of(
    wanted: Sequence[tuple[str, tuple[float, ...]]], readers: Mapping[str, Callable[[], bytes]]
) -> list[Crop | None]:
    """Return places with as much around them again, each image decoded once.

    Parameters
    ----------
    wanted : sequence of (image, box)
        In pixels of the upright original.
    readers : mapping of str to callable
        By image, what returns its bytes.

    Returns
    -------
    list of Crop or None
        In the same order; None where the image cannot be had.
    """
    found: list[Crop | None] = [None] * len(wanted)
    for name in dict.fromkeys(image for image, _ in wanted):
        try:
            picture, _ = _opened(readers[name], 0)
        except Exception:
            continue
        for place, (image, box) in enumerate(wanted):
            if image == name:
                found[place] = _crop(picture, box)
    return found


def _crop(picture: Image.Image, box: tuple[float, ...]) -> Crop | None:
    # A small thing needs more around it to be known again.
    least = 0.12 * max(picture.size)
    longer = max(box[2] - box[0], box[3] - box[1], 1.0)
    places = boxes_in_pixels([box], max(0.5, (least / longer - 1) / 2), picture.size)
    if not places:
        return None
    left, top, right, bottom = places[0]
    part = picture.crop(places[0])
    if max(part.size) > _CROP:
        part.thumbnail((_CROP, _CROP), Image.Resampling.LANCZOS)
    source = "data:image/jpeg;base64," + base64.b64encode(_jpeg(part)).decode()
    inner = (box[0] - left, box[1] - top, box[2] - left, box[3] - top)
    return Crop(source=source, width=right - left, height=bottom - top, box=inner)
