"""One picture, from Python: for a notebook, or to be looked at."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from dotledger.core.arguments import as_path
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_annotations, as_findings
from dotledger.errors import ArgumentError
from dotledger.images.image_preparation import decode_upright
from dotledger.report.pictures.box_marks import draw_marks
from dotledger.report.pictures.box_writing import box_writing
from dotledger.report.pictures.contact_sheets import picture_marks

if TYPE_CHECKING:
    from PIL.Image import Image

    from dotledger.core.tables.threshold_values import Threshold

__all__ = ["picture"]

_CALL = "picture(image, findings, annotations)"


def picture(
    image: bytes | str | os.PathLike[str],
    findings: Findings | Any,
    annotations: Annotations | Any = None,
    *,
    name: str | None = None,
    overlap: float = 0.5,
    threshold: Threshold = None,
    confidence: Literal["share", "percent", "own"] = "share",
    write: str | None = None,
    place: Literal["near", "above", "below", "inside"] = "near",
    words: Mapping[str, str] | None = None,
    side: int | None = 1200,
) -> Image:
    """Return one image with its boxes, as a notebook shows it.

    Parameters
    ----------
    image : bytes or path
        The original image, not a copy with boxes.
    findings : Findings or dataframe
        Of several images those of `name` count.
    annotations : Annotations or dataframe, optional
        Then what is right, wrong and missed has its own lines, and the margin says why.
    name : str, optional
        The image's name in both tables; by default that of the file, or the only one.
    overlap : float, default 0.5
        Required overlap for a finding to be right.
    threshold : threshold, optional
        Findings below it are not drawn.
    confidence : {"share", "percent", "own"}
        Written as 0.97, 97 %, or as the service wrote it.
    write : str, optional
        Template for the text of each box, with fields of its finding:
        ``"{person}, {age:.0f}, {emotion}"``. A part, up to a comma, whose field a finding lacks is
        left out. By default the label with its confidence; for a face the person's name, or
        else the attributes that the description marks with ``show``.
    place : {"near", "above", "below", "inside"}
        Where the text stands if there is room; it covers no other text and no other small box.
    words : mapping of str to str, optional
        What is written for a label or the value of an attribute, such as ``{"calm": "ruhig"}``.
    side : int or None, default 1200
        Longest side of the image in pixels; None for full size.

    Returns
    -------
    Image
        Of Pillow: it shows itself in a notebook, and has ``save``.

    Raises
    ------
    ArgumentError
        If it is not plain whose findings are meant.
    ImageError
        If the image cannot be decoded.
    OSError
        If it cannot be read.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.picture("photos/walk-02.jpg", dotledger.read_findings("found.csv")).size
    (800, 588)
    """
    data = (
        image
        if isinstance(image, bytes)
        else as_path(image, place="image", call=_CALL).read_bytes()
    )
    found = as_findings(findings, _CALL)
    given = None if annotations is None else as_annotations(annotations, _CALL)
    known = found.image.used()
    wanted = name or _name(image, known)
    mine = found.take(found.image.among([wanted]))
    truth = None if given is None else given.take(given.image.among([wanted]))
    writing = box_writing(found, write=write, place=place, words=words, confidence=confidence)
    marks = picture_marks(mine.cut(threshold), truth, overlap=overlap, writing=writing)
    drawn, footer, _ = marks.get(wanted, ([], "", ""))
    shown = decode_upright(data).convert("RGB")
    scale = 1.0 if side is None else min(1.0, side / max(shown.size))
    if scale < 1:
        shown = shown.resize(
            (max(1, round(shown.width * scale)), max(1, round(shown.height * scale)))
        )
    return draw_marks(shown, drawn, scale=scale, footer=footer, place=place)


def _name(image: Any, known: list[str]) -> str:
    own = "" if isinstance(image, bytes) else Path(image).as_posix()
    near = [one for one in known if own and (own == one or own.endswith(f"/{one}"))]
    if len(near) == 1 or (not near and len(known) == 1):
        return (near or known)[0]
    raise ArgumentError(
        "findings of several images, and none of them has this image's name",
        place="name",
        got=own or "bytes",
        allowed=known[:8],
    )
