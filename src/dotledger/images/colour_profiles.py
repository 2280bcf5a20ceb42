"""Colours as services take them: in sRGB, whatever a camera wrote.

A file that goes out as it is keeps its profile. One that is encoded anew is converted, since most
services look at the numbers and never at the profile.
"""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

from PIL import Image

if TYPE_CHECKING:
    from PIL.ImageCms import ImageCmsProfile

__all__ = ["in_srgb"]

_MODES = {"RGB": "RGB", "RGBA": "RGBA", "L": "RGB", "CMYK": "RGB"}
"""Modes that are converted, each with what happens to it."""


def in_srgb(image: Image.Image) -> tuple[Image.Image, list[str]]:
    """Return a picture in sRGB, by the ICC profile that it carries.

    Parameters
    ----------
    image : Image
        Decoded; what it carries stands in its ``info``.

    Returns
    -------
    tuple of Image and list of str
        The same picture and nothing to say if it has no profile, one that says sRGB, or one that
        cannot be read.
    """
    data = image.info.get("icc_profile")
    if not data or image.mode not in _MODES:
        return image, []
    # The colour package is large: it is loaded for the first picture that needs it.
    from PIL import ImageCms

    try:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(data))
        name = ImageCms.getProfileDescription(profile).strip()
        if "sRGB" in name:
            return image, []
        converted = _converted(image, profile)
    except (ImageCms.PyCMSError, OSError, ValueError):
        return image, []
    converted.info = {k: v for k, v in image.info.items() if k != "icc_profile"}
    return converted, [f"colours of {name or 'a profile without a name'} converted to sRGB"]


def _converted(image: Image.Image, profile: ImageCmsProfile) -> Image.Image:
    from PIL import ImageCms

    target = ImageCms.createProfile("sRGB")
    made = ImageCms.profileToProfile(image, profile, target, outputMode=_MODES[image.mode])
    return image if made is None else made
