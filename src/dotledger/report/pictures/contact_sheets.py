"""From tables to pictures: one image with its boxes, and a sheet of many."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from dotledger.core.boxes.box_forms import boxes_in_pixels
from dotledger.core.kinds import PLACES
from dotledger.core.measurement.measure import measure
from dotledger.core.pairing.pairing_rows import Paired, pair_tables
from dotledger.core.questions.error_diagnosis import Case
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ImageError, MissingExtra
from dotledger.images.image_preparation import decode_upright
from dotledger.report.pictures.alphabets import font_for, write
from dotledger.report.pictures.box_marks import Badge, Mark, draw_marks
from dotledger.report.pictures.box_writing import BoxWriting
from dotledger.safe_files import safe_file_name, whole_file

__all__ = [
    "Pictured",
    "Tile",
    "contact_sheet",
    "fault_tiles",
    "image_tiles",
    "picture_marks",
    "side_by_side",
    "tile_sheet",
    "write_pictures",
]

_GROUND = (18, 18, 30)
_CARD = (34, 35, 52)
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
    badge : Badge, optional
        What was decided on it.
    place : str
        One of `PLACES`: where writing goes if there is room.
    """

    name: str
    read: Callable[[], bytes]
    marks: tuple[Mark, ...]
    footer: str
    summary: str
    badge: Badge | None = None
    place: str = PLACES[0]


def picture_marks(
    findings: Findings,
    annotations: Annotations | None,
    *,
    overlap: float = 0.5,
    writing: BoxWriting | None = None,
) -> dict[str, tuple[list[Mark], str, str]]:
    """Return marks, footer and summary for every image that has findings or annotations.

    With annotations, findings are coloured by whether they are right, and misses are dashed; what
    is wrong or missed says why. Without, they are coloured by label.

    Parameters
    ----------
    annotations : Annotations or None
        None to draw findings alone.
    overlap : float, default 0.5
        The required overlap, above 0 up to 1.
    writing : BoxWriting, optional
        Text of each box; by default its label and confidence, or a person's name.
    """
    writing = writing or BoxWriting()
    paired = None if annotations is None else pair_tables(findings, annotations, overlap=overlap)
    wrong, missed = _reasons(findings, annotations, overlap)
    marks: dict[str, list[Mark]] = {}
    found: dict[str, list[str]] = {}
    for image, mark in _finding_marks(findings, paired, wrong, writing):
        marks.setdefault(image, []).append(mark)
    for image, words in _whole_image_words(findings, writing):
        found.setdefault(image, []).append(words)
    if annotations is not None and paired is not None:
        for image, mark in _missed_marks(annotations, paired, missed, writing):
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
    findings: Findings,
    paired: Paired | None,
    wrong: dict[int, str],
    writing: BoxWriting,
) -> Iterator[tuple[str, Mark]]:
    images, labels = findings.image.values(), findings.label.values()
    kinds = findings.kind.values()
    for row in np.flatnonzero(~np.isnan(findings.box[:, 0])):
        details = findings.details[row] if findings.details is not None else None
        x0, y0, x1, y1 = findings.box[row].tolist()
        sure = findings.confidence[row]
        spoken = writing.text(kinds[row], labels[row], float(sure), details)
        yield (
            images[row],
            Mark(
                box=(x0, y0, x1, y1),
                text=spoken,
                about=wrong.get(int(row), ""),
                label=labels[row],
                tone=paired.finding[row] if paired is not None else "",
                points=tuple(details.points.values()) if details else (),
                outline=details.polygon if details else (),
            ),
        )


def _whole_image_words(findings: Findings, writing: BoxWriting) -> Iterator[tuple[str, str]]:
    images, kinds, labels = (c.values() for c in (findings.image, findings.kind, findings.label))
    for row in np.flatnonzero(np.isnan(findings.box[:, 0]) & ~findings.blank):
        sign = "! " if kinds[row] == "unsafe" else ""
        details = findings.details[row] if findings.details is not None else None
        sure = float(findings.confidence[row])
        yield images[row], sign + writing.with_confidence(writing.word(labels[row]), sure, details)


def _missed_marks(
    annotations: Annotations, paired: Paired, missed: dict[int, str], writing: BoxWriting
) -> Iterator[tuple[str, Mark]]:
    images, labels = annotations.image.values(), annotations.label.values()
    for row in np.flatnonzero(np.isin(paired.annotation, ("missed", "ignored"))):
        state = paired.annotation[row]
        x0, y0, x1, y1 = annotations.box[row].tolist()
        about = f"missed, {missed[int(row)]}" if int(row) in missed else str(state)
        text = writing.word(labels[row])
        mark = Mark(box=(x0, y0, x1, y1), text=text, tone=state, about=about)
        yield images[row], mark


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


