"""Covering faces, or anything else that was found, in a new image.

The original is never touched. Of its metadata the copy has the colour profile, the resolution and
what `dotledger.acting.metadata_scrubbing` knows to be harmless; anything else might show what is
covered, or name it.
"""

from __future__ import annotations

import io
import math
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from PIL import Image

from dotledger.acting.metadata_scrubbing import harmless_exif
from dotledger.core.arguments import as_path, real_number
from dotledger.core.boxes.box_forms import boxes_in_pixels
from dotledger.core.displays import JsonText
from dotledger.core.kinds import KINDS
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_findings
from dotledger.errors import ArgumentError, ImageError
from dotledger.images.image_facts import open_image
from dotledger.images.image_preparation import decode_upright
from dotledger.images.metadata_removal import is_profile

if TYPE_CHECKING:
    from dotledger.core.arrays import Floats
    from dotledger.core.tables.threshold_values import Threshold

__all__ = ["STYLES", "Covered", "Style", "cover", "open_boxes", "share_covered"]

Style = Literal["solid", "blurred", "blocks"]
STYLES = ("solid", "blurred", "blocks")
"""Ways of covering: one colour, a blur, or coarse blocks."""
_ACROSS = 3
"""Blocks across the longer side of a box. Two different drawn faces correlate at 0.97; a drawn face
and the same one covered at about 0.3 with 3 blocks, 0.5 with 4, 0.75 with 8 and 0.9 with 16."""
_FORMATS = ("JPEG", "PNG", "WEBP", "TIFF", "BMP", "GIF")
Box = tuple[int, int, int, int]


