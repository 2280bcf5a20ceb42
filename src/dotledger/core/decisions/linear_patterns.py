r"""Regular expressions on strangers' text, in time that grows with the text and no faster.

A pattern such as ``(a+)+$`` keeps a backtracking engine busy for years on a line of forty letters,
and both the rules and the text may come from somebody else. So patterns run on RE2, which never
backtracks. It has no look-ahead, look-behind and back references; a pattern with one is refused.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from dotledger.errors import ArgumentError

__all__ = ["LinearPattern", "linear_pattern"]

_CLASS_PARTS = re.compile(r"\\.|\[\^?\]?|\]", re.DOTALL)
_OUTSIDE = {r"\w": r"[\pL\pN_]", r"\W": r"[^\pL\pN_]", r"\d": r"\p{Nd}", r"\D": r"\P{Nd}"}
_INSIDE = {r"\w": r"\pL\pN_", r"\d": r"\p{Nd}", r"\D": r"\P{Nd}"}
"""RE2 knows ASCII letters only under these names; lines of text are in all alphabets."""


class LinearPattern:
    """A compiled pattern; letter case aside.

    Parameters
    ----------
    compiled : object
        Of RE2.
    """

    def __init__(self, compiled: Any) -> None:
        self._compiled = compiled

    def found_in(self, text: str) -> bool:
        """Tell whether a text holds what the pattern means."""
        return self._compiled.search(_sound(text)) is not None

    def places(self, text: str) -> Iterator[tuple[int, int]]:
        """Yield beginning and end of each place that matches, without overlap.

        Where the pattern has a group, the first group's place counts: what stands around it
        belongs to the neighbours.
        """
        for match in self._compiled.finditer(_sound(text)):
            yield match.span(1 if self._compiled.groups else 0)


def _sound(text: str) -> str:
    """Return text without halves of surrogates, which cannot be written in UTF-8."""
    return text.encode("utf-8", "replace").decode()


@lru_cache(maxsize=256)
def linear_pattern(pattern: str, *, place: str, allowed: tuple[str, ...] = ()) -> LinearPattern:
    r"""Compile a pattern.

    Parameters
    ----------
    pattern : str
        A regular expression in RE2's syntax; ``\w`` and ``\d`` mean letters and digits of every
        alphabet.
    place : str
        Where it stands, for the message.
    allowed : tuple of str, optional
        Other values that the message offers.

    Raises
    ------
    ArgumentError
        If it is no regular expression, or needs to look ahead, look behind or refer back.
    """
    import re2

    options = re2.Options()
    options.case_sensitive, options.log_errors = False, False
    try:
        return LinearPattern(re2.compile(_of_every_alphabet(pattern), options))
    except re2.error as error:
        reason = error.args[0] if error.args else ""
        why = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(reason)
        raise ArgumentError(
            f"not a regular expression that is run here ({why})",
            place=place,
            got=pattern,
            allowed=allowed,
            next_step="Look-ahead, look-behind and back references are not among them: they can "
            "take for ever.",
        ) from None


def _of_every_alphabet(pattern: str) -> str:
    inside = False

    def put(match: re.Match[str]) -> str:
        nonlocal inside
        part = match[0]
        if part.startswith("[") and not inside:
            inside = True
        elif part == "]":
            inside = False
        return (_INSIDE if inside else _OUTSIDE).get(part, part)

    return _CLASS_PARTS.sub(put, pattern)
