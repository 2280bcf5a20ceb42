"""Drawing the things of an evening walk, each returning the exact box it fills.

Everything is drawn at twice the final size and brought down at the end; the functions take
and return coordinates of the final image.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from random import Random

import numpy as np
from PIL import Image, ImageChops, ImageDraw, ImageFilter

__all__ = ["PAINTERS", "Painted", "PaintedCanvas"]

SCALE = 2
Colour = tuple[int, int, int]
Box = tuple[float, float, float, float]

SKIES: dict[str, tuple[Colour, Colour, Colour]] = {
    "indigo": ((18, 20, 52), (54, 44, 98), (122, 78, 112)),
    "plum": ((28, 16, 46), (72, 40, 86), (128, 74, 96)),
    "slate": ((16, 26, 48), (40, 56, 88), (96, 92, 120)),
}


@dataclass(frozen=True, kw_only=True)
class Painted:
    """One thing drawn, and what is true of it.

    Attributes
    ----------
    kind, label : str
        As in annotations.
    box : tuple of four floats
        Pixels of the finished image.
    ignore : bool
        Doubtful on purpose.
    """

    kind: str
    label: str
    box: Box
    ignore: bool = False


@dataclass
class PaintedCanvas:
    """A picture in the making: pixels at double size and what has been drawn so far."""

    width: int
    height: int
    random: Random
    image: Image.Image = field(init=False)
    glow: Image.Image = field(init=False)
    painted: list[Painted] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.image = Image.new("RGB", (self.width * SCALE, self.height * SCALE))
        self.glow = Image.new("RGB", (self.width // 4 + 1, self.height // 4 + 1))

    @property
    def draw(self) -> ImageDraw.ImageDraw:
        """A pen on the double-sized image."""
        return ImageDraw.Draw(self.image)

    def polygon(self, points: list[tuple[float, float]], colour: Colour) -> None:
        """Fill a polygon."""
        self.draw.polygon([(x * SCALE, y * SCALE) for x, y in points], fill=colour)

    def ellipse(self, box: Box, colour: Colour) -> None:
        """Fill an ellipse."""
        self.draw.ellipse([v * SCALE for v in box], fill=colour)

    def line(self, points: list[tuple[float, float]], colour: Colour, width: float) -> None:
        """Draw a line."""
        scaled = [(x * SCALE, y * SCALE) for x, y in points]
        self.draw.line(scaled, fill=colour, width=max(1, round(width * SCALE)), joint="curve")

    def arc(self, box: Box, start: float, end: float, colour: Colour, width: float) -> None:
        """Draw a part of an ellipse's outline; degrees clockwise from three o'clock."""
        scaled = [v * SCALE for v in box]
        self.draw.arc(scaled, start, end, fill=colour, width=max(1, round(width * SCALE)))

    def shine(self, x: float, y: float, radius: float, colour: Colour) -> None:
        """Add light that will be spread softly around a point."""
        pen = ImageDraw.Draw(self.glow)
        x, y, radius = x / 4, y / 4, radius / 4
        pen.ellipse((x - radius, y - radius, x + radius, y + radius), fill=colour)

    def finished(self) -> Image.Image:
        """Return the picture at its final size, with the light spread."""
        small = self.image.reduce(SCALE)
        soft = self.glow.filter(ImageFilter.GaussianBlur(7)).resize(small.size)
        dimmed = soft.point(lambda value: value * 0.42)
        return ImageChops.screen(small, dimmed)


def _mix(a: Colour, b: Colour, share: float) -> Colour:
    mixed = tuple(round(p + (q - p) * share) for p, q in zip(a, b, strict=True))
    return mixed[0], mixed[1], mixed[2]


def paint_sky(canvas: PaintedCanvas, name: str) -> None:
    """Fill the canvas with a dusk sky, stars, two rows of hills and dark ground."""
    top, middle, low = SKIES[name]
    rows = np.linspace(0, 1, canvas.height * SCALE)
    stops = np.array([top, middle, low], dtype=np.float64)
    colours = np.stack([np.interp(rows, (0, 0.45, 0.72), stops[:, c]) for c in range(3)], 1)
    column = Image.fromarray(colours[:, None, :].astype(np.uint8))
    canvas.image.paste(column.resize(canvas.image.size, Image.Resampling.NEAREST))
    for _ in range(canvas.width * canvas.height // 9000):
        _star(canvas)
    _hills(canvas, 0.60, 26, _mix(low, (30, 26, 52), 0.55))
    _hills(canvas, 0.66, 18, _mix(low, (24, 20, 40), 0.82))
    _ground(canvas)


def _star(canvas: PaintedCanvas) -> None:
    x, y = canvas.random.uniform(0, canvas.width), canvas.random.uniform(0, canvas.height * 0.4)
    size = canvas.random.uniform(0.4, 1.1)
    canvas.ellipse((x - size, y - size, x + size, y + size), (196, 198, 224))


def _hills(canvas: PaintedCanvas, level: float, swing: float, colour: Colour) -> None:
    base, phase = canvas.height * level, canvas.random.uniform(0, 6)
    ridge = [
        (x, base + swing * math.sin(x / 97 + phase) + swing / 2 * math.sin(x / 41 + 2 * phase))
        for x in range(0, canvas.width + 9, 8)
    ]
    canvas.polygon([*ridge, (canvas.width, canvas.height), (0, canvas.height)], colour)


def _ground(canvas: PaintedCanvas) -> None:
    top = canvas.height * 0.70
    canvas.polygon(
        [(0, top), (canvas.width, top), (canvas.width, canvas.height), (0, canvas.height)],
        (34, 30, 50),
    )
    middle = canvas.width * canvas.random.uniform(0.4, 0.6)
    path = [(middle - 26, top), (middle + 26, top)]
    path += [(canvas.width * 0.82, canvas.height), (canvas.width * 0.18, canvas.height)]
    canvas.polygon(path, (50, 44, 64))
    for _ in range(60):
        x, y = canvas.random.uniform(0, canvas.width), canvas.random.uniform(top + 8, canvas.height)
        canvas.ellipse((x, y, x + 5, y + 1.6), (44, 39, 60))


def paint_string(canvas: PaintedCanvas, y: float) -> None:
    """Hang a line across the picture."""
    places = [float(x) for x in range(0, canvas.width + 9, 8)]
    sag = [(x, y + 16 * math.sin(math.pi * x / canvas.width)) for x in places]
    canvas.line(sag, (84, 70, 92), 1.4)


def paint_moon(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a full moon with faint seas; it looks like a lantern and is none."""
    r = size / 2
    canvas.shine(x, y, r * 1.25, (150, 140, 104))
    canvas.ellipse((x - r, y - r, x + r, y + r), (250, 238, 190))
    for dx, dy, part in ((-0.3, -0.2, 0.26), (0.25, 0.15, 0.34), (-0.1, 0.45, 0.18)):
        s = part * r
        centre_x, centre_y = x + dx * r, y + dy * r
        canvas.ellipse((centre_x - s, centre_y - s, centre_x + s, centre_y + s), (240, 224, 168))
    return [Painted(kind="label", label="moon", box=(x - r, y - r, x + r, y + r))]