def write_pictures(
    pictures: Iterable[Pictured],
    folder: Path,
    *,
    side: int | None = None,
    beside: Mapping[str, Pictured] | None = None,
) -> dict[str, Path]:
    """Write one PNG for every image that can be decoded; return by image where it is.

    Parameters
    ----------
    side : int, optional
        Longest side of the image in pixels; by default as large as it is.
    beside : mapping of str to Pictured, optional
        By image, the marks of another run, drawn on a second copy to the right.

    Returns
    -------
    dict of str to Path
        Images that cannot be decoded are left out.
    """
    written = {}
    taken: set[str] = set()
    for picture in pictures:
        image = _opened(picture)
        if image is None:
            continue
        path = folder / f"{_free_name(safe_file_name(picture.name), taken)}.png"
        scale = 1.0 if side is None else min(1.0, side / max(image.size))
        if scale < 1:
            size = (max(1, round(image.width * scale)), max(1, round(image.height * scale)))
            image = image.resize(size, Image.Resampling.LANCZOS)
        drawn = _drawn(image, picture, scale)
        if beside is not None and picture.name in beside:
            drawn = side_by_side(drawn, _drawn(image, beside[picture.name], scale))
        with whole_file(path) as draft:
            drawn.save(draft, "PNG", compress_level=2)
        written[picture.name] = path
    return written


def _drawn(image: Image.Image, picture: Pictured, scale: float) -> Image.Image:
    return draw_marks(
        image,
        picture.marks,
        scale=scale,
        footer=picture.footer,
        badge=picture.badge,
        place=picture.place,
    )