@dataclass(frozen=True, kw_only=True)
class Covered(JsonText):
    """What `cover` returns.

    Attributes
    ----------
    data : bytes
        The new image; the very bytes that were given if nothing was to be covered.
    covered : int
        How many findings were covered.
    boxes : tuple of (x0, y0, x1, y1)
        Whole pixels of the upright image, with their margin, inside the image.
    style : str
        One of `STYLES`.
    removed : tuple of str
        What was taken out of the metadata.
    """

    data: bytes
    covered: int
    boxes: tuple[Box, ...]
    style: str
    removed: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; of the image itself only its size in bytes."""
        plain = {"covered": self.covered, "style": self.style, "removed": list(self.removed)}
        return {**plain, "boxes": [list(box) for box in self.boxes], "bytes": len(self.data)}

    def _repr_mimebundle_(self, **_: Any) -> dict[str, bytes]:
        """Show the new image in a notebook."""
        kind = "png" if self.data.startswith(b"\x89PNG") else "jpeg"
        return {f"image/{kind}": self.data}

    def write(self, path: str | os.PathLike[str]) -> None:
        """Write the new image, whole or not at all, over nothing that exists.

        Raises
        ------
        FileExistsError
            If something is already there.
        OSError
            If it cannot be written.
        """
        from dotledger.safe_files import whole_file

        if Path(path).exists():
            raise FileExistsError(f"something is already there: {path}")
        with whole_file(Path(path)) as draft:
            draft.write_bytes(self.data)


def cover(
    image: bytes | str | os.PathLike[str],
    findings: Findings | Any,
    *,
    kind: str = "face",
    label: str | Sequence[str] | None = None,
    style: Style = "solid",
    margin: float = 0.1,
    threshold: Threshold = None,
    name: str | None = None,
    colour: tuple[int, int, int] = (20, 20, 26),
) -> Covered:
    """Cover everything of a kind that was found, in a new image.

    Parameters
    ----------
    image : bytes or path
        The original, full size.
    findings : Findings or dataframe
        Boxes in pixels of the upright original. Of several images those of `name` count.
    kind : str, default "face"
        Findings of this kind are covered; it needs boxes.
    label : str or sequence of str, optional
        Only these labels; by default all.
    style : {"solid", "blurred", "blocks"}
        One colour; a blur, or blocks so coarse that nothing of the face is left.
    margin : float, default 0.1
        Of the box's sides, added on every side; from 0 to 5.
    threshold : threshold, optional
        Findings below it stay open; asserted ones are covered always.
    name : str, optional
        The image's name in the findings; by default that of the file, or the only one.
    colour : (int, int, int)
        Of a solid cover, from 0 to 255.

    Returns
    -------
    Covered
        Format, colour profile and quality are those of the original; it is stored upright.

    Raises
    ------
    ArgumentError
        If an argument is out of range, or the findings are of several images and none is named.
    ImageError
        If the image cannot be decoded whole, or is of a format that cannot be written again.

    Examples
    --------
    >>> import dotledger
    >>> from dotledger.standins.demo_scenes import RECIPES, draw_scene, truth
    >>> scene = draw_scene(RECIPES[0])
    >>> faces = truth([scene]).filter(kind="face").frame().assign(confidence=0.9)
    >>> done = dotledger.cover(scene.data, faces.drop(columns="ignore"))
    >>> done.covered, done.data != scene.data
    (2, True)
    """
    _check(kind, style, margin)
    data = (
        image
        if isinstance(image, bytes)
        else as_path(image, place="image", call="cover(image, findings)").read_bytes()
    )
    table = as_findings(findings, "cover(image, findings)")
    mine = _of_image(table, image, name).cut(threshold)
    wanted = None if label is None else ((label,) if isinstance(label, str) else tuple(label))
    rows = mine.kind.among([kind]) & ~np.isnan(mine.box[:, 0])
    if wanted is not None:
        rows &= mine.label.among(wanted)
    boxes = mine.box[rows]
    if not len(boxes):
        return Covered(data=data, covered=0, boxes=(), style=style)
    return _covered(data, boxes, style, margin, colour)


def _check(kind: str, style: str, margin: float) -> None:
    if kind not in KINDS or KINDS[kind].judged == "presence":
        boxed = [name for name, one in KINDS.items() if one.judged != "presence"]
        raise ArgumentError("only what has a box is covered", place="kind", got=kind, allowed=boxed)
    if style not in STYLES:
        raise ArgumentError("unknown style", place="style", got=style, allowed=STYLES)
    if not 0 <= real_number(margin, place="margin") <= 5:
        raise ArgumentError("out of range", place="margin", got=margin, allowed=["0 to 5"])


def _of_image(table: Findings, image: Any, name: str | None) -> Findings:
    """Return the findings of one image; whose they are must be plain."""
    names = table.image.used()
    if name is None:
        own = "" if isinstance(image, bytes) else os.fspath(image)
        near = [n for n in names if own and (n == own or Path(own).as_posix().endswith(f"/{n}"))]
        near = near or [n for n in names if own and n == Path(own).name]
        if not near and len(names) > 1:
            raise ArgumentError(
                "findings of several images, and none of them has this image's name",
                place="name",
                got=own or "bytes",
                allowed=names[:8],
            )
        name = near[0] if near else (names[0] if names else "")
    elif name not in names:
        raise ArgumentError(
            "the findings hold no image of this name", place="name", got=name, allowed=names[:8]
        )
    return table.take(table.image.among([name]))


def _covered(
    data: bytes, boxes: Floats, style: str, margin: float, colour: tuple[int, int, int]
) -> Covered:
    opened = open_image(data)
    if opened.format not in _FORMATS or getattr(opened, "n_frames", 1) > 1:
        raise ImageError(
            "this format cannot be written again as it was",
            got=f"{opened.format}, {getattr(opened, 'n_frames', 1)} frames",
            allowed=_FORMATS,
        )
    picture = decode_upright(data)
    mode = picture.mode
    if mode == "P":  # a covered region needs colours that a palette may lack
        picture = picture.convert("RGBA" if "transparency" in picture.info else "RGB")
    places = boxes_in_pixels(boxes, margin, picture.size)
    for place in places:
        picture.paste(_patch(picture, place, style, colour), place[:2])
    new, removed = _encoded(picture, opened, mode)
    return Covered(
        data=new, covered=len(places), boxes=tuple(places), style=style, removed=tuple(removed)
    )


def _patch(
    picture: Image.Image, place: Box, style: str, colour: tuple[int, int, int]
) -> Image.Image:
    part = picture.crop(place)
    if style == "solid":
        return _filled(part, colour)
    longer = max(part.size)
    cell = max(1, math.ceil(longer / _ACROSS))
    small = (max(1, round(part.width / cell)), max(1, round(part.height / cell)))
    # What a few blocks hold is all that is left; a blur is the same, drawn smoothly. With 50 faces
    # on 12 megapixels it takes 1.2 of opening and saving, where a wide Gaussian takes 2.2.
    smooth = Image.Resampling.BILINEAR if style == "blurred" else Image.Resampling.NEAREST
    return part.resize(small, Image.Resampling.BOX).resize(part.size, smooth)


def _filled(part: Image.Image, colour: tuple[int, int, int]) -> Image.Image:
    """Return a part in one colour; its transparency goes, too, since a shape is a likeness."""
    plain = Image.new("RGB", part.size, colour)
    return plain.convert(part.mode)


def _encoded(picture: Image.Image, opened: Image.Image, mode: str) -> tuple[bytes, list[str]]:
    """Return the new file, and what was taken out of the metadata."""
    exif, removed = harmless_exif(opened)
    removed += _texts(opened)
    options: dict[str, Any] = {}
    if exif is not None:
        options["exif"] = exif
    if is_profile(opened.info.get("icc_profile") or b""):
        options["icc_profile"] = opened.info["icc_profile"]
    if opened.info.get("dpi"):
        options["dpi"] = opened.info["dpi"]
    options |= _quality(opened)
    if opened.format in ("BMP", "GIF"):
        options = {}
    if mode == "P" and opened.format == "GIF":
        picture = picture.convert("RGB").quantize()
    # A picture without a file behind it: some encoders look there for more to carry along.
    plain = Image.frombytes(picture.mode, picture.size, picture.tobytes())
    if picture.mode == "P":
        plain.putpalette(picture.getpalette() or [])
    buffer = io.BytesIO()
    plain.save(buffer, opened.format, **options)
    return buffer.getvalue(), list(dict.fromkeys(removed))


def _quality(opened: Image.Image) -> dict[str, Any]:
    """Return what keeps the original's quality: its own tables, or no loss at all."""
    if opened.format == "JPEG":
        from PIL import JpegImagePlugin

        sampling = JpegImagePlugin.get_sampling(opened)
        tables: Any = getattr(opened, "quantization", None)
        found: dict[str, Any] = {"qtables": tables} if tables else {"quality": 92}
        return found | ({"subsampling": sampling} if sampling >= 0 else {})
    if opened.format == "WEBP":
        return {"quality": 92, "method": 4}
    return {}


