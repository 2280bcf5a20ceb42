"""Values of a saved request that a draft does not copy: each becomes a blank with its name.

A request that worked holds whatever its owner was allowed to do: keys, names, numbers of licences.
Which of them are secret cannot be told from their looks. So a value is copied only if it is needed
to understand the request: a switch, a small number that limits something, several plain words in a
row, or a plain word under one of the names by which services are told what to look for. Every other
value is a setting without a value, which the user gives. What is made anew for each request (a
time, a nonce, a signature) is named as such, and left out.
"""

from __future__ import annotations

import re
from typing import Any

from dotledger.services.body_forms import holds_image

__all__ = ["Blanks"]

_WORDS = frozenset(
    {
        *(
            "feature",
            "features",
            "task",
            "tasks",
            "kind",
            "kinds",
            "type",
            "types",
            "mode",
            "model",
        ),
        *(
            "models",
            "version",
            "api",
            "lang",
            "language",
            "languages",
            "locale",
            "format",
            "detail",
        ),
        *("details", "include", "output", "outputs", "label", "labels", "category", "categories"),
        *("attribute", "attributes", "return", "detect", "detection", "visual", "region", "unit"),
        *("units", "quality", "order", "sort", "level", "fields", "extra", "method", "operation"),
        *("operations", "scale", "want", "wanted", "ask", "find", "look", "encoding", "media"),
    }
)
"""Names of parameters that say what to look for, and how to answer."""
_AMOUNTS = frozenset(
    {
        *("max", "min", "most", "least", "limit", "count", "top", "size", "threshold", "results"),
        *("confidence", "score", "width", "height", "num", "number", "n", "k", "page", "quality"),
        *("level", "version", "model", "precision", "timeout", "depth", "scale", "face", "faces"),
    }
)
"""Names of numbers that limit something."""
_EACH_TIME = frozenset(
    {"time", "timestamp", "date", "nonce", "signature", "sign", "sig", "digest", "hmac", "expires"}
)
"""Names of what is made anew for each request."""
_TOKENS = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ,;_.:/*+-]{0,60}")
_LISTED = re.compile(r"[A-Za-z_-]{2,24}(?: ?[,+|] ?[A-Za-z_-]{2,24})+")
"""Several plain words in a row, whatever they are called: what is asked for, hardly a secret."""
_MIXED = re.compile(r"(?=[A-Za-z]*\d)(?=\d*[A-Za-z])[A-Za-z0-9]{9,}")
_MOST_DIGITS = 8
_LARGEST_AMOUNT = 10_000
_MOMENT = re.compile(r"\d{10}(\d{3})?|\d{4}-\d\d-\d\d[T ]\d\d:\d\d\S*|\w{3}, \d\d \w{3} \d{4} .*")


class Blanks:
    """Decides value by value, and collects the settings and questions that come of it.

    Attributes
    ----------
    settings : dict of str to str
        Names of blanks; their values are empty.
    questions : list of str
        What was left out, and why.
    """

    def __init__(self) -> None:
        self.settings: dict[str, str] = {}
        self.questions: list[str] = []

    def mapping(self, values: dict[str, Any]) -> dict[str, Any]:
        """Return named values; those that are not needed are blanks.

        Parameters
        ----------
        values : dict of str to value
            Of a query, of headers, or of a body.

        Returns
        -------
        dict of str to value
            Without what is made anew for each request.
        """
        kept = {}
        for name, value in values.items():
            if isinstance(value, str | int | float) and self._is_made_anew(name, value):
                self.questions.append(
                    f"{name} looks like a time, a nonce or a signature, made anew for each "
                    "request; it was left out: sign requests by a rule in [connect.signing]"
                )
                continue
            kept[name] = self._value(name, value)
        return kept

    def path(self, path: str) -> str:
        """Return a path with a blank for each of its parts that may be a secret."""
        parts = path.split("/")
        kept = [
            part if not part or "{" in part or _is_plain(part) else self._blank(f"path_{place}")
            for place, part in enumerate(parts)
        ]
        return "/".join(kept)

    def _is_made_anew(self, name: str, value: object) -> bool:
        words = _words(name)
        return bool(words & _EACH_TIME) or bool(_MOMENT.fullmatch(str(value)))

    def _value(self, name: str, value: Any) -> Any:
        if isinstance(value, dict):
            return self.mapping(value)
        if isinstance(value, list):
            return [self._value(name, one) for one in value]
        if value is None or isinstance(value, bool) or value == "{id}" or holds_image(value):
            return value
        words = _words(name)
        if _is_amount(value):
            return value if words & (_AMOUNTS | _WORDS) else self._blank(name)
        if isinstance(value, str) and _LISTED.fullmatch(value):
            return value
        fits = isinstance(value, str) and _is_plain(value) and bool(words & _WORDS)
        return value if fits else self._blank(name)

    def _blank(self, name: str) -> str:
        setting = re.sub(r"\W", "_", name, flags=re.ASCII).strip("_").lower() or "value"
        if setting not in self.settings:
            self.settings[setting] = ""
            self.questions.append(
                f"the value of {name} was not copied, it may be yours alone: give it in "
                f"[connect] settings, or `settings={{{setting!r}: VALUE}}`"
            )
        return "{" + setting + "}"


def _words(name: str) -> set[str]:
    return {word.lower() for word in _TOKENS.findall(name)}


def _is_amount(value: object) -> bool:
    if isinstance(value, int | float):
        return abs(value) <= _LARGEST_AMOUNT
    return isinstance(value, str) and bool(re.fullmatch(r"\d{1,4}(\.\d{1,6})?|0?\.\d{1,6}", value))


def _is_plain(value: str) -> bool:
    """Tell whether a text is words, as a service's own are: nothing long that mixes in digits."""
    digits = sum(letter.isdigit() for letter in value)
    return bool(_PLAIN.fullmatch(value)) and digits <= _MOST_DIGITS and not _MIXED.search(value)
