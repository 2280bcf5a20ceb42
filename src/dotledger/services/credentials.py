"""Finding keys, and never showing them."""

from __future__ import annotations

import importlib
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dotledger.errors import ArgumentError, ConnectError, KeyNotFound, MissingExtra
from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.safe_files import read_regular
from dotledger.services.redaction import Key
from dotledger.services.service_description import Description

if TYPE_CHECKING:
    from dotledger.services.request_signing import Signer

__all__ = ["Key", "find_key", "find_signer", "given_key", "imported"]

_MOST_BYTES = 64_000
"""Of a key file: what is longer is some other file."""


def given_key(given: str | Key | Callable[[], str] | None) -> Key | None:
    """Return what a caller gave as a key, so that its text stands in no variable from here on.

    White space around it goes. What cannot be a key becomes one with a fault, which `find_key`
    tells without showing it.

    Parameters
    ----------
    given : str, Key, callable or None
        A callable is called at once, and again when the service no longer takes its key.

    Returns
    -------
    Key or None
        None if none was given.
    """
    if given is None or isinstance(given, Key):
        return given
    return _called(given, "the caller") if callable(given) else _stripped(given, "the caller")


def _stripped(text: Any, source: str) -> Key:
    return Key(text.strip() if isinstance(text, str) else "", source)


def _called(function: Callable[[], Any], source: str) -> Key:
    """Return the key that code gives, which is asked again when the service refuses it."""
    text = function()
    plain = text.strip() if isinstance(text, str) else ""
    return Key(plain, source, lambda: _called(function, source))


def find_key(
    description: Description,
    *,
    environment: Mapping[str, str] | None = None,
    given: str | Key | Callable[[], str] | None = None,
) -> Key | None:
    """Return the key that a description asks for.

    Parameters
    ----------
    description : Description
        Its ``connect.key.sources`` are tried in order: ``env:NAME``, ``file:PATH`` (the first
        line), ``file:PATH#NAME`` (one value of a JSON object), ``keyring:SERVICE/USER``,
        ``call:MODULE:FUNCTION``. Whether such code may run is asked before; see
        `dotledger.services.description_trust`.
    environment : mapping, optional
        Instead of ``os.environ``.
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
    if place.place == "none" or description.connect.signed_by_code:
        return None
    key = given_key(given)
    looked: list[str] = []
    given = None
    if key is None:
        token = description.connect.token
        whole = token is not None and token.assertion is not None
        key, looked = _first_found(place.sources, environment, whole=whole)
        environment = None  # nor does a traceback list this one
    if key is None:
        raise KeyNotFound(
            f"no key for {description.service}",
            place=f"service {description.service}",
            next_step=f"Looked at: {'; '.join(looked)}. Set one of them.",
            looked=tuple(looked),
        )
    if fault := key.fault(in_header=place.place in ("header", "bearer")):
        raise KeyNotFound(
            f"the key {fault}",
            place=key.source,
            next_step="Copy it again, whole and without what stands around it.",
            looked=(key.source,),
        )
    return key


def key_from(source: str) -> Key:
    """Return the key that one source names, such as ``env:NAME`` or ``file:PATH``.

    Raises
    ------
    ArgumentError
        If the source is of no kind that is known, or code.
    KeyNotFound
        If there is no key.
    """
    way, _, where = source.partition(":")
    if way not in ("env", "file", "keyring") or not where:
        raise ArgumentError(
            "no place of a key",
            place="secret",
            got=source.partition(":")[0] if where else "text",
            allowed=["env:NAME", "file:PATH", "keyring:SERVICE/USER"],
        )
    key, looked = _first_found((source,), None, whole=False)
    if key is None:
        raise KeyNotFound("no key there", place=source, next_step=f"Looked at: {looked[0]}.")
    return key


def _first_found(
    sources: tuple[str, ...], environment: Mapping[str, str] | None, *, whole: bool
) -> tuple[Key | None, list[str]]:
    """Return the first key there is, and every place looked at before with what was there.

    With `whole`, a file is a JSON object that is needed as it is.
    """
    looked: list[str] = []
    # In the order written, and no further than needed: a keyring may ask the user for a password.
    for source in sources:
        way, _, where = source.partition(":")
        if way == "env":
            key, why = _from_env(where, environment)
        elif way == "file" and (whole or "#" in where):
            key, why = _from_json_file(where, source)
        else:
            key, why = _WAYS[way](where, source)
        if key is not None:
            return key, looked
        looked.append(f"{source} ({why})")
    return None, looked


def _from_env(name: str, environment: Mapping[str, str] | None) -> tuple[Key | None, str]:
    key = _stripped(
        (os.environ if environment is None else environment).get(name, ""), f"env:{name}"
    )
    there = name in (os.environ if environment is None else environment)
    return (key, "") if key.reveal() else (None, "not set or empty" if there else "not set")


def _from_file(where: str, source: str) -> tuple[Key | None, str]:
    """Return the first line of a key file; the rest of it is not kept."""
    try:
        key = _stripped(_first_line(Path(where).expanduser()), source)
    except OSError as error:
        return None, error.strerror or "cannot be read"
    except UnicodeDecodeError:
        return None, "not text"
    return (key, "") if key.reveal() else (None, "empty")


def _from_json_file(where: str, source: str) -> tuple[Key | None, str]:
    """Return a JSON object in one line, or the one value of it that stands behind ``#``."""
    path, _, name = where.partition("#")
    try:
        held = from_json(read_regular(Path(path).expanduser(), _MOST_BYTES))
    except OSError as error:
        return None, error.strerror or "cannot be read"
    except NotJSON:
        return None, "not JSON"
    if not isinstance(held, dict):
        return None, "no JSON object"
    if name:
        value = held.get(name)
        known = isinstance(value, str) and bool(value.strip())
        return (_stripped(value, source), "") if known else (None, f"it has no text {name!r}")
    return Key(to_json(held).decode(), source), ""


