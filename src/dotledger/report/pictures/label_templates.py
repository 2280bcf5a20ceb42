"""Templates for the text of a box, with fields of its finding; parsed, never evaluated."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Iterator, Mapping
from string import Formatter
from typing import Any

from msgspec import Struct

from dotledger.core.spelling import nearest
from dotledger.core.tables.finding_details import NOTHING, Details, attribute_cells
from dotledger.errors import ArgumentError

__all__ = ["LabelTemplate", "label_template"]

_OWN = ("label", "kind", "confidence", "person", "similarity")
_ASIDE = ("share", "confidence", "unit")
"""What may stand behind a point after the name of an attribute."""
_SPEC = re.compile(r"(\.[0-6])?[f%g]?")
_BETWEEN = re.compile(r"([,;|·\n]\s*)")
_FIELD = re.compile(r"[^{}:.!]+(\.[a-z]+)?")


class _Part(Struct, frozen=True):
    """Text and fields up to the next separator, such as a comma; skipped if a field is missing."""

    before: str
    pieces: tuple[tuple[str, str, str], ...]


class LabelTemplate(Struct, frozen=True):
    """A template, taken apart; made by `label_template`."""

    parts: tuple[_Part, ...]

    @property
    def fields(self) -> list[str]:
        """The names of its fields."""
        return [name for part in self.parts for _, name, _ in part.pieces if name]

    def written(
        self,
        kind: str,
        label: str,
        confidence: float,
        details: Details | None,
        words: Mapping[str, str] = NOTHING,
    ) -> str:
        """Return the text for one finding.

        A part with a missing field is skipped; if all parts are skipped, the label is returned.
        """
        values = _values(kind, label, confidence, details)
        known = {n: _worded(v, words) if n != "person" else v for n, v in values.items()}
        found = [(part.before, _filled(part, known)) for part in self.parts]
        kept = [(before, text) for before, text in found if text is not None]
        text = "".join(
            f"{before if place else ''}{one}" for place, (before, one) in enumerate(kept)
        )
        return text.strip() or _worded(label, words)


def label_template(text: str, details: Iterable[Details | None]) -> LabelTemplate:
    """Return a template, checked against the details of the findings that it is for.

    Parameters
    ----------
    text : str
        Such as ``{person}, {age:.0f}, {emotion}``. Fields are ``label``, ``kind``, ``confidence``,
        ``person``, ``similarity`` and the names of attributes; behind an attribute,
        ``.share``, ``.confidence`` and ``.unit``; behind a colon, how a number is written, as
        Python's formats do: ``.0f``, ``.2f``, ``.0%``. Parts are divided by commas, semicolons,
        ``|``, ``·`` or line breaks.

    Raises
    ------
    ArgumentError
        If it is none, or names a field that no finding has.
    """
    parts, before = [], ""
    # A separator inside braces would be part of a name, and no name may hold one.
    for place, piece in enumerate(_BETWEEN.split(text)):
        if place % 2:
            before = piece
            continue
        parts.append(_Part(before, tuple(_pieces(piece, text))))
    made = LabelTemplate(tuple(parts))
    allowed = [*_OWN, *_attributes_of(details)]
    for name in made.fields:
        if name.partition(".")[0] not in allowed and name not in allowed:
            close = nearest(name, allowed, most=1)
            raise ArgumentError(
                f"no finding has a field {name!r}",
                place="write",
                got=text,
                allowed=allowed,
                next_step=f"Did you mean {{{close[0]}}}?" if close else "",
            )
    return made


def _pieces(text: str, whole: str) -> Iterator[tuple[str, str, str]]:
    """Yield plain text, the field after it, and how that is written."""
    try:
        parsed = list(Formatter().parse(text))
    except ValueError as error:
        raise _no_template(str(error), whole) from None
    for plain, name, spec, conversion in parsed:
        if conversion or (name is not None and not _is_field(name, spec or "")):
            raise _no_template(f"{{{name}{f':{spec}' if spec else ''}}} is no field", whole)
        yield plain, name or "", spec or ""


def _no_template(why: str, text: str) -> ArgumentError:
    return ArgumentError(
        f"not a template: {why}",
        place="write",
        got=text,
        allowed=["{person}, {age:.0f}, {emotion}"],
    )


def _is_field(name: str, spec: str) -> bool:
    _, point, aside = name.partition(".")
    known = not point or aside in _ASIDE
    return known and bool(_FIELD.fullmatch(name)) and bool(_SPEC.fullmatch(spec))


def _attributes_of(details: Iterable[Details | None]) -> list[str]:
    return list(dict.fromkeys(name for one in details if one for name in one.attributes))


def _values(kind: str, label: str, confidence: float, details: Details | None) -> dict[str, Any]:
    """Return what fields stand for, None for what is not known; a flag is its own name, or None."""
    known: dict[str, Any] = {
        name: (name if value else None) if isinstance(value, bool) else value
        for name, value in attribute_cells(details).items()
    }
    for name, value in (details.attributes if details is not None else {}).items():
        known |= {f"{name}.{aside}": _aside(value, aside) for aside in _ASIDE}
    sure = None if math.isnan(confidence) else confidence
    return {**known, "label": label, "kind": kind, "confidence": sure}


def _worded(value: Any, words: Mapping[str, str]) -> Any:
    """Return text in the user's words; a list by its entries."""
    if not words or not isinstance(value, str):
        return value
    if value.casefold() in words:
        return words[value.casefold()]
    return ", ".join(words.get(one.casefold(), one) for one in value.split(", "))


def _aside(value: Any, aside: str) -> Any:
    if not isinstance(value, Mapping):
        return None
    if aside == "share":
        return (value.get("shares") or {}).get(value.get("leading"))
    return value.get(aside)


def _filled(part: _Part, known: Mapping[str, Any]) -> str | None:
    """Return the text of a part; None if it lacks a field."""
    text = ""
    for plain, name, spec in part.pieces:
        value = known.get(name) if name else ""
        if value is None:
            return None
        number = isinstance(value, int | float) and bool(name)
        text += plain + (format(value, spec or "g") if number else str(value))
    return text