_XMP_KEYS = ("xmp", "XML:com.adobe.xmp")
_NOT_TEXTS = ("exif", "icc_profile", "dpi", *_XMP_KEYS)


def _texts(opened: Image.Image) -> list[str]:
    """Return what else the original says that the copy does not, in words."""
    said = ["XMP"] if any(opened.info.get(key) for key in _XMP_KEYS) else []
    texts = [
        key
        for key, value in opened.info.items()
        if isinstance(value, str | bytes) and key not in _NOT_TEXTS and value
    ]
    return said + (["comment"] if "comment" in texts else ["text"] if texts else [])


def open_boxes(
    boxes: Sequence[Sequence[float]],
    annotations: Annotations,
    *,
    image: str,
    kind: str = "face",
    least: float = 0.99,
) -> list[tuple[str, tuple[float, ...], float]]:
    """Return annotated things that covers leave open, at least in part.

    Parameters
    ----------
    boxes : sequence of (x0, y0, x1, y1)
        Covers, in pixels of the upright image.
    annotations : Annotations
        Ground truth; ignored ones may stay open.
    least : float, default 0.99
        The share of a box that must be covered.

    Returns
    -------
    list of (label, box, share covered)
        The most open first; empty if all is covered.
    """
    mine = annotations.take(
        annotations.image.among([image])
        & annotations.kind.among([kind])
        & ~annotations.blank
        & ~annotations.ignore
    )
    found = []
    for label, box in zip(mine.label.values(), mine.box, strict=True):
        share = share_covered(box, boxes)
        if share < least:
            found.append((str(label), tuple(box.tolist()), share))
    return sorted(found, key=lambda one: (one[2], one[1]))


def share_covered(box: Floats | Sequence[float], covers: Sequence[Sequence[float]]) -> float:
    """Return how much of a box is under covers, counted on a grid of 200 x 200 points.

    Returns
    -------
    float
        0 to 1.
    """
    across = np.linspace(box[0], box[2], 401)[1::2]
    down = np.linspace(box[1], box[3], 401)[1::2]
    hidden = np.zeros((len(down), len(across)), dtype=bool)
    for x0, y0, x1, y1 in covers:
        inside = ((down >= y0) & (down < y1))[:, None] & ((across >= x0) & (across < x1))[None]
        hidden |= inside
    return float(hidden.mean())
