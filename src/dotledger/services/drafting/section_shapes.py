"""Less usual shapes in samples: turned boxes, masks, names in several languages."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from dotledger.services.drafting.box_drafting import BoxGuess
from dotledger.services.drafting.sample_sections import (
    Path,
    is_number,
    plain_name,
    written,
)

__all__ = ["angled", "language_list", "languages_of", "masks_of"]

_ANGLES = ("angle", "tilt", "rotation", "turn", "rot", "theta", "skew", "orientation")
_LANGUAGES = (
    *("en", "de", "fr", "es", "it", "nl", "pt", "pl", "sv", "da", "fi", "cs", "hu", "tr", "ru"),
    *("uk", "ar", "he", "hi", "ja", "ko", "zh"),
)


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
                    score=12.0,
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
