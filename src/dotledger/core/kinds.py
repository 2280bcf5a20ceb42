"""The kinds of finding and how each is judged; outcomes and verdicts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from dotledger.errors import ArgumentError

__all__ = [
    "ANSWERED",
    "BROADER",
    "DELETED",
    "KINDS",
    "LANDMARKS",
    "LOST",
    "OUTCOMES",
    "PLACES",
    "VERDICTS",
    "ImageOutcome",
    "Kind",
    "KindName",
    "OutcomeName",
    "VerdictName",
    "check_kinds",
    "shown_outcomes",
    "worst_outcome",
]

LANDMARKS, BROADER = "any landmark", "any broader label"
"""Parts of a finding that a rule may name next to its attributes, in words."""


@dataclass(frozen=True, kw_only=True)
class ImageOutcome:
    """What can become of an image and a kind.

    Attributes
    ----------
    name : str
        The word used in tables and options.
    says : bool
        Whether it tells what is in the image; all others are left out of measuring.
    settled : bool
        Whether an answer was read, or none will come without being asked for again.
    gravity : int
        Of several kinds of an image, the gravest outcome stands for the image.
    """

    name: str
    says: bool = False
    settled: bool = True
    gravity: int


OUTCOMES: dict[str, ImageOutcome] = {
    outcome.name: outcome
    for outcome in (
        ImageOutcome(name="found", says=True, gravity=1),
        ImageOutcome(name="empty", says=True, gravity=0),
        ImageOutcome(name="unread", gravity=2),
        ImageOutcome(name="failed", gravity=5),
        ImageOutcome(name="refused", gravity=4),
        ImageOutcome(name="pending", settled=False, gravity=3),
        ImageOutcome(name="deleted", gravity=6),
    )
}
"""Every outcome by its name, in the order shown."""
ANSWERED = tuple(one.name for one in OUTCOMES.values() if one.says)
"""Outcomes that tell what is in the image."""
DELETED = "deleted"
"""What a ledger held of the image was removed from it on demand."""
LOST = tuple(
    one.name for one in OUTCOMES.values() if one.settled and not one.says and one.name != DELETED
)
"""Outcomes that tell nothing, are not pending, and that nobody asked for."""


def shown_outcomes(counts: Iterable[Mapping[str, int]]) -> tuple[str, ...]:
    """Return the outcomes that a table shows: all, and ``deleted`` only where there are any.

    Parameters
    ----------
    counts : iterable of mapping of str to int
        By outcome, of each kind.

    Returns
    -------
    tuple of str
        In the order of `OUTCOMES`.
    """
    removed = any(one.get(DELETED) for one in counts)
    return tuple(name for name in OUTCOMES if removed or name != DELETED)


PLACES = ("near", "above", "below", "inside")
"""Where the text of a box stands if there is room: anywhere near it, above, below or inside it."""

VERDICTS = ("pass", "hold", "block")
"""From the mildest to the strictest."""


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


# To a type checker a name is any text; files are checked against the names of the registries.
if TYPE_CHECKING:
    KindName = str
    OutcomeName = str
    VerdictName = str
else:
    KindName = Literal[tuple(KINDS)]
    OutcomeName = Literal[tuple(OUTCOMES)]
    VerdictName = Literal[VERDICTS]


def worst_outcome(outcomes: Collection[str], otherwise: str) -> str:
    """Return the one outcome that stands for an image of which several kinds were asked.

    Parameters
    ----------
    otherwise : str
        What is returned if there are none.

    Returns
    -------
    str
        The first of ``deleted``, ``failed``, ``refused``, ``pending``, ``unread``, ``found`` and
        ``empty`` that is among them.

    Examples
    --------
    >>> worst_outcome(["found", "refused", "empty"], "pending")
    'refused'
    >>> worst_outcome([], "pending")
    'pending'
    """
    gravest_first = sorted(OUTCOMES.values(), key=lambda one: -one.gravity)
    return next((one.name for one in gravest_first if one.name in outcomes), otherwise)


def check_kinds(kinds: str | Iterable[str], *, place: str) -> tuple[str, ...]:
    """Return `kinds`, or the only one, without repeats, in the fixed order of `KINDS`.

    Parameters
    ----------
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