def _first_line(path: Path) -> str:
    # utf-8-sig, since editors put a mark before the text that would become part of the key.
    return next(iter(read_regular(path, _MOST_BYTES).decode("utf-8-sig").splitlines()), "")


def _from_keyring(where: str, source: str) -> tuple[Key | None, str]:
    try:
        import keyring
    except ImportError as error:
        raise MissingExtra(
            "a key in the keyring needs the package keyring",
            next_step="Run: pip install 'dot-ledger[keyring]'",
        ) from error
    service, _, user = where.partition("/")
    try:
        key = _stripped(keyring.get_password(service, user), source)
    except keyring.errors.KeyringError as error:
        return None, f"keyring: {type(error).__name__}"
    return (key, "") if key.reveal() else (None, "no such entry")


def _from_call(where: str, source: str) -> tuple[Key | None, str]:
    function = imported(where)
    try:
        key = _called(function, source)
    # Only the type is told: what somebody else's code says in an error may hold the key.
    except Exception as error:
        return None, f"it failed: {type(error).__name__}"
    return (key, "") if key.reveal() else (None, "returned nothing")


_WAYS: Mapping[str, Callable[[str, str], tuple[Key | None, str]]] = {
    "file": _from_file,
    "keyring": _from_keyring,
    "call": _from_call,
}


def imported(where: str) -> Any:
    """Return the function named ``MODULE:FUNCTION``.

    Raises
    ------
    ConnectError
        If it cannot be imported.
    """
    module, _, function = where.partition(":")
    try:
        return getattr(importlib.import_module(module), function)
    except Exception as error:  # a module may fail in any way while it is imported
        raise ConnectError(
            f"the callable cannot be imported ({type(error).__name__})",
            got=f"call:{where}",
            next_step="It is written call:MODULE:FUNCTION; the module must be installed, or its "
            "folder named in PYTHONPATH.",
        ) from error


def find_signer(description: Description) -> Signer | None:
    """Return the function that signs each request, for a key of place ``signed``.

    It is named by a source ``call:MODULE:FUNCTION``; given the finished `Request`, it returns
    headers to add. None for any other place, if no source names one, or if the description itself
    says how to sign: its sources then give the key.

    Parameters
    ----------
    description : Description
        With the place of its key.

    Raises
    ------
    ConnectError
        If it cannot be imported.
    """
    place = description.connect.key
    named = [s.partition(":")[2] for s in place.sources if s.startswith("call:")]
    if not description.connect.signed_by_code or not named:
        return None
    signer: Signer = imported(named[0])
    return signer