def paint_lantern(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a glowing paper lantern with ribs, caps and a tassel."""
    tall = canvas.random.random() < 0.35
    half_w, half_h = (size * 0.32, size * 0.40) if tall else (size * 0.42, size * 0.36)
    warm: Colour = canvas.random.choice([(236, 116, 40), (240, 132, 44), (228, 100, 42)])
    canvas.shine(x, y, size * 0.62, (214, 120, 44))
    for step in range(12):
        share = step / 11
        shrink = 1 - share * 0.92
        colour = _mix(warm, (255, 204, 112), share)
        w, h = half_w * shrink, half_h * shrink
        canvas.ellipse((x - w, y - h, x + w, y + h), colour)
    for rib in (-0.66, -0.33, 0.0, 0.33, 0.66):
        w = half_w * abs(rib)
        canvas.arc(
            (x - w, y - half_h, x + w, y + half_h),
            90 if rib < 0 else 270,
            270 if rib < 0 else 90,
            _mix(warm, (190, 80, 30), 0.5),
            max(0.7, size / 70),
        )
    cap = size * 0.06
    for edge in (y - half_h, y + half_h):
        canvas.polygon(
            [
                (x - half_w * 0.45, edge - cap),
                (x + half_w * 0.45, edge - cap),
                (x + half_w * 0.45, edge + cap),
                (x - half_w * 0.45, edge + cap),
            ],
            (96, 38, 26),
        )
    return [
        Painted(
            kind="object",
            label="lantern",
            box=(x - half_w, y - half_h - cap, x + half_w, y + half_h + cap),
        )
    ]


def paint_reflection(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a lantern's dim reflection in a puddle: doubtful on purpose."""
    r = size / 2
    canvas.ellipse((x - r * 2.4, y - r * 0.9, x + r * 2.4, y + r * 0.9), (38, 44, 78))
    canvas.ellipse((x - r, y - r * 0.6, x + r, y + r * 0.6), (214, 128, 62))
    canvas.line([(x - r, y), (x + r, y)], (90, 70, 80), 1.4)
    box = (x - r, y - r * 0.6, x + r, y + r * 0.6)
    return [Painted(kind="object", label="lantern", box=box, ignore=True)]


def paint_banner(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a hanging teal banner with a swallow tail and a disc."""
    w, h = size * 0.42, size
    left, right, top, bottom = x - w / 2, x + w / 2, y - h / 2, y + h / 2
    canvas.line([(left - 5, top), (right + 5, top)], (40, 30, 34), 2.4)
    canvas.polygon(
        [(left, top), (right, top), (right, bottom), (x, bottom - w * 0.4), (left, bottom)],
        (28, 140, 144),
    )
    canvas.polygon(
        [(left, top), (left + w * 0.14, top), (left + w * 0.14, bottom - w * 0.11), (left, bottom)],
        (20, 112, 120),
    )
    r = w * 0.24
    canvas.ellipse((x - r, y - h * 0.12 - r, x + r, y - h * 0.12 + r), (66, 188, 186))
    return [Painted(kind="object", label="banner", box=(left, top, right, bottom))]


def paint_basket(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a woven basket with a handle."""
    w, h = size / 2, size * 0.34
    top = y - h * 0.2
    canvas.arc(
        (x - w * 0.7, y - h * 1.3, x + w * 0.7, y + h * 0.7),
        180,
        360,
        (138, 94, 52),
        max(2.0, size / 18),
    )
    canvas.polygon(
        [(x - w, top), (x + w, top), (x + w * 0.72, y + h), (x - w * 0.72, y + h)], (146, 100, 54)
    )
    for row in range(4):
        level = top + (y + h - top) * (row + 0.5) / 4.4
        reach = w * (1 - 0.28 * (row + 0.5) / 4.4) * 0.94
        canvas.line([(x - reach, level), (x + reach, level)], (116, 76, 40), max(0.8, size / 60))
    for column in range(-3, 4):
        canvas.line(
            [(x + column * w * 0.27, top), (x + column * w * 0.2, y + h)],
            (124, 82, 44),
            max(0.6, size / 80),
        )
    return [Painted(kind="object", label="basket", box=(x - w, y - h * 1.3, x + w, y + h))]


def paint_umbrella(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw an open paper umbrella with ribs and a stick."""
    w, top, rim = size / 2, y - size * 0.42, y - size * 0.06
    canvas.line([(x, rim), (x, y + size * 0.42)], (150, 58, 104), max(2.4, size / 30))
    canvas.draw.pieslice(
        [(x - w) * SCALE, top * SCALE, (x + w) * SCALE, (2 * rim - top) * SCALE],
        180,
        360,
        fill=(192, 58, 122),
    )
    for spread in (-0.66, -0.33, 0.0, 0.33, 0.66):
        canvas.line(
            [(x, top), (x + w * spread * 1.05, rim - 1)], (160, 40, 100), max(0.8, size / 80)
        )
    canvas.arc(
        (x - w * 0.6, top + 4, x + w * 0.6, 2 * rim - top - 4),
        200,
        340,
        (222, 104, 156),
        max(1.0, size / 50),
    )
    return [Painted(kind="object", label="umbrella", box=(x - w, top, x + w, y + size * 0.42))]


def paint_stool(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a green folding stool with crossed legs."""
    w, h = size / 2, size * 0.42
    thick = max(3.0, size / 11)
    for direction in (-1, 1):
        canvas.line(
            [
                (x - direction * w * 0.84, y - h * 0.7),
                (x + direction * w * 0.84, y + h - thick / 3),
            ],
            (58, 128, 66),
            thick,
        )
    canvas.polygon(
        [(x - w, y - h), (x + w, y - h), (x + w * 0.9, y - h * 0.52), (x - w * 0.9, y - h * 0.52)],
        (84, 158, 84),
    )
    return [Painted(kind="object", label="stool", box=(x - w, y - h, x + w, y + h))]


def paint_person(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a person with a painted face; (x, y) is the middle of the face, size its height."""
    rx, ry = size * 0.41, size * 0.5
    robe: Colour = canvas.random.choice([(62, 66, 92), (70, 62, 84), (54, 70, 88)])
    canvas.polygon(
        [
            (x - rx * 0.7, y + ry * 0.8),
            (x + rx * 0.7, y + ry * 0.8),
            (x + rx * 2.1, y + ry * 5.2),
            (x - rx * 2.1, y + ry * 5.2),
        ],
        robe,
    )
    canvas.polygon(
        [(x - rx * 0.25, y + ry), (x + rx * 0.25, y + ry), (x, y + ry * 2.2)],
        _mix(robe, (160, 160, 190), 0.4),
    )
    canvas.ellipse((x - rx * 1.22, y - ry * 1.3, x + rx * 1.22, y + ry * 0.7), (36, 26, 34))
    canvas.ellipse((x - rx, y - ry, x + rx, y + ry), (250, 212, 178))
    _features(canvas, x, y, rx, ry)
    return [Painted(kind="face", label="face", box=(x - rx, y - ry, x + rx, y + ry))]


def _features(canvas: PaintedCanvas, x: float, y: float, rx: float, ry: float) -> None:
    ink: Colour = (46, 28, 34)
    for side in (-1, 1):
        eye_x, eye_y = x + side * rx * 0.4, y - ry * 0.12
        canvas.ellipse(
            (eye_x - rx * 0.15, eye_y - ry * 0.11, eye_x + rx * 0.15, eye_y + ry * 0.11), ink
        )
        canvas.line(
            [(eye_x - rx * 0.2, eye_y - ry * 0.28), (eye_x + rx * 0.2, eye_y - ry * 0.32)],
            (92, 62, 56),
            max(0.7, ry / 16),
        )
        cheek_x, cheek_y = x + side * rx * 0.56, y + ry * 0.26
        canvas.ellipse(
            (cheek_x - rx * 0.17, cheek_y - ry * 0.1, cheek_x + rx * 0.17, cheek_y + ry * 0.1),
            (246, 178, 150),
        )
    if canvas.random.random() < 0.6:
        canvas.arc(
            (x - rx * 0.38, y + ry * 0.1, x + rx * 0.38, y + ry * 0.6),
            20,
            160,
            (168, 58, 62),
            max(1.0, ry / 9),
        )
    else:
        canvas.line(
            [(x - rx * 0.26, y + ry * 0.5), (x + rx * 0.26, y + ry * 0.5)],
            (168, 58, 62),
            max(1.0, ry / 9),
        )


def paint_flame(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw an open flame over a few sticks."""
    canvas.shine(x, y, size * 0.7, (226, 160, 40))
    for reach, colour in ((1.0, (255, 196, 24)), (0.72, (255, 222, 44)), (0.42, (255, 240, 110))):
        w, h = size * 0.3 * reach, size * 0.5 * reach
        base = y + size * 0.4
        canvas.ellipse((x - w, base - h * 1.1, x + w, base), colour)
        canvas.polygon(
            [
                (x - w * 0.95, base - h * 0.6),
                (x + w * 0.95, base - h * 0.6),
                (x + w * 0.2, base - h * 1.8),
            ],
            colour,
        )
    canvas.line(
        [(x - size * 0.34, y + size * 0.46), (x + size * 0.34, y + size * 0.38)], (70, 44, 34), 5
    )
    canvas.line(
        [(x - size * 0.34, y + size * 0.38), (x + size * 0.34, y + size * 0.46)], (62, 38, 30), 5
    )
    return [
        Painted(
            kind="unsafe",
            label="open flame",
            box=(x - size / 2, y - size / 2, x + size / 2, y + size / 2),
        )
    ]


def paint_glass(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a scatter of glass shards."""
    for _ in range(11):
        cx = x + canvas.random.uniform(-0.5, 0.5) * size
        cy = y + canvas.random.uniform(-0.22, 0.22) * size
        reach = size * canvas.random.uniform(0.07, 0.13)
        turn = canvas.random.uniform(0, 6.28)
        shard = [
            (cx + reach * math.cos(turn + a), cy + reach * 0.7 * math.sin(turn + a))
            for a in (0, 1.9, 3.4)
        ]
        canvas.polygon(
            shard, canvas.random.choice([(206, 232, 240), (190, 222, 234), (222, 240, 246)])
        )
    return [
        Painted(
            kind="unsafe",
            label="broken glass",
            box=(x - size / 2, y - size / 4, x + size / 2, y + size / 4),
        )
    ]


def paint_smoke(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a rising column of grey smoke."""
    for step in range(9):
        share = step / 8
        reach = size * (0.10 + 0.16 * share)
        cx = x + size * 0.12 * math.sin(step * 0.9)
        cy = y + size * (0.45 - 0.9 * share)
        tone = round(118 + 34 * share)
        canvas.ellipse(
            (cx - reach, cy - reach * 0.8, cx + reach, cy + reach * 0.8), (tone, tone, tone + 3)
        )
    return [
        Painted(
            kind="unsafe",
            label="smoke",
            box=(x - size / 2, y - size / 2, x + size / 2, y + size / 2),
        )
    ]


def paint_stone(canvas: PaintedCanvas, x: float, y: float, size: float) -> list[Painted]:
    """Draw a grey boulder; it has smoke's colour and is harmless."""
    w, h = size / 2, size * 0.3
    canvas.ellipse((x - w, y - h, x + w, y + h), (122, 122, 126))
    canvas.ellipse((x - w * 0.7, y - h * 0.8, x + w * 0.3, y + h * 0.2), (140, 140, 143))
    canvas.line([(x - w * 0.1, y - h * 0.5), (x + w * 0.2, y + h * 0.4)], (104, 104, 108), 2)
    return []


Painter = Callable[[PaintedCanvas, float, float, float], list[Painted]]

PAINTERS: dict[str, Painter] = {
    "moon": paint_moon,
    "lantern": paint_lantern,
    "reflection": paint_reflection,
    "banner": paint_banner,
    "basket": paint_basket,
    "umbrella": paint_umbrella,
    "stool": paint_stool,
    "person": paint_person,
    "flame": paint_flame,
    "glass": paint_glass,
    "smoke": paint_smoke,
    "stone": paint_stone,
}
"""Every thing a scene may hold, with the function that draws it."""
