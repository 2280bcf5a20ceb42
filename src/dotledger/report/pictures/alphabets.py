"""Fonts for writing on pictures: one for each alphabet, as far as the machine has one.

Plain letters are written in the font that comes with Pillow, unless one is chosen. Others are
looked for where systems keep fonts: first in those that have most alphabets, then in all.
Where none has a letter, a hollow square stands for it.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from PIL import ImageFont

from dotledger.errors import ArgumentError

__all__ = ["Font", "font_for", "lacking", "using_font", "write"]

Font = Any
"""A Pillow font."""
NAMES = (
    *("DejaVuSans.ttf", "NotoSans-Regular.ttf", "LiberationSans-Regular.ttf", "Arial.ttf"),
    *("NotoSansArabic-Regular.ttf", "NotoSansDevanagari-Regular.ttf", "Lohit-Devanagari.ttf"),
    *("NotoSansCJK-Regular.ttc", "NotoSansCJKsc-Regular.otf", "wqy-microhei.ttc"),
    *("Arial Unicode.ttf", "PingFang.ttc", "msyh.ttc", "Nirmala.ttf", "seguisym.ttf"),
)
"""Looked for in this order."""
_NOTHING = "\uffff"
_SQUARE = "\N{WHITE SQUARE}"


def font_for(text: str, size: int) -> tuple[Font, str]:
    """Return a font that has the letters of a text, and the text as `write` can write it.

    Returns
    -------
    tuple of font and str
        Letters that no font here has are hollow squares.
    """
    if text.isascii() and not _CHOSEN.get():
        return _plain(size), text
    best, least = "", len(text) + 1
    for path in _candidates():
        missing = sum(not _has(path, letter) for letter in set(text))
        if missing < least:
            best, least = path, missing
        if not missing:
            break
    if not best:
        return _plain(size), "".join(c if c.isascii() else "?" for c in text)
    if not least:
        return _opened(best, size), text
    shown = "".join(letter if _font_of(letter) else _SQUARE for letter in text)
    return _Several(size), shown


@lru_cache(maxsize=20_000)
def _font_with(letter: str, chosen: str) -> str:
    del chosen  # what is found depends on it
    return next((path for path in _candidates() if _has(path, letter)), "")


def _font_of(letter: str) -> str:
    """Return the first font that has a letter; empty if none has."""
    return _font_with(letter, _CHOSEN.get())


class _Several:
    """Several fonts that write one line together, on one base line: none has all its letters.

    It measures as Pillow's fonts do; `write` draws with it.
    """

    def __init__(self, size: int) -> None:
        self._size = size

    def runs(self, text: str) -> list[tuple[Any, str]]:
        """Return the pieces of a text with their fonts; spaces stay with what stands before."""
        found: list[tuple[str, str]] = []
        for letter in text:
            last = found[-1][0] if found else ""
            path = last if last and _has(last, letter) else _font_of(letter) or last
            if found and path == last:
                found[-1] = (last, found[-1][1] + letter)
            else:
                found.append((path, letter))
        return [(_opened(path, self._size) if path else _plain(self._size), t) for path, t in found]

    def rise(self, text: str) -> float:
        """Return how far the base line is below the top."""
        return max((font.getmetrics()[0] for font, _ in self.runs(text)), default=0)

    def getlength(self, text: str) -> float:
        """Return how wide a text is."""
        return sum(font.getlength(piece) for font, piece in self.runs(text))

    def getbbox(self, text: str) -> tuple[float, float, float, float]:
        """Return where the ink of a text is, from its place on."""
        rise = self.rise(text)
        boxes = [font.getbbox(piece, anchor="ls") for font, piece in self.runs(text)]
        top, bottom = min(b[1] for b in boxes), max(b[3] for b in boxes)
        return 0.0, rise + top, self.getlength(text), rise + bottom


def write(pen: Any, place: tuple[float, float], text: str, font: Font, *, fill: Any) -> None:
    """Write a line on a picture.

    Parameters
    ----------
    text : str
        As `font_for` gives it.
    font : font
        As `font_for` gives it.
    """
    if not isinstance(font, _Several):
        pen.text(place, text, font=font, fill=fill, **_from_left(font))
        return
    x, base = place[0], place[1] + font.rise(text)
    for own, piece in font.runs(text):
        pen.text((x, base), piece, font=own, fill=fill, anchor="ls")
        x += own.getlength(piece)


def _from_left(font: Font) -> dict[str, Any]:
    """Let lines begin at the left, whatever alphabet follows the number; where Pillow can."""
    shapes = getattr(font, "layout_engine", None) == ImageFont.Layout.RAQM
    return {"direction": "ltr"} if shapes else {}


def lacking(text: str) -> str:
    """Return the letters of a text that no font on this machine has.

    Returns
    -------
    str
        Each once, in order; empty if everything can be written.
    """
    letters = dict.fromkeys(c for c in text if not c.isascii())
    return "".join(c for c in letters if not any(_has(path, c) for path in _candidates()))


_CHOSEN: ContextVar[str] = ContextVar("font", default="")


@contextmanager
def using_font(path: str | os.PathLike[str] | None) -> Iterator[None]:
    """Write with this font first, as far as it has the letters; with None nothing changes.

    Raises
    ------
    ArgumentError
        If it is not there, or no font that can be opened.
    """
    if path is None:
        yield
        return
    try:
        ImageFont.truetype(os.fspath(path), 20)
    except OSError as error:
        raise ArgumentError(
            f"this font cannot be opened ({error})",
            place="font",
            got=os.fspath(path),
            next_step="Name a .ttf, .otf or .ttc file.",
        ) from error
    token = _CHOSEN.set(os.fspath(path))
    try:
        yield
    finally:
        _CHOSEN.reset(token)


def _candidates() -> Iterator[str]:
    """Yield fonts, those that have most letters first; the rest is opened only if they lack one."""
    if chosen := _CHOSEN.get():
        yield chosen
    yield from _files()
    yield from _others()


@lru_cache(maxsize=32)
def _plain(size: int) -> Font:
    return ImageFont.load_default(size)


@lru_cache(maxsize=64)
def _opened(path: str, size: int) -> Font:
    return ImageFont.truetype(path, size)


@lru_cache(maxsize=20_000)
def _has(path: str, letter: str) -> bool:
    """Tell whether a font has a letter: one that it lacks looks like one that nobody has."""
    if letter.isspace():
        return True
    font = _opened(path, 20)
    return bytes(font.getmask(letter)) != bytes(font.getmask(_NOTHING))


@lru_cache(maxsize=1)
def _there() -> dict[str, str]:
    """Return the files in the places where fonts are, by name in lower case."""
    there: dict[str, str] = {}
    for folder in _folders():
        for home, _, names in os.walk(folder):
            for name in names:
                there.setdefault(name.casefold(), str(Path(home) / name))
    return there


@lru_cache(maxsize=1)
def _files() -> tuple[str, ...]:
    """Return the font files that are there, in the order of `NAMES`."""
    there = _there()
    found = [there[name.casefold()] for name in NAMES if name.casefold() in there]
    return tuple(path for path in found if _opens(path))


_PLACEHOLDERS = re.compile("lastresort|adobeblank|redacted|barcode")
"""Fonts that have every letter and write none."""
_STYLES = re.compile("bold|italic|oblique|light|thin|black|medium|condensed|narrow|mono|serif")


@lru_cache(maxsize=1)
def _others() -> tuple[str, ...]:
    """Return all other fonts: plain ones first, since most alphabets have several."""
    known = {name.casefold() for name in NAMES}
    names = [
        name
        for name in sorted(_there(), key=lambda name: (bool(_STYLES.search(name)), name))
        if name.endswith((".ttf", ".otf", ".ttc"))
        and name not in known
        and not _PLACEHOLDERS.search(name)
    ]
    return tuple(path for path in map(_there().__getitem__, names) if _opens(path))


def _opens(path: str) -> bool:
    try:
        _opened(path, 20)
    except OSError:
        return False
    return True


def _folders() -> Iterator[Path]:
    if sys.platform == "win32":
        yield Path(os.environ.get("WINDIR", "C:/Windows")) / "Fonts"
    elif sys.platform == "darwin":
        yield from (Path("/System/Library/Fonts"), Path("/Library/Fonts"))
        yield Path.home() / "Library/Fonts"
    else:
        yield from (Path("/usr/share/fonts"), Path("/usr/local/share/fonts"))
        yield Path.home() / ".local/share/fonts"
    # Whoever has Matplotlib has its DejaVu, which writes most alphabets.
    spec = find_spec("matplotlib")
    if spec is not None and spec.origin:
        yield Path(spec.origin).parent / "mpl-data/fonts/ttf"
