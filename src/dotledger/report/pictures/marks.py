"""Boxes on images, with writing in proportion to the image."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from PIL import Image, ImageDraw, ImageFont

from dotledger.core.boxes.forms import Box

__all__ = ["TONES", "Mark", "draw_marks"]

Colour = tuple[int, int, int]

TONES: dict[str, Colour] = {
    "right": (38, 190, 160),
    "wrong": (255, 86, 92),
    "missed": (255, 206, 84),
    "set aside": (168, 170, 190),
    "unjudged": (150, 160, 235),
    "ignored": (168, 170, 190),
}
"""The colour of each thing that can become of a finding or an annotation."""

_BY_LABEL: tuple[Colour, ...] = (
    (38, 190, 160),
    (255, 150, 70),
    (122, 150, 255),
    (240, 110, 190),
    (150, 205, 90),
    (255, 206, 84),
    (90, 200, 240),
    (200, 140, 250),
)
_INK: Colour = (16, 16, 28)
_LONGEST = 60


@dataclass(frozen=True, kw_only=True)
class Mark:
    """One box to draw.

    Attributes
    ----------
    box : tuple of four floats
        Pixels of the upright original.
    text : str
        Written beside it; control characters are shown as a dot.
    label : str
        What is marked: equal labels get equal colours.
    tone : str
        A key of `TONES`; empty for a colour by `label`.
    dashed : bool
        For what was not found.
    points : tuple of (x, y)
        Landmarks.
    """

    box: Box
    text: str
    label: str = ""
    tone: str = ""
    dashed: bool = False
    points: tuple[tuple[float, float], ...] = ()


def colour_of(mark: Mark) -> Colour:
    """Return the colour of a mark; equal labels get equal colours in every picture."""
    if mark.tone:
        return TONES[mark.tone]
    return _BY_LABEL[zlib.crc32((mark.label or mark.text).encode()) % len(_BY_LABEL)]


def draw_marks(
    image: Image.Image, marks: Sequence[Mark], *, scale: float = 1.0, footer: str = ""
) -> Image.Image:
    """Draw boxes on a copy of an image.

    Parameters
    ----------
    image : Image
        Upright.
    marks : sequence of Mark
        Drawn in order; writing is drawn last, and moved where it would cover other writing.
    scale : float, default 1
        Pixels of `image` for one pixel of the original.
    footer : str
        A line below the image, wrapped to its width.
    """
    size = max(11, round(min(image.size) * 0.024))
    font = ImageFont.load_default(size)
    drawn = image.convert("RGB")
    pen = ImageDraw.Draw(drawn)
    width = max(2, round(min(image.size) / 220))
    for mark in marks:
        _outline(pen, _scaled(mark.box, scale), colour_of(mark), width, dashed=mark.dashed)
        for px, py in mark.points:
            r = min(width, (mark.box[2] - mark.box[0]) * scale / 16)
            x, y = px * scale, py * scale
            pen.ellipse((x - r, y - r, x + r, y + r), fill=colour_of(mark))
    taken: list[Box] = []
    for mark in marks:
        _tag(pen, mark, _scaled(mark.box, scale), font, drawn.size, taken)
    return _with_footer(drawn, footer, font) if footer else drawn


def _scaled(box: Box, scale: float) -> Box:
    return box[0] * scale, box[1] * scale, box[2] * scale, box[3] * scale


def _outline(
    pen: ImageDraw.ImageDraw, box: Box, colour: Colour, width: int, *, dashed: bool
) -> None:
    if not dashed:
        pen.rectangle(_grown(box, 1), outline=_INK, width=width + 2)
        pen.rectangle(box, outline=colour, width=width)
        return
    x0, y0, x1, y1 = box
    for line in ((x0, y0, x1, y0), (x1, y0, x1, y1), (x1, y1, x0, y1), (x0, y1, x0, y0)):
        _dashes(pen, line, colour, width)


def _grown(box: Box, by: float) -> Box:
    return box[0] - by, box[1] - by, box[2] + by, box[3] + by


def _dashes(pen: ImageDraw.ImageDraw, line: Box, colour: Colour, width: int) -> None:
    x0, y0, x1, y1 = line
    length = max(abs(x1 - x0), abs(y1 - y0))
    count = max(1, round(length / (width * 5)))
    for number in range(count):
        a, b = number / count, (number + 0.6) / count
        ends = (x0 + (x1 - x0) * a, y0 + (y1 - y0) * a, x0 + (x1 - x0) * b, y0 + (y1 - y0) * b)
        pen.line(ends, fill=colour, width=width)


def _plain(text: str) -> str:
    shown = "".join(c if c.isprintable() else "·" for c in text)
    return shown if len(shown) <= _LONGEST else shown[: _LONGEST - 1] + "…"


def _tag(
    pen: ImageDraw.ImageDraw,
    mark: Mark,
    box: Box,
    font: ImageFont.FreeTypeFont | ImageFont.ImageFont,
    size: tuple[int, int],
    taken: list[Box],
) -> None:
    text = _plain(mark.text)
    if not text:
        return
    left, top, right, bottom = pen.textbbox((0, 0), text, font=font)
    wide, high = right - left + 6, bottom - top + 6
    spot = _spot(box, wide, high, size, taken)
    taken.append(spot)
    pen.rectangle(spot, fill=colour_of(mark))
    pen.text((spot[0] + 3 - left, spot[1] + 3 - top), text, font=font, fill=_INK)


def _spot(box: Box, wide: float, high: float, size: tuple[int, int], taken: list[Box]) -> Box:
    """Return the first place by the box that covers no other writing, else the first of all."""
    x = max(0.0, min(box[0], size[0] - wide))
    tops = (box[1] - high, box[3], box[1] + 2, box[1] - 2 * high, box[3] + high)
    spots = [
        (x, y, x + wide, y + high) for top in tops for y in [max(0.0, min(top, size[1] - high))]
    ]
    free = (spot for spot in spots if not any(_touch(spot, other) for other in taken))
    return next(free, spots[0])


def _touch(a: Box, b: Box) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]


def _with_footer(
    image: Image.Image, text: str, font: ImageFont.FreeTypeFont | ImageFont.ImageFont
) -> Image.Image:
    pen = ImageDraw.Draw(image)
    lines = list(_wrapped(text, lambda part: pen.textlength(part, font=font), image.width - 16))
    step = round(pen.textbbox((0, 0), "Ag", font=font)[3] * 1.3)
    result = Image.new("RGB", (image.width, image.height + step * len(lines) + 10), (24, 24, 38))
    result.paste(image)
    pen = ImageDraw.Draw(result)
    for number, line in enumerate(lines):
        pen.text((8, image.height + 5 + number * step), line, font=font, fill=(226, 226, 238))
    return result


def _wrapped(text: str, measure: object, width: float) -> Iterable[str]:
    line = ""
    for word in _plain_words(text):
        longer = f"{line} {word}".strip()
        if line and measure(longer) > width:  # type: ignore[operator]
            yield line
            line = word
        else:
            line = longer
    if line:
        yield line


def _plain_words(text: str) -> list[str]:
    return ["".join(c if c.isprintable() else "·" for c in word) for word in text.split(" ")]
