"""Would another convention fit better? Findings' boxes against truth, read in other ways."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Floats
from dotledger.core.boxes.box_forms import turn_upright
from dotledger.core.boxes.box_overlap import shared_and_areas
from dotledger.core.displays import JsonText
from dotledger.core.kinds import KINDS
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings

__all__ = [
    "CONVENTIONS",
    "Fit",
    "ImageSize",
    "better_convention",
    "check_conventions",
    "convention_lines",
]


@dataclass(frozen=True, kw_only=True)
class ImageSize:
    """Upright size of an original and of what was sent, in pixels, and its EXIF orientation."""

    width: float
    height: float
    sent_width: float
    sent_height: float
    orientation: float = 1


@dataclass(frozen=True, kw_only=True)
class Fit(JsonText):
    """How well boxes fit under one convention.

    Attributes
    ----------
    name : str
        What the boxes would have to be read as.
    mean_overlap : float
        Mean over annotations of the greatest overlap with a finding of the same kind in the
        same image, on the images whose boxes it moves; NaN if nothing can be compared.
    as_now : float
        The same on the same images, with the boxes as they are read.
    changed : int
        Boxes that this convention would move.
    """

    name: str
    mean_overlap: float
    as_now: float
    changed: int

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = asdict(self)
        return {name: None if value != value else value for name, value in plain.items()}


@dataclass(frozen=True)
class _Boxes:
    """Boxes with the sizes of their images, one row each."""

    box: Floats
    size: Floats
    sent: Floats
    orientation: NDArray[np.intp]


def _columns(boxes: _Boxes) -> tuple[Floats, ...]:
    return tuple(boxes.box.T)


def _stack(*columns: Floats) -> Floats:
    return np.stack(columns, axis=1)


def _as_centre(b: _Boxes) -> Floats:
    """Read as corner and size (or corners of it), but the corner was the centre."""
    x0, y0, x1, y1 = _columns(b)
    half_w, half_h = (x1 - x0) / 2, (y1 - y0) / 2
    return _stack(x0 - half_w, y0 - half_h, x1 - half_w, y1 - half_h)


def _as_corner(b: _Boxes) -> Floats:
    x0, y0, x1, y1 = _columns(b)
    half_w, half_h = (x1 - x0) / 2, (y1 - y0) / 2
    return _stack(x0 + half_w, y0 + half_h, x1 + half_w, y1 + half_h)


def _as_corners(b: _Boxes) -> Floats:
    x0, y0, x1, y1 = _columns(b)
    return _stack(x0, y0, x1 - x0, y1 - y0)


def _as_corner_and_size(b: _Boxes) -> Floats:
    x0, y0, x1, y1 = _columns(b)
    return _stack(x0, y0, x0 + x1, y0 + y1)


def _corners_as_centre(b: _Boxes) -> Floats:
    """Read as corners, but the numbers were centre and size."""
    x0, y0, x1, y1 = _columns(b)
    return _stack(x0 - x1 / 2, y0 - y1 / 2, x0 + x1 / 2, y0 + y1 / 2)


def _swapped(b: _Boxes) -> Floats:
    x0, y0, x1, y1 = _columns(b)
    return _stack(y0, x0, y1, x1)


def _fractions_swapped(b: _Boxes) -> Floats:
    across, down = b.size[:, 0] / b.size[:, 1], b.size[:, 1] / b.size[:, 0]
    x0, y0, x1, y1 = _columns(b)
    return _stack(y0 * across, x0 * down, y1 * across, x1 * down)


def _sides_swapped(b: _Boxes) -> Floats:
    x0, y0, x1, y1 = _columns(b)
    return _stack(x0, y0, x0 + (y1 - y0), y0 + (x1 - x0))


def _scaled(b: _Boxes, factor: Floats) -> Floats:
    return b.box * np.tile(factor, 2)


def _sent_pixels(b: _Boxes) -> Floats:
    return _scaled(b, b.size / b.sent)


def _original_pixels(b: _Boxes) -> Floats:
    return _scaled(b, b.sent / b.size)


def _percent(b: _Boxes) -> Floats:
    return b.box / 100


def _fraction(b: _Boxes) -> Floats:
    return b.box * 100


def _thousandths(b: _Boxes) -> Floats:
    return b.box / 10


def _turned(b: _Boxes) -> Floats:
    """Turn as the image's orientation says: it had not been applied."""
    lying = np.where((b.orientation >= 5)[:, None], b.size[:, ::-1], b.size)
    return _each_turned(b.box, lying, b.orientation)


