"""Fonts for writing on pictures: one for each alphabet, as far as the machine has one.

Plain letters are written in the font that comes with Pillow. Others are looked for in the places
where systems keep fonts; where none has a letter, a hollow square stands for it.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from PIL import ImageFont

__all__ = ["Font", "font_for", "lacking"]

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
    """Return a font that has the letters of a text, and the text as it can be written.

    Parameters
    ----------
    text : str
        One line.
    size : int
        In pixels.

    Returns
    -------
    tuple of font and str
        Letters that no font here has are hollow squares.
    """
    if text.isascii():
        return _plain(size), text
    best, least = "", len(text) + 1
    for path in _files():
        missing = sum(not _has(path, letter) for letter in set(text))
        if missing < least:
            best, least = path, missing
        if not missing:
            break
    if not best:
        return _plain(size), "".join(c if c.isascii() else "?" for c in text)
    shown = "".join(letter if _has(best, letter) else _SQUARE for letter in text)
    return _opened(best, size), shown


def lacking(text: str) -> str:
    """Return the letters of a text that no font on this machine has.

    Parameters
    ----------
    text : str
        Any.

    Returns
    -------
    str
        Each once, in order; empty if everything can be written.
    """
    letters = dict.fromkeys(c for c in text if not c.isascii())
    return "".join(c for c in letters if not any(_has(path, c) for path in _files()))


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
def _files() -> tuple[str, ...]:
    """Return the font files that are there, in the order of `NAMES`."""
    there: dict[str, str] = {}
    for folder in _folders():
        for home, _, names in os.walk(folder):
            for name in names:
                there.setdefault(name.casefold(), str(Path(home) / name))
    found = [there[name.casefold()] for name in NAMES if name.casefold() in there]
    return tuple(path for path in found if _opens(path))


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
