"""Transcribed pages as ground truth for text: ALTO and PAGE, one file an image.

ALTO (https://www.loc.gov/standards/alto/) gives each line a rectangle and its words; PAGE
(https://www.primaresearch.org) a polygon and its text. Each line becomes an annotation of kind
``text``, whose label is what it says.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import Any

from dotledger.core.boxes.box_forms import enclosing
from dotledger.core.spelling import naturally_sorted
from dotledger.core.tables.finding_details import Details
from dotledger.errors import TableError
from dotledger.formats.annotations.annotation_collecting import (
    CollectedRows,
    Loaded,
    folder_of_images,
)
from dotledger.safe_files import read_regular
from dotledger.xml_parsing import xml_root

__all__ = ["UNREAD", "are_pages", "read_pages"]

UNREAD = "(unread)"
"""The label of a line that nobody transcribed: it is ignored, neither found nor missed."""

Points = list[tuple[float, float]]
Facts = Mapping[str, Mapping[str, Any]]
_NUMBER = r"-?\d+(?:\.\d+)?"
_PAIR = re.compile(rf"({_NUMBER}),({_NUMBER})")


def are_pages(place: Path) -> bool:
    """Tell whether a file is ALTO or PAGE, or a folder begins with one.

    Parameters
    ----------
    place : Path
        A ``.xml`` file, or a folder.

    Returns
    -------
    bool
        False also where it cannot be read.
    """
    files = _files(place)
    try:
        return bool(files) and _kind(_parsed(files[0])) != ""
    except TableError:
        return False


def read_pages(place: Path, *, images: Facts, image_folder: Path | None) -> Loaded:
    """Read the lines of transcribed pages.

    Parameters
    ----------
    place : Path
        A ``.xml`` file, or a folder whose ``.xml`` files are read in natural order.
    images : mapping of str to mapping
        Width and height of images: needed where positions are not in pixels.
    image_folder : Path or None
        Where the images are; those missing there are reported.

    Returns
    -------
    Loaded
        Lines without text are ignored. An image is named as the page says, without folders; where
        just one image on disk has that name but for its ending, it is that one.

    Raises
    ------
    TableError
        If a file is neither, holds several pages, or gives positions whose unit needs the size of
        the image and that is not known.
    """
    on_disk = folder_of_images(image_folder)
    gathered = CollectedRows()
    for file in _files(place):
        root = _parsed(file)
        kind = _kind(root)
        if not kind:
            raise TableError(
                "neither ALTO nor PAGE",
                place=str(file),
                got=str(root.tag),
                next_step="For any other XML give an import description: `description=FILE`.",
            )
        read = _read_alto if kind == "alto" else _read_page
        read(_Page(file, root, gathered, {**images}, image_folder, on_disk or list(images)))
    return gathered.loaded(str(place), on_disk)


def _files(place: Path) -> list[Path]:
    if not place.is_dir():
        return [place]
    names = [path.relative_to(place).as_posix() for path in place.rglob("*.xml")]
    return [place / names[i] for i in naturally_sorted(names)]


def _parsed(file: Path) -> Any:
    try:
        return xml_root(read_regular(file))
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise TableError(f"the file breaks off or is not XML ({reason})", place=str(file)) from None


def _kind(root: Any) -> str:
    return {"alto": "alto", "PcGts": "page"}.get(_local(root), "")


def _local(element: Any) -> str:
    """Return an element's name without its namespace, which tells the version."""
    name: str = element.tag.rpartition("}")[2]
    return name


def _each(root: Any, name: str) -> Iterator[Any]:
    """Yield the elements of a name, however deep."""
    return (one for one in root.iter() if _local(one) == name)


def _child(element: Any, name: str) -> Any:
    return next((one for one in element if _local(one) == name), None)


