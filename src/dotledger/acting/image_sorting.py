"""Sorting images into folders by what was found in them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from dotledger.acting.output_folders import WITHOUT, Place, folder_names, names_apart, put_bytes
from dotledger.errors import ArgumentError, DotLedgerError
from dotledger.images.image_gathering import Gathered, Item

__all__ = ["HOW", "How", "Sorted", "sort_images"]

How = Literal["copy", "link", "list"]
HOW = ("copy", "link", "list")
"""Copies of the images, links to their files, or only the list of what would go where."""


@dataclass(frozen=True, kw_only=True)
class Sorted:
    """One image in one place.

    Attributes
    ----------
    image, place, why : str
        Why it is there.
    path : Path or None
        Where it is; None if it is only listed, or could not be written.
    state : str
        ``new``, ``there already``, ``listed``, or what went wrong.
    """

    image: str
    place: str
    why: str
    path: Path | None
    state: str


def sort_images(
    gathered: Gathered,
    places: Mapping[str, Sequence[Place]],
    folder: Path,
    *,
    how: How = "copy",
    drawn: Callable[[Item], bytes] | None = None,
) -> Iterator[Sorted]:
    """Yield each image with each of its places, as it is put there.

    Nothing is written outside the folder, or over an existing file unless it holds the same bytes;
    a second run adds nothing.

    Parameters
    ----------
    places : mapping of str to sequence of (place, why)
        By image; those without go to ``no answer``.
    folder : Path
        Made if it is not there.
    how : {"copy", "link", "list"}
        Links need images that are files.
    drawn : callable, optional
        Returns the PNG that stands in an image's place, such as one with boxes and writing.

    Yields
    ------
    Sorted
        In the order of the images.

    Raises
    ------
    ArgumentError
        If `how` is another word.
    """
    if how not in HOW:
        raise ArgumentError("unknown way", place="how", got=how, allowed=HOW)
    mine = {item.name: places.get(item.name) or [(WITHOUT, "")] for item in gathered.items}
    names = folder_names({place for given in mine.values() for place, _ in given})
    files = names_apart(sorted(item.name for item in gathered.items), set())
    if drawn is not None:
        files = {name: f"{file}.png" for name, file in files.items()}
    for item in gathered.items:
        for place, why in mine[item.name]:
            path, state = _put(item, folder / names[place] / files[item.name], how, drawn)
            yield Sorted(image=item.name, place=place, why=why, path=path, state=state)


def _put(
    item: Item, path: Path, how: str, drawn: Callable[[Item], bytes] | None
) -> tuple[Path | None, str]:
    if how == "list":
        return None, "listed"
    try:
        if how == "link":
            return _linked(item, path)
        return put_bytes(item.read() if drawn is None else drawn(item), path)
    except (DotLedgerError, OSError) as error:
        return None, str(error)


def _linked(item: Item, path: Path) -> tuple[Path | None, str]:
    target = Path(item.known_as)
    if not target.is_file():
        return None, "not a file, so that no link can lead to it"
    goal = target.resolve()
    if path.is_symlink() or path.exists():
        same = path.is_symlink() and path.resolve() == goal
        return (path, "there already") if same else (None, f"something else is there: {path}")
    path.parent.mkdir(parents=True, exist_ok=True)
    path.symlink_to(goal)
    return path, "new"
