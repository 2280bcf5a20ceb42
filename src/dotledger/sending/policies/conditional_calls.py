"""Whether a call is made that waits for what another one found."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal

from dotledger.core.kinds import ANSWERED
from dotledger.services.call_parts import OnlyIf

__all__ = ["Fate", "fate_of", "not_asked"]

Fate = Literal["ask", "skip", "fail", "later"]


def fate_of(
    only_if: OnlyIf,
    outcomes: Mapping[str, str],
    found: Iterable[tuple[str, str, float | None]],
) -> Fate:
    """Decide what happens to a call for one image.

    Parameters
    ----------
    outcomes : mapping of str to str
        Of the image so far, by kind.
    found : iterable of (str, str, float or None)
        Kind, label and confidence of what was found in it so far.

    Returns
    -------
    {'ask', 'skip', 'fail', 'later'}
        ``fail`` where the kind waited for was not answered or not read: asking all the same would
        cost money, and leaving it out would call something empty that nobody looked for.
        ``later`` where nothing is known yet.
    """
    outcome = outcomes.get(only_if.kind)
    if outcome is None:
        return "later"
    if outcome not in ANSWERED:
        return "fail"
    return "ask" if only_if.met_by(found) else "skip"


def not_asked(only_if: OnlyIf, fate: Fate) -> tuple[str, str]:
    """Return outcome and reason of the kinds of a call that is not made.

    Parameters
    ----------
    fate : {'skip', 'fail'}
        See `fate_of`.

    Returns
    -------
    tuple of str and str
        ``empty`` for one left out: the service as it is used finds nothing there, and is
        measured so.
    """
    if fate == "fail":
        return "failed", f"not asked: {only_if.kind}, which it waits for, was not answered"
    return "empty", f"not asked: {only_if}"