class _Page:
    """One file on its way into the table."""

    def __init__(
        self,
        file: Path,
        root: Any,
        gathered: CollectedRows,
        facts: dict[str, Mapping[str, Any]],
        folder: Path | None,
        known: list[str],
    ) -> None:
        self.file, self.root, self.gathered = file, root, gathered
        self._facts, self._folder, self._known = facts, folder, known
        self.image = ""

    def the_one(self, name: str) -> Any:
        """Return the one page that the file holds; raises TableError for none or several."""
        pages = list(_each(self.root, name))
        if len(pages) != 1:
            raise TableError(
                f"a file of one page is needed, and this one holds {len(pages)}",
                place=str(self.file),
            )
        return pages[0]

    def cover(self, named: str, width: float | None, height: float | None) -> dict[str, Any]:
        """Say which image this is about; return what is known of its size."""
        from dotledger.formats.annotations.import_descriptions import size_on_disk

        name = PurePosixPath(named.strip().replace("\\", "/")).name or self.file.stem
        stem = name.rpartition(".")[0] or name
        alike = [other for other in self._known if (other.rpartition(".")[0] or other) == stem]
        self.image = name if name in self._known or len(alike) != 1 else alike[0]
        known = dict(self._facts.get(self.image, {}))
        if self._folder is not None:
            known = {**size_on_disk(self._folder, self.image), **known}
        own = {"width": width, "height": height} if width and height else {}
        sizes = {**own, **known}
        self.gathered.cover(self.image, **sizes)
        return sizes

    def add(self, text: str, outline: Points, *, polygon: bool) -> None:
        """Add one line; what has no place is refused."""
        if len(outline) < 2:
            self.gathered.refuse(self.image, "line without a place", text, "text")
            return
        box = self.gathered.clipped_box(self.image, enclosing(outline), text, "text")
        if box is None:
            return
        details = Details(polygon=tuple(outline)) if polygon and len(outline) > 2 else None
        label = " ".join(text.split())
        self.gathered.add(
            self.image, "text", label or UNREAD, box, ignore=not label, details=details
        )


def _read_alto(page: _Page) -> None:
    one = page.the_one("Page")
    named = next((e.text or "" for e in _each(page.root, "fileName")), "")
    unit = next((e.text or "" for e in _each(page.root, "MeasurementUnit")), "pixel").strip()
    width, height = _number(one, "WIDTH"), _number(one, "HEIGHT")
    pixels = unit == "pixel"
    sizes = page.cover(named, width if pixels else None, height if pixels else None)
    across, down = 1.0, 1.0
    if not pixels:
        if not (width and height and {"width", "height"} <= sizes.keys()):
            raise TableError(
                f"positions in {unit or 'an unknown unit'} need the size of the image",
                place=str(page.file),
                got=page.image,
                next_step="Give the images' folder or a table with width and height: `images=`.",
            )
        across, down = sizes["width"] / width, sizes["height"] / height
    for line in _each(one, "TextLine"):
        left, top, wide, high = (_number(line, n) for n in ("HPOS", "VPOS", "WIDTH", "HEIGHT"))
        outline: Points = []
        if left is not None and top is not None and wide and high:
            outline = [
                (left * across, top * down),
                ((left + wide) * across, (top + high) * down),
            ]
        page.add(_alto_text(line), outline, polygon=False)


def _alto_text(line: Any) -> str:
    """Return what a line says: its strings with spaces between, a hyphen at its end."""
    words: list[str] = []
    for one in line:
        if _local(one) == "String":
            words.append(one.get("CONTENT", ""))
        elif _local(one) == "HYP" and words:
            words[-1] += one.get("CONTENT", "-")
    return " ".join(words)


def _read_page(page: _Page) -> None:
    one = page.the_one("Page")
    width, height = _number(one, "imageWidth"), _number(one, "imageHeight")
    page.cover(one.get("imageFilename", ""), width, height)
    for line in _each(one, "TextLine"):
        page.add(_page_text(line), _outline(line), polygon=True)


def _outline(line: Any) -> Points:
    """Return a line's polygon: ``points``, or single points as versions before 2013 have them."""
    coords = _child(line, "Coords")
    if coords is None:
        return []
    points = [(float(x), float(y)) for x, y in _PAIR.findall(coords.get("points", ""))]
    single = ((_number(one, "x"), _number(one, "y")) for one in _each(coords, "Point"))
    return points or [(x, y) for x, y in single if x is not None and y is not None]


def _page_text(line: Any) -> str:
    """Return a line's own text, or that of its words, the first reading of each."""
    own = _equivalent(line)
    if own:
        return own
    return " ".join(filter(None, (_equivalent(one) for one in line if _local(one) == "Word")))


def _equivalent(element: Any) -> str:
    readings = [one for one in element if _local(one) == "TextEquiv"]
    if not readings:
        return ""
    first = min(readings, key=lambda one: _number(one, "index") or 0)
    text = _child(first, "Unicode")
    return "" if text is None else (text.text or "").strip()


def _number(element: Any, name: str) -> float | None:
    try:
        return float(element.get(name, ""))
    except ValueError:
        return None
