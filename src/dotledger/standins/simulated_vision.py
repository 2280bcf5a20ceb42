"""Looking at pixels: colour-and-shape segmentation, the same for every simulated service.

The services differ in the `Eyes` they look with. What they get wrong (faces too small for a
coarse grid, lanterns that touch, a moon as bright as a lantern) follows from the looking.
"""

from __future__ import annotations

import io
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps
from scipy import ndimage

from dotledger.core.boxes.box_forms import Box

__all__ = ["Eyes", "Sight", "Thing", "look", "open_upright"]

Mask = NDArray[np.bool_]
Bytes = NDArray[np.uint8]


@dataclass(frozen=True, kw_only=True)
class Eyes:
    """How one service looks.

    Attributes
    ----------
    working_side : int
        The longer side of the grid it looks at; larger images are shrunk to it.
    halo : float
        Share of a box's size added on each of its sides.
    pale_lanterns : bool
        Whether pale paper, and with it a full moon, passes for a lantern.
    parts_lanterns : bool
        Whether it tries to part lanterns that touch.
    smoke_rises : bool
        Whether grey must be taller than wide to pass for smoke.
    smallest_face : int
        The least pixels of the grid that a face must fill.
    """

    working_side: int = 1024
    halo: float = 0.0
    pale_lanterns: bool = False
    parts_lanterns: bool = False
    smoke_rises: bool = False
    smallest_face: int = 12


@dataclass(frozen=True, kw_only=True)
class Thing:
    """Something seen: label, how sure (0 to 1), box in pixels of the image looked at."""

    label: str
    confidence: float
    box: Box
    points: dict[str, tuple[float, float]] = field(default_factory=dict)
    outline: tuple[tuple[float, float], ...] = ()
    smiling: float = 0.0


@dataclass(frozen=True, kw_only=True)
class Sight:
    """Everything seen in one image.

    `width`, `height` are those of the image looked at, `factor` brings the working grid's
    pixels to it; unsafe content and labels map a name to how sure, 0 to 1.
    """

    width: int
    height: int
    factor: float
    objects: tuple[Thing, ...]
    faces: tuple[Thing, ...]
    unsafe: dict[str, float]
    labels: dict[str, float]


def open_upright(data: bytes) -> Image.Image:
    """Decode an image and turn it upright; OSError if it cannot be decoded whole."""
    image = Image.open(io.BytesIO(data))
    return ImageOps.exif_transpose(image).convert("RGB")


def look(image: Image.Image, eyes: Eyes) -> Sight:
    """Look at an upright RGB image."""
    factor = max(1.0, max(image.size) / eyes.working_side)
    grid = image
    if factor > 1:
        size = (max(1, round(image.width / factor)), max(1, round(image.height / factor)))
        grid = image.resize(size, Image.Resampling.BOX)
    colours = _Colours.of(grid)
    objects = [_placed(t, factor, eyes.halo, image) for t in _objects(colours, eyes)]
    faces = [_placed(t, factor, eyes.halo, image) for t in _faces(colours, eyes)]
    return Sight(
        width=image.width,
        height=image.height,
        factor=factor,
        objects=tuple(objects),
        faces=tuple(faces),
        unsafe=_unsafe(colours, eyes),
        labels=_labels(colours, objects, faces),
    )


def _placed(thing: Thing, factor: float, halo: float, image: Image.Image) -> Thing:
    x0, y0, x1, y1 = thing.box
    wide, high = halo * (x1 - x0), halo * (y1 - y0)
    box = (
        max(0.0, (x0 - wide) * factor),
        max(0.0, (y0 - high) * factor),
        min(float(image.width), (x1 + wide) * factor),
        min(float(image.height), (y1 + high) * factor),
    )
    return Thing(
        label=thing.label,
        confidence=thing.confidence,
        box=box,
        points={name: (x * factor, y * factor) for name, (x, y) in thing.points.items()},
        outline=tuple((x * factor, y * factor) for x, y in thing.outline),
        smiling=thing.smiling,
    )


