"""Drawing from Python, in one call."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from dotledger.core.arguments import check_overlap
from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.clipping import clip_findings
from dotledger.core.tables.findings import Findings
from dotledger.core.tables.image_names import annotations_matched, match_images
from dotledger.core.tables.thresholds import Threshold
from dotledger.errors import GatherError, ImageError
from dotledger.files import whole_file
from dotledger.images.facts import read_facts
from dotledger.images.gather import gather
from dotledger.report.pictures.sheets import Pictured, contact_sheet, picture_marks, write_pictures

__all__ = ["Drawn", "draw"]


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
    """

    pictures: tuple[Path, ...]
    sheet: Path
    not_found: tuple[str, ...]
    others: tuple[str, ...] = ()
    matched: tuple[str, ...] = ()


def draw(
    findings: Findings,
    images: str | os.PathLike[str] | Mapping[str, bytes],
    folder: str | os.PathLike[str],
    *,
    annotations: Annotations | None = None,
    overlap: float = 0.5,
    threshold: Threshold = None,
    title: str = "",
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
    title : str
        Above the contact sheet.

    Returns
    -------
    Drawn
        The pictures, the contact sheet, and what could not be drawn.

    Raises
    ------
    ArgumentError
        If `overlap` or `threshold` is out of range.
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
    overlap = check_overlap(overlap)
    readers = {item.name: item.read for item in gather(images).items}
    findings, matched = match_images(findings, readers)
    if annotations is not None:
        annotations = _with_sizes(annotations_matched(annotations, readers), readers)
        findings = clip_findings(findings, annotations.images).table
    wanted = picture_marks(findings.cut(threshold), annotations, overlap=overlap)
    pictures = [
        Pictured(name=name, read=readers[name], marks=tuple(marks), footer=footer, summary=summary)
        for name, (marks, footer, summary) in wanted.items()
        if name in readers
    ]
    if wanted and not pictures:
        raise GatherError(
            "none of the images with findings is there",
            place="images",
            got=next(iter(wanted)),
            allowed=list(readers)[:3],
        )
    target = Path(folder)
    written = write_pictures(pictures, target)
    sheet = target / "contact-sheet.png"
    with whole_file(sheet) as draft:
        contact_sheet(pictures, title=title or f"{len(pictures)} images").save(draft, "PNG")
    made = {path.name for path in (*written, sheet)}
    return Drawn(
        pictures=tuple(written),
        sheet=sheet,
        not_found=tuple(name for name in wanted if name not in readers),
        others=tuple(sorted(path.name for path in target.iterdir() if path.name not in made)),
        matched=tuple(matched.lines()),
    )


def _with_sizes(
    annotations: Annotations, readers: Mapping[str, Callable[[], bytes]]
) -> Annotations:
    """Return annotations that know the size of each image that can be read."""
    sizes = {}
    for name in annotations.image.used():
        if name in readers and "width" not in annotations.images.get(name, {}):
            with suppress(OSError, ImageError):  # an image that cannot be drawn is said later
                facts = read_facts(readers[name]())
                sizes[name] = {"width": facts.width, "height": facts.height}
    return annotations.with_images(sizes)
