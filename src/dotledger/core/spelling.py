"""How names are ordered, and the nearest name to a misspelt one."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

__all__ = ["as_text", "counted", "first_of", "natural_key", "naturally_sorted", "nearest"]

_DIGITS = re.compile(r"\d+")
_WIDEST = 24
_SHAPE = bytes.maketrans(b"0123456789", b"0" * 10)


def nearest(name: str, known: Iterable[str], *, most: int = 1) -> list[str]:
    """Return up to `most` names of `known` that are spelt most like `name`, letter case aside.

    Returns
    -------
    list of str
        The nearest first; empty if none is near.
    """
    import difflib

    folded: dict[str, str] = {}
    for other in known:
        folded.setdefault(other.casefold(), other)
    close = difflib.get_close_matches(name.casefold(), list(folded), n=most, cutoff=0.6)
    return [folded[key] for key in close]


def as_text(name: str) -> str:
    r"""Return a name as text that can be written anywhere.

    A file's name may hold bytes that are no UTF-8; they are shown as ``\udcff``.

    Parameters
    ----------
    name : str
        A file name as Python gives it.

    Returns
    -------
    str
        Text in UTF-8; a name that is such text comes back as it is.
    """
    return name if name.isascii() else name.encode("utf-8", "backslashreplace").decode()


def counted(number: int, noun: str) -> str:
    """Return ``1 image`` or ``1,200 images``; for nouns that take an s.

    Parameters
    ----------
    number : int
        0 or more.
    """
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def first_of(names: Sequence[str], most: int) -> str:
    """Return the first names in one line, and how many more there are: ``a, b and 3 more``."""
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def natural_key(text: str) -> str:
    """Return a sort key under which ``walk-9`` comes before ``walk-10``.

    Returns
    -------
    str
        To be compared, and for nothing else.
    """
    return _DIGITS.sub(_padded, text.casefold())


def _padded(match: re.Match[str]) -> str:
    return match[0].zfill(_WIDEST)


def naturally_sorted(names: Sequence[str]) -> list[int]:
    """Return the places of `names` in natural order; equal names keep their order.

    Names that differ in digits of equal width only, as most exports do, need no keys.
    """
    joined = "\0".join(names).encode("utf-8", "surrogateescape")
    one_shape = len(set(joined.translate(_SHAPE).split(b"\0"))) == 1
    keys = names if one_shape else [natural_key(name) for name in names]
    return sorted(range(len(names)), key=keys.__getitem__)
