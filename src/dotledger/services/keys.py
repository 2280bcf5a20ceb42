"""Finding keys, and never showing them."""

from __future__ import annotations

import base64
import importlib
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, quote_plus

from dotledger.errors import ConnectError, KeyNotFound, MissingExtra
from dotledger.services.description import Description, KeyPlace

if TYPE_CHECKING:
    from dotledger.services.requests import Signer

__all__ = ["Key", "find_key", "find_signer"]


class Key:
    """A key in memory; its text is given by `reveal` only, never by ``str`` or ``repr``.

    Parameters
    ----------
    text : str
        The key.
    source : str
        Where it was found, for people.

    Attributes
    ----------
    traces : tuple of bytes
        The forms in which it may stand in a request or an answer, longest first.
    """

    __slots__ = ("_text", "source", "traces")

    def __init__(self, text: str, source: str) -> None:
        self._text = text
        self.source = source
        self.traces = _traces(text)

    def reveal(self) -> str:
        """Return the key."""
        return self._text

    def __repr__(self) -> str:
        return f"<Key from {self.source}>"

    def __reduce__(self) -> tuple[Any, ...]:
        raise TypeError("a key is not pickled")


def _traces(text: str) -> tuple[bytes, ...]:
    coded = base64.b64encode(text.encode()).decode()
    forms = {text, coded, quote(text, safe=""), quote_plus(text)}
    return tuple(sorted((form.encode() for form in forms if form), key=len, reverse=True))


def find_key(
    description: Description,
    *,
    environment: Mapping[str, str] | None = None,
    given: str | Callable[[], str] | None = None,
) -> Key | None:
    """Return the key that a description asks for.

    Parameters
    ----------
    description : Description
        Its ``connect.key.sources`` are tried in order: ``env:NAME``, ``file:PATH`` (the first
        line), ``keyring:SERVICE/USER``, ``call:MODULE:FUNCTION``.
    environment : mapping, optional
        In place of ``os.environ``.
    given : str or callable, optional
        A key, or a function that returns one; it goes before every source.

    Returns
    -------
    Key or None
        None if the service needs no key, or signs requests by itself.

    Raises
    ------
    KeyNotFound
        Naming every place that was looked at; or if what was found can be no key, which is
        said without showing it.
    """
    place = description.connect.key
    if place.place in ("none", "signed"):
        return None
    if given is not None:
        text = given() if callable(given) else given
        return _checked(Key(_whole(text, "the caller"), "the caller"), place)
    environment = os.environ if environment is None else environment
    looked = []
    for source in place.sources:
        text, why = _look(source, environment)
        if text.strip():
            return _checked(Key(_whole(text, source), source), place)
        looked.append(f"{source} ({why})")
    raise KeyNotFound(
        f"no key for {description.service}",
        place=f"service {description.service}",
        next_step=f"Looked at: {'; '.join(looked)}. Set one of them.",
        looked=tuple(looked),
    )


def _whole(text: Any, source: str) -> str:
    """Return a key without the white space around it; refuse what can be none, unseen."""
    key = text.strip() if isinstance(text, str) else ""
    if not key or not key.isprintable():
        what = "holds line breaks or other control characters" if key else "is empty or no text"
        raise _unusable(what, source)
    return key


def _checked(key: Key, place: KeyPlace) -> Key:
    if place.place in ("header", "bearer") and not key.reveal().isascii():
        raise _unusable("holds letters that a header cannot carry", key.source)
    return key


def _unusable(what: str, source: str) -> KeyNotFound:
    return KeyNotFound(
        f"the key {what}",
        place=source,
        next_step="Copy it again, whole and without what stands around it.",
        looked=(source,),
    )


def _look(source: str, environment: Mapping[str, str]) -> tuple[str, str]:
    """Return (key or "", why there is none)."""
    way, _, where = source.partition(":")
    if way == "env":
        return environment.get(where, ""), "not set or empty" if where in environment else "not set"
    if way == "file":
        return _from_file(Path(where).expanduser())
    if way == "keyring":
        return _from_keyring(where)
    return _from_call(where)


def _from_file(path: Path) -> tuple[str, str]:
    try:
        lines = path.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        return "", getattr(error, "strerror", None) or "not text"
    return (lines[0] if lines else ""), "empty"


def _from_keyring(where: str) -> tuple[str, str]:
    try:
        import keyring
    except ImportError as error:
        raise MissingExtra(
            "a key in the keyring needs the package keyring",
            next_step="Run: pip install 'dot-ledger[keyring]'",
        ) from error
    service, _, user = where.partition("/")
    try:
        return keyring.get_password(service, user) or "", "no such entry"
    except keyring.errors.KeyringError as error:
        return "", f"keyring: {type(error).__name__}"


def _from_call(where: str) -> tuple[str, str]:
    function = _imported(where)
    try:
        return str(function() or ""), "returned nothing"
    except Exception as error:
        return "", f"it failed: {type(error).__name__}"


def _imported(where: str) -> Any:
    """Return the function named ``MODULE:FUNCTION``."""
    module, _, function = where.partition(":")
    try:
        return getattr(importlib.import_module(module), function)
    except (ImportError, AttributeError, ValueError) as error:
        raise ConnectError(
            f"the callable cannot be imported ({error})",
            got=f"call:{where}",
            next_step="It is written call:MODULE:FUNCTION; the module must be installed, or its "
            "folder named in PYTHONPATH.",
        ) from error


def find_signer(description: Description) -> Signer | None:
    """Return the function that signs each request, for a key of place ``signed``.

    It is named by a source ``call:MODULE:FUNCTION``; given the finished `Request`, it returns
    headers to add. None for any other place, or if no source names one.

    Raises
    ------
    ConnectError
        If it cannot be imported.
    """
    place = description.connect.key
    named = [s.partition(":")[2] for s in place.sources if s.startswith("call:")]
    if place.place != "signed" or not named:
        return None
    signer: Signer = _imported(named[0])
    return signer
