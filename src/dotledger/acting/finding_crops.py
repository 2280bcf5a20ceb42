"""Findings cut out of their images, each named so that it leads back."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import numpy as np

from dotledger.acting.image_sorting import Sorted
from dotledger.acting.output_folders import folder_names, names_apart, put_bytes
from dotledger.core.arguments import real_number
from dotledger.core.boxes.box_forms import boxes_in_pixels
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError, DotLedgerError, ImageError
from dotledger.images.image_gathering import Gathered, Item
from dotledger.images.image_preparation import decode_upright

__all__ = ["crop_findings"]


def crop_findings(
    gathered: Gathered,
    findings: Findings,
    folder: Path,
    *,
    margin: float = 0.2,
    shas: Mapping[str, str] | None = None,
) -> Iterator[Sorted]:
    """Yield each finding that has a box, as it is cut out into the folder of its label.

    Parameters
    ----------
    findings : Findings
        Cut already; boxes in pixels of the upright original.
    folder : Path
        Made if it is not there. A file is called IMAGE.ROW.png by the image and the finding's row
        among those of the image, from 1.
    margin : float, default 0.2
        Of the box's sides, on every side.
    shas : mapping of str to str, optional
        By image the SHA-256 that was sent; one that changed since is refused.

    Yields
    ------
    Sorted
        In the order of the images; one that cannot be read stops none.

    Raises
    ------
    ArgumentError
        If `margin` is out of range.
    """
    if not 0 <= real_number(margin, place="margin") <= 5:
        raise ArgumentError("out of range", place="margin", got=margin, allowed=["0 to 5"])
    images = findings.image.values()
    boxed = np.flatnonzero(~findings.blank & ~np.isnan(findings.box[:, 0])).tolist()
    labels = findings.label.values()
    rows: dict[str, list[int]] = {}
    for row in boxed:
        rows.setdefault(images[row], []).append(row)
    names = folder_names({str(labels[row]) for row in boxed})
    files = names_apart(sorted(item.name for item in gathered.items), set())
    for item in gathered.items:
        yield from _cut_out(
            item,
            rows.get(item.name, []),
            findings,
            shas or {},
            margin,
            (folder, names, files[item.name]),
        )


def _cut_out(
    item: Item,
    rows: Sequence[int],
    findings: Findings,
    shas: Mapping[str, str],
    margin: float,
    where: tuple[Path, Mapping[str, str], str],
) -> Iterator[Sorted]:
    if not rows:
        return
    folder, names, stem = where
    try:
        data = item.read()
        if shas.get(item.name) not in (None, hashlib.sha256(data).hexdigest()):
            raise ImageError("changed since it was sent: its boxes would lie elsewhere")
        picture = decode_upright(data)
        picture = picture if picture.mode in ("L", "RGB", "RGBA") else picture.convert("RGBA")
    except (DotLedgerError, OSError) as error:
        yield Sorted(image=item.name, place="", why="", path=None, state=str(error))
        return
    for number, row in enumerate(rows, 1):
        label = str(findings.label.names[findings.label.codes[row]])
        place = boxes_in_pixels(findings.box[row : row + 1], margin, picture.size)
        if not place:
            yield Sorted(image=item.name, place=label, why="", path=None, state="outside the image")
            continue
        buffer = io.BytesIO()
        picture.crop(place[0]).save(buffer, "PNG")
        path, state = put_bytes(buffer.getvalue(), folder / names[label] / f"{stem}.{number}.png")
        why = f"{number}: {findings.kind.names[findings.kind.codes[row]]} at " + " ".join(
            f"{side:.0f}" for side in findings.box[row]
        )
        yield Sorted(image=item.name, place=label, why=why, path=path, state=state)
