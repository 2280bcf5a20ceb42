"""What an image file says of itself, without decoding its pixels."""

from __future__ import annotations

import io
import re
from contextlib import suppress
from functools import lru_cache
from importlib import import_module

from msgspec import Struct
from PIL import Image, UnidentifiedImageError
from PIL.JpegImagePlugin import JpegImageFile

from dotledger.core.boxes.box_forms import upright_size
from dotledger.errors import ImageError

__all__ = ["MOST_PIXELS", "ImageFacts", "open_image", "read_facts"]

MOST_PIXELS = 89_000_000
"""Images that claim more pixels are refused before anything is decoded."""

_USUAL = ("PNG", "GIF", "BMP")
_RARER = ("WEBP", "TIFF", "AVIF")
_HEIC = re.compile(rb"....ftyp(hei[cxms]|hev[cxms]|mif1|msf1)", re.DOTALL)
"""The only decoders that see a file: others start programs, or read what no service takes."""

_JPEG = b"\xff\xd8\xff"
_ORIENTATION = 0x0112
_ENDINGS = {"JPEG": (b"\xff\xd9", 4096), "PNG": (b"IEND", 64)}
_MODES = {
    **dict.fromkeys(("L", "1"), "grey"),
    **dict.fromkeys(("LA", "PA", "RGBA"), "rgba"),
    **dict.fromkeys(("P", "RGB"), "rgb"),
}


class ImageFacts(Struct, frozen=True, kw_only=True):
    """What the file's header says.

    Attributes
    ----------
    format : str
        Lower case, such as ``"jpeg"``.
    width, height : int
        Of the image upright, in pixels.
    orientation : int
        EXIF orientation, 1 to 8; 1 if none or not valid.
    colours : str
        ``"rgb"``, ``"grey"``, ``"rgba"``, or the decoder's name for anything else.
    size : int
        Bytes of the file.
    ends_well : bool
        Whether the file ends as its format should; if not, it may be damaged.
    """

    format: str
    width: int
    height: int
    orientation: int
    colours: str
    size: int
    ends_well: bool


def open_image(data: bytes) -> Image.Image:
    """Open an image without decoding its pixels.

    Raises
    ------
    ImageError
        If the bytes are no image that can be decoded, or claim more than `MOST_PIXELS`.
    """
    try:
        image = _opened(data)
    except (Image.DecompressionBombError, Image.DecompressionBombWarning) as error:
        raise _too_many_pixels(str(error)) from error
    except ImageError:
        raise
    except Exception as error:  # decoders fail with whatever broken bytes lead them to
        reason = "the file is empty" if not data else "not an image that can be decoded"
        raise ImageError(reason, got=f"{len(data):,} bytes", damaged=True) from error
    if image.width * image.height > MOST_PIXELS:
        raise _too_many_pixels(f"{image.width} x {image.height}")
    return image


# A file that begins as a JPEG is taken for one, also where more pictures follow in it: services
# do the same.
def _opened(data: bytes) -> Image.Image:
    """Open a JPEG with its own decoder: trying all of them takes as long again.

    A file of several pictures that begins with a JPEG is taken for that JPEG, which it is to
    every service.
    """
    if data.startswith(_JPEG):
        return JpegImageFile(io.BytesIO(data))
    try:
        return Image.open(io.BytesIO(data), formats=_USUAL)
    except UnidentifiedImageError:
        formats = _rarer() if _HEIC.match(data) is None else _phones()
        return Image.open(io.BytesIO(data), formats=formats)


@lru_cache(maxsize=1)
def _rarer() -> tuple[str, ...]:
    """Load the decoders that few files need; an older Pillow lacks one of them."""
    for name in _RARER:
        with suppress(ImportError):
            import_module(f"PIL.{name.title().replace('Webp', 'WebP')}ImagePlugin")
    return tuple(name for name in _RARER if name in Image.OPEN)


@lru_cache(maxsize=1)
def _phones() -> tuple[str, ...]:
    """Load the decoder of what many telephones write; it gives the picture upright."""
    try:
        import pillow_heif
    except ImportError as error:
        raise ImageError(
            "HEIC images need the package pillow-heif",
            next_step="Run: pip install 'dot-ledger[heic]'",
        ) from error
    # Only the one image that is the picture: previews and depths are no one's business here.
    pillow_heif.register_heif_opener(thumbnails=False, depth_images=False, aux_images=False)
    return ("HEIF",)


def _too_many_pixels(got: str) -> ImageError:
    return ImageError(
        "the image claims too many pixels", got=got, allowed=[f"up to {MOST_PIXELS:,}"]
    )


def read_facts(data: bytes) -> ImageFacts:
    """Return what the header of an image file says.

    Returns
    -------
    ImageFacts
        Width and height in pixels, upright.

    Raises
    ------
    ImageError
        See `open_image`.
    """
    image = open_image(data)
    kind = (image.format or "").upper()
    orientation = _orientation(image)
    width, height = upright_size(image.width, image.height, orientation)
    return ImageFacts(
        format=kind.lower(),
        width=width,
        height=height,
        orientation=orientation,
        colours=_MODES.get(image.mode, image.mode),
        size=len(data),
        ends_well=_ends_well(data, kind),
    )


def _orientation(image: Image.Image) -> int:
    if "exif" not in image.info and image.format not in ("TIFF", "WEBP"):
        return 1
    try:
        value = image.getexif().get(_ORIENTATION, 1)
    except Exception:  # broken metadata; the picture may be sound
        return 1
    return value if isinstance(value, int) and 1 <= value <= 8 else 1


def _ends_well(data: bytes, kind: str) -> bool:
    mark, reach = _ENDINGS.get(kind, (b"", 0))
    return data.rfind(mark, max(0, len(data) - reach)) >= 0