@dataclass(frozen=True)
class _Colours:
    """Hue, saturation and value as bytes, each of shape (height, width)."""

    hue: Bytes
    saturation: Bytes
    value: Bytes

    @classmethod
    def of(cls, image: Image.Image) -> _Colours:
        planes = np.asarray(image.convert("HSV"))
        return cls(*(np.ascontiguousarray(planes[..., band]) for band in range(3)))

    def within(
        self,
        hue: tuple[float, float],
        saturation: tuple[float, float],
        value: tuple[float, float],
    ) -> Mask:
        """Return where hue (degrees), saturation and value (0 to 1) lie in closed ranges."""
        return (
            _table(hue, 360)[self.hue]
            & _table(saturation, 1)[self.saturation]
            & _table(value, 1)[self.value]
        )


def _table(span: tuple[float, float], full: float) -> Mask:
    """Return for each of 256 byte values whether it lies in a range."""
    values = np.arange(256) * (full / 255)
    inside: Mask = (values >= span[0]) & (values <= span[1])
    return inside


@dataclass(frozen=True)
class _Blob:
    """One connected patch: its box, pixels, own mask and whether the grid's edge cuts it."""

    box: Box
    area: int
    mask: Mask

    @property
    def width(self) -> float:
        return self.box[2] - self.box[0]

    @property
    def height(self) -> float:
        return self.box[3] - self.box[1]

    @property
    def filled(self) -> float:
        return self.area / (self.width * self.height)


def _blobs(mask: Mask, least: int) -> Iterator[_Blob]:
    marks, _ = ndimage.label(mask, structure=np.ones((3, 3)))
    for number, where in enumerate(ndimage.find_objects(marks), 1):
        own = marks[where] == number
        area = int(own.sum())
        if area >= least:
            rows, columns = where
            box = (columns.start, rows.start, columns.stop, rows.stop)
            yield _Blob((float(box[0]), float(box[1]), float(box[2]), float(box[3])), area, own)


def _closeness(value: float, ideal: float, reach: float) -> float:
    """Return 1 at the ideal, falling smoothly to 0.5 at `reach` away and on towards 0."""
    return 1.0 / (1.0 + ((value - ideal) / reach) ** 2)


def _sure(*shares: float) -> float:
    """Return the geometric mean of shares, kept within 0.01 to 0.995."""
    product = math.prod(max(share, 1e-6) for share in shares)
    return min(0.995, max(0.01, product ** (1 / len(shares))))


def _lantern_sure(blob: _Blob) -> float:
    aspect = _closeness(blob.width / blob.height, 0.95, 0.75)
    return _sure(aspect, _closeness(blob.filled, 0.78, 0.30), min(1.0, blob.area / 160))


def _banner_sure(blob: _Blob) -> float:
    return _sure(_closeness(blob.height / blob.width, 2.3, 1.6), _closeness(blob.filled, 0.9, 0.35))


def _basket_sure(blob: _Blob) -> float:
    return _sure(
        _closeness(blob.width / blob.height, 1.5, 1.0), _closeness(blob.filled, 0.58, 0.35)
    )


def _umbrella_sure(blob: _Blob) -> float:
    return _sure(
        _closeness(blob.width / blob.height, 1.2, 0.8), _closeness(blob.filled, 0.38, 0.25)
    )


def _stool_sure(blob: _Blob) -> float:
    return _sure(_closeness(blob.width / blob.height, 1.2, 0.8), _closeness(blob.filled, 0.5, 0.35))


_OBJECTS: tuple[tuple[str, Any, Callable[[_Blob], float]], ...] = (
    ("banner", ((168, 192), (0.5, 1), (0.3, 0.85)), _banner_sure),
    ("basket", ((22, 40), (0.5, 0.75), (0.38, 0.66)), _basket_sure),
    ("umbrella", ((310, 345), (0.42, 1), (0.5, 1)), _umbrella_sure),
    ("stool", ((95, 145), (0.35, 0.8), (0.4, 0.75)), _stool_sure),
)


def _objects(colours: _Colours, eyes: Eyes) -> list[Thing]:
    found = [
        Thing(label=label, confidence=confidence(blob), box=blob.box, outline=_outline(blob))
        for label, ranges, confidence in _OBJECTS
        for blob in _blobs(_closed(colours.within(*ranges), 5), 30)
    ]
    return found + _lanterns(colours, eyes)


