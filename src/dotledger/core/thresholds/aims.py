"""Aims: what a threshold is chosen for, written as the sentence a person would say."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError

__all__ = ["AIMS", "Aim", "read_aim", "share_of"]

AIMS = (
    "recall >= 0.9",
    "precision >= 0.9",
    "f1 >= 0.8",
    "false-alarm rate <= 0.05",
    "best f1",
    "best f2",
    "at most 5 false alarms in 100 images",
    "at most 10% of images held",
    "a miss costs 5 and a false alarm costs 0.2",
    "at most 1% of unsafe images pass, at most 5% of safe images are stopped",
)
"""How aims are written, one of each sort."""


@dataclass(frozen=True, kw_only=True)
class Aim:
    """One aim.

    Attributes
    ----------
    text : str
        As it was written, spaces and letter case tidied.
    sort : {"at least", "at most", "best", "cost", "three ways"}
        What is asked of the measure.
    measure : str
        ``recall``, ``precision``, ``f``, ``false_alarm_rate``, ``false_alarms_per_100_images``,
        ``stopped_share`` or ``cost_per_image``; empty for three ways.
    limit : float
        Of "at least" and "at most"; else NaN.
    beta : float
        Of ``f``: how many times recall counts as much as precision.
    miss_cost, alarm_cost : float
        In the user's own money; NaN where cost is not the aim.
    passed, stopped : float
        Of three ways: the largest share of unsafe images that may pass, and of safe ones that
        may be stopped.
    """

    text: str
    sort: str
    measure: str = ""
    limit: float = math.nan
    beta: float = 1.0
    miss_cost: float = math.nan
    alarm_cost: float = math.nan
    passed: float = math.nan
    stopped: float = math.nan

    def __str__(self) -> str:
        return self.text

    def holds(self, value: float) -> bool:
        """Return whether a value of the measure meets the aim; never where it is undefined."""
        if self.sort == "at least":
            return value >= self.limit
        return value <= self.limit if self.sort == "at most" else not math.isnan(value)


_NUMBER = r"(\d+(?:\.\d+)?|\.\d+)"
_SHARE = _NUMBER + r" ?(%?)"
_F = r"f(?:[-_ ]?score)?"


def share_of(number: str, percent: str) -> float:
    """Return a share from its number and ``%`` or nothing.

    Raises
    ------
    ValueError
        If it is above 1.
    """
    value = float(number) / (100 if percent else 1)
    if value > 1:
        raise ValueError(f"a share is from 0 to 1, or from 0% to 100%; {number}{percent} is not")
    return value


def _measure(word: str) -> dict[str, Any]:
    if word in ("recall", "precision"):
        return {"measure": word}
    beta = float(word[1:])
    if not 0 < beta <= 100:
        raise ValueError("the beta of F-beta is above 0, up to 100")
    return {"measure": "f", "beta": beta}


def _at_least(word: str, number: str, percent: str) -> dict[str, Any]:
    return {"sort": "at least", "limit": share_of(number, percent), **_measure(word)}


def _false_alarm_rate(number: str, percent: str) -> dict[str, Any]:
    limit = share_of(number, percent)
    return {"sort": "at most", "measure": "false_alarm_rate", "limit": limit}


def _false_alarms(number: str) -> dict[str, Any]:
    name = "false_alarms_per_100_images"
    return {"sort": "at most", "measure": name, "limit": float(number)}


def _held(number: str, percent: str) -> dict[str, Any]:
    return {"sort": "at most", "measure": "stopped_share", "limit": share_of(number, percent)}


def _best(word: str) -> dict[str, Any]:
    return {"sort": "best", **_measure(word)}


def _cost(miss: str, alarm: str) -> dict[str, Any]:
    if float(miss) == float(alarm) == 0:
        raise ValueError("if neither a miss nor a false alarm costs anything, nothing is aimed at")
    return {
        "sort": "cost",
        "measure": "cost_per_image",
        "miss_cost": float(miss),
        "alarm_cost": float(alarm),
    }


def _three_ways(passed: str, of_pass: str, stopped: str, of_stop: str) -> dict[str, Any]:
    shares = {"passed": share_of(passed, of_pass), "stopped": share_of(stopped, of_stop)}
    return {"sort": "three ways", **shares}


_MEASURE = r"(recall|precision|f\d+(?:\.\d+)?)"
_FORMS: tuple[tuple[str, Callable[..., dict[str, Any]]], ...] = (
    (rf"{_MEASURE} ?(?:>=|≥) ?{_SHARE}", _at_least),
    (rf"false[-_ ]alarm[-_ ]rate ?(?:<=|≤) ?{_SHARE}", _false_alarm_rate),
    (rf"at most {_NUMBER} false alarms? in 100 images", _false_alarms),
    (rf"at most {_SHARE} of (?:the )?images (?:are )?held", _held),
    (rf"best {_MEASURE}", _best),
    (rf"(?:a )?miss costs {_NUMBER}(?:,| and|, and) (?:a )?false alarm costs {_NUMBER}", _cost),
    (
        rf"at most {_SHARE} of unsafe images pass(?:,| and|, and) "
        rf"at most {_SHARE} of safe (?:images|ones) are stopped",
        _three_ways,
    ),
)


def read_aim(text: str, *, place: str = "aim") -> Aim:
    """Return an aim from its sentence.

    Parameters
    ----------
    text : str
        One of the forms of `AIMS`, with other numbers; a share as 0.05 or 5%.
    place : str, default 'aim'
        Where it was given, for the message.

    Raises
    ------
    ArgumentError
        If it is none of the forms, or a number is out of range; it says what is allowed.

    Examples
    --------
    >>> read_aim("recall >= 90%").limit
    0.9
    """
    if not isinstance(text, str):
        raise ArgumentError("an aim is a sentence", place=place, got=text, allowed=AIMS)
    tidy = " ".join(text.split()).casefold().rstrip(".")
    for form, build in _FORMS:
        if match := re.fullmatch(form, tidy):
            try:
                return Aim(text=tidy, **build(*match.groups()))
            except ValueError as problem:
                raise ArgumentError(str(problem), place=place, got=text) from None
    raise ArgumentError(
        _trouble(tidy), place=place, got=text, allowed=[f"'{form}'" for form in AIMS]
    )


def _trouble(tidy: str) -> str:
    """Return what is most likely wrong with a sentence that is no aim."""
    if re.fullmatch(rf"{_MEASURE} ?(?:<|<=|≤) ?{_SHARE}", tidy):
        return "recall, precision and F are asked to be at least something, with >="
    if re.fullmatch(rf"{_MEASURE} ?(?:>|=|==) ?{_SHARE}", tidy):
        return "write >= between the measure and its number"
    if re.search(rf"{_MEASURE}.* and .*{_MEASURE}", tidy):
        return "an aim holds one condition; give the other to a gate, or choose again under it"
    known = ["recall", "precision", "f1", "best", "false", "most", "miss", "images"]
    near = [(w, n[0]) for w in re.findall(r"[a-z]{4,}", tidy) if (n := nearest(w, known))]
    wrong = [f"{near!r} for {word!r}" for word, near in near if word != near]
    return "not an aim" + (f"; is it {wrong[0]}?" if wrong else "")
