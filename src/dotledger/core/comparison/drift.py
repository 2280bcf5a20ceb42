"""What changed between two runs where nothing is annotated.

If nothing changed, the two answers to an image may as well change places (of different images: the
images between the runs). Every figure is held against what such exchanges make of it, all figures
together: see `dotledger.core.comparison.exchange_test`. So where nothing changed, any figure at
all is said to have changed in at most 5 of 100 comparisons, however many labels there are.

What a comparison of this size could not have seen is told with it: of each figure the smallest
change that is found four times out of five.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, whole_number
from dotledger.core.comparison.drift_runs import ComparedRuns, RunFacts, compare_runs
from dotledger.core.comparison.exchange_test import EXCHANGES, adjusted, critical
from dotledger.core.comparison.exchanged_figures import Exchanged, Figure
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.spelling import counted
from dotledger.core.tables.findings_table import Findings

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Change", "Drift", "drift_of"]

_LEVEL = 0.05
_FOUR_OF_FIVE = 0.8416
"""The 80 % point of the normal distribution."""


@dataclass(frozen=True, kw_only=True)
class Change:
    """One figure of two runs.

    Attributes
    ----------
    what : str
        Such as ``images with a finding``, ``findings per image``, ``mean confidence``, ``log area
        of a box`` (of boxes that lie on each other: 0.1 is 10 % larger), ``boxes moved right`` (in
        box widths).
    of : str
        A kind or ``kind:label``; ``all`` for calls.
    first, second : float
        Of both runs; NaN where undefined. Of ``distance of confidences`` the two means; of boxes
        that lie on each other 0 and the change.
    change : float
        Second minus first; of a distance, the largest of the two cumulative distributions, positive
        where the second run's confidences are higher.
    p_value : float
        How often exchanging the answers makes any figure as striking, if nothing changed. NaN where
        no exchange changes the figure, or it is undefined.
    smallest : float
        The smallest change of this figure that is found four times out of five; NaN likewise.
    beyond_chance : bool
        Whether the p-value is small enough.
    """

    what: str
    of: str
    first: float
    second: float
    change: float
    p_value: float
    smallest: float
    beyond_chance: bool

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {n: defined(v) if isinstance(v, float) else v for n, v in vars(self).items()}


@dataclass(frozen=True, kw_only=True, repr=False)
class Drift(Displayed):
    """What changed between two runs.

    Attributes
    ----------
    images : (int, int)
        Looked at in each run.
    paired : bool
        Whether they are the same images.
    changes : tuple of Change
        All figures, the significant ones first.
    same : bool
        Whether both runs have the same labels, confidences and boxes on the same images: equal
        figures alone do not say so.
    came, went : dict of str to int
        Labels, as ``kind:label``, that only the second or only the first run has, with how often.
    shape : dict of str to tuple of str
        Fields of the raw answers that ``appeared`` or ``vanished`` beyond chance.
    known : tuple of str
        What is known to have changed, in words: the service's version, settings, description.
    notes : tuple of str
        What a reader should know.
    """

    images: tuple[int, int]
    paired: bool
    changes: tuple[Change, ...]
    same: bool
    came: Mapping[str, int]
    went: Mapping[str, int]
    shape: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    known: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def found(self) -> tuple[Change, ...]:
        """The changes larger than exchanging the answers makes them."""
        return tuple(one for one in self.changes if one.beyond_chance)

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row a change."""
        import pandas as pd

        return pd.DataFrame([vars(one) for one in self.changes])

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        return {
            "images": list(self.images),
            "paired": self.paired,
            "known": list(self.known),
            "same": self.same,
            "changes": [one.to_dict() for one in self.changes],
            "came": dict(self.came),
            "went": dict(self.went),
            "shape": {name: list(fields) for name, fields in self.shape.items()},
            "notes": list(self.notes),
        }


