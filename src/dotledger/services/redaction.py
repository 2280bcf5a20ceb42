"""One table of everything secret in a sending, and the one function that covers it.

Services repeat what they were given: in bodies, headers, error texts and addresses, escaped in
whichever way suits the place. What is kept or shown goes through `Secrets` first.
"""

from __future__ import annotations

import base64
import html
import re
import threading
from collections import deque
from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import quote, quote_plus, unquote_to_bytes

from dotledger.json_codec import to_json

__all__ = ["MASK", "Hidden", "HiddenText", "Key", "Secrets"]

MASK = "•••"

# A key of 12 characters or more is covered wherever a service repeats it: an answer is then not
# kept byte for byte. Shorter ones may stand there by chance.
LEAST_IN_ANSWERS = 12
"""Shorter ones may stand in an answer by chance."""

LEAST_IN_TEXT = 6
"""Shorter ones may be part of any word of a message."""

_MOST_PASSING = 64
"""More requests than are under way at once. All signatures of a batch would be a table that is
built anew for each, and searched in each answer."""

_ESCAPE = re.compile(rb"\\(?:u00([2-7][0-9a-fA-F])|(.))", re.DOTALL)
_PERCENT = re.compile(rb"[^\s\"'<>&]*%[0-9a-fA-F]{2}[^\s\"'<>&]*")


class Hidden(dict[str, str]):
    """Headers or a query, which may hold a key: a listing of variables shows the names only."""

    def __repr__(self) -> str:
        return f"<{', '.join(self)}>"


class HiddenText(str):
    """An address that may hold a key: a listing of variables does not show it."""

    __slots__ = ()

    def __repr__(self) -> str:
        return f"<{len(self)} characters>"


class Key:
    """A key in memory; its text is given by `reveal` only, never by ``str`` or ``repr``.

    Parameters
    ----------
    text : str
        The key, also ``id:secret``.
    source : str
        Where it was found, for people.
    again : callable, optional
        Gives the key anew, where it may be one that ends: code gave it.

    Attributes
    ----------
    traces : tuple of bytes
        The forms in which it or a half of it may stand in a request or an answer, longest first.
    """

    __slots__ = ("_text", "again", "source", "traces")

    def __init__(self, text: str, source: str, again: Callable[[], Key] | None = None) -> None:
        self._text = text
        self.source = source
        self.again = again
        self.traces = _traces(text)

    def reveal(self) -> str:
        """Return the key."""
        return self._text

    def fault(self, *, in_header: bool = False) -> str:
        """Return what keeps it from being a key, in words that do not show it; empty if nothing.

        Raises nothing: a traceback that lists local variables must not find the key in one.
        """
        if not self._text:
            return "is empty or no text"
        if not self._text.isprintable():
            return "holds line breaks or other control characters"
        if in_header and not self._text.isascii():
            return "holds letters that a header cannot carry"
        return ""

    def __repr__(self) -> str:
        return f"<Key from {self.source}>"

    def __reduce__(self) -> tuple[Any, ...]:
        raise TypeError("a key is not pickled")


def _traces(text: str) -> tuple[bytes, ...]:
    whole = text.encode("utf-8", "replace").decode()
    halves = whole.split(":", 1) if ":" in whole else []
    forms = {form for part in (whole, *halves) for form in _forms(part)}
    return tuple(sorted((form for form in forms if form), key=lambda form: (-len(form), form)))


def _forms(part: str) -> set[bytes]:
    """Return a text as it is in plain text, JSON, HTML, an address or base64."""
    coded = [base64.b64encode(part.encode()), base64.urlsafe_b64encode(part.encode())]
    plain = {
        part,
        to_json(part).decode()[1:-1],
        html.escape(part),
        quote(part, safe=""),
        quote(part, safe="").lower(),
        quote_plus(part),
    }
    return {form.encode() for form in plain} | {*coded, *(form.rstrip(b"=") for form in coded)}


class Secrets:
    """Everything that may not be kept or shown: keys, their halves, tokens, what signers add.

    Parameters
    ----------
    *keys : Key or None
        Known from the start; others join with `add`.
    """

    def __init__(self, *keys: Key | None) -> None:
        self._adding = threading.Lock()
        self._keys: tuple[Key, ...] = ()
        self._passing: deque[Key] = deque(maxlen=_MOST_PASSING)
        self._traces: dict[int, tuple[bytes, ...]] = {}
        for key in keys:
            self.add(key)

    def __repr__(self) -> str:
        return f"<Secrets, {len(self._keys)}>"

    def add(self, key: Key | None, *, passing: bool = False) -> None:
        """Cover this one too from now on.

        Parameters
        ----------
        passing : bool, default False
            It belongs to one request, such as a signature: only the last of those are covered.
        """
        if key is None:
            return
        with self._adding:
            if passing:
                self._passing.append(key)
            else:
                self._keys = (*self._keys, key)
            known = (*self._keys, *self._passing)
            self._traces = {
                least: _long_enough((k.traces for k in known), least)
                for least in (LEAST_IN_ANSWERS, LEAST_IN_TEXT, 1)
            }

    def cover(self, data: bytes, *, least: int = LEAST_IN_ANSWERS) -> bytes:
        """Return bytes with every secret of at least `least` characters covered.

        Parameters
        ----------
        data : bytes
            An answer, JSON or not. It is returned as it is, the same object, if it holds none.
        least : {12, 6, 1}
            Shorter secrets, and shorter halves of them, may stand there by chance.
        """
        traces = self._traces.get(least, ())
        if not traces or not data:
            return data
        if any(trace in data for trace in traces):
            data = _replaced(data, traces)
        if b"\\" in data:
            plain = _ESCAPE.sub(_unescaped, data)
            data = _replaced(plain, traces) if any(t in plain for t in traces) else data
        if b"%" in data:
            covered = _PERCENT.sub(lambda token: _unquoted(token[0], traces), data)
            data = data if covered == data else covered
        return data

    def text(self, text: str, *, least: int = LEAST_IN_TEXT) -> str:
        """Return text with every secret covered; see `cover`."""
        data = text.encode("utf-8", "surrogatepass")
        covered = self.cover(data, least=least)
        return text if covered is data else covered.decode("utf-8", "replace")


def _long_enough(traces: Iterable[tuple[bytes, ...]], least: int) -> tuple[bytes, ...]:
    found = {trace for several in traces for trace in several if len(trace) >= least}
    return tuple(sorted(found, key=lambda trace: (-len(trace), trace)))


def _replaced(data: bytes, traces: tuple[bytes, ...]) -> bytes:
    for trace in traces:
        data = data.replace(trace, MASK.encode())
    return data


def _unescaped(match: re.Match[bytes]) -> bytes:
    r"""Return a JSON escape as the character it stands for, where that needs none."""
    if match[1]:
        letter = bytes([int(match[1], 16)])
        return b"\\" + letter if letter in (b'"', b"\\") else letter
    return b"/" if match[2] == b"/" else match[0]


def _unquoted(token: bytes, traces: tuple[bytes, ...]) -> bytes:
    plain = unquote_to_bytes(token)
    hidden = any(trace in plain or trace in plain.replace(b"+", b" ") for trace in traces)
    return MASK.encode() if hidden else token