def side_by_side(first: Image.Image, second: Image.Image) -> Image.Image:
    """Return two pictures next to each other, with a gap, on one ground."""
    gap = max(8, first.width // 100)
    size = (first.width + gap + second.width, max(first.height, second.height))
    both = Image.new("RGB", size, _GROUND)
    both.paste(first)
    both.paste(second, (first.width + gap, 0))
    return both


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
    """
    return tile_sheet(image_tiles(pictures), title=title, columns=columns, width=width)


def image_tiles(pictures: Sequence[Pictured]) -> list[Tile]:
    """Return images as tiles, with their names and a summary below."""
    return [Tile(caption=_caption(one), make=_maker(one)) for one in pictures]


def _caption(picture: Pictured) -> str:
    parts = [picture.name, picture.badge.verdict if picture.badge else "", picture.summary]
    return "  ·  ".join(part for part in parts if part)


def _maker(picture: Pictured) -> Callable[[int, int], Image.Image | None]:
    """Return what makes an image's tile, with its boxes, no larger than asked."""

    def make(wide: int, high: int) -> Image.Image | None:
        image = _opened(picture)
        if image is None:
            return None
        scale = min(wide / image.width, high / image.height)
        size = (max(1, round(image.width * scale)), max(1, round(image.height * scale)))
        small = image.resize(size, Image.Resampling.LANCZOS)
        return draw_marks(small, picture.marks, scale=scale, key=False, place=picture.place)

    return make


@dataclass(frozen=True, kw_only=True)
class Tile:
    """One place on a sheet.

    Attributes
    ----------
    caption : str
        Below it.
    make : callable
        Takes width and height, returns a picture no larger; None if it cannot be had.
    heading : str
        Above the first tile of a group; empty for the same group as before.
    """

    caption: str
    make: Callable[[int, int], Image.Image | None]
    heading: str = ""


def tile_sheet(
    tiles: Sequence[Tile], *, title: str, columns: int = 4, width: int = 1600
) -> Image.Image:
    """Return one picture of many tiles; each stands on a card with its caption.

    Parameters
    ----------
    tiles : sequence of Tile
        In reading order; a heading begins a new row.
    """
    cell = (width - 12) // columns
    high = round(cell * 0.7)
    spots, foot = _spots(tiles, columns, cell, high)
    sheet = Image.new("RGB", (width, foot + 12), _GROUND)
    pen = ImageDraw.Draw(sheet)
    _write(pen, (16, 14), title, 24, width - 32)
    for tile, (x, y) in zip(tiles, spots, strict=True):
        if tile.heading:
            _write(pen, (14, y - 30), tile.heading, 19, width - 28)
        _put_tile(sheet, tile, (x, y), (cell - 12, high))
    return sheet


_CAPTION = 30


def _spots(
    tiles: Sequence[Tile], columns: int, cell: int, high: int
) -> tuple[list[tuple[int, int]], int]:
    """Return where each tile goes, and where the sheet ends."""
    spots, column, y = [], 0, 56
    step = high + _CAPTION + 16
    for place, tile in enumerate(tiles):
        if place and (column == columns or tile.heading):
            column, y = 0, y + step
        y += 40 if tile.heading else 0
        spots.append((12 + column * cell, y))
        column += 1
    return spots, y + (step if tiles else 0)


def _put_tile(sheet: Image.Image, tile: Tile, spot: tuple[int, int], size: tuple[int, int]) -> None:
    (x, y), (wide, high) = spot, size
    pen = ImageDraw.Draw(sheet)
    pen.rounded_rectangle((x - 4, y - 4, x + wide + 4, y + high + _CAPTION), 6, fill=_CARD)
    image = tile.make(wide, high)
    if image is None:
        _write(pen, (x + 12, y + 12), "cannot be decoded", 15, wide - 24)
    else:
        sheet.paste(image, (x + (wide - image.width) // 2, y + (high - image.height) // 2))
    _write(pen, (x + 4, y + high + 6), tile.caption, 15, wide - 8)


def _write(
    pen: ImageDraw.ImageDraw, place: tuple[int, int], text: str, size: int, width: float
) -> None:
    """Write a line, cut where it would leave its place."""
    plain = "".join(c if c.isprintable() else "·" for c in text)
    font, shown = font_for(plain, size)
    while len(shown) > 1 and font.getlength(shown) > width:
        shown = shown[: max(1, int(len(shown) * width / font.getlength(shown)) - 2)] + "…"
        font, shown = font_for(shown, size)
        if font.getlength(shown) <= width:
            break
        shown = shown[:-2]
    write(pen, place, shown, font, fill=_WRITING)


def fault_tiles(
    findings: Findings,
    annotations: Annotations,
    readers: Mapping[str, Callable[[], bytes]],
    *,
    by: str,
    overlap: float = 0.5,
    most: int = 48,
) -> list[Tile]:
    """Return what is wrong or missed as tiles with surroundings, grouped.

    Parameters
    ----------
    readers : mapping of str to callable
        By image, what returns its bytes.
    by : {"reason", "label"}
        What is a group; the largest group first, within it the most confident and largest.

    Returns
    -------
    list of Tile
        Empty if nothing is wrong or missed.
    """
    why = measure(findings, annotations, overlap=overlap, draws=0).why()
    cases = [("wrong", case) for case in why.wrong] + [("missed", case) for case in why.missed]
    groups: dict[str, list[tuple[str, Case]]] = {}
    for side, case in cases:
        if not np.isnan(case.box[0]) and case.image in readers:
            word = f"{side}: {case.reason}" if by == "reason" else f"{case.label}, {side}"
            groups.setdefault(word, []).append((side, case))
    tiles: list[Tile] = []
    for word, mine in sorted(groups.items(), key=lambda one: (-len(one[1]), one[0])):
        for place, (side, case) in enumerate(mine):
            if len(tiles) < most:
                heading = f"{word} ({len(mine)})" if not place else ""
                tiles.append(_fault_tile(side, case, readers[case.image], heading))
    return tiles


def _fault_tile(side: str, case: Case, read: Callable[[], bytes], heading: str) -> Tile:
    number = f" {case.confidence:.2f}" if np.isfinite(case.confidence) else ""
    said = f"found {case.label}{number}" if side == "wrong" else f"expected {case.label}"
    caption = f"{said}: {case.reason}  ·  {case.image}"

    def make(wide: int, high: int) -> Image.Image | None:
        image = _opened(Pictured(name=case.image, read=read, marks=(), footer="", summary=""))
        if image is None:
            return None
        x0, y0, x1, y1 = case.box
        longer = max(x1 - x0, y1 - y0, 1.0)
        margin = max(0.6, (0.14 * max(image.size) / longer - 1) / 2)
        places = boxes_in_pixels([case.box], margin, image.size)
        if not places:
            return None
        left, top = places[0][:2]
        part = image.crop(places[0])
        scale = min(wide / part.width, high / part.height, 8)
        size = (max(1, round(part.width * scale)), max(1, round(part.height * scale)))
        mark = Mark(box=(x0 - left, y0 - top, x1 - left, y1 - top), text="", tone=side)
        return draw_marks(part.resize(size, Image.Resampling.LANCZOS), [mark], scale=scale)

    return Tile(caption=caption, make=make, heading=heading)