def drift_of(
    first: Findings,
    second: Findings,
    *,
    facts: tuple[RunFacts, RunFacts] | None = None,
    draws: int = EXCHANGES,
    seed: int = 0,
    level: float = _LEVEL,
) -> Drift:
    """Return what changed from one run to another.

    Parameters
    ----------
    first, second : Findings
        With a blank row for every image that was answered and holds nothing. If at least half of
        the images are the same, only those are looked at.
    facts : pair of RunFacts, optional
        What a ledger knows of both.
    draws : int, default 2000
        Exchanges, at least 20; all that there are where those are fewer.
    level : float, default 0.05
        Any figure is said to have changed in at most this share of comparisons in which nothing
        did.

    Returns
    -------
    Drift
        Without annotations nobody knows whether a change is for the better.

    Raises
    ------
    ScopeError
        If one of the runs has no image.
    """
    draws = whole_number(draws, place="draws", least=20, most=MOST_DRAWS)
    seed = whole_number(seed, place="seed", least=0, most=MOST_SEED)
    runs = compare_runs(first, second, facts)
    exchanged = [part.figures.exchanged(part.order, seed, draws) for part in runs.parts]
    changes = _changes(runs, exchanged, level=level)
    return Drift(
        images=runs.images,
        paired=runs.paired,
        changes=tuple(sorted(changes, key=lambda one: not one.beyond_chance)),
        same=runs.same,
        came=runs.came,
        went=runs.went,
        shape=_shape(changes, runs.listed),
        known=runs.known,
        notes=_notes(changes, runs, exchanged[0]),
    )


def _changes(runs: ComparedRuns, parts: Sequence[Exchanged], *, level: float) -> list[Change]:
    """Return all figures, tested together."""
    seen = np.concatenate([one.change for one in parts])
    width = max(one.moved.shape[1] for one in parts)
    # Where there are fewer exchanges of one sort, they come round again: each as often as any.
    moved = np.vstack([np.resize(one.moved.T, (width, one.moved.shape[0])).T for one in parts])
    whole = all(one.all_made for one in parts)
    values = adjusted(seen, moved, all_made=whole)
    needed = critical(moved, level)
    firsts = np.concatenate([one.first for one in parts])
    seconds = np.concatenate([one.second for one in parts])
    named = [figure for part in runs.parts for figure in part.figures.figures]
    smallest = (needed.largest + _FOUR_OF_FIVE) * np.where(needed.spread, needed.spread, np.nan)
    return [
        _change(figure, (firsts[n], seconds[n], seen[n], values[n], smallest[n]), level)
        for n, figure in enumerate(named)
    ]


def _change(figure: Figure, numbers: Sequence[float], level: float) -> Change:
    first, second, change, p_value, smallest = map(float, numbers)
    if figure.shown == "moved":
        first, second = 0.0, change
    elif figure.shown == "logarithm":
        smallest = figure.told(first) * (math.exp(smallest) - 1)
        first, second = figure.told(first), figure.told(second)
        change = second - first
    return Change(
        what=figure.what,
        of=figure.of,
        first=first,
        second=second,
        change=change,
        p_value=p_value,
        smallest=smallest,
        beyond_chance=p_value <= level,
    )


def _shape(changes: Sequence[Change], listed: Sequence[str]) -> dict[str, tuple[str, ...]]:
    moved = [one for one in changes if one.beyond_chance and one.what == "answers with a field"]
    if not listed:
        return {}
    return {
        "appeared": tuple(sorted(one.of for one in moved if one.change > 0)),
        "vanished": tuple(sorted(one.of for one in moved if one.change < 0)),
    }


def _notes(changes: Sequence[Change], runs: ComparedRuns, seen: Exchanged) -> tuple[str, ...]:
    judged = sum(not math.isnan(one.p_value) for one in changes)
    found = [f"Tested together: {counted(judged, 'figure')}."] if judged else []
    found += _too_few(changes, runs.images, seen)
    found += runs.notes
    return tuple(found)


_SHORT = {
    "images with a finding": "the share of images with a finding",
    "findings per image": "the findings per image",
    "mean confidence": "the mean confidence",
}


def _too_few(changes: Sequence[Change], of: tuple[int, int], seen: Exchanged) -> list[str]:
    """Return what a comparison of so few images cannot see."""
    images = min(of)
    if seen.all_made and 2 / seen.moved.shape[1] > _LEVEL:
        return [
            f"With {counted(images, 'image')} there are {seen.moved.shape[1]} exchanges: no change,"
            " however large, of the answers is significant. Send more of the same images."
        ]
    for what in ("images with a finding", "findings per image", "mean confidence"):
        known = [
            one
            for one in changes
            if one.what == what and one.smallest == one.smallest and not one.beyond_chance
        ]
        kinds = [one for one in known if ":" not in one.of]
        if kinds:
            one = max(kinds, key=lambda change: change.smallest)
            return [
                f"With {counted(images, 'image')} a change of {one.smallest:.2f} in {_SHORT[what]}"
                f' of {one.of} may pass unseen; "smallest seen" tells it for each figure.'
            ]
    return []
