"""Files in TOML that are checked strictly: every key known, every error with its line."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal, TypeVar, get_args, get_origin

import msgspec

from dotledger.core.spelling import nearest
from dotledger.errors import DescriptionError
from dotledger.safe_files import parse_toml, read_regular

__all__ = ["NOT_ANSWERED", "TomlPart", "hinted", "load_strictly", "parse_strictly", "unknown"]

_MOST_BYTES = 4 << 20

Model = TypeVar("Model", bound=msgspec.Struct)

NOT_ANSWERED = "not answered"
"""What a draft writes where its samples leave several answers open: no file with it is read."""


class TomlPart(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One section: its keys are checked, and others refused, when it is read."""

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""


def load_strictly(path: str | os.PathLike[str], model: type[Model]) -> Model:
    """Read a TOML file as `model`.

    Parameters
    ----------
    path : path-like
        A TOML file of at most a few megabytes.
    model : type
        A msgspec struct that forbids unknown keys.

    Raises
    ------
    DescriptionError
        Naming file, line and field.
    """
    file = Path(path)
    try:
        text = read_regular(file, _MOST_BYTES).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        raise DescriptionError(
            f"the description cannot be read ({reason})", place=str(file)
        ) from error
    return parse_strictly(text, model, name=str(file))


def parse_strictly(text: str, model: type[Model], *, name: str) -> Model:
    """Read TOML text as `model`.

    Parameters
    ----------
    model : type
        A msgspec struct that forbids unknown keys.
    name : str
        What the text is called in messages.

    Raises
    ------
    DescriptionError
        Naming the line and field: not TOML, an unknown or misspelt key (with the nearest right
        one), a missing key, or values that contradict each other.
    """
    try:
        data = parse_toml(text)
    except ValueError as error:
        raise DescriptionError(f"not TOML: {error}", place=name) from error
    if where := next(_unanswered(data.get("read"), ("read",)), None):
        raise DescriptionError(
            "a question of the draft is not answered yet",
            place=_place(name, text, where),
            next_step=f"Write one of the answers above that line after '{where[-1]} ='.",
        )
    try:
        return msgspec.convert(data, model, strict=True)
    except msgspec.ValidationError as error:
        raise _explained(str(error), data, text, name, model) from None


def _unanswered(value: Any, where: tuple[Any, ...]) -> Iterator[tuple[Any, ...]]:
    """Yield the places at which a draft left a question open."""
    if value == NOT_ANSWERED:
        yield where
    inner = value.items() if isinstance(value, dict) else ()
    listed = enumerate(value) if isinstance(value, list) else ()
    for key, part in (*inner, *listed):
        yield from _unanswered(part, (*where, key))


def unknown(what: str, got: str, known: Any) -> str:
    """Return a message about a word that is not known, with the nearest that is.

    Parameters
    ----------
    what : str
        Of what there is none, such as a kind.

    Returns
    -------
    str
        For the message of an error.
    """
    return hinted(f"unknown {what} {got!r}", got, known) + f"; allowed: {', '.join(known)}"


def hinted(message: str, got: str, known: Any) -> str:
    """Return a message with the nearest known word added, if one is near.

    Returns
    -------
    str
        The message alone if none is near.
    """
    close = nearest(got, known)
    return f"{message} (did you mean {close[0]!r}?)" if close else message


_AT = re.compile(r" - at `\$\.?(.*?)`$")
_UNKNOWN = re.compile(r"Object contains unknown field `(.*)`")
_NO_WORD = re.compile(r"Invalid enum value")
_MISSING = re.compile(r"Object missing required field `(.*)`")


