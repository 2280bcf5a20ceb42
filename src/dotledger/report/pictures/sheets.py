"""From tables to pictures: one image with its boxes, and a sheet of many."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from dotledger.core.measuring.measure import measure
from dotledger.core.pairing.rows import Paired, pair_tables
from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.findings import Findings
from dotledger.errors import ImageError, MissingExtra
from dotledger.files import safe_file_name, whole_file
from dotledger.images.prepare import decode_upright
from dotledger.report.pictures.marks import Mark, draw_marks

__all__ = ["Pictured", "contact_sheet", "picture_marks", "write_pictures"]

_GROUND = (18, 18, 30)
_WRITING = (226, 226, 238)


@dataclass(frozen=True, kw_only=True)
class Pictured:
    """What is to be seen of one image.

    Attributes
    ----------
    name : str
        How the user knows it.
    read : callable
        Returns the file's bytes.
    marks : tuple of Mark
        Boxes.
    footer : str
        What the image as a whole is said to be.
    summary : str
        A few words for a contact sheet.
    """

    name: str
    read: Callable[[], bytes]
    marks: tuple[Mark, ...]
    footer: str
    summary: str


def _spoken(label: str, confidence: float) -> str:
    return label if np.isnan(confidence) else f"{label} {confidence:.2f}"


def picture_marks(
    findings: Findings, annotations: Annotations | None, *, overlap: float = 0.5
) -> dict[str, tuple[list[Mark], str, str]]:
    """Return marks, footer and summary for every image that has findings or annotations.

    With annotations, findings are coloured by whether they are right, and misses are dashed; what
    is wrong or missed says why. Without, they are coloured by label.

    Parameters
    ----------
    findings : Findings
        May be empty.
    annotations : Annotations or None
        None to draw findings alone.
    overlap : float, default 0.5
        The required overlap, above 0 up to 1.

    Returns
    -------
    dict of str to tuple
        By image; empty without rows.
    """
    paired = None if annotations is None else pair_tables(findings, annotations, overlap=overlap)
    wrong, missed = _reasons(findings, annotations, overlap)
    marks: dict[str, list[Mark]] = {}
    found: dict[str, list[str]] = {}
    for image, mark in _finding_marks(findings, paired, wrong):
        marks.setdefault(image, []).append(mark)
    for image, words in _whole_image_words(findings):
        found.setdefault(image, []).append(words)
    if annotations is not None and paired is not None:
        for image, mark in _missed_marks(annotations, paired, missed):
            marks.setdefault(image, []).append(mark)
    names = dict.fromkeys([*findings.image.used(), *marks])
    return {
        name: (
            marks.get(name, []),
            "  ·  ".join(found.get(name, [])),
            _summary(marks.get(name, []), judged=paired is not None),
        )
        for name in names
    }


def _reasons(
    findings: Findings, annotations: Annotations | None, overlap: float
) -> tuple[dict[int, str], dict[int, str]]:
    """Return by row why a finding is wrong, and why an annotation is missed."""
    if annotations is None:
        return {}, {}
    why = measure(findings, annotations, overlap=overlap, draws=0).why()
    sides = (why.wrong, why.missed)
    return tuple({case.row: case.reason for case in side} for side in sides)  # type: ignore[return-value]


def _finding_marks(
    findings: Findings, paired: Paired | None, wrong: dict[int, str]
) -> Iterator[tuple[str, Mark]]:
    images, labels = findings.image.values(), findings.label.values()
    for row in np.flatnonzero(~np.isnan(findings.box[:, 0])):
        details = findings.details[row] if findings.details is not None else None
        x0, y0, x1, y1 = findings.box[row].tolist()
        spoken = _spoken(labels[row], findings.confidence[row])
        yield (
            images[row],
            Mark(
                box=(x0, y0, x1, y1),
                text=_with_reason(spoken, wrong.get(int(row))),
                label=labels[row],
                tone=paired.finding[row] if paired is not None else "",
                points=tuple(details.points.values()) if details else (),
            ),
        )


def _with_reason(text: str, reason: str | None) -> str:
    return f"{text} \N{MIDDLE DOT} {reason}" if reason else text


def _whole_image_words(findings: Findings) -> Iterator[tuple[str, str]]:
    images, kinds, labels = (c.values() for c in (findings.image, findings.kind, findings.label))
    for row in np.flatnonzero(np.isnan(findings.box[:, 0]) & ~findings.blank):
        sign = "! " if kinds[row] == "unsafe" else ""
        yield images[row], sign + _spoken(labels[row], findings.confidence[row])


def _missed_marks(
    annotations: Annotations, paired: Paired, missed: dict[int, str]
) -> Iterator[tuple[str, Mark]]:
    images, labels = annotations.image.values(), annotations.label.values()
    for row in np.flatnonzero(np.isin(paired.annotation, ("missed", "ignored"))):
        state = paired.annotation[row]
        x0, y0, x1, y1 = annotations.box[row].tolist()
        text = _with_reason(f"{state}: {labels[row]}", missed.get(int(row)))
        yield images[row], Mark(box=(x0, y0, x1, y1), text=text, tone=state, dashed=True)


def _summary(marks: Sequence[Mark], *, judged: bool) -> str:
    if not judged:
        return f"{len(marks)} found" if marks else "nothing found"
    counts = {
        tone: sum(mark.tone == tone for mark in marks) for tone in ("right", "wrong", "missed")
    }
    return (
        ", ".join(f"{count} {tone}" for tone, count in counts.items() if count) or "nothing there"
    )


def _opened(picture: Pictured) -> Image.Image | None:
    try:
        return decode_upright(picture.read()).convert("RGB")
    except (ImageError, MissingExtra, OSError):
        return None


def write_pictures(pictures: Iterable[Pictured], folder: Path) -> list[Path]:
    """Write one PNG for every image that can be decoded; return the paths written.

    Parameters
    ----------
    pictures : iterable of Pictured
        One an image.
    folder : Path
        It is there.

    Returns
    -------
    list of Path
        Images that cannot be decoded are left out.
    """
    written = []
    taken: set[str] = set()
    for picture in pictures:
        image = _opened(picture)
        if image is None:
            continue
        path = folder / f"{_free_name(safe_file_name(picture.name), taken)}.png"
        with whole_file(path) as draft:
            draw_marks(image, picture.marks, footer=picture.footer).save(
                draft, "PNG", compress_level=2
            )
        written.append(path)
    return written


def _free_name(stem: str, taken: set[str]) -> str:
    name, number = stem, 1
    while name.casefold() in taken:
        number += 1
        name = f"{stem}-{number}"
    taken.add(name.casefold())
    return name


def contact_sheet(
    pictures: Sequence[Pictured], *, title: str, columns: int = 4, width: int = 1600
) -> Image.Image:
    """Return one picture of many images with their boxes.

    Images that cannot be decoded get an empty cell that says so.

    Parameters
    ----------
    pictures : sequence of Pictured
        In reading order; none gives a sheet with the title only.
    title : str
        Written above.
    columns : int
        Images in a row.
    width : int
        Of the sheet, in pixels.
    """
    cell = (width - 12) // columns
    high = round(cell * 0.72)
    rows = -(-len(pictures) // columns)
    sheet = Image.new("RGB", (width, 56 + rows * (high + 34) + 12), _GROUND)
    pen = ImageDraw.Draw(sheet)
    pen.text((16, 14), title, font=ImageFont.load_default(24), fill=_WRITING)
    for number, picture in enumerate(pictures):
        x, y = 12 + (number % columns) * cell, 56 + (number // columns) * (high + 34)
        _put_cell(sheet, picture, x, y, cell - 12, high)
    return sheet


def _put_cell(sheet: Image.Image, picture: Pictured, x: int, y: int, wide: int, high: int) -> None:
    pen, font = ImageDraw.Draw(sheet), ImageFont.load_default(15)
    image = _opened(picture)
    if image is None:
        pen.rectangle((x, y, x + wide, y + high), outline=(90, 90, 110))
        pen.text((x + 12, y + 12), "cannot be decoded", font=font, fill=(170, 170, 190))
    else:
        scale = min(wide / image.width, high / image.height)
        size = (max(1, round(image.width * scale)), max(1, round(image.height * scale)))
        small = image.resize(size, Image.Resampling.LANCZOS)
        sheet.paste(draw_marks(small, picture.marks, scale=scale), (x + (wide - size[0]) // 2, y))
    caption = f"{picture.name}  ·  {picture.summary}"
    pen.text((x, y + high + 6), caption[:58], font=font, fill=_WRITING)
