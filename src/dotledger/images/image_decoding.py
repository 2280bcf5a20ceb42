"""Pictures that a program holds, as files: of Pillow, or arrays of numbers."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from PIL import Image

from dotledger.errors import GatherError

__all__ = ["as_file", "is_picture"]

_CHANNELS = (1, 3, 4)


def is_picture(value: object) -> bool:
    """Tell whether a value is a picture of Pillow or an array."""
    return isinstance(value, (Image.Image, np.ndarray))


def as_file(name: str, value: Any) -> bytes:
    """Return a picture as PNG: nothing of it is lost.

    Parameters
    ----------
    value : Image or ndarray of uint8, shape (height, width) or (height, width, 1, 3 or 4)
        Grey, red-green-blue, or these with opacity. A picture of Pillow is taken as it is seen:
        one that its Exif turns is turned by whoever shows it, and goes out with its Exif.

    Raises
    ------
    GatherError
        If an array is not of whole numbers from 0 to 255, or of another shape.
    """
    picture = value if isinstance(value, Image.Image) else _from_array(name, value)
    if picture.mode not in ("L", "LA", "P", "RGB", "RGBA", "1", "I;16"):
        picture = picture.convert("RGB")
    held = io.BytesIO()
    exif = value.info.get("exif") if isinstance(value, Image.Image) else None
    # Quick rather than small: services count pixels, and it is decoded once.
    picture.save(held, "PNG", compress_level=1, **({"exif": exif} if exif else {}))
    return held.getvalue()


def _from_array(name: str, value: Any) -> Image.Image:
    flat = value[:, :, 0] if value.ndim == 3 and value.shape[2] == 1 else value
    coloured = flat.ndim == 3 and flat.shape[2] in _CHANNELS
    if flat.dtype != np.uint8 or not (flat.ndim == 2 or coloured) or not flat.size:
        raise GatherError(
            "this array is no picture",
            place=name,
            got=f"{value.dtype}, shape {value.shape}",
            allowed=["uint8 of shape (height, width)", "(height, width, 3)", "(height, width, 4)"],
            next_step="Multiply fractions by 255, and put the channels last.",
        )
    return Image.fromarray(np.ascontiguousarray(flat))
