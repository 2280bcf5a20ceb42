"""Whole copies of damaged images: of files that other programs still show and no service takes."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from dotledger.errors import DotLedgerError, ImageError
from dotledger.images.image_gathering import Gathered, Item, gather
from dotledger.images.image_loading import look_at, made_ready, why_not
from dotledger.images.image_preparation import Demands
from dotledger.json_codec import AsData
from dotledger.safe_files import check_output_folder, safe_file_name, whole_file

__all__ = ["RepairedImage", "repair_images"]

PathLike = str | os.PathLike[str]
_SECONDS = 120
_ENDINGS = {"jpeg": (".jpg", ".jpeg"), "png": (".png",)}


@dataclass(frozen=True, kw_only=True)
class RepairedImage(AsData):
    """One damaged image.

    Attributes
    ----------
    name : str
        Of the image.
    path : str or None
        The copy; None if none could be made.
    kept : float
        The share of its rows that could be decoded, from 0 to 1; 0 without a copy. A picture that
        ends in one colour by itself seems to have lost that part.
    done : tuple of str
        What was done, for people.
    reason : str
        Why the image itself is refused.
    problem : str
        Why there is no copy, or why the copy is refused too; empty if it passes.
    """

    name: str
    path: str | None
    kept: float = 0.0
    done: tuple[str, ...] = ()
    reason: str = ""
    problem: str = ""


def repair_images(
    images: Gathered | PathLike | Iterable[PathLike],
    folder: PathLike,
    *,
    demands: Demands | None = None,
    replace: bool = False,
) -> list[RepairedImage]:
    """Write whole copies of the images that are refused as damaged; the originals stay as they are.

    What can be decoded is kept and saved again, as JPEG or else as PNG, upright, in sRGB and
    without metadata. Nothing is sent: send the folder if you want to.

    Parameters
    ----------
    images : Gathered, path or iterable of path
        As `send` takes them. Images that pass as they are get no copy.
    folder : path
        Where the copies go, under the images' names; made if there is none.
    demands : Demands, optional
        What must be met; by default that the image can be decoded, or is damaged only a little.
    replace : bool, default False
        Write over copies of earlier.

    Returns
    -------
    list of RepairedImage
        One for each image that is refused, in order; empty if all pass.

    Raises
    ------
    GatherError
        If a path does not exist.
    ArgumentError
        If the folder is one of the images' own, or is not empty and `replace` is false.
    OSError
        If a copy cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> [one] = dotledger.repair_images("photos/damaged-01.jpg", "repaired")
    >>> one.kept < 0.5, one.done[-1], one.problem
    (True, 'saved again as jpeg', '')
    """
    gathered = images if isinstance(images, Gathered) else gather(images)
    wanted = demands or Demands()
    refused = [(item, why) for item in gathered.items if (why := _refusal(item, wanted))]
    if refused:
        inputs = {Path(item.where).parent for item in gathered.items if item.where}
        check_output_folder(folder, place="folder", inputs=inputs, replace=replace)
    return [_copied(item, why, Path(folder), wanted) for item, why in refused]


def _refusal(item: Item, demands: Demands) -> str:
    """Return why an image is refused for being damaged; empty if it is not."""
    try:
        looked = look_at(item)
        made_ready(looked.data, looked.facts, demands)
    except (OSError, DotLedgerError) as error:
        # A new copy does not help what is too small, or needs a package that is not there.
        damaged = isinstance(error, ImageError) and error.facts.get("damaged")
        return why_not(error) if damaged else ""
    return ""


def _copied(item: Item, reason: str, folder: Path, demands: Demands) -> RepairedImage:
    facts, data = _decoded_apart(item.read())
    if facts["problem"]:
        return RepairedImage(name=item.name, path=None, reason=reason, problem=facts["problem"])
    path = folder / _file_name(item.name, facts["format"])
    folder.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as draft:
        draft.write_bytes(data)
    again = Item(name=item.name, where=str(path))
    return RepairedImage(
        name=item.name,
        path=str(path),
        kept=facts["kept"],
        done=tuple(facts["done"]),
        reason=reason,
        problem=_still_refused(again, demands),
    )


def _still_refused(copy: Item, demands: Demands) -> str:
    try:
        looked = look_at(copy)
        made_ready(looked.data, looked.facts, demands)
    except (OSError, DotLedgerError) as error:
        return f"the copy is refused too: {why_not(error)}"
    return ""


def _file_name(name: str, format: str) -> str:
    own = safe_file_name(name)
    endings = _ENDINGS[format]
    return own if own.lower().endswith(endings) else own + endings[0]


def _decoded_apart(data: bytes) -> tuple[dict[str, Any], bytes]:
    """Return what a process of its own makes of a damaged file."""
    words: Sequence[str] = [sys.executable, "-m", "dotledger.images.repairing_process"]
    try:
        done = subprocess.run(words, input=data, capture_output=True, check=True, timeout=_SECONDS)
    except (OSError, subprocess.SubprocessError) as error:
        return {"problem": f"its decoder failed ({type(error).__name__})"}, b""
    line, _, picture = done.stdout.partition(b"\n")
    return json.loads(line), picture
