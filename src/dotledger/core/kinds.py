"""The kinds of finding and how each is judged; outcomes and verdicts."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Literal

from dotledger.errors import ArgumentError

__all__ = [
    "BROADER",
    "KINDS",
    "LANDMARKS",
    "OUTCOMES",
    "VERDICTS",
    "Kind",
    "KindName",
    "check_kinds",
    "worst_outcome",
]

KindName = Literal["label", "object", "face", "unsafe", "text", "caption", "colour", "fact"]
"""A name of a kind, where files are checked; the same as the keys of `KINDS`."""
LANDMARKS, BROADER = "any landmark", "any broader label"
"""Parts of a finding that a rule may name beside its attributes, in words."""
VERDICTS = ("pass", "hold", "block")
"""From the mildest to the strictest."""
OUTCOMES = ("found", "empty", "unread", "failed", "refused", "pending")
"""What became of an image and a kind, in the order shown."""
_WORST_FIRST = ("failed", "refused", "pending", "unread", "found", "empty")


@dataclass(frozen=True, kw_only=True)
class Kind:
    """One kind of finding.

    Attributes
    ----------
    name : str
        The word used in tables and options.
    judged : {"boxes", "presence", "carried"}
        By pairing boxes, by presence in the image, or not judged but carried along.
    about : str
        One line for people.
    """

    name: str
    judged: Literal["boxes", "presence", "carried"]
    about: str


KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        Kind(name="label", judged="presence", about="what the image as a whole shows"),
        Kind(name="object", judged="boxes", about="things with a box"),
        Kind(name="face", judged="boxes", about="faces with a box"),
        Kind(name="unsafe", judged="presence", about="unsafe content by category"),
        Kind(name="text", judged="carried", about="lines of writing"),
        Kind(name="caption", judged="carried", about="sentences about the image"),
        Kind(name="colour", judged="carried", about="colours of the image, by name or as #rrggbb"),
        Kind(name="fact", judged="carried", about="facts of the picture itself: drawn, blurred"),
    )
}


def worst_outcome(outcomes: Collection[str], otherwise: str) -> str:
    """Return the one outcome that stands for an image of which several kinds were asked.

    Parameters
    ----------
    outcomes : collection of str
        One for each kind.
    otherwise : str
        What is returned if there are none.

    Returns
    -------
    str
        The first of ``failed``, ``refused``, ``pending``, ``unread``, ``found`` and ``empty``
        that is among them.

    Examples
    --------
    >>> worst_outcome(["found", "refused", "empty"], "pending")
    'refused'
    >>> worst_outcome([], "pending")
    'pending'
    """
    return next((word for word in _WORST_FIRST if word in outcomes), otherwise)


def check_kinds(kinds: str | Iterable[str], *, place: str) -> tuple[str, ...]:
    """Return `kinds`, or the only one, without repeats, in the fixed order of `KINDS`.

    Parameters
    ----------
    kinds : str or iterable of str
        One name or several.
    place : str
        Where it was given, for the message.

    Returns
    -------
    tuple of str
        Empty if `kinds` is.

    Raises
    ------
    ArgumentError
        If one of them is not a kind.
    """
    wanted = {kinds} if isinstance(kinds, str) else set(kinds)
    for name in sorted(wanted - KINDS.keys()):
        raise ArgumentError("unknown kind", place=place, got=name, allowed=KINDS)
    return tuple(name for name in KINDS if name in wanted)
