"""What changed between two runs where nothing is annotated.

Every change is held against what drawing images again would make. Shares and means get the interval
of their difference over draws of images; where both runs are of the same images, the same draws
serve both. Of confidences the distance of the two distributions is taken (the area between their
cumulative curves, the Wasserstein or earth mover's distance: L. N. Vaserstein, 1969), and held
against the distances that come out when each image's two answers change places at random (R. A.
Fisher, "The design of experiments", 1935, chapter 3).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, whole_number
from dotledger.core.arrays import Floats, Ints
from dotledger.core.counting.cases import sparse_rows
from dotledger.core.counting.resampling import Resampling, limits, weights
from dotledger.core.counting.rows import defined
from dotledger.core.displays import Displayed
from dotledger.core.tables.findings import Findings
from dotledger.errors import ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Change", "Drift", "drift_of", "shape_changes"]

_BINS = 200
"""Confidences are told apart to 1/200: a shift smaller than that changes no decision."""
_AT_ONCE = 200
"""Draws made at a time: with a million images, 1000 at once would be 8 GB."""
_FEW = 10
"""Labels found less often in both runs are not looked at: nothing could be said of them."""


@dataclass(frozen=True, kw_only=True)
class Change:
    """One figure of two runs.

    Attributes
    ----------
    what : str
        Such as ``images with a finding``, ``findings per image``, ``confidence distance``.
    of : str
        A kind or ``kind:label``.
    first, second : float
        Of both runs; for a distance the two mean confidences.
    change : float
        Second minus first; of a distance, the distance.
    low, high : float
        Its 95 % interval over draws of images; NaN where all agree.
    by_chance : float
        Of a distance: what 95 % of random exchanges stay below. NaN for others.
    beyond_chance : bool
        Whether it is larger than drawing images again would make.
    """

    what: str
    of: str
    first: float
    second: float
    change: float
    low: float
    high: float
    by_chance: float
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
        Those beyond chance first.
    came, went : dict of str to int
        Labels, as ``kind:label``, that only the second or only the first run has, with how often.
    shape : dict of str to tuple of str
        Fields of the raw answers that ``appeared`` or ``vanished``; empty if none were given.
    notes : tuple of str
        What a reader should know.
    """

    images: tuple[int, int]
    paired: bool
    changes: tuple[Change, ...]
    came: Mapping[str, int]
    went: Mapping[str, int]
    shape: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def found(self) -> tuple[Change, ...]:
        """The changes larger than drawing images again would make."""
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
    seconds: tuple[Sequence[float], Sequence[float]] | None = None,
    asked: tuple[int, int] | None = None,
    shape: Mapping[str, tuple[str, ...]] | None = None,
    draws: int = 1000,
    seed: int = 0,
) -> Drift:
    """Return what changed from one run to another.

    Parameters
    ----------
    first, second : Findings
        With a blank row for every image that was answered and holds nothing. If at least half of
        the images are the same, only those are looked at.
    seconds : pair of sequence of float, optional
        How long each call took, in both runs.
    asked : pair of int, optional
        Images that were to be sent in each run: those without any answer are failed, refused,
        unread or pending.
    shape : mapping, optional
        From `shape_changes`.
    draws, seed : int
        Of images; at least 20.

    Returns
    -------
    Drift
        Without annotations nobody knows whether a change is for the better.

    Raises
    ------
    ScopeError
        If one of the runs has no image.
    """
    resampling = Resampling(
        draws=whole_number(draws, place="draws", least=20, most=MOST_DRAWS),
        seed=whole_number(seed, place="seed", least=0, most=MOST_SEED),
    )
    names = [sorted(table.image.used()) for table in (first, second)]
    if not names[0] or not names[1]:
        raise ScopeError("a run without images cannot be compared", place="drift")
    same = sorted(set(names[0]) & set(names[1]))
    paired = 2 * len(same) >= min(len(names[0]), len(names[1]))
    if paired:
        names = [same, same]
    sides = [_Side(t, n) for t, n in zip((first, second), names, strict=True)]
    changes = []
    for kind in sorted(set(sides[0].kinds) | set(sides[1].kinds)):
        changes += _of_kind(sides, kind, paired, resampling)
    if seconds is not None and all(len(one) > 1 for one in seconds):
        changes.append(_latency(seconds, resampling))
    if asked is not None:
        answered = (len(first.image.used()), len(second.image.used()))
        changes.append(_answered(answered, asked, resampling))
    counts = [side.label_counts() for side in sides]
    return Drift(
        images=(len(names[0]), len(names[1])),
        paired=paired,
        changes=tuple(sorted(changes, key=lambda one: not one.beyond_chance)),
        came={name: n for name, n in counts[1].items() if name not in counts[0]},
        went={name: n for name, n in counts[0].items() if name not in counts[1]},
        shape=shape or {},
        notes=_notes(changes, paired, (first, second), names),
    )


