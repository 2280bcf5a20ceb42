"""What changed between two runs where nothing is annotated.

If nothing changed, the two answers to an image may as well change places (of different images: the
images between the runs). Every figure is held against what such exchanges make of it, all figures
together: see `dotledger.core.comparing.exchanging`. So where nothing changed, any figure at all is
said to have changed in at most 5 of 100 comparisons, however many labels there are.

What a comparison of this size could not have seen is told with it: of each figure the smallest
change that is found four times out of five.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, whole_number
from dotledger.core.comparing.drift_figures import (
    Side,
    add_fields,
    add_kind,
    add_partners,
    order_of,
)
from dotledger.core.comparing.exchanging import EXCHANGES, adjusted, critical
from dotledger.core.comparing.figures import Exchanged, Figure, Figures
from dotledger.core.counting.rows import defined
from dotledger.core.displays import Displayed
from dotledger.core.kinds import KINDS
from dotledger.core.spelling import counted
from dotledger.core.tables.findings import Findings
from dotledger.errors import ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Change", "Drift", "RunFacts", "drift_of"]

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


@dataclass(frozen=True, kw_only=True)
class RunFacts:
    """What a ledger knows about a run, apart from its findings.

    Attributes
    ----------
    asked : sequence of str
        Images that were to be sent: those without any answer are failed, refused, unread or
        pending.
    seconds : sequence of float
        How long each call took.
    fields : mapping of str to frozenset of str
        By image, the fields of its raw answers: see `fields_of`.
    versions : mapping of str to int
        What the service said of its own version, with the calls in which it did.
    settings : mapping of str to str
        Of the description.
    service : str
        Its name.
    described_as : str
        A digest of the description; two runs of one service may have had different ones.
    """

    asked: Sequence[str] = ()
    seconds: Sequence[float] = ()
    fields: Mapping[str, frozenset[str]] = field(default_factory=dict)
    versions: Mapping[str, int] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)
    service: str = ""
    described_as: str = ""


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
    seed : int, default 0
        Of the exchanges.
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
    told = facts or (RunFacts(), RunFacts())
    answered = [sorted(table.image.used()) for table in (first, second)]
    if not answered[0] or not answered[1]:
        raise ScopeError("a run without images cannot be compared", place="drift")
    same = sorted(set(answered[0]) & set(answered[1]))
    paired = 2 * len(same) >= min(len(answered[0]), len(answered[1]))
    names = [same, same] if paired else answered
    sides = [Side(t, n) for t, n in zip((first, second), names, strict=True)]
    figures = Figures((len(names[0]), len(names[1])), paired=paired)
    for kind in sorted(set(sides[0].kinds) | set(sides[1].kinds)):
        add_kind(figures, sides, kind)
        if paired and KINDS[kind].judged == "boxes":
            add_partners(figures, sides, kind)
    listed = add_fields(figures, names, [facts.fields for facts in told])
    of_images = figures.exchanged(order_of(sides, names, paired=paired), seed, draws)
    changes = _changes([(figures, of_images), *_of_calls(answered, told, seed, draws)], level=level)
    counts = [side.label_counts() for side in sides]
    return Drift(
        images=(len(names[0]), len(names[1])),
        paired=paired,
        changes=tuple(sorted(changes, key=lambda one: not one.beyond_chance)),
        same=paired and _are_equal(sides),
        came={name: n for name, n in counts[1].items() if name not in counts[0]},
        went={name: n for name, n in counts[0].items() if name not in counts[1]},
        shape=_shape(changes, listed),
        known=_known(told),
        notes=_notes(changes, paired, (first, second), names, of_images),
    )


def _are_equal(sides: Sequence[Side]) -> bool:
    """Tell whether two runs of the same images have the same labels, confidences and boxes."""
    labels = sorted({name for side in sides for name in side.kept.label.used()})
    one, other = (side.sorted_rows(labels) for side in sides)
    return np.array_equal(one, other)


def _of_calls(
    answered: Sequence[Sequence[str]], told: tuple[RunFacts, RunFacts], seed: int, draws: int
) -> list[tuple[Figures, Exchanged]]:
    """Return figures of what has other units: images asked for, and calls."""
    found = []
    asked = [sorted(set(facts.asked)) for facts in told]
    if all(asked):
        same = asked[0] == asked[1]
        figures = Figures((len(asked[0]), len(asked[1])), paired=same)
        done = [
            np.isin(np.array(own, dtype=object), np.array(list(names), dtype=object))
            for own, names in zip(asked, answered, strict=True)
        ]
        one, other = (side.astype(np.float64) for side in done)
        figures.add("images with an answer", "all", (one, other))
        found.append(
            (figures, _moved(figures, len(one) if same else len(one) + len(other), seed, draws))
        )
    if all(len(facts.seconds) > 1 for facts in told):
        times = [np.log(np.maximum(facts.seconds, 1e-3)) for facts in told]
        figures = Figures((len(times[0]), len(times[1])), paired=False)
        figures.add("typical seconds of a call", "all", (times[0], times[1]), shown="logarithm")
        found.append((figures, _moved(figures, sum(map(len, times)), seed, draws)))
    return found


def _moved(figures: Figures, units: int, seed: int, draws: int) -> Exchanged:
    return figures.exchanged(np.arange(units), seed, draws)


def _changes(parts: Sequence[tuple[Figures, Exchanged]], *, level: float) -> list[Change]:
    """Return all figures, tested together."""
    seen = np.concatenate([one.change for _, one in parts])
    width = max(one.moved.shape[1] for _, one in parts)
    # Where there are fewer exchanges of one sort, they come round again: each as often as any.
    moved = np.vstack([np.resize(one.moved.T, (width, one.moved.shape[0])).T for _, one in parts])
    whole = all(one.all_made for _, one in parts)
    values = adjusted(seen, moved, all_made=whole)
    needed = critical(moved, level)
    firsts = np.concatenate([one.first for _, one in parts])
    seconds = np.concatenate([one.second for _, one in parts])
    named = [figure for figures, _ in parts for figure in figures.figures]
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
        smallest = math.exp(first) * (math.exp(smallest) - 1)
        first, second = math.exp(first), math.exp(second)
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


def _known(told: tuple[RunFacts, RunFacts]) -> tuple[str, ...]:
    one, other = told
    found = []
    if one.service != other.service:
        found.append(f"The service: {one.service}, then {other.service}.")
    if set(one.versions) != set(other.versions):
        found.append(
            f"The service's version: {_listed(one.versions)}, then {_listed(other.versions)}."
        )
    for name in sorted({*one.settings, *other.settings}):
        before, after = one.settings.get(name, "none"), other.settings.get(name, "none")
        if before != after:
            found.append(f"The setting {name}: {before}, then {after}.")
    if not found and one.described_as != other.described_as:
        found.append("The description of the service is not the same in both runs.")
    return tuple(found)


def _listed(names: Iterable[str]) -> str:
    return ", ".join(sorted(names)) or "not said"


def _notes(
    changes: Sequence[Change],
    paired: bool,
    tables: tuple[Findings, Findings],
    names: Sequence[Sequence[str]],
    seen: Exchanged,
) -> tuple[str, ...]:
    judged = sum(not math.isnan(one.p_value) for one in changes)
    found = [f"Tested together: {counted(judged, 'figure')}."] if judged else []
    found += _too_few(changes, names, seen)
    if not paired:
        found.append(
            "The two runs are of different images: what changed may be the images, not the service."
        )
    left = sum(len(t.image.used()) - len(n) for t, n in zip(tables, names, strict=True))
    if paired and left:
        found.append(f"{left} images that only one run answered were left out.")
    return tuple(found)


_SHORT = {
    "images with a finding": "the share of images with a finding",
    "findings per image": "the findings per image",
    "mean confidence": "the mean confidence",
}


def _too_few(
    changes: Sequence[Change], names: Sequence[Sequence[str]], seen: Exchanged
) -> list[str]:
    """Return what a comparison of so few images cannot see."""
    images = min(map(len, names))
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