def _fractions_turned(b: _Boxes) -> Floats:
    """Turn likewise what were fractions: they counted the sides of the image as stored."""
    lying = np.where((b.orientation >= 5)[:, None], b.size[:, ::-1], b.size)
    return _each_turned(b.box * np.tile(lying / b.size, 2), lying, b.orientation)


def _turned_back(b: _Boxes) -> Floats:
    """Turn back: the orientation had been applied twice."""
    back = np.array([1, 1, 2, 3, 4, 5, 8, 7, 6])[b.orientation]
    return _each_turned(b.box, b.size, back)


def _fractions_turned_back(b: _Boxes) -> Floats:
    """Turn back what were fractions of the upright image."""
    lying = np.where((b.orientation >= 5)[:, None], b.size[:, ::-1], b.size)
    return _turned_back(b) * np.tile(b.size / lying, 2)


def _each_turned(box: Floats, size: Floats, orientation: NDArray[np.intp]) -> Floats:
    turned = box.copy()
    for row in np.flatnonzero(orientation != 1):
        x0, y0, x1, y1 = box[row].tolist()
        width, height = size[row].tolist()
        points = turn_upright([(x0, y0), (x1, y1)], width, height, int(orientation[row]))
        xs, ys = sorted(p[0] for p in points), sorted(p[1] for p in points)
        turned[row] = (xs[0], ys[0], xs[1], ys[1])
    return turned


CONVENTIONS: dict[str, Callable[[_Boxes], Floats]] = {
    "as now": lambda b: b.box,
    "centre and size, where a corner and size were read": _as_centre,
    "corner and size, where a centre and size were read": _as_corner,
    "corners, where a corner and size were read": _as_corners,
    "corner and size, where corners were read": _as_corner_and_size,
    "centre and size, where corners were read": _corners_as_centre,
    "x and y swapped, in pixels": _swapped,
    "x and y swapped, in fractions": _fractions_swapped,
    "width and height swapped": _sides_swapped,
    "pixels of the sent image, where the original's were read": _sent_pixels,
    "pixels of the original, where the sent image's were read": _original_pixels,
    "percent, where fractions were read": _percent,
    "fractions, where percent were read": _fraction,
    "thousandths, where percent were read": _thousandths,
    "boxes refer to the image before rotation": _turned,
    "fractions of the image before rotation": _fractions_turned,
    "boxes were rotated twice": _turned_back,
    "fractions were rotated twice": _fractions_turned_back,
}
"""Ways in which boxes may have to be read, each with the change from what was read."""


def check_conventions(
    findings: Findings, annotations: Annotations, sizes: Mapping[str, ImageSize]
) -> list[Fit]:
    """Say how well findings' boxes fit annotations, as read and under other conventions.

    Parameters
    ----------
    findings : Findings
        Those with boxes on images of `sizes` are looked at, whatever their label.

    Returns
    -------
    list of Fit
        The best first; conventions that would move no box are left out, but for "as now".
    """
    known = np.isin(findings.image.values().astype(str), list(sizes)) if len(findings) else _none()
    found = findings.take(known & ~np.isnan(findings.box[:, 0]))
    boxes, touching = _with_sizes(found, sizes), _Touching.of(found, annotations)
    now = touching.best(boxes.box)
    changed = {name: change(boxes) for name, change in CONVENTIONS.items()}
    changed |= _working_sizes(boxes, touching)
    fits = [_fit(name, box, boxes.box, touching, now) for name, box in changed.items()]
    kept = [fit for fit in fits if fit.changed or fit.name == "as now"]
    return sorted(kept, key=lambda fit: -np.nan_to_num(fit.mean_overlap, nan=-1.0))


_SIDES = (
    *(224, 256, 300, 320, 384, 416, 448, 480, 500, 512, 600, 640, 672, 720, 768, 800, 896, 960),
    *(1000, 1024, 1080, 1200, 1280, 1333, 1536, 1600, 1920, 2000, 2048, 2560),
)
"""Longer sides that services shrink images to."""