def _notes(
    changes: Sequence[Change], paired: bool, tables: tuple[Findings, Findings], names: Any
) -> tuple[str, ...]:
    found = [
        f"{len(changes)} figures were compared: about {len(changes) / 20:.1f} of them would look "
        "changed by chance alone."
    ]
    if not paired:
        found.append(
            "The two runs are of different images: what changed may be the images, not the service."
        )
    left = sum(len(t.image.used()) - len(n) for t, n in zip(tables, names, strict=True))
    if paired and left:
        found.append(f"{left} images that only one run answered were left out.")
    return tuple(found)


class _Side:
    """One run over its images: counts by image, confidences by bin and image."""

    def __init__(self, table: Findings, names: Sequence[str]) -> None:
        image = table.image.onto(names)
        kept = table.take((image >= 0) & ~table.blank)
        self.images = len(names)
        self.image: Ints = kept.image.onto(names)
        self._kept = kept
        self.kinds = [kind for kind in table.kind.used() if kind]

    def rows(self, kind: str, label: str | None = None) -> Ints:
        kept = self._kept
        rows = kept.kind.among([kind])
        if label is not None:
            rows &= kept.label.among([label])
        return np.flatnonzero(rows)

    def labels(self, kind: str) -> list[str]:
        return self._kept.take(self.rows(kind)).label.used()

    def by_image(self, rows: Ints) -> Floats:
        return np.bincount(self.image[rows], minlength=self.images).astype(np.float64)

    def confidences(self, rows: Ints) -> Floats:
        return self._kept.confidence[rows]

    def bins(self, rows: Ints) -> Any:
        """Return how many findings each image has in each bin of confidence: (bins, images)."""
        confidence = self.confidences(rows)
        known = ~np.isnan(confidence)
        at = np.minimum((confidence[known] * _BINS).astype(np.intp), _BINS - 1)
        return sparse_rows(at, self.image[rows][known], (_BINS, self.images))

    def label_counts(self) -> dict[str, int]:
        kinds, labels = self._kept.kind.values(), self._kept.label.values()
        names = [f"{kind}:{label}" for kind, label in zip(kinds, labels, strict=True)]
        found, counts = np.unique(np.array(names, dtype=object), return_counts=True)
        return dict(zip(found.tolist(), counts.tolist(), strict=True))


def _of_kind(
    sides: Sequence[_Side], kind: str, paired: bool, resampling: Resampling
) -> list[Change]:
    rows = [side.rows(kind) for side in sides]
    each = [side.by_image(r) for side, r in zip(sides, rows, strict=True)]
    found = [
        _mean_change(
            "images with a finding",
            kind,
            [(one > 0).astype(np.float64) for one in each],
            paired,
            resampling,
        ),
        _mean_change("findings per image", kind, each, paired, resampling),
    ]
    found += _distance(sides, rows, kind, paired, resampling)
    labels = sorted(set(sides[0].labels(kind)) | set(sides[1].labels(kind)))
    for label in labels if len(labels) > 1 else []:
        own = [side.rows(kind, label) for side in sides]
        if max(len(own[0]), len(own[1])) < _FEW:
            continue
        there = [
            (side.by_image(r) > 0).astype(np.float64) for side, r in zip(sides, own, strict=True)
        ]
        name = f"{kind}:{label}"
        found.append(_mean_change("images with it", name, there, paired, resampling))
        found += _distance(sides, own, name, paired, resampling)
    return found


def _drawn(each: Sequence[Any], paired: bool, resampling: Resampling) -> list[Floats]:
    """Return rows summed over drawn images, for both runs: the same draws for the same images.

    Some draws at a time, so that no (images, draws) array is held.
    """
    first = weights(each[0].shape[-1], resampling, _AT_ONCE)
    if paired:
        parts = [(each[0] @ w, each[1] @ w) for w in first]
    else:
        other = replace(resampling, seed=resampling.seed + 1)
        second = weights(each[1].shape[-1], other, _AT_ONCE)
        parts = [(each[0] @ w, each[1] @ v) for w, v in zip(first, second, strict=True)]
    return [np.concatenate(side, axis=-1) for side in zip(*parts, strict=True)]


def _mean_change(
    what: str, of: str, each: Sequence[Floats], paired: bool, resampling: Resampling
) -> Change:
    sums = _drawn(each, paired, resampling)
    means = [total / len(one) for one, total in zip(each, sums, strict=True)]
    images = min(len(each[0]), len(each[1]))
    low, high = limits(means[1] - means[0], images, resampling.level)
    first, second = float(each[0].mean()), float(each[1].mean())
    return Change(
        what=what,
        of=of,
        first=first,
        second=second,
        change=second - first,
        low=float(low),
        high=float(high),
        by_chance=math.nan,
        beyond_chance=bool(low > 0 or high < 0),
    )


