"""How values and foreign text are shown: never longer, deeper or livelier than a line can bear.

Names, labels, headers and answers come from files and services. Whatever stands in them, a message
stays one line of ordinary characters, and making it can neither fail nor take long.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Set
from datetime import date
from decimal import Decimal
from enum import Enum
from numbers import Number
from pathlib import PurePath
from typing import Any

__all__ = ["escaped_json", "plain_text", "shown"]

_DEEPEST = 3
_WIDEST = 4
_MOST_BITS = 200
_LIVELY = re.compile(
    "[\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff\ufeff]"
)
"""Control characters (C0, C1), marks that turn the direction of text, and halves of surrogates."""


def plain_text(text: str) -> str:
    r"""Return text that a terminal shows as it is: control characters are written out.

    Returns
    -------
    str
        The same, with ``\n``, ``\t``, ``\x1b``, ``\u202e`` and similar instead of what would
        move the cursor, colour, link, or turn the direction of what follows.

    Examples
    --------
    >>> plain_text("a\x1b[2Jb")
    'a\\x1b[2Jb'
    """
    return text if text.isprintable() else _LIVELY.sub(_written_out, text)


def _written_out(match: re.Match[str]) -> str:
    return match[0].encode("unicode_escape", "surrogatepass").decode()


def escaped_json(text: str) -> str:
    r"""Return a JSON document with control characters in its strings escaped as ``\uXXXX``.

    Line breaks between its parts stay: inside strings JSON itself escapes them.

    Returns
    -------
    str
        JSON that holds the same values.
    """
    return text if text.isascii() and "\x7f" not in text else _LIVELY.sub(_as_json, text)


def _as_json(match: re.Match[str]) -> str:
    return match[0] if match[0] == "\n" else f"\\u{ord(match[0]):04x}"


def shown(value: Any, most: int = 80) -> str:
    """Return a value as short plain text: text in quotes, bytes by their number, the rest as JSON.

    Parameters
    ----------
    value : object
        Of any depth and size, also one that contains itself.
    most : int
        Characters at most; what is longer ends in ``…``.

    Examples
    --------
    >>> shown({"a": [1, 2, [3, [4]]]})
    "{'a': [1, 2, [3, […]]]}"
    """
    text = _worded(value, _DEEPEST, most)
    return text if len(text) <= most else text[: most - 1] + "…"


def _worded(value: Any, depth: int, most: int) -> str:
    if isinstance(value, str):
        return f"'{plain_text(value[: most + 1])}'"
    if isinstance(value, (date, Decimal, PurePath)):
        return f"'{plain_text(str(value)[: most + 1])}'"
    if isinstance(value, (bytes, bytearray, memoryview)):
        return f"{len(value):,} bytes"
    if isinstance(value, Enum):
        return _worded(value.value, depth - 1, most)
    if isinstance(value, (bool, type(None), Number)):
        return _number(value)
    return _within(value, depth, most)


def _number(value: Any) -> str:
    """Return a number in digits; Python refuses to write one of many thousand digits."""
    plain = value.item() if hasattr(value, "item") else value
    if isinstance(plain, int) and plain.bit_length() > _MOST_BITS:
        return f"a whole number of {int(plain.bit_length() * 0.30103) + 1:,} digits"
    return str(plain)


def _within(value: Any, depth: int, most: int) -> str:
    if isinstance(value, Mapping):
        if depth <= 0:
            return "{…}" if value else "{}"
        pairs = [(key, value[key]) for key, _ in zip(value, range(_WIDEST), strict=False)]
        inner = [f"{_worded(k, 0, most)}: {_worded(v, depth - 1, most)}" for k, v in pairs]
        return "{" + _listed(inner, len(value)) + "}"
    if isinstance(value, (list, tuple, Set)):
        if depth <= 0:
            return "[…]" if value else "[]"
        first = [part for part, _ in zip(value, range(_WIDEST), strict=False)]
        inner = [_worded(part, depth - 1, most) for part in first]
        return "[" + _listed(inner, len(value)) + "]"
    name = type(value).__name__
    return f"an {name}" if name[:1] in "AEIOaeio" else f"a {name}"


def _listed(inner: list[str], count: int) -> str:
    return ", ".join(inner) + (", …" if count > len(inner) else "")