def _working_sizes(boxes: _Boxes, touching: _Touching) -> dict[str, Floats]:
    """Return boxes as pixels of the service's own working size, which the findings do not tell.

    Of each image, how far the annotated boxes reach over how far the found ones do says about how
    much larger it is than the working size; the nearest usual side below and above are tried.
    """
    images = np.unique(touching.image)
    if not len(images) or not len(boxes.box):
        return {}
    findings = np.zeros(int(max(images.max(), touching.found_image.max())) + 1)
    true, side = findings.copy(), findings.copy()
    raw = boxes.box * np.tile(boxes.sent / boxes.size, 2)
    np.maximum.at(findings, touching.found_image, raw[:, 2:].max(axis=1))
    np.maximum.at(true, touching.image, touching.annotations[:, 2:].max(axis=1))
    side[touching.found_image] = boxes.size.max(axis=1)
    both = (findings > 0) & (true > 0)
    if not both.any():
        return {}
    about = float(np.median(side[both] * findings[both] / true[both]))
    order = np.argsort([abs(math.log(one / about)) for one in _SIDES])[:_NEAREST]
    longer = boxes.size.max(axis=1, keepdims=True)
    return {
        f"pixels of a working size of {_SIDES[i]} on the longer side": raw * (longer / _SIDES[i])
        for i in sorted(order.tolist())
    }


_NEAREST = 5


def better_convention(fits: Sequence[Fit]) -> Fit | None:
    """Return the convention that boxes should clearly be read by, if one fits well and better.

    Each is judged on the images whose boxes it moves: one that concerns turned images only is not
    drowned by the others. What fits badly under every convention is not a matter of conventions.
    """
    good = [
        fit
        for fit in fits
        if fit.mean_overlap >= _WELL and fit.mean_overlap > fit.as_now + _CLEARLY
    ]
    return max(good, key=lambda fit: fit.mean_overlap - fit.as_now, default=None)


_WELL = 0.5
_CLEARLY = 0.1
_MENDED = {
    "centre and size, where a corner and size were read": 'form = "centre+size"',
    "corner and size, where a centre and size were read": 'form = "corner+size"',
    "corners, where a corner and size were read": 'form = "corners"',
    "corner and size, where corners were read": 'form = "corner+size"',
    "centre and size, where corners were read": 'form = "centre+size"',
    "x and y swapped, in pixels": "x and y in the other order",
    "x and y swapped, in fractions": "x and y in the other order",
    "width and height swapped": "width and height in the other order",
    "pixels of the sent image, where the original's were read": 'of = "sent"',
    "pixels of the original, where the sent image's were read": 'of = "original"',
    "percent, where fractions were read": 'unit = "percent"',
    "fractions, where percent were read": 'unit = "fraction"',
    "thousandths, where percent were read": 'unit = "thousandths"',
    "boxes refer to the image before rotation": "upright = false",
    "fractions of the image before rotation": "upright = false",
    "boxes were rotated twice": "upright = true",
    "fractions were rotated twice": "upright = true",
}
"""What the box of a reading rule has to say instead."""


def convention_lines(
    findings: Findings, annotations: Annotations, sizes: Mapping[str, ImageSize]
) -> list[str]:
    """Return whether boxes should clearly be read in another way, in a sentence; mostly none.

    Parameters
    ----------
    annotations : Annotations
        Of the same images; at most 500 are looked at.
    sizes : mapping of str to ImageSize
        Those that are known; without them only conventions count that need no size.

    Returns
    -------
    list of str
        At most one, with what the description has to say instead.
    """
    boxed = ~np.isnan(findings.box[:, 0])
    both = set(findings.image.take(boxed).used()) & set(annotations.image.used())
    names = sorted(both & set(sizes) if sizes else both)[:_MOST_IMAGES]
    rows = boxed & findings.image.among(names)
    if int(rows.sum()) < _ENOUGH:
        return []
    about = {name: sizes.get(name, _NO_SIZE) for name in names}
    part = annotations.take(annotations.image.among(names))
    fits = check_conventions(findings.take(rows), part, about)
    best = better_convention([fit for fit in fits if fit.changed >= _ENOUGH])
    if best is None:
        return []
    mended = f"; the description then says {_MENDED[best.name]}" if best.name in _MENDED else ""
    return [
        f"boxes fit the annotations better read as {best.name}: mean overlap "
        f"{best.mean_overlap:.2f} instead of {best.as_now:.2f}{mended}."
    ]


