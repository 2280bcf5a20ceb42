"""Single values out of answers: numbers, confidences, attributes."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from typing import Any

from dotledger.reading.answer_paths import MISSING, Level, compile_path
from dotledger.reading.confidence_formulas import formula
from dotledger.reading.confidence_scales import SCALES, linear, ordered_words
from dotledger.reading.reading_rules import AttributeRule, ConfidenceRule
from dotledger.text_display import shown

__all__ = ["SetAside", "attributes_reader", "confidence_reader", "number_of"]


class SetAside(Exception):
    """A finding that cannot be kept; the reason is the first argument, the value the second."""


def number_of(value: Any) -> float:
    """Return a finite number from a number or a text such as ``"87.5%"`` or ``"120 px"``.

    Parameters
    ----------
    value : object
        As it stands in an answer.

    Returns
    -------
    float
        A unit behind it (a percent sign, pixels, degrees, years) is taken off, and nothing divided.
        Any other word makes it no number: ``3F`` is none.

    Raises
    ------
    SetAside
        If it is no number, or not finite.
    """
    if type(value) is float:
        return _finite(value)
    if type(value) is int:
        return _whole(value)
    if isinstance(value, str):
        try:
            return _finite(float(_UNIT.sub("", value.strip())))
        except ValueError:
            pass
    raise SetAside("not a number", value)


_UNIT = re.compile(r"\s*(?:%|‰|°|px|pixels?|deg|degrees?|yrs?|years?)$", re.IGNORECASE)


def _whole(value: int) -> float:
    try:
        return float(value)
    except OverflowError:
        raise SetAside("not finite", value) from None


def _finite(value: float) -> float:
    if not math.isfinite(value):
        raise SetAside("not finite", value)
    return value


def confidence_reader(rule: ConfidenceRule | None) -> Callable[[Level], tuple[float | None, Any]]:
    """Return a function from a level to (confidence or None, the service's own value).

    Parameters
    ----------
    rule : ConfidenceRule or None
        None where the service simply asserts.

    Returns
    -------
    callable
        It raises SetAside for a value that is not on the scale.
    """
    if rule is None:
        return lambda _: (None, None)
    get = compile_path(rule.at, place="confidence.at")
    convert = _converter(rule)
    as_is = rule.scale == "fraction"

    def read(level: Level) -> tuple[float | None, Any]:
        own = get(level)
        if own is None:
            return None, None
        if own is MISSING:
            return None, MISSING
        value = own if as_is and type(own) is float else convert(own)
        if not 0.0 <= value <= 1.0:
            raise SetAside("confidence outside its scale", own)
        return value, own

    return read


def _converter(rule: ConfidenceRule) -> Callable[[Any], float]:
    if rule.scale == "words":
        words = {name.casefold(): w for name, w in ordered_words(rule.words).items()}
        return lambda own: _word(own, words)
    if rule.scale == "yes-no":
        return _yes_no
    if rule.formula:
        scale = formula(rule.formula, rule.range)
    else:
        scale = linear(*rule.range) if rule.range else SCALES[rule.scale]
    if rule.decimal == ",":
        return lambda own: scale(number_of(_with_point(own)))
    return lambda own: scale(number_of(own))


def _with_point(own: Any) -> Any:
    """Return text with a decimal comma as text with a point."""
    return own.replace(",", ".") if isinstance(own, str) and "." not in own else own


def _word(own: Any, words: dict[str, Any]) -> float:
    word = words.get(own.strip().casefold()) if isinstance(own, str) else None
    if word is None:
        raise SetAside("unknown confidence word", own)
    confidence: float = word.confidence
    return confidence


def _yes_no(own: Any) -> float:
    if isinstance(own, bool):
        return 1.0 if own else 0.0
    raise SetAside("neither yes nor no", own)


Attributes = tuple[dict[str, Any], list[tuple[str, str]]]


def attributes_reader(rules: Mapping[str, AttributeRule]) -> Callable[[Level], Attributes]:
    """Return a function from a level to its attributes, and notes on those that cannot be read.

    Those not given are left out of both.

    Returns
    -------
    callable
        From a level to attributes and notes.
    """
    readers = [(name, _attribute_reader(rule)) for name, rule in rules.items()]

    def read(level: Level) -> Attributes:
        found: dict[str, Any] = {}
        faults: list[tuple[str, str]] = []
        for name, reader in readers:
            try:
                value = reader(level)
            except SetAside as error:
                faults.append(
                    (f"attribute {name} left out: {error.args[0]}", shown(error.args[1], 60))
                )
            else:
                if value is not MISSING:
                    found[name] = value
        return found, faults

    return read


def _attribute_reader(rule: AttributeRule) -> Callable[[Level], Any]:
    get = compile_path(rule.at, place="attributes.at")
    convert = _ATTRIBUTES[rule.type]
    similarity = compile_path(rule.similarity or "@", place="attributes.similarity")
    sure = confidence_reader(rule.confidence) if rule.confidence else None

    def read(level: Level) -> Any:
        raw = get(level)
        if raw is MISSING or raw is None:
            return MISSING
        value = convert(raw, rule)
        # For an object the path was looked up inside it; in the finding the same name may mean
        # something else, such as the confidence of the face.
        if rule.similarity and not isinstance(raw, dict):
            value = _with_similarity(value, similarity(level), rule)
        confidence = sure(level)[0] if sure else None
        if confidence is None:
            return value
        given = value if isinstance(value, dict) else {"value": value}
        return {**given, "confidence": confidence}

    return read


def _choice(raw: Any, _: AttributeRule) -> Any:
    """Return a word, or several; anything else is not one, and its Python form is nobody's."""
    if isinstance(raw, str):
        return raw
    if isinstance(raw, bool):
        return "yes" if raw else "no"
    if isinstance(raw, (int, float)):
        return f"{raw:g}" if isinstance(raw, float) else str(raw)
    if isinstance(raw, list) and raw and all(isinstance(part, (str, int, float)) for part in raw):
        return [_choice(part, _) for part in raw]
    raise SetAside("neither a word nor a list of words", raw)


def _flag(raw: Any, _: AttributeRule) -> bool:
    if not isinstance(raw, bool):
        raise SetAside("attribute is neither yes nor no", raw)
    return raw


def _amount(raw: Any, rule: AttributeRule) -> Any:
    value = number_of(raw) * rule.scale
    return {"value": value, "unit": rule.unit} if rule.unit else value


def _range(raw: Any, rule: AttributeRule) -> Any:
    level = Level(raw, "", 0, None)
    ends = [compile_path(path)(level) for path in (rule.low, rule.high)]
    if MISSING in ends:
        raise SetAside("a range lacks an end", raw)
    low, high = (number_of(end) * rule.scale for end in ends)
    if low > high:
        raise SetAside("a range ends before it begins", raw)
    return {"low": low, "high": high, **({"unit": rule.unit} if rule.unit else {})}


def _shares(raw: Any, rule: AttributeRule) -> Any:
    """Keep shares of one whole together; none leads if all are below the floor."""
    if isinstance(raw, list):
        raw = _named_shares(raw)
    if not isinstance(raw, dict) or not raw:
        raise SetAside("shares are not an object of numbers", raw)
    shares = {str(name): number_of(value) * rule.scale for name, value in raw.items()}
    leading = max(shares, key=lambda name: shares[name])
    decided = shares[leading] >= rule.floor
    return {"shares": shares, "leading": leading if decided else "undecided"}


def _list(raw: Any, rule: AttributeRule) -> Any:
    """Keep every entry: plain words, words that are true, or words with a share each."""
    if isinstance(raw, dict) and all(isinstance(value, bool) for value in raw.values()):
        return [str(name) for name, is_so in raw.items() if is_so]
    if isinstance(raw, list) and not any(isinstance(part, dict) for part in raw):
        return _choice(raw, rule) if raw else []
    named = _named_shares(raw) if isinstance(raw, list) else raw
    if not isinstance(named, dict):
        raise SetAside("neither a list of words nor words with a share each", raw)
    shares = {str(name): number_of(value) * rule.scale for name, value in named.items()}
    kept = [name for name in shares if shares[name] >= rule.floor]
    return {"list": sorted(kept, key=lambda name: -shares[name]), "shares": shares}


def _person(raw: Any, rule: AttributeRule) -> Any:
    """Return a person's name with its similarity, which is no confidence."""
    if not isinstance(raw, dict):
        name = _choice(raw, rule)
        return {"name": name if isinstance(name, str) else ", ".join(name)}
    if not isinstance(raw.get("name", ""), str):
        raise SetAside("a person's name is not text", raw)
    level = Level(raw, "", 0, None)
    similarity = compile_path(rule.similarity)(level) if rule.similarity else MISSING
    named = {"name": raw.get("name", "")}
    return (
        named
        if similarity is MISSING
        else {**named, "similarity": number_of(similarity) * rule.scale}
    )


def _with_similarity(named: dict[str, Any], said: Any, rule: AttributeRule) -> dict[str, Any]:
    """Return a person whose similarity is a field of the finding, next to the plain name."""
    if said is MISSING or said is None or isinstance(said, dict | list):
        return named
    return {**named, "similarity": number_of(said) * rule.scale}


def _named_shares(raw: list[Any]) -> dict[str, Any]:
    """Return shares that are given as a list of objects with a name and a number each."""
    named: dict[str, Any] = {}
    for part in raw:
        texts = [v for v in part.values() if isinstance(v, str)] if isinstance(part, dict) else []
        numbers = [
            v
            for v in (part.values() if isinstance(part, dict) else ())
            if isinstance(v, (int, float)) and not isinstance(v, bool)
        ]
        if len(texts) != 1 or len(numbers) != 1:
            raise SetAside("a share is not a name with a number", part)
        named[texts[0]] = numbers[0]
    return named


_ATTRIBUTES: Mapping[str, Callable[[Any, AttributeRule], Any]] = {
    "choice": _choice,
    "text": _choice,
    "flag": _flag,
    "number": _amount,
    "range": _range,
    "shares": _shares,
    "list": _list,
    "person": _person,
}
