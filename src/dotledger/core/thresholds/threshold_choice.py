"""Thresholds that were chosen, and what they honestly lead to."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.thresholds.aims import Aim
from dotledger.core.thresholds.threshold_outcomes import OUTCOME_MEASURES, Outcome
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Choice", "GroupChoice", "check_service"]


def check_service(chosen_for: str, asked: str) -> None:
    """Refuse thresholds that were chosen for another service.

    Parameters
    ----------
    chosen_for, asked : str
        Names of services; an empty one is not known, and fits every other.

    Raises
    ------
    ArgumentError
        If both are known and differ.
    """
    if chosen_for and asked and chosen_for != asked:
        raise ArgumentError(
            "thresholds chosen for another service: the same number means another thing there",
            place="threshold",
            got=chosen_for,
            allowed=[asked],
            next_step="Choose thresholds for each service.",
        )


@dataclass(frozen=True, kw_only=True)
class GroupChoice:
    """What was chosen for one group of findings.

    Attributes
    ----------
    name : str
        ``all``, a kind, or ``kind:label``.
    threshold : float
        NaN where no finding has a confidence.
    attainable : bool
        Whether some threshold meets the aim on the images it was chosen on; else `threshold` is
        the one that comes nearest.
    from_kind : bool
        Whether it is the threshold of the whole kind, since the label has too few annotations.
    annotated : int
        In scope.
    outcome, optimistic : Outcome
        On held-out images, and on the images used for choosing.
    chance : float
        In how many of the draws of images the threshold meets the aim, from 0 to 1: about as
        often as new images will. NaN without draws.
    more_images : int or None
        How many more images would settle whether the aim is met: 0 if it is settled; None if the
        outcome lies on the aim, or nothing is known of how sure it is.
    """

    name: str
    threshold: float
    attainable: bool
    from_kind: bool
    annotated: int
    outcome: Outcome
    optimistic: Outcome
    chance: float
    more_images: int | None

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "threshold": defined(self.threshold),
            "attainable": self.attainable,
            "from_kind": self.from_kind,
            "annotated": self.annotated,
            "outcome": self.outcome.to_dict(),
            "optimistic": self.optimistic.to_dict(),
            "chance": defined(self.chance),
            "more_images": self.more_images,
        }


@dataclass(frozen=True, kw_only=True, repr=False)
class Choice(Displayed):
    """What `choose_thresholds` returns.

    It may be given wherever a threshold is asked for.

    Attributes
    ----------
    aim : Aim
        What was asked for.
    each : str
        ``all``, ``kind`` or ``label``: what has a threshold of its own.
    overlap : float
        Required, for kinds with boxes.
    thresholds : dict of str to float
        By kind or ``kind:label``.
    groups : dict of str to GroupChoice
        By name.
    outcome, optimistic : Outcome
        Of everything together: on held-out images, and on those that were chosen on.
    images : int
        That were judged for the outcome.
    parts : int
        Of the cross-fitting; 1 where images were held out.
    service : str
        Whose findings they are; empty if that is not known.
    floor : float or None
        Below it nothing is known.
    origin : dict of str to str
        Digests of the findings and annotations, and when, if whoever chose knows them.
    notes : tuple of str
        What a reader should see before trusting the numbers.
    """

    aim: Aim
    each: str
    overlap: float
    thresholds: Mapping[str, float]
    groups: Mapping[str, GroupChoice]
    outcome: Outcome
    optimistic: Outcome
    images: int
    parts: int
    service: str = ""
    floor: float | None = None
    origin: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def attainable(self) -> bool:
        """Whether the aim can be met for every group on the images chosen on."""
        return all(group.attainable for group in self.groups.values())

    def thresholds_for(self, service: str) -> Mapping[str, float]:
        """Return the thresholds; raises ArgumentError if they are another service's."""
        check_service(self.service, service)
        return self.thresholds

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row a group: the threshold, and both outcomes."""
        import pandas as pd

        rows = [_row(group) for group in self.groups.values()]
        return pd.DataFrame(rows, columns=list(rows[0]) if rows else ["name"])

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        return {
            "aim": self.aim.text,
            "each": self.each,
            "overlap": self.overlap,
            "service": self.service,
            "floor": self.floor,
            "images": self.images,
            "parts": self.parts,
            "attainable": self.attainable,
            "thresholds": dict(self.thresholds),
            "outcome": self.outcome.to_dict(),
            "optimistic": self.optimistic.to_dict(),
            "groups": {name: group.to_dict() for name, group in self.groups.items()},
            "origin": dict(self.origin),
            "notes": list(self.notes),
        }

    def _head(self) -> str:
        given = ", ".join(f"{n} {v:g}" for n, v in list(self.thresholds.items())[:6])
        return f"<Choice for {self.aim}: {given or 'no threshold'}; {self.images} images>"


def _row(group: GroupChoice) -> dict[str, Any]:
    found: dict[str, Any] = {
        "name": group.name,
        "threshold": group.threshold,
        "attainable": group.attainable,
        "from_kind": group.from_kind,
        "annotated": group.annotated,
        "chance": group.chance,
        "more_images": math.nan if group.more_images is None else group.more_images,
    }
    for name in OUTCOME_MEASURES:
        found[name] = group.outcome.measure(name)
        low, high = group.outcome.intervals.get(name, (math.nan, math.nan))
        found |= {f"{name}_low": low, f"{name}_high": high}
        found[f"optimistic_{name}"] = group.optimistic.measure(name)
    return found
