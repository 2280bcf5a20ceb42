"""Drawing from Python, in one call."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from dotledger.core.arguments import check_overlap
from dotledger.core.spelling import counted
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.box_clipping import clip_findings
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.image_name_matching import annotations_matched, match_images
from dotledger.core.tables.table_inputs import as_annotations, as_findings
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import ArgumentError, GatherError, ImageError
from dotledger.images.image_facts import read_facts
from dotledger.images.image_gathering import gather
from dotledger.report.pictures.alphabets import lacking, using_font
from dotledger.report.pictures.box_marks import Badge
from dotledger.report.pictures.box_writing import box_writing
from dotledger.report.pictures.contact_sheets import (
    Pictured,
    Tile,
    contact_sheet,
    fault_tiles,
    image_tiles,
    picture_marks,
    tile_sheet,
    write_pictures,
)
from dotledger.safe_files import whole_file

if TYPE_CHECKING:
    from PIL import Image

    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.images.image_gathering import Item
    from dotledger.report.pictures.box_marks import Mark

__all__ = ["SHEETS", "Drawn", "draw", "verdict_badges"]

_CALL = "draw(findings, images, folder, annotations=annotations)"

SHEETS = ("images", "worst", "reason", "label")
"""Contact sheets."""


@dataclass(frozen=True, kw_only=True)
class Drawn:
    """What `draw` wrote.

    Attributes
    ----------
    pictures : tuple of Path
        One PNG for each image.
    sheet : Path
        The contact sheet.
    not_found : tuple of str
        Images with findings whose files were not found or cannot be decoded.
    others : tuple of str
        Files that were in the folder before and are none of these.
    matched : tuple of str
        In words, how images that are named differently were matched.
    lacking : str
        Letters of labels that no font on this machine has; squares stand for them.
    """

    pictures: tuple[Path, ...]
    sheet: Path
    not_found: tuple[str, ...]
    others: tuple[str, ...] = ()
    matched: tuple[str, ...] = ()
    lacking: str = ""


def draw(
    findings: Findings,
    images: str | os.PathLike[str] | Mapping[str, bytes],
    folder: str | os.PathLike[str],
    *,
    annotations: Annotations | None = None,
    overlap: float = 0.5,
    threshold: Threshold = None,
    versus: Findings | None = None,
    confidence: Literal["share", "percent", "own"] = "share",
    write: str | None = None,
    place: Literal["near", "above", "below", "inside"] = "near",
    words: Mapping[str, str] | None = None,
    rules: Rules | str | os.PathLike[str] | None = None,
    outcomes: Mapping[str, Mapping[str, str]] | None = None,
    side: int | None = None,
    sheet: str = "images",
    title: str = "",
    font: str | os.PathLike[str] | None = None,
) -> Drawn:
    """Draw findings on their images: one PNG each, and a contact sheet of all.

    Parameters
    ----------
    findings : Findings
        Images without an answer have no row and are not drawn.
    images : path, str or mapping
        Where the images are, as given to `send`; see `gather`.
    folder : path
        Written into; made if needed.
    annotations : Annotations, optional
        Then right findings, wrong ones and misses have a colour each. Image names of both tables
        are matched with those of the files; see `match_images`.
    overlap : float, default 0.5
        Required overlap for a finding to be right.
    threshold : float, str or mapping, optional
        Findings below it are not drawn; as `dotledger.measure` takes it.
    versus : Findings, optional
        Of another service, drawn on a second copy of each image next to the first.
    confidence : {"share", "percent", "own"}
        Written as 0.97, as 97 %, or as the service wrote it.
    write : str, optional
        Template for the text of each box, with fields of its finding:
        ``"{person}, {age:.0f}, {emotion}"``. A part, up to a comma, whose field a finding lacks is
        left out. By default the label with its confidence; for a face the person's name, or
        else the attributes that the description marks with ``show``.
    place : {"near", "above", "below", "inside"}
        Where the text stands if there is room; it covers no other text and no other small box.
    words : mapping of str to str, optional
        What is written for a label or the value of an attribute, such as ``{"calm": "ruhig"}``.
    rules : Rules or path, optional
        Then each picture has its verdict above it, with the rules that decided.
    outcomes : mapping, optional
        For the verdicts; see `decide`.
    side : int, optional
        Longest side of the pictures in pixels; by default as large as the images.
    sheet : {"images", "worst", "reason", "label"} or "slice:COLUMN"
        The contact sheet: all images in order; those with the most wrong and missed first; as
        tiles with surroundings, what is wrong or missed by reason, or by label; or the images
        grouped by what the annotations know of them, such as ``slice:scene``.
    title : str
        Above the contact sheet.
    font : path, optional
        A TrueType or OpenType file to write with; by default a font of the machine that has the
        letters of a label.

    Returns
    -------
    Drawn
        The pictures, the contact sheet, and what could not be drawn.

    Raises
    ------
    ArgumentError
        If an argument is out of range, the font cannot be opened, or the sheet needs annotations
        and there are none.
    GatherError
        If `images` holds none of the images.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.read_findings("found.csv").filter(image="crowd-02.jpg")
    >>> drawn = dotledger.draw(found, "photos", "pictures", annotations=None)
    >>> len(drawn.pictures)
    1
    """
    findings = as_findings(findings, _CALL)
    annotations = None if annotations is None else as_annotations(annotations, _CALL)
    versus = None if versus is None else as_findings(versus, _CALL, place="versus")
    overlap = check_overlap(overlap)
    _check(side, sheet, annotations)
    items = gather(images).items
    readers = {item.name: item.read for item in items}
    findings, matched = match_images(findings, readers)
    if annotations is not None:
        annotations = _with_sizes(annotations_matched(annotations, readers), readers)
        findings = clip_findings(findings, annotations.images).table
    kept = findings.cut(threshold)
    writing = box_writing(findings, write=write, place=place, words=words, confidence=confidence)
    wanted = picture_marks(kept, annotations, overlap=overlap, writing=writing)
    badges = (
        {}
        if rules is None
        else verdict_badges(
            findings,
            rules,
            outcomes and {matched.names.get(name, name): one for name, one in outcomes.items()},
            items,
        )
    )
    pictures = _pictured(wanted, readers, writing.place, badges)
    beside = None
    if versus is not None:
        other = match_images(versus, readers)[0].cut(threshold)
        marks = picture_marks(other, annotations, overlap=overlap, writing=writing)
        beside = {one.name: one for one in _pictured(marks, readers, writing.place, {})}
    if wanted and not pictures:
        raise GatherError(
            "none of the images with findings is there",
            place="images",
            got=next(iter(wanted)),
            allowed=list(readers)[:3],
        )
    target = Path(folder)
    sheet_file = target / "contact-sheet.png"
    with using_font(font):
        written = write_pictures(pictures, target, side=side, beside=beside)
        lost = lacking("".join(mark.text for one in pictures for mark in one.marks))
        _write_list(target / "drawn.csv", written)
        with whole_file(sheet_file) as draft:
            heading = title or counted(len(pictures), "image")
            _sheet(sheet, kept, annotations, pictures, overlap, heading).save(draft, "PNG")
    made = {path.name for path in (*written.values(), sheet_file, target / "drawn.csv")}
    return Drawn(
        pictures=tuple(written.values()),
        sheet=sheet_file,
        not_found=tuple(name for name in wanted if name not in readers),
        others=tuple(sorted(path.name for path in target.iterdir() if path.name not in made)),
        matched=tuple(matched.lines()),
        lacking=lost,
    )


def _write_list(path: Path, written: Mapping[str, Path]) -> None:
    """Write which image each picture was made from: `sort` goes by it."""
    from dotledger.formats.tables.findings_files import write_rows

    with whole_file(path) as draft:
        write_rows(draft, ("picture", "image"), [(p.name, name) for name, p in written.items()])


def verdict_badges(
    findings: Findings,
    rules: Rules | str | os.PathLike[str],
    outcomes: Mapping[str, Mapping[str, str]] | None,
    items: Sequence[Item],
) -> dict[str, Badge]:
    """Return what rules decide on each image, with the strictest rule that applies first.

    The images are read for their sizes, and where a rule looks at copies for prints: without these
    the rule could not apply, and the badge would be wrong.
    """
    from dotledger.core.decisions.decide import decide
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.formats.rules_files import read_rules
    from dotledger.images.image_prints import prints_of

    read = rules if isinstance(rules, Rules) else read_rules(rules)
    answered = set(findings.image.used())
    mine = [item for item in items if item.name in answered]
    decided = decide(
        findings,
        read,
        outcomes=outcomes,
        sizes={n: (s["width"], s["height"]) for n, s in _sizes({i.name: i.read for i in mine})},
        prints=prints_of(mine) if read.looks_at_copies else None,
    )
    return {
        one.image: Badge(verdict=one.verdict, why="; ".join(one.reasons))
        for one in map(decided.of, decided.images)
    }


def _check(side: int | None, sheet: str, annotations: object) -> None:
    if side is not None and not 64 <= side <= 20_000:
        raise ArgumentError("out of range", place="side", got=side, allowed=["64 to 20000"])
    if sheet not in SHEETS and not sheet.startswith("slice:"):
        allowed = (*SHEETS, "slice:COLUMN")
        raise ArgumentError("unknown sheet", place="sheet", got=sheet, allowed=allowed)
    if sheet != "images" and annotations is None:
        raise ArgumentError("needs annotations", place="sheet", got=sheet, allowed=["images"])


def _pictured(
    wanted: Mapping[str, tuple[list[Mark], str, str]],
    readers: Mapping[str, Callable[[], bytes]],
    place: str,
    badges: Mapping[str, Badge],
) -> list[Pictured]:
    return [
        Pictured(
            name=name,
            read=readers[name],
            marks=tuple(marks),
            footer=footer,
            summary=summary,
            badge=badges.get(name),
            place=place,
        )
        for name, (marks, footer, summary) in wanted.items()
        if name in readers
    ]


def _sheet(
    sheet: str,
    findings: Findings,
    annotations: Annotations | None,
    pictures: Sequence[Pictured],
    overlap: float,
    title: str,
) -> Image.Image:
    if sheet in ("reason", "label") and annotations is not None:
        readers = {one.name: one.read for one in pictures}
        tiles = fault_tiles(findings, annotations, readers, by=sheet, overlap=overlap)
        return tile_sheet(tiles, title=f"{title}: wrong and missed by {sheet}")
    if sheet.startswith("slice:") and annotations is not None:
        return tile_sheet(_by_slice(sheet, annotations, pictures), title=f"{title}, by {sheet}")
    if sheet == "worst":
        pictures = sorted(pictures, key=lambda one: -_faults(one))
    return contact_sheet(pictures, title=title)


def _by_slice(sheet: str, annotations: Annotations, pictures: Sequence[Pictured]) -> list[Tile]:
    """Return the images as tiles, those of one value together."""
    column = sheet.partition(":")[2]
    known = {name for facts in annotations.images.values() for name in facts}
    if column not in known:
        raise ArgumentError(
            "nothing of this name is known of the images",
            place="sheet",
            got=column,
            allowed=sorted(known),
        )
    groups: dict[str, list[Pictured]] = {}
    for one in pictures:
        value = annotations.images.get(one.name, {}).get(column)
        groups.setdefault("not known" if value is None else str(value), []).append(one)
    return [
        replace(tile, heading=f"{column} {value} ({len(mine)})" if not place else "")
        for value, mine in sorted(groups.items())
        for place, tile in enumerate(image_tiles(mine))
    ]


def _faults(picture: Pictured) -> int:
    return sum(mark.tone in ("wrong", "missed") for mark in picture.marks)


def _with_sizes(
    annotations: Annotations, readers: Mapping[str, Callable[[], bytes]]
) -> Annotations:
    """Return annotations that know the size of each image that can be read."""
    unknown = {
        name: readers[name]
        for name in annotations.image.used()
        if name in readers and "width" not in annotations.images.get(name, {})
    }
    return annotations.with_images(dict(_sizes(unknown)))


def _sizes(
    readers: Mapping[str, Callable[[], bytes]],
) -> Iterator[tuple[str, dict[str, float]]]:
    """Yield the size of each image that can be read."""
    for name, read in readers.items():
        with suppress(OSError, ImageError):  # an image that cannot be drawn is said later
            facts = read_facts(read())
            yield name, {"width": facts.width, "height": facts.height}
