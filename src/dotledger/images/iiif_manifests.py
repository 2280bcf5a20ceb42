"""Images named by a IIIF manifest (IIIF Presentation API 3.0): one canvas an image."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

__all__ = ["Canvas", "canvases_of", "is_manifest"]

_CONTEXT = "http://iiif.io/api/presentation/3/context.json"


class Canvas(Struct, frozen=True, kw_only=True):
    """One canvas with the image that is painted on it.

    Attributes
    ----------
    id : str
        What annotations are about.
    address : str
        Of the image; "" for a canvas that nothing is painted on.
    width, height : float
        Of the canvas, in its own units.
    image_width, image_height : float
        Of the image in pixels; those of the canvas where the manifest does not say.
    pages : tuple of dict, or None
        Its annotation pages; None where the manifest speaks of none.
    """

    id: str
    address: str
    width: float
    height: float
    image_width: float
    image_height: float
    pages: tuple[dict[str, Any], ...] | None


def is_manifest(data: Any) -> bool:
    """Tell whether a JSON document is a manifest of version 3.

    Returns
    -------
    bool
        By its ``@context`` and type.
    """
    if not isinstance(data, dict) or data.get("type") != "Manifest":
        return False
    context = data.get("@context")
    return _CONTEXT in (context if isinstance(context, list) else [context])


def canvases_of(data: Any) -> list[Canvas]:
    """Return the canvases of a manifest, in its order.

    Parameters
    ----------
    data : object
        A manifest; see `is_manifest`.

    Returns
    -------
    list of Canvas
        Of a choice of images the first is taken. What is no canvas is passed over.
    """
    found = []
    for item in _dicts(data.get("items")):
        if item.get("type") == "Canvas":
            width, height = _size(item, 0.0, 0.0)
            body = next(_painted(item), {})
            image_width, image_height = _size(body, width, height)
            pages = item.get("annotations")
            found.append(
                Canvas(
                    id=str(item.get("id", "")),
                    address=str(body.get("id", "")),
                    width=width,
                    height=height,
                    image_width=image_width,
                    image_height=image_height,
                    pages=None if pages is None else tuple(_dicts(pages)),
                )
            )
    return found


def _dicts(value: Any) -> list[dict[str, Any]]:
    return [one for one in value if isinstance(one, dict)] if isinstance(value, list) else []


def _painted(canvas: dict[str, Any]) -> Iterator[dict[str, Any]]:
    for page in _dicts(canvas.get("items")):
        for annotation in _dicts(page.get("items")):
            bodies = annotation.get("body")
            for body in [bodies] if isinstance(bodies, dict) else _dicts(bodies):
                chosen = _dicts(body.get("items"))[:1] if body.get("type") == "Choice" else [body]
                yield from (one for one in chosen if one.get("type") == "Image")


def _size(part: dict[str, Any], width: float, height: float) -> tuple[float, float]:
    sizes = part.get("width"), part.get("height")
    if all(isinstance(size, int | float) and size > 0 for size in sizes):
        return float(sizes[0] or 0), float(sizes[1] or 0)
    return width, height