def _closed(mask: Mask, size: int = 3) -> Mask:
    """Close gaps narrower than `size` pixels."""
    grown = ndimage.maximum_filter(mask.view(np.uint8), size)
    closed: Mask = ndimage.minimum_filter(grown, size).astype(bool)
    return closed | mask


def _lanterns(colours: _Colours, eyes: Eyes) -> list[Thing]:
    paper = colours.within((8, 52), (0.42, 1), (0.66, 1))
    if eyes.pale_lanterns:
        paper |= colours.within((36, 58), (0.16, 0.42), (0.85, 1))
    paper &= ~colours.within((44, 62), (0.62, 1), (0.95, 1))
    paper |= colours.within((4, 24), (0.62, 0.85), (0.30, 0.46))
    blobs = list(_blobs(_closed(paper), 40))
    parts = [part for blob in blobs for part in (_parted(blob) if eyes.parts_lanterns else [blob])]
    return [
        Thing(label="lantern", confidence=_lantern_sure(blob), box=blob.box, outline=_outline(blob))
        for blob in parts
        if blob.height >= 4 and blob.width >= 4
    ]


def _parted(blob: _Blob) -> list[_Blob]:
    """Part a patch at its necks: cores far from the edge grow back until they meet."""
    padded = np.pad(blob.mask, 1)
    depth = ndimage.distance_transform_edt(padded)
    cores, count = ndimage.label(depth > 0.72 * depth.max())
    if count < 2:
        return [blob]
    away = ndimage.distance_transform_edt(cores == 0, return_indices=True)[1]
    regions = np.where(padded, cores[tuple(away)], 0)[1:-1, 1:-1]
    x, y = blob.box[0], blob.box[1]
    parts = []
    for number in range(1, count + 1):
        parts += [_moved(p, x, y) for p in _blobs(regions == number, 40)][:1]
    return parts


def _moved(blob: _Blob, x: float, y: float) -> _Blob:
    x0, y0, x1, y1 = blob.box
    return _Blob((x0 + x, y0 + y, x1 + x, y1 + y), blob.area, blob.mask)


def _outline(blob: _Blob) -> tuple[tuple[float, float], ...]:
    """Return an octagon-like polygon: the extreme points of the patch in eight directions."""
    rows, columns = np.nonzero(blob.mask)
    corners = np.stack([np.r_[columns, columns + 1, columns, columns + 1],
                        np.r_[rows, rows, rows + 1, rows + 1]], axis=1)  # fmt: skip
    turns = np.arange(8) * (math.pi / 4)
    reach = corners @ np.stack([np.cos(turns), np.sin(turns)])
    points = corners[reach.argmax(axis=0)] + np.array(blob.box[:2])
    return tuple((float(x), float(y)) for x, y in points)


def _faces(colours: _Colours, eyes: Eyes) -> list[Thing]:
    skin = colours.within((8, 40), (0.14, 0.5), (0.82, 1))
    whole = ndimage.binary_fill_holes(_closed(skin))
    return [
        face
        for blob in _blobs(whole, eyes.smallest_face)
        if (face := _face(blob, colours)) is not None
    ]


def _face(blob: _Blob, colours: _Colours) -> Thing | None:
    """Return a face if the patch is upright and oval and has two dark eyes in its upper part."""
    x0, y0, x1, y1 = (int(v) for v in blob.box)
    value = colours.value[y0:y1, x0:x1]
    warm = (colours.hue[y0:y1, x0:x1] < 14) | (colours.hue[y0:y1, x0:x1] > 240)
    dark = (value < 158) & blob.mask
    upper, lower = dark.copy(), dark & warm
    upper[int(blob.height * 0.62) :] = False
    lower[: int(blob.height * 0.58)] = False
    points = _eyes(upper, blob) | _mouth(lower, blob)
    shape = _closeness(blob.width / blob.height, 0.82, 0.25)
    confidence = _sure(
        shape,
        _closeness(blob.filled, 0.78, 0.25),
        1.0 if "left eye" in points else 0.45,
        min(1.0, 0.25 + blob.area / 260),
    )
    if shape < 0.4 or blob.filled < 0.5:
        return None
    return Thing(
        label="face",
        confidence=confidence,
        box=blob.box,
        points=points,
        outline=_outline(blob),
        smiling=_smile(value, lower),
    )