def _explained(message: str, data: Any, text: str, name: str, model: type[Any]) -> DescriptionError:
    """Return our error for a message of the checking package, which ends with a path."""
    at = _AT.search(message)
    where = _path(at[1]) if at else ()
    plain = message[: at.start()] if at else message
    if unknown := _UNKNOWN.match(plain):
        known = _fields_at(model, where)
        place = _place(name, text, (*where, unknown[1]))
        return DescriptionError(
            hinted("unknown key", unknown[1], known), place=place, got=unknown[1], allowed=known
        )
    if missing := _MISSING.match(plain):
        message = f"the needed key {missing[1]!r} is missing"
        return DescriptionError(message, place=_place(name, text, where))
    value = _value_at(data, where)
    if _NO_WORD.match(plain) and (words := _words_at(model, where)):
        return DescriptionError(
            hinted("unknown word", str(value), words),
            place=_place(name, text, where),
            got=value,
            allowed=words,
        )
    facts: dict[str, Any] = {"got": value} if isinstance(value, (str, int, float)) else {}
    return DescriptionError(plain.replace("`", "'"), place=_place(name, text, where), **facts)


def _words_at(model: Any, where: tuple[Any, ...]) -> list[str]:
    """Return the words allowed at a place, if it holds one of a list of words."""
    annotation: Any = model
    for part in where:
        inner = _model_within(annotation)
        if inner is not None and isinstance(part, str):
            fields = {f.encode_name: f.type for f in msgspec.structs.fields(inner)}
            annotation = fields.get(part, annotation)
    return [word for word in _literals(annotation) if isinstance(word, str)]


def _literals(annotation: Any) -> list[Any]:
    if get_origin(annotation) is Literal:
        return list(get_args(annotation))
    inner = (*getattr(annotation, "__args__", ()), getattr(annotation, "__origin__", None))
    return [word for part in inner if part is not None for word in _literals(part)]


def _path(text: str) -> tuple[Any, ...]:
    """Return ``read[1].box`` as ``("read", 1, "box")``."""
    parts = re.findall(r"\[(\d+)\]|([^.\[\]]+)", text)
    return tuple(int(number) if number else word for number, word in parts)


def _place(name: str, text: str, where: tuple[Any, ...]) -> str:
    line = _line_of(text, where)
    parts = [name, f"line {line}" if line else "", ".".join(map(str, where))]
    return ", ".join(filter(None, parts))


def _value_at(data: Any, where: tuple[Any, ...]) -> Any:
    for part in where:
        try:
            data = data[part]
        except (KeyError, IndexError, TypeError):
            return None
    return data


def _fields_at(model: Any, where: tuple[Any, ...]) -> list[str]:
    """Return the keys allowed in the section at `where`."""
    for part in where:
        fields = {f.encode_name: f for f in msgspec.structs.fields(model)}
        if part in fields:
            model = _model_within(fields[part].type) or model
    return [field.encode_name for field in msgspec.structs.fields(model)]


def _model_within(annotation: Any) -> Any:
    if isinstance(annotation, type) and issubclass(annotation, msgspec.Struct):
        return annotation
    inner = (_model_within(part) for part in getattr(annotation, "__args__", ()))
    return next((model for model in inner if model), None)


_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\]]+?)\s*\]")
_KEY = re.compile(r"^\s*([A-Za-z0-9_-]+)\s*=")


def _line_of(text: str, where: tuple[Any, ...]) -> int:
    """Return the line (from 1) of the key at `where`, or of the nearest section above it; 0."""
    best, best_depth = 0, 0
    section: tuple[Any, ...] = ()
    counts: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if header := _HEADER.match(line):
            section = _section(header, counts)
            here = section
        elif key := _KEY.match(line):
            here = (*section, key[1])
        else:
            continue
        if here == where[: len(here)] and len(here) > best_depth:
            best, best_depth = number, len(here)
    return best


def _section(header: re.Match[str], counts: dict[str, int]) -> tuple[Any, ...]:
    names = [part.strip().strip("\"'") for part in header[2].split(".")]
    if header[1] == "[[":
        counts[names[0]] = counts.get(names[0], -1) + 1
    path: list[Any] = []
    for name in names:
        path.append(name)
        if name in counts and len(path) == 1:
            path.append(counts[name])
    return tuple(path)
