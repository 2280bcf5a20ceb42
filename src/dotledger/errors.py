"""Every error Dot Ledger raises on purpose, under one root.

::

    DotLedgerError
    ├── InputError                 what the caller gave is wrong          (exit status 2)
    │   ├── ArgumentError          an argument or option
    │   ├── TableError             a findings or annotations table
    │   ├── DescriptionError       a service description
    │   ├── GatherError            the images asked for
    │   └── ScopeError             two sides with nothing in common
    ├── ConnectError               the service cannot be used as described
    │   ├── KeyNotFound            no key where the description says
    │   └── KeyRefused             the service turned the key down
    ├── AnswerError                an answer that cannot be read
    │   └── UnreadError            through the fault of our description, not the service's
    ├── ImageError                 one image that cannot be sent as it is
    ├── LedgerError                the ledger cannot be opened, read or written
    └── MissingExtra               an optional package is not installed

Each carries its facts as attributes and survives pickling; none ever holds a key.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from dotledger.text_display import plain_text, shown

__all__ = [
    "AnswerError",
    "ArgumentError",
    "ConnectError",
    "DescriptionError",
    "DotLedgerError",
    "GatherError",
    "ImageError",
    "InputError",
    "KeyNotFound",
    "KeyRefused",
    "LedgerError",
    "MissingExtra",
    "ScopeError",
    "TableError",
    "UnreadError",
]

_NOTHING: Any = object()


def _rebuild(cls: type[DotLedgerError], message: str, facts: dict[str, Any]) -> DotLedgerError:
    return cls(message, **facts)


class DotLedgerError(Exception):
    """The root of the tree.

    Parameters
    ----------
    message : str
        What is wrong, without a full stop.
    place : str, optional
        Where: a file with line and column, an option, a field.
    got : object, optional
        The value that was given.
    allowed : iterable of str, optional
        What would have been accepted, shown in the order given.
    next_step : str, optional
        What to do about it.
    **facts
        Anything else worth keeping, such as ``image`` or ``call``; each becomes an attribute.

    Examples
    --------
    >>> import dotledger
    >>> try:
    ...     dotledger.read_findings("nowhere.csv")
    ... except dotledger.DotLedgerError as error:
    ...     print(error.place, error.exit_status)
    nowhere.csv 2
    """

    exit_status = 1

    def __init__(
        self,
        message: str,
        *,
        place: str = "",
        got: object = _NOTHING,
        allowed: Iterable[str] = (),
        next_step: str = "",
        **facts: Any,
    ) -> None:
        super().__init__(message)
        self.message = message
        self.place = place
        self.allowed = tuple(allowed)
        self.next_step = next_step
        self.facts = facts
        self._has_value = got is not _NOTHING
        self.got = got if self._has_value else None
        for name, value in facts.items():
            setattr(self, name, value)

    def __str__(self) -> str:
        parts = [f"{self.place}: {self.message}" if self.place else self.message]
        if self._has_value:
            parts.append(f"got {shown(self.got)}")
        if self.allowed:
            parts.append("allowed: " + ", ".join(self.allowed))
        text = "; ".join(parts)
        return plain_text(f"{text}. {self.next_step}" if self.next_step else text)

    def __reduce__(self) -> tuple[Any, ...]:
        facts = dict(self.facts, place=self.place, allowed=self.allowed, next_step=self.next_step)
        if self._has_value:
            facts["got"] = self.got
        return _rebuild, (type(self), self.message, facts)


class InputError(DotLedgerError, ValueError):
    """What the caller gave cannot be used."""

    exit_status = 2


class ArgumentError(InputError):
    """An argument or option is out of its range."""


class TableError(InputError):
    """A findings or annotations table breaks the common shape."""


class DescriptionError(InputError):
    """A service description is misspelt, incomplete or contradictory."""


class GatherError(InputError):
    """An image asked for is missing or cannot be read."""


class ScopeError(InputError):
    """Two sides that should be compared have nothing in common."""


class ConnectError(DotLedgerError):
    """The service cannot be used as described."""

    exit_status = 2


class KeyNotFound(ConnectError):
    """No key was found in any of the places the description names."""


class KeyRefused(ConnectError):
    """The service does not accept the key."""


class AnswerError(DotLedgerError):
    """An answer cannot be read by the rules of its description."""


class UnreadError(AnswerError):
    """An answer, paid for and kept, that is not where or what its description says.

    Reading it again by a better description costs nothing.
    """


class ImageError(DotLedgerError):
    """One image cannot be sent as it is."""


class LedgerError(DotLedgerError):
    """The ledger cannot be opened, read or written."""

    exit_status = 2


class MissingExtra(DotLedgerError, ImportError):
    """An optional package is needed and not installed."""

    exit_status = 2