_MOST_IMAGES = 500
_ENOUGH = 10
_NO_SIZE = ImageSize(width=1, height=1, sent_width=1, sent_height=1)


def _none() -> NDArray[np.bool_]:
    return np.zeros(0, dtype=bool)


def _with_sizes(findings: Findings, sizes: Mapping[str, ImageSize]) -> _Boxes:
    facts = [sizes[name] for name in findings.image.values()]
    return _Boxes(
        box=findings.box,
        size=np.array([(f.width, f.height) for f in facts], dtype=np.float64).reshape(-1, 2),
        sent=np.array([(f.sent_width, f.sent_height) for f in facts]).reshape(-1, 2),
        orientation=np.array([f.orientation for f in facts], dtype=np.intp),
    )


@dataclass(frozen=True)
class _Touching:
    """Annotated boxes with the findings of their image and kind, each found once.

    Findings stand in the order `order`; those of annotation i begin at `first[i]`, `count[i]` many.
    """

    annotations: Floats
    image: NDArray[np.intp]
    found_image: NDArray[np.intp]
    order: NDArray[np.intp]
    first: NDArray[np.intp]
    count: NDArray[np.intp]

    @classmethod
    def of(cls, findings: Findings, annotations: Annotations) -> _Touching:
        names, kinds = findings.image.used(), list(KINDS)
        image, kind = annotations.image.onto(names), annotations.kind.onto(kinds)
        boxed = ~np.isnan(annotations.box[:, 0]) & ~annotations.ignore
        rows = np.flatnonzero((image >= 0) & (kind >= 0) & boxed)
        found_image = findings.image.onto(names)
        own = found_image * len(kinds) + findings.kind.onto(kinds)
        wanted = image[rows] * len(kinds) + kind[rows]
        order = np.argsort(own, kind="stable")
        first = np.searchsorted(own[order], wanted, side="left")
        last = np.searchsorted(own[order], wanted, side="right")
        return cls(annotations.box[rows], image[rows], found_image, order, first, last - first)

    def best(self, box: Floats) -> Floats:
        """Return each annotation's greatest overlap; boxes turned inside out overlap nothing."""
        found = np.zeros(len(self.annotations))
        boxes = box[self.order]
        total = np.cumsum(self.count)
        for start in range(0, int(total[-1]) if len(total) else 0, _PAIRS_AT_ONCE):
            rows = np.flatnonzero((total > start) & (total <= start + _PAIRS_AT_ONCE))
            rows = rows[self.count[rows] > 0]
            if len(rows):
                found[rows] = self._best_of(rows, boxes)
        return found

    def _best_of(self, rows: NDArray[np.intp], boxes: Floats) -> Floats:
        count = self.count[rows]
        starts = np.cumsum(count) - count
        at = np.arange(int(count.sum())) - np.repeat(starts - self.first[rows], count)
        mine = boxes[at]
        shared, own, other = shared_and_areas(
            mine, np.repeat(self.annotations[rows], count, axis=0)
        )
        right = (mine[:, 0] < mine[:, 2]) & (mine[:, 1] < mine[:, 3])
        with np.errstate(divide="ignore", invalid="ignore"):
            share = np.where(right, shared / (own + other - shared), 0.0)
        best: Floats = np.maximum.reduceat(share, starts)
        return best


# Some 100 MB of working arrays, whatever the number of boxes.
_PAIRS_AT_ONCE = 2_000_000


def _fit(name: str, box: Floats, before: Floats, touching: _Touching, now: Floats) -> Fit:
    moved = (np.abs(box - before) > 1e-6).any(axis=1)
    images = np.unique(touching.found_image[moved])
    judged = np.isin(touching.image, images) if name != "as now" else np.ones(len(now), dtype=bool)
    shares = touching.best(box)[judged]
    return Fit(
        name=name,
        mean_overlap=float(np.mean(shares)) if len(shares) else np.nan,
        as_now=float(np.mean(now[judged])) if len(shares) else np.nan,
        changed=int(moved.sum()),
    )
