"""Boxes on images: lines and writing in proportion to the image, legible on any ground."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from PIL import Image, ImageDraw

from dotledger.core.boxes.box_forms import Box
from dotledger.core.kinds import PLACES
from dotledger.report.pictures.alphabets import font_for, write
from dotledger.report.pictures.label_placing import Placed, place_tags

__all__ = ["TONES", "Badge", "Mark", "draw_marks"]

Colour = tuple[int, int, int]

TONES: dict[str, Colour] = {
    "right": (62, 224, 195),
    "wrong": (255, 138, 76),
    "missed": (224, 179, 255),
    "set aside": (174, 180, 194),
    "unjudged": (143, 193, 255),
    "ignored": (174, 180, 194),
}
"""The colour of each thing that can become of a finding or an annotation; as in the report."""

_DASHES: dict[str, tuple[float, ...]] = {
    "wrong": (9, 4),
    "missed": (1.5, 3),
    "ignored": (3, 3),
    "set aside": (3, 3),
    "unjudged": (10, 3, 2, 3),
}
"""Lengths on and off, in line widths: the second sign next to the colour. Others are solid."""

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
_GROUND: Colour = (24, 24, 38)
_WRITING: Colour = (226, 226, 238)
_LONGEST = 60


@dataclass(frozen=True, kw_only=True)
class Mark:
    """One box to draw.

    Attributes
    ----------
    box : tuple of four floats
        Pixels of the upright original.
    text : str
        Written next to it; control characters are shown as a dot.
    label : str
        What is marked: equal labels get equal colours.
    tone : str
        A key of `TONES`; empty for a colour by `label`.
    about : str
        More, such as the reason; stands in the margin, not on the image.
    points : tuple of (x, y)
        Landmarks.
    outline : tuple of (x, y)
        A polygon to draw next to the box; empty for none.
    """

    box: Box
    text: str
    label: str = ""
    tone: str = ""
    about: str = ""
    points: tuple[tuple[float, float], ...] = ()
    outline: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, kw_only=True)
class Badge:
    """What was decided on an image.

    Attributes
    ----------
    verdict : str
        One of `VERDICTS`.
    why : str
        The names of the rules that decided, or why it could not be decided.
    """

    verdict: str
    why: str = ""


_VERDICTS: dict[str, Colour] = {
    "pass": (62, 224, 195),
    "hold": (255, 206, 84),
    "block": (255, 120, 120),
}


def colour_of(mark: Mark) -> Colour:
    """Return the colour of a mark; equal labels get equal colours in every picture."""
    if mark.tone:
        return TONES[mark.tone]
    return _BY_LABEL[zlib.crc32((mark.label or mark.text).encode()) % len(_BY_LABEL)]


def draw_marks(
    image: Image.Image,
    marks: Sequence[Mark],
    *,
    scale: float = 1.0,
    footer: str = "",
    badge: Badge | None = None,
    place: str = PLACES[0],
    key: bool = True,
) -> Image.Image:
    """Draw boxes on a copy of an image.

    Parameters
    ----------
    marks : sequence of Mark
        Drawn in order. Writing covers no other writing, no small box, and stays in the image; what
        finds no place there, or has more to say, has a number and stands in the margin.
    scale : float, default 1
        Pixels of `image` for one pixel of the original.
    footer : str
        A line below the image, wrapped to its width.
    badge : Badge, optional
        What was decided on the image: a strip above it, so that it covers nothing.
    place : str
        One of `PLACES`: where writing goes if there is room.
    key : bool, default True
        Whether there is a margin; without it what has no place is not written.
    """
    size = max(11, round(min(image.size) * 0.024))
    drawn = image.convert("RGB")
    pen = ImageDraw.Draw(drawn)
    width = max(2, round(min(image.size) / 220))
    boxes = [_scaled(mark.box, scale) for mark in marks]
    for mark, box in zip(marks, boxes, strict=True):
        _outline(pen, box, colour_of(mark), width, _DASHES.get(mark.tone, ()))
        _shape(pen, mark, scale, width)
    numbered, placed = _places(marks, boxes, drawn.size, size, key=key, where=place)
    for n, (mark, one) in enumerate(zip(marks, placed, strict=True)):
        if one.spot is not None:
            _tag(pen, mark, boxes[n], one, numbered[n], size)
    rows = [
        (numbered[n], mark) for n, mark in enumerate(marks)
        if numbered[n] and (mark.about or not placed[n].full)
    ]  # fmt: skip
    if rows and key:
        drawn = _with_key(drawn, rows, size)
    drawn = _with_footer(drawn, footer, size) if footer else drawn
    return drawn if badge is None else _with_badge(drawn, badge, size)


def _scaled(box: Box, scale: float) -> Box:
    return box[0] * scale, box[1] * scale, box[2] * scale, box[3] * scale


def _places(
    marks: Sequence[Mark],
    boxes: Sequence[Box],
    size: tuple[int, int],
    font_size: int,
    *,
    key: bool,
    where: str,
) -> tuple[list[int], list[Placed]]:
    """Return the number of each mark in the key, 0 for none, and where its tag goes.

    Which marks need a number is known only when the others have their places: those that have
    more to say get one first, and those for whose text no place was found get theirs after.
    """
    number, numbered = 0, [0] * len(marks)
    for place, mark in enumerate(marks):
        if key and mark.about and mark.text:
            number += 1
            numbered[place] = number
    full = [_measured(mark, numbered[n], font_size) for n, mark in enumerate(marks)]
    short = [_number_size(font_size)] * len(marks)
    placed = place_tags(boxes, full, short, size, where)
    if not key:  # a number that nothing explains says nothing
        return numbered, [one if one.full else Placed(spot=None, full=False) for one in placed]
    for place, one in enumerate(placed):
        if marks[place].text and not one.full and not numbered[place]:
            number += 1
            numbered[place] = number
    return numbered, placed


def _text_of(mark: Mark, number: int) -> str:
    text = _plain(mark.text)
    return f"{number} {text}" if number and text else text


def _measured(mark: Mark, number: int, size: int) -> tuple[float, float]:
    """Return width and height of a tag with its text."""
    text = _text_of(mark, number)
    if not text:
        return 0.0, 0.0
    font, shown = font_for(text, size)
    left, top, right, bottom = font.getbbox(shown)
    return right - left + 6 + _sign_width(mark, size), bottom - top + 6


def _number_size(size: int) -> tuple[float, float]:
    """Return width and height of a tag with a number of three digits."""
    font, shown = font_for("888", size)
    left, top, right, bottom = font.getbbox(shown)
    return right - left + 6, bottom - top + 6


def _sign_width(mark: Mark, size: int) -> float:
    return size * 0.8 if mark.tone in ("wrong", "missed") else 0.0


def _outline(
    pen: ImageDraw.ImageDraw, box: Box, colour: Colour, width: int, dashes: tuple[float, ...]
) -> None:
    """Draw a box with a dark line under it, so that it is seen on any ground."""
    pen.rectangle(_grown(box, 1), outline=_INK, width=width + 2)
    if not dashes:
        pen.rectangle(box, outline=colour, width=width)
        return
    x0, y0, x1, y1 = box
    half = width / 2
    lines = ((x0, y0 + half, x1, y0 + half), (x1 - half, y0, x1 - half, y1),
             (x1, y1 - half, x0, y1 - half), (x0 + half, y1, x0 + half, y0))  # fmt: skip
    for line in lines:
        _dashed(pen, line, colour, width, dashes)


def _grown(box: Box, by: float) -> Box:
    return box[0] - by, box[1] - by, box[2] + by, box[3] + by


def _dashed(
    pen: ImageDraw.ImageDraw, line: Box, colour: Colour, width: int, dashes: tuple[float, ...]
) -> None:
    x0, y0, x1, y1 = line
    length = max(abs(x1 - x0), abs(y1 - y0), 1e-9)
    at, turn = 0.0, 0
    while at < length:
        reach = min(length, at + dashes[turn % len(dashes)] * width)
        if turn % 2 == 0:
            a, b = at / length, reach / length
            ends = (x0 + (x1 - x0) * a, y0 + (y1 - y0) * a, x0 + (x1 - x0) * b, y0 + (y1 - y0) * b)
            pen.line(ends, fill=colour, width=width)
        at, turn = reach, turn + 1


def _shape(pen: ImageDraw.ImageDraw, mark: Mark, scale: float, width: int) -> None:
    """Draw what a mark has next to its box: a polygon, and landmarks."""
    if mark.outline:
        corners = [(x * scale, y * scale) for x, y in (*mark.outline, mark.outline[0])]
        pen.line(corners, fill=_INK, width=width + 2)
        pen.line(corners, fill=colour_of(mark), width=max(1, width - 1))
    for px, py in mark.points:
        r = min(width, (mark.box[2] - mark.box[0]) * scale / 16)
        x, y = px * scale, py * scale
        pen.ellipse((x - r, y - r, x + r, y + r), fill=colour_of(mark))


def _plain(text: str) -> str:
    shown = "".join(c if c.isprintable() else "·" for c in text)
    return shown if len(shown) <= _LONGEST else shown[: _LONGEST - 1] + "…"


def _tag(
    pen: ImageDraw.ImageDraw, mark: Mark, box: Box, placed: Placed, number: int, size: int
) -> None:
    assert placed.spot is not None
    spot = placed.spot
    if placed.away:
        middle = ((spot[0] + spot[2]) / 2, (spot[1] + spot[3]) / 2)
        goal = (min(max(middle[0], box[0]), box[2]), min(max(middle[1], box[1]), box[3]))
        pen.line((*middle, *goal), fill=_INK, width=4)
        pen.line((*middle, *goal), fill=colour_of(mark), width=2)
    text = _text_of(mark, number) if placed.full else str(number)
    font, shown = font_for(text, size)
    left, top, right, _ = font.getbbox(shown)
    sign = _sign_width(mark, size) if placed.full else 0.0
    if not placed.full:
        spot = (spot[0], spot[1], spot[0] + right - left + 6, spot[3])
    pen.rectangle(spot, fill=colour_of(mark))
    if sign:
        _sign(pen, mark.tone, (spot[0] + 3, spot[1], spot[0] + 3 + sign * 0.75, spot[3]), size)
    place = (spot[0] + 3 + sign - left, spot[1] + 3 - top)
    write(pen, place, shown, font, fill=_INK)


def _sign(pen: ImageDraw.ImageDraw, tone: str, place: Box, size: int) -> None:
    """Draw a small cross or ring: the sign of what is wrong or missed, without a letter."""
    r = (place[2] - place[0]) / 2 * 0.9
    x, y = (place[0] + place[2]) / 2, (place[1] + place[3]) / 2
    width = max(1, round(size / 9))
    if tone == "missed":
        pen.ellipse((x - r, y - r, x + r, y + r), outline=_INK, width=width)
        return
    pen.line((x - r, y - r, x + r, y + r), fill=_INK, width=width)
    pen.line((x - r, y + r, x + r, y - r), fill=_INK, width=width)


def _with_key(image: Image.Image, rows: Sequence[tuple[int, Mark]], size: int) -> Image.Image:
    """Return the image with a margin at its right that says what the numbers are."""
    wide = max(size * 16, round(image.width * 0.24))
    lines: list[tuple[Colour, str]] = []
    for number, mark in sorted(rows, key=lambda row: row[0]):
        text = f"{number}  {_plain(mark.text)}" + (f": {mark.about}" if mark.about else "")
        parts = list(_wrapped(text, _length_of(size), wide - size - 10))
        lines += [(colour_of(mark), f"    {part}" if n else part) for n, part in enumerate(parts)]
    step = round(size * 1.35)
    columns = max(1, -(-len(lines) * step // max(image.height - size, step)))
    columns = min(columns, 3)
    each = -(-len(lines) // columns)
    high = max(image.height, each * step + size)
    result = Image.new("RGB", (image.width + wide * columns, high), _GROUND)
    result.paste(image)
    pen = ImageDraw.Draw(result)
    for place, (colour, line) in enumerate(lines):
        x = image.width + (place // each) * wide + size // 2
        y = size // 2 + (place % each) * step
        font, shown = font_for(line, size)
        if not line.startswith("    "):
            pen.rectangle((x, y + size * 0.2, x + 3, y + size), fill=colour)
        write(pen, (x + 8, y), shown, font, fill=_WRITING)
    return result


def _length_of(size: int) -> Callable[[str], float]:
    def length(text: str) -> float:
        font, shown = font_for(text, size)
        return font.getlength(shown)

    return length


def _with_footer(image: Image.Image, text: str, size: int) -> Image.Image:
    lines = list(_wrapped(text, _length_of(size), image.width - 16))
    step = round(size * 1.35)
    result = Image.new("RGB", (image.width, image.height + step * len(lines) + 10), _GROUND)
    result.paste(image)
    pen = ImageDraw.Draw(result)
    for number, line in enumerate(lines):
        font, shown = font_for(line, size)
        place = (8, image.height + 5 + number * step)
        write(pen, place, shown, font, fill=_WRITING)
    return result


def _with_badge(image: Image.Image, badge: Badge, size: int) -> Image.Image:
    """Return the image below a strip in the verdict's colour."""
    # The reasons of a verdict name it themselves: "hold, hazards: smoke 0.91".
    text = _one_line(badge.why or badge.verdict)
    lines = list(_wrapped(text, _length_of(size), image.width - 16))
    step = round(size * 1.35)
    high = step * len(lines) + 10
    result = Image.new("RGB", (image.width, image.height + high), _VERDICTS[badge.verdict])
    result.paste(image, (0, high))
    pen = ImageDraw.Draw(result)
    for number, line in enumerate(lines):
        font, shown = font_for(line, size)
        write(pen, (8, 5 + number * step), shown, font, fill=_INK)
    return result


def _one_line(text: str) -> str:
    return "".join(c if c.isprintable() else "·" for c in text)


def _wrapped(text: str, measure: Callable[[str], float], width: float) -> Iterable[str]:
    line = ""
    for word in _short_words(text, measure, width):
        longer = f"{line} {word}".strip()
        if line and measure(longer) > width:
            yield line
            line = word
        else:
            line = longer
    if line:
        yield line


def _short_words(text: str, measure: Callable[[str], float], width: float) -> Iterator[str]:
    """Yield words; one that is wider than the line is broken."""
    for word in text.split(" "):
        plain = "".join(c if c.isprintable() else "·" for c in word)
        while len(plain) > 1 and measure(plain) > width:
            part = max(1, int(len(plain) * width / measure(plain)) - 1)
            yield plain[:part]
            plain = plain[part:]
        yield plain
