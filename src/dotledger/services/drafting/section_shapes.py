"""Less usual shapes in samples: turned boxes, masks, several kinds or languages in one list."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from dotledger.services.drafting.box_drafting import BoxGuess
from dotledger.services.drafting.sample_sections import (
    Path,
    SectionGroup,
    is_number,
    plain_name,
    written,
)

__all__ = ["angled", "kinds_in", "language_list", "languages_of", "masks_of"]

_ANGLES = ("angle", "tilt", "rotation", "turn", "rot", "theta", "skew", "orientation")
_SORTS = ("type", "sort", "kind", "category", "class", "group")
_KIND_WORDS: Mapping[str, str] = {
    word: kind
    for kind, words in {
        "face": "face faces head heads",
        "object": "object objects thing things item items",
        "text": "text line lines word words writing",
        "label": "label labels tag tags scene",
        "unsafe": "unsafe hazard hazards moderation",
        "caption": "caption captions sentence",
        "colour": "colour colours color colors",
    }.items()
    for word in words.split()
}
_LANGUAGES = (
    *("en", "de", "fr", "es", "it", "nl", "pt", "pl", "sv", "da", "fi", "cs", "hu", "tr", "ru"),
    *("uk", "ar", "he", "hi", "ja", "ko", "zh"),
)


def kinds_in(group: SectionGroup) -> dict[str, tuple[str, SectionGroup]] | None:
    """Return a group's entries by what a field says they are, where one list holds several kinds.

    Returns
    -------
    dict of str to (str, SectionGroup), or None
        By ``keep_if``, the kind and its entries; None if the list is of one kind, or a word of the
        field is none that is known.
    """
    values = group.values
    if not values or not all(isinstance(value, dict) for value in values):
        return None
    for name in values[0]:
        words = [value.get(name) for value in values]
        if plain_name(name) not in _SORTS or not all(isinstance(word, str) for word in words):
            continue
        sorts = list(dict.fromkeys(map(str, words)))
        if len(sorts) > 1 and all(word.lower() in _KIND_WORDS for word in sorts):
            return {
                f"{written([name])} == '{sort}'": (
                    _KIND_WORDS[sort.lower()],
                    _of_sort(group, name, sort),
                )
                for sort in sorts
            }
    return None


def _of_sort(group: SectionGroup, name: str, sort: str) -> SectionGroup:
    """Return the entries of one sort, without the field that says so."""
    chosen = [entry for entry in group.entries if entry.value[name] == sort]
    return SectionGroup(
        group.path,
        [_without(entry, name) for entry in chosen],
        dict(group.beside),
    )


def _without(entry: Any, name: str) -> Any:
    rest = {key: value for key, value in entry.value.items() if key != name}
    return replace(entry, value=rest)


def angled(guess: BoxGuess, fields: Mapping[Path, Sequence[Any]]) -> BoxGuess:
    """Return a guess with the angle by which its boxes are turned, where a field is called so.

    Parameters
    ----------
    guess : BoxGuess
        Of a box with its middle.

    Returns
    -------
    BoxGuess
        The same if there is none.
    """
    if guess.form != "centre+size":
        return guess
    for path, values in fields.items():
        if path and plain_name(path[-1]) in _ANGLES and all(map(is_number, values)):
            in_radians = max(abs(float(v)) for v in values) <= math.tau and any(
                not float(v).is_integer() for v in values
            )
            return replace(
                guess,
                angle=written(path),
                angle_in="radians" if in_radians else "degrees",
                used=(*guess.used, path),
            )
    return guess


def masks_of(fields: Mapping[Path, Sequence[Any]]) -> list[BoxGuess]:
    """Return where run-length masks stand: an object of a size and the lengths of runs.

    Returns
    -------
    list of BoxGuess
        Empty if there is none; whether the runs go down the columns is not to be seen.
    """
    homes = {path[:-1] for path in fields if path and path[-1] == "counts"}
    found = []
    reason = 'runs of a mask that add up to its size; lines = "rows" if they go along the rows'
    for home in homes:
        runs, sizes = fields[(*home, "counts")], fields.get((*home, "size"), ())
        if sizes and all(_are_runs(r, s) for r, s in zip(runs, sizes, strict=True)):
            found.append(
                BoxGuess(
                    at=written(home),
                    form="runs",
                    score=1.5,
                    reasons=(reason,),
                    used=((*home, "counts"), (*home, "size")),
                )
            )
    return found


def _are_runs(runs: Any, size: Any) -> bool:
    numbers = isinstance(runs, list) and isinstance(size, list) and len(size) == 2
    return numbers and all(map(is_number, [*runs, *size])) and sum(runs) == size[0] * size[1]


def languages_of(fields: Mapping[Path, Sequence[Any]]) -> dict[str, Path]:
    """Return the names of one thing by language: texts under keys that are language codes.

    Returns
    -------
    dict of str to Path
        At least two, English first, then as they stand; empty if there are none.
    """
    homes: dict[Path, dict[str, Path]] = {}
    for path, values in fields.items():
        code = str(path[-1]).lower().partition("-")[0] if path else ""
        if code in _LANGUAGES and all(isinstance(v, str) and v for v in values):
            homes.setdefault(path[:-1], {})[str(path[-1])] = path
    for named in homes.values():
        if len(named) > 1:
            first = next((n for n in named if n.lower().startswith("en")), next(iter(named)))
            return {first: named[first], **named}
    return {}


def language_list(fields: Mapping[Path, Sequence[Any]]) -> dict[str, str]:
    """Return paths to the names of one thing by language, where they are a list of texts.

    Returns
    -------
    dict of str to str
        English first; empty if there is no list of texts with their languages.
    """
    for path, lists in fields.items():
        if not path or not all(_are_named(one) for one in lists):
            continue
        code, text = _are_named(lists[0]) or ("", "")
        codes = list(dict.fromkeys(str(part[code]) for one in lists for part in one))
        first = next((c for c in codes if c.lower().startswith("en")), codes[0])
        paths = {c: f"{written(path)}[?{code}=='{c}'].{text} | [0]" for c in codes}
        return {first: paths[first], **paths}
    return {}


def _are_named(value: Any) -> tuple[str, str] | None:
    """Return the names of the fields for language and text, of a list of texts by language."""
    if not isinstance(value, list) or not value or not all(isinstance(v, dict) for v in value):
        return None
    for code in ("lang", "language", "locale", "l"):
        others = [n for n, v in value[0].items() if n != code and isinstance(v, str)]
        if others and all(str(v.get(code, "")).lower()[:2] in _LANGUAGES for v in value):
            return code, others[0]
    return None
