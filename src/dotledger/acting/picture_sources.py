"""Which image a picture was made from: annotated copies, covered copies and crops."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from dotledger.core.spelling import counted
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.formats.tables.csv_columns import unguard
from dotledger.images.image_gathering import Item

__all__ = ["DRAWN", "PictureSource", "findings_by_picture", "picture_sources", "source_lines"]

DRAWN = "drawn.csv"
"""The file in a folder of annotated copies that lists each picture with its original image."""
_SORTED = "sorted.csv"
_CROP = re.compile(r"(?P<image>.+)\.\d+\.png$")
_BOX = re.compile(r"\d+: (?P<kind>\S+) at (?P<box>-?\d+ -?\d+ -?\d+ -?\d+)$")
_UP = 3
"""How many folders above a picture its list may stand."""


@dataclass(frozen=True, kw_only=True)
class PictureSource:
    """What a picture was made from.

    Attributes
    ----------
    image : str
        The image's name.
    kind, box : str and tuple of int, or None
        Of a crop: the finding it shows, its corners rounded; None for the whole image.
    listed : bool
        True if a file beside the picture lists it; False if only its name tells.
    """

    image: str
    kind: str | None = None
    box: tuple[int, ...] | None = None
    listed: bool = False


def picture_sources(items: Iterable[Item], known: Iterable[str]) -> dict[str, PictureSource]:
    """Return by picture what it was made from, where it is no image itself.

    Parameters
    ----------
    items : iterable of Item
        Pictures and images.
    known : iterable of str
        Names of images that have findings.

    Returns
    -------
    dict of str to PictureSource
        By the lists that `draw` and `sort` leave, else by names: ``IMAGE.png`` is an annotated
        copy, ``IMAGE.2.png`` a crop. An image that is known is not in it.
    """
    images = set(known)
    lists: dict[Path, dict[tuple[str, ...], PictureSource]] = {}
    found = {}
    for item in items:
        if item.name in images:
            continue
        source = _listed(Path(item.where), lists) if item.where else None
        source = source or _by_name(item.name, images)
        if source is not None and source.image in images:
            found[item.name] = source
    return found


def findings_by_picture(findings: Findings, sources: Mapping[str, PictureSource]) -> Findings:
    """Return findings with those of each picture under the picture's name, after all others.

    A crop has the finding that it shows, and no other of its image; one whose finding is not among
    these has none.
    """
    rows: list[int] = []
    names: list[str] = []
    of_image: dict[str, list[int]] = {}
    for row, image in enumerate(findings.image.values()):
        of_image.setdefault(str(image), []).append(row)
    for picture, source in sources.items():
        mine = of_image.get(source.image, [])
        kept = mine if source.box is None else [r for r in mine if _is_shown(findings, r, source)]
        rows += kept
        names += [picture] * len(kept)
    added = findings.take(np.array(rows, dtype=np.intp))
    return Findings.concat([findings, replace(added, image=Coded.of(names))])


def source_lines(sources: Mapping[str, PictureSource]) -> list[str]:
    """Return in words which pictures go by the images that they were made from."""
    if not sources:
        return []
    listed = sum(one.listed for one in sources.values())
    crops = sum(one.box is not None for one in sources.values())
    by_name = len(sources) - listed
    how = [f"{listed} listed in {DRAWN} or {_SORTED}"] if listed else []
    how += [f"{by_name} recognised by name"] if by_name else []
    line = f"{counted(len(sources), 'picture')} go with their original images: {', '.join(how)}"
    return [line + (f"; {counted(crops, 'crop')} by the one finding shown" if crops else "")]


def _is_shown(findings: Findings, row: int, source: PictureSource) -> bool:
    kind = findings.kind.names[findings.kind.codes[row]]
    box = findings.box[row]
    same = not np.isnan(box[0]) and [f"{side:.0f}" for side in box] == list(
        map(str, source.box or ())
    )
    return bool(same and kind == source.kind)


def _by_name(name: str, images: set[str]) -> PictureSource | None:
    """Return what a name says: the image's own with an ending, or with a number and an ending.

    Images of other folders may have the name that a file of one folder has.
    """
    plain = {_as_file(image): image for image in images}
    last = name.rpartition("/")[2]
    for stem in (last.removesuffix(".png"), *(m["image"] for m in [_CROP.match(last)] if m)):
        if stem in plain:
            return PictureSource(image=plain[stem])
    return None


def _as_file(image: str) -> str:
    from dotledger.safe_files import safe_file_name

    return safe_file_name(image)


def _listed(
    path: Path, lists: dict[Path, dict[tuple[str, ...], PictureSource]]
) -> PictureSource | None:
    for up, folder in enumerate(path.parents[: _UP + 1]):
        if folder not in lists:
            lists[folder] = dict(_entries(folder))
        for key in ((path.name,), path.parts[-2:]):
            if key in lists[folder] and (len(key) == 2 or up == 0):
                return lists[folder][key]
    return None


def _entries(folder: Path) -> Iterator[tuple[tuple[str, ...], PictureSource]]:
    """Yield what the lists of a folder say, by file, or by folder and file."""
    for row in _rows(folder / DRAWN, ("picture", "image")):
        yield (row["picture"],), PictureSource(image=row["image"], listed=True)
    for row in _rows(folder / _SORTED, ("image", "why", "path")):
        shown = _BOX.match(row["why"])
        box = tuple(map(int, shown["box"].split())) if shown else None
        kind = shown["kind"] if shown else None
        source = PictureSource(image=row["image"], kind=kind, box=box, listed=True)
        yield Path(row["path"]).parts[-2:], source


def _rows(path: Path, columns: Sequence[str]) -> list[dict[str, str]]:
    """Return the rows of a list; none where there is no such list."""
    try:
        with path.open(encoding="utf-8", newline="") as file:
            rows = [row for row in csv.DictReader(file) if all(row.get(c) for c in columns)]
    except (OSError, UnicodeDecodeError, csv.Error):
        return []
    return [{column: unguard(row[column]) for column in columns} for row in rows]