def _eyes(dark: Mask, blob: _Blob) -> dict[str, tuple[float, float]]:
    spots = sorted(_blobs(dark, 2), key=lambda b: -b.area)[:2]
    if len(spots) < 2:
        return {}
    left, right = sorted(spots, key=lambda b: b.box[0])
    return {"left eye": _middle(left, blob), "right eye": _middle(right, blob)}


def _mouth(dark: Mask, blob: _Blob) -> dict[str, tuple[float, float]]:
    spots = sorted(_blobs(dark, 2), key=lambda b: -b.area)[:1]
    return {"mouth": _middle(spots[0], blob)} if spots else {}


def _middle(part: _Blob, whole: _Blob) -> tuple[float, float]:
    x0, y0, x1, y1 = part.box
    return whole.box[0] + (x0 + x1) / 2, whole.box[1] + (y0 + y1) / 2


def _smile(value: Bytes, mouth: Mask) -> float:
    """Return 1 for a mouth whose corners lie well above its middle, 0 for a flat one."""
    rows, columns = np.nonzero(mouth)
    if len(rows) < 4 or not value.size:
        return 0.5
    outer = rows[(columns <= columns.min() + 1) | (columns >= columns.max() - 1)]
    drop = float(rows.max() - outer.mean()) / max(1.0, float(np.ptp(columns)))
    return min(1.0, max(0.0, drop * 3))


def _unsafe(colours: _Colours, eyes: Eyes) -> dict[str, float]:
    flame = colours.within((43, 62), (0.55, 1), (0.92, 1))
    shards = colours.within((170, 215), (0.04, 0.26), (0.72, 1))
    grey = colours.within((0, 360), (0, 0.10), (0.40, 0.68))
    solid = ndimage.maximum_filter(ndimage.minimum_filter(grey.view(np.uint8), 5), 5).astype(bool)
    return {
        "open flame": _share_sure(flame, 0.0012),
        "broken glass": _shards_sure(shards),
        "smoke": _share_sure(_rising(solid) if eyes.smoke_rises else solid, 0.006),
    }


def _rising(mask: Mask) -> Mask:
    """Keep the patches that are taller than wide."""
    kept = np.zeros_like(mask)
    for blob in _blobs(mask, 20):
        if blob.height > 1.15 * blob.width:
            x0, y0, x1, y1 = (int(v) for v in blob.box)
            kept[y0:y1, x0:x1] |= blob.mask
    return kept


def _share_sure(mask: Mask, half: float) -> float:
    """Return how sure a share of the image makes: one half at `half`."""
    share = float(mask.mean()) if mask.size else 0.0
    return min(0.995, share / (share + half)) if share else 0.004


def _shards_sure(mask: Mask) -> float:
    pieces = sum(1 for _ in _blobs(mask, 6))
    return min(0.99, pieces / (pieces + 3.0)) if pieces else 0.004


def _labels(colours: _Colours, objects: list[Thing], faces: list[Thing]) -> dict[str, float]:
    found: dict[str, float] = {}
    for thing in objects:
        if thing.label in ("banner", "lantern", "umbrella"):
            found[thing.label] = max(found.get(thing.label, 0.0), thing.confidence)
    if faces:
        found["people"] = max(face.confidence for face in faces)
    found["moon"] = _moon_sure(colours)
    top = colours.value[: max(1, colours.value.shape[0] // 5)]
    found["dusk"] = _closeness(float(np.median(top)) / 255, 0.25, 0.2)
    return {name: confidence for name, confidence in found.items() if confidence >= 0.02}


def _moon_sure(colours: _Colours) -> float:
    pale = colours.within((36, 60), (0.14, 0.42), (0.88, 1))
    pale[pale.shape[0] // 2 :] = False
    rounds = [
        _sure(_closeness(b.width / b.height, 1, 0.3), _closeness(b.filled, 0.785, 0.12))
        for b in _blobs(_closed(pale), 60)
    ]
    return max(rounds, default=0.01)
