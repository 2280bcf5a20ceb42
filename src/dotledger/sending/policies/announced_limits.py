"""What a service tells beside its answers: rates, before it refuses, and what is wrong.

The headers are those of the IETF draft (``RateLimit``, in its newer and its older form), the
widespread ``RateLimit-Remaining`` with ``RateLimit-Reset``, or such as the description names.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

from msgspec import Struct, field

from dotledger.reading.answer_paths import MISSING, Level, compile_path
from dotledger.reading.error_messages import (
    ERROR_NAMES,
    error_in,
    is_fault,
    refuses_key,
    said_by,
    with_setting,
)
from dotledger.services.service_description import Description

__all__ = ["Told", "left_and_reset", "told_by"]

_PAIR = re.compile(r"\b(r|t|remaining|reset)\s*=\s*(\d{1,9}(?:\.\d+)?)", re.IGNORECASE)
_compiled = lru_cache(64)(compile_path)
_LONG_AGO = 1e9
"""A reset larger than this is a moment since 1970, not a number of seconds."""
_MOST = 900.0


class Told(Struct, frozen=True, kw_only=True):
    """Where a service says that it is too fast, or what is wrong.

    Attributes
    ----------
    remaining, reset : str
        Names of headers, in lower case; empty for the usual ones.
    wait_if, wait_for : str
        Paths into an accepted answer: whether it means "slow down", and for how many seconds.
    error, reason : str
        Paths to what an answer says is wrong; empty for the usual names.
    key_refused : tuple of str
        Codes of errors that mean that the key is not taken.
    settings : mapping of str to str
        Of the description: what a message may be about.
    """

    remaining: str = ""
    reset: str = ""
    wait_if: str = ""
    wait_for: str = ""
    error: str = ""
    reason: str = ""
    key_refused: tuple[str, ...] = ()
    settings: Mapping[str, str] = field(default_factory=dict)

    def no_key(self, document: Any) -> str:
        """Return the words in which an accepted answer refuses the key; empty if it does not."""
        code, reason = error_in(document), None
        if self.error:
            top = Level(document, "", 0, None)
            code, reason = (_compiled(path)(top) for path in (self.error, self.reason or "@"))
            reason = reason if self.reason else None
        if code is None or code is MISSING or not is_fault(code):
            return ""
        if not self.error and _has_results(document):
            return ""
        said = ": ".join(said_by(one) for one in (code, reason) if one not in (None, MISSING, ""))
        known = isinstance(code, str | int) and str(code) in self.key_refused
        return said if known or refuses_key(said) else ""

    def about(self, said: str) -> str:
        """Return a service's words with the setting that they are about."""
        return with_setting(said, self.settings)

    def slow_down(self, document: Any) -> float | None:
        """Return how many seconds an answer asks to wait; None if it is an answer.

        It is 1 where the answer does not say how long.
        """
        if not self.wait_if:
            return None
        top = Level(document, "", 0, None)
        found = compile_path(self.wait_if)(top)
        if found is MISSING or not found:
            return None
        seconds = compile_path(self.wait_for)(top) if self.wait_for else MISSING
        try:
            return min(max(0.0, float(seconds)), _MOST)
        except (TypeError, ValueError):
            return 1.0


def _has_results(document: Mapping[str, Any]) -> bool:
    """Tell whether an answer lists something beside its error: then the key was taken."""
    lists = (v for name, v in document.items() if name.casefold() not in ERROR_NAMES)
    return any(isinstance(value, list) and value for value in lists)


def told_by(description: Description) -> Told:
    """Return where a described service says that it is too fast, or what is wrong.

    Returns
    -------
    Told
        For `Caller`.
    """
    announced = description.limits.announced
    return Told(
        remaining="" if announced is None else announced.remaining.casefold(),
        reset="" if announced is None else announced.reset.casefold(),
        wait_if=description.envelope.wait_if,
        wait_for=description.envelope.wait_for,
        error=description.envelope.error,
        reason=description.envelope.reason,
        key_refused=description.envelope.key_refused,
        settings=description.connect.settings,
    )


def left_and_reset(
    headers: Mapping[str, str], told: Told, now: float
) -> tuple[float, float] | None:
    """Return how many calls are left, and after how many seconds there are more.

    Parameters
    ----------
    headers : mapping of str to str
        Of an answer; names in lower case.
    now : float
        Seconds since 1970, for a reset that is a moment.

    Returns
    -------
    tuple of float and float, or None
        None where nothing is announced, or not both.
    """
    if told.remaining:
        return _both(headers.get(told.remaining, ""), headers.get(told.reset, ""), now)
    if "ratelimit" in headers:
        # Of several policies the tightest counts: the one with the fewest calls left.
        found = [
            (float(pairs.get("r", pairs.get("remaining", "nan"))),
             float(pairs.get("t", pairs.get("reset", "nan"))))
            for part in re.split(r",(?=\s*\")", headers["ratelimit"])
            for pairs in ({name.casefold(): value for name, value in _PAIR.findall(part)},)
        ]  # fmt: skip
        known = [(left, reset) for left, reset in found if left == left and reset == reset]
        return min(known, default=None)
    for prefix in ("ratelimit", "x-ratelimit"):
        if f"{prefix}-remaining" in headers:
            return _both(headers[f"{prefix}-remaining"], headers.get(f"{prefix}-reset", ""), now)
    return None


def _both(remaining: str, reset: str, now: float) -> tuple[float, float] | None:
    try:
        left, seconds = float(remaining.strip()), float(reset.strip())
    except ValueError:
        return None
    seconds = seconds - now if seconds > _LONG_AGO else seconds
    return (left, seconds) if left >= 0 and seconds == seconds else None