def _distance(
    sides: Sequence[_Side], rows: Sequence[Ints], of: str, paired: bool, resampling: Resampling
) -> list[Change]:
    """Return the distance of two distributions of confidence, if both have enough findings."""
    confidences = [side.confidences(r) for side, r in zip(sides, rows, strict=True)]
    known = [one[~np.isnan(one)] for one in confidences]
    if min(len(known[0]), len(known[1])) < _FEW:
        return []
    bins = [side.bins(r) for side, r in zip(sides, rows, strict=True)]
    ones = [np.ones((side.images, 1)) for side in sides]
    seen = _between(bins[0] @ ones[0], bins[1] @ ones[1])[0]
    draws = _between(*_drawn(bins, paired, resampling))
    images = min(side.images for side in sides)
    low, high = limits(draws, images, resampling.level)
    chance = float(np.nanquantile(_exchanged(bins, paired, resampling), resampling.level))
    return [
        Change(
            what="confidence distance",
            of=of,
            first=float(known[0].mean()),
            second=float(known[1].mean()),
            change=float(seen),
            low=float(low),
            high=float(high),
            by_chance=chance,
            beyond_chance=bool(seen > chance and seen >= 1 / _BINS),
        )
    ]


def _between(one: Any, other: Any) -> Floats:
    """Return the area between cumulative distributions, by column; NaN where one is empty."""
    with np.errstate(divide="ignore", invalid="ignore"):
        curves = [np.cumsum(x, axis=0) / np.sum(x, axis=0) for x in (one, other)]
    return np.asarray(np.abs(curves[0] - curves[1]).mean(axis=0), dtype=np.float64)


def _exchanged(bins: Sequence[Any], paired: bool, resampling: Resampling) -> Floats:
    """Return distances where images changed places between the runs at random."""
    rng = np.random.default_rng(resampling.seed)
    once = _swapped if paired else _dealt
    draws = resampling.draws
    parts = [min(_AT_ONCE, draws - start) for start in range(0, draws, _AT_ONCE)]
    return np.concatenate([once(bins, part, rng) for part in parts])


def _swapped(bins: Sequence[Any], draws: int, rng: np.random.Generator) -> Floats:
    """Of the same images each exchanges its two answers, or not."""
    swap = rng.integers(0, 2, (bins[0].shape[1], draws)).astype(np.float32)
    stay = 1 - swap
    return _between(bins[0] @ stay + bins[1] @ swap, bins[0] @ swap + bins[1] @ stay)


def _dealt(bins: Sequence[Any], draws: int, rng: np.random.Generator) -> Floats:
    """Different images are dealt to the two runs anew."""
    first, every = bins[0].shape[1], bins[0].shape[1] + bins[1].shape[1]
    mine = np.zeros((every, draws), dtype=np.float32)
    for column in range(draws):
        mine[rng.permutation(every)[:first], column] = 1
    theirs = 1 - mine
    return _between(
        bins[0] @ mine[:first] + bins[1] @ mine[first:],
        bins[0] @ theirs[:first] + bins[1] @ theirs[first:],
    )


def _answered(answered: tuple[int, int], asked: tuple[int, int], resampling: Resampling) -> Change:
    """Return the change of the share of images with an answer."""
    each = [
        (np.arange(max(every, done)) < done).astype(np.float64)
        for done, every in zip(answered, asked, strict=True)
    ]
    return _mean_change("images with an answer", "all", each, False, resampling)


def _latency(seconds: tuple[Sequence[float], Sequence[float]], resampling: Resampling) -> Change:
    """Return the change of the median time of a call; calls, not images, are drawn."""
    rng = np.random.default_rng(resampling.seed)
    arrays = [np.asarray(one, dtype=np.float64) for one in seconds]
    draws = min(resampling.draws, 400)
    medians = [
        np.median(one[rng.integers(0, len(one), (draws, len(one)))], axis=1) for one in arrays
    ]
    low, high = limits(medians[1] - medians[0], min(map(len, arrays)), resampling.level)
    first, second = (float(np.median(one)) for one in arrays)
    return Change(
        what="median seconds of a call",
        of="all",
        first=first,
        second=second,
        change=second - first,
        low=float(low),
        high=float(high),
        by_chance=math.nan,
        beyond_chance=bool(low > 0 or high < 0),
    )


def shape_changes(first: Sequence[Any], second: Sequence[Any]) -> dict[str, tuple[str, ...]]:
    """Return the fields of answers that appeared or vanished.

    Parameters
    ----------
    first, second : sequence of parsed answers
        Of both runs; lists count as one place.

    Returns
    -------
    dict of str to tuple of str
        ``appeared`` and ``vanished``, sorted paths such as ``found[].score``.

    Examples
    --------
    >>> shape_changes([{"a": [{"b": 1}]}], [{"a": [{"c": 1}]}])
    {'appeared': ('a[].c',), 'vanished': ('a[].b',)}
    """
    one, other = (set().union(*(_fields(answer) for answer in side)) for side in (first, second))
    return {"appeared": tuple(sorted(other - one)), "vanished": tuple(sorted(one - other))}


def _fields(value: Any, path: str = "") -> set[str]:
    if isinstance(value, dict):
        found: set[str] = set()
        for name, inner in value.items():
            here = f"{path}.{name}" if path else str(name)
            found |= {here} | _fields(inner, here)
        return found
    if isinstance(value, list):
        return set().union(*(_fields(inner, f"{path}[]") for inner in value))
    return set()
