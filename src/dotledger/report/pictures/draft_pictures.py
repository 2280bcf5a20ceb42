"""Two readings of the same boxes, side by side on the image: which one is right is seen at once."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from dotledger.images.image_preparation import decode_upright
from dotledger.report.pictures.box_marks import Mark, draw_marks
from dotledger.report.pictures.contact_sheets import side_by_side

if TYPE_CHECKING:
    from PIL.Image import Image

__all__ = ["readings_picture"]

_SIDE = 640


def readings_picture(
    image: bytes, readings: Sequence[Sequence[Sequence[float]]], *, side: int = _SIDE
) -> Image:
    """Return an image once for each reading, with the boxes that it makes.

    Parameters
    ----------
    image : bytes
        The encoded image.
    readings : sequence of boxes
        Of each reading its boxes, ``x0, y0, x1, y1`` as shares of the image, 0 to 1; what reaches
        beyond the image is cut at its edge.
    side : int
        Longest side of one copy in pixels.
    """
    shown = decode_upright(image).convert("RGB")
    shown.thumbnail((side, side))
    made = None
    for number, boxes in enumerate(readings, 1):
        marks = [
            Mark(box=_inside(box, shown.size), text=str(place), label=f"answer {number}")
            for place, box in enumerate(boxes, 1)
        ]
        drawn = draw_marks(shown.copy(), marks, footer=f"answer {number}")
        made = drawn if made is None else side_by_side(made, drawn)
    return shown if made is None else made


def _inside(box: Sequence[float], size: tuple[int, int]) -> tuple[float, float, float, float]:
    width, height = size
    xs = sorted(min(max(x, 0.0), 1.0) * width for x in (box[0], box[2]))
    ys = sorted(min(max(y, 0.0), 1.0) * height for y in (box[1], box[3]))
    return xs[0], ys[0], xs[1], ys[1]
