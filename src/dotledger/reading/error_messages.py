"""What a service says is wrong, in its own words: as text, with the setting that it is about.

Services have no common way to say it. Problem details (RFC 9457) are one; most put a code and a
sentence under a name such as ``error``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from dotledger.text_display import plain_text, shown

__all__ = ["ERROR_NAMES", "error_in", "is_fault", "refuses_key", "said_by", "with_setting"]

ERROR_NAMES = frozenset(("error", "errors", "failure", "failures", "fault", "exception"))


def is_fault(said: Any) -> bool:
    """Tell whether an error is one: many answers always have the key, and say there is nothing."""
    if isinstance(said, Mapping):
        return any(map(is_fault, said.values()))
    if isinstance(said, list):
        return any(map(is_fault, said))
    if isinstance(said, str):
        return said.strip().casefold() not in _NO_FAULT
    return said not in (None, False, 0, 200)


_NO_FAULT = frozenset(("", "0", "200", "false", "no", "no error", "none", "null", "ok", "success"))


_CODES = ("code", "title", "type", "name", "id", "status", "error")
_SENTENCES = ("message", "msg", "detail", "details", "description", "error_description", "reason",
              "text", "info", "hint", "error_message")  # fmt: skip
_LONGEST = 200


def error_in(document: Any) -> Any:
    """Return the part of an answer that says what is wrong; None if it says nothing of the kind.

    Parameters
    ----------
    document : object
        Plain values.
    """
    if not isinstance(document, Mapping):
        return None
    named = [k for k in document if isinstance(k, str) and k.casefold() in ERROR_NAMES]
    found = next((document[name] for name in named if is_fault(document[name])), None)
    # The sentence may stand next to the code: {"error": "invalid", "error_description": "..."}
    return document if isinstance(found, str) else found


def said_by(document: Any) -> str:
    """Return what an answer says is wrong, as one short line of text.

    Parameters
    ----------
    document : object
        The whole answer, or the part of it that is the error.

    Returns
    -------
    str
        The code and the sentence, if both are found; else the beginning of the answer.
    """
    part = error_in(document)
    text = _words(document if part is None else part)
    return plain_text(" ".join(text.split()))[:_LONGEST] or shown(document, _LONGEST)


def _words(part: Any) -> str:
    if isinstance(part, str):
        return part
    if isinstance(part, Sequence):
        return "; ".join(filter(None, map(_words, part[:3])))
    if not isinstance(part, Mapping):
        return ""
    lower = {str(name).casefold(): value for name, value in part.items()}
    code = next((lower[name] for name in _CODES if _is_short(lower.get(name))), "")
    sentences = (lower[name] for name in _SENTENCES if name in lower)
    sentence = next(filter(None, map(_words, sentences)), "")
    if not sentence and not code:
        return next(filter(None, map(_words, lower.values())), "")
    return ": ".join(str(one).rstrip(". :") for one in (code, sentence) if one not in ("", None))


def _is_short(value: Any) -> bool:
    short = isinstance(value, str | int) and not isinstance(value, bool) and str(value) != ""
    return short and "://" not in str(value)  # a type may be an address (RFC 9457)


def with_setting(text: str, settings: Mapping[str, str]) -> str:
    """Return a service's words, with the setting that they are about, if they name one.

    Parameters
    ----------
    settings : mapping of str to str
        Of the description. One is meant where its value, which is no number, stands in the text, or
        else where the sentence is about its name.
    """
    values = {n: v for n, v in settings.items() if len(v) > 1 and not _NUMBER.fullmatch(v)}
    by_value = [name for name, value in values.items() if _stands_in(value, text)]
    by_name = [name for name in settings if _is_meant(name, text)]
    named = max(by_value, key=lambda n: len(settings[n]), default=next(iter(by_name), ""))
    return f"{text} (setting {named} = {settings[named]!r})" if named else text


_NUMBER = re.compile(r"[\d.,+-]+")
"""A number may stand in any sentence: "wait 60 seconds" is not about a setting of 60."""
_BEFORE = (
    r"(?:unknown|unsupported|invalid|bad|wrong|missing|no|no such|this|parameter|field|option)"
)
_AFTER = r"(?:is|was|not|must|cannot|unknown|unsupported|invalid|does)"


def _is_meant(name: str, text: str) -> bool:
    """Tell whether a sentence is about a name, and does not merely hold the word ("at most")."""
    word = re.escape(name)
    meant = rf"\b{_BEFORE}[\s:'\"`]+{word}\b|(?<![\w-]){word}['\"`]?:?\s+{_AFTER}\b"
    return len(name) > 2 and re.search(meant, text, re.IGNORECASE) is not None


def _stands_in(word: str, text: str) -> bool:
    return re.search(rf"(?<![\w-]){re.escape(word)}(?![\w-])", text, re.IGNORECASE) is not None


_OF_A_KEY = (
    r"(?:api|access|secret|licen[cs]e|account)[ _-]?(?:key|token|id)|credentials?|signature|"
    r"access[ _-]?token|bearer|authori[sz]ation|authentication|auth[ _-]?token"
)
_NOT = (
    r"invalid|not valid|unknown|wrong|bad|incorrect|expired|revoked|denied|refused|rejected|"
    r"disabled|inactive|fail(?:ed|ure)|required|missing|not (?:known|found|accepted|recogni[sz]ed)"
)
_REFUSED = re.compile(
    rf"\b(?:{_OF_A_KEY})\b.{{0,40}}?\b(?:{_NOT})\b|\b(?:{_NOT})[ _-](?:\w+[ _-])?(?:{_OF_A_KEY})\b|"
    r"\bun(?:authori[sz]ed|authenticated)\b|\bnot authori[sz]ed\b|"
    rf"\b(?:the|your|this|no such|api)[ _-]key\b.{{0,30}}?(?:{_NOT})|\bno such key\b|"
    rf"\b(?:{_NOT})[ _-]key\b(?![ _]*[:'\"(])|\bkey[ _-](?:{_NOT})\b",
    re.IGNORECASE,
)


_OF_THE_IMAGE = re.compile(
    r"\b(?:images?|pictures?|photos?|ur[il]s?|address|fetch\w*|download\w*|bucket)\b", re.IGNORECASE
)
"""The image's own host may refuse a service that fetches it: that says nothing of our key."""


def refuses_key(text: str) -> bool:
    """Tell whether a service's words mean that it does not take the key.

    Parameters
    ----------
    text : str
        As `said_by` gives it. "Missing key: 'image'" means a missing field, not a key.
    """
    if _OF_THE_IMAGE.search(text):
        return False
    return _REFUSED.search(text.replace("_", " ")) is not None
