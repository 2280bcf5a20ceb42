"""A watch that may be looked at as often as was planned, without false alarms adding up.

Whoever looks every day, and takes a chance of 5 in 100 each time, has a false alarm within weeks.
So a watch is planned for a number of looks, and each look spends its part of the 5 in 100 (C. E.
Bonferroni's bound): whatever the looks have in common, all of them together raise a false alarm in
at most 5 of 100 watches.

A chance of 0.05 / 365 is resolved by many exchanges only. They go on until it is plain that a look
is no alarm (J. Besag and P. Clifford, "Sequential Monte Carlo p-values", Biometrika 78, 1991, 301
to 304): a day on which nothing changed ends after a few hundred.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from itertools import chain
from statistics import NormalDist
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Floats
from dotledger.core.comparison.drift_runs import ComparedRuns, DriftPart, RunFacts, compare_runs
from dotledger.core.comparison.exchange_test import StepDown
from dotledger.core.comparison.exchanged_figures import Figure
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.spelling import counted
from dotledger.core.tables.findings_table import Findings

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "PLANNED",
    "Look",
    "LookFigure",
    "Watch",
    "WatchedRound",
    "look_at",
    "looks_that_images_bear",
]

PLANNED = 365
"""Looks of a watch: a year of daily ones."""
_LEVEL = 0.05
"""False alarms of a whole watch."""
_ENOUGH = 20
"""Exchanges as striking as what was seen, after which a look is no alarm."""
_SPREAD_OF = 1000
"""Exchanges of which each figure's spread is taken."""
_AT_ONCE = 200
_MOST_LOOKS = 10**15


@dataclass(frozen=True, kw_only=True)
class LookFigure:
    """One figure in one look.

    Attributes
    ----------
    what, of : str
        As of a `Change`.
    first, second : float
        Of the first round and of this one; NaN where undefined.
    low, high : float
        About where the figure of this round would lie if nothing had changed: normal limits of all
        figures and planned looks together. The exchanges decide, not these. NaN where nothing
        varies.
    changed : bool
        Whether this figure is part of the alarm.
    """

    what: str
    of: str
    first: float
    second: float
    low: float
    high: float
    changed: bool


@dataclass(frozen=True, kw_only=True)
class Look:
    """One round, judged against the first round of a watch.

    Attributes
    ----------
    images : (int, int)
        Looked at in each run.
    paired : bool
        Whether they are the same images.
    planned : int
        Looks of the watch.
    p_value : float
        Of the most striking figure among all; NaN where no exchange changes any figure.
    exchanges : int
        That were made to find it.
    alarm : bool
        Whether it is at most 0.05 / planned.
    same : bool
        Whether labels, confidences and boxes are those of the first round.
    bears : int
        How many planned looks these images can resolve; 0 where even one is too many.
    figures : tuple of LookFigure
        All of them.
    came, went : mapping of str to int
        Labels that only this or only the first round has, with how often.
    known : tuple of str
        What is known to have changed, in words.
    notes : tuple of str
        What a reader should know.
    """

    images: tuple[int, int]
    paired: bool
    planned: int
    p_value: float
    exchanges: int
    alarm: bool
    same: bool
    bears: int
    figures: tuple[LookFigure, ...]
    came: Mapping[str, int]
    went: Mapping[str, int]
    known: tuple[str, ...]
    notes: tuple[str, ...]

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        plain = asdict(self)
        plain["p_value"] = defined(self.p_value)
        plain["figures"] = [
            {n: defined(v) if isinstance(v, float) else v for n, v in vars(one).items()}
            for one in self.figures
        ]
        return plain

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Look:
        """Return what `to_dict` gave, also after it was JSON."""
        figures = tuple(LookFigure(**_with_nan(one)) for one in plain["figures"])
        given = {**_with_nan(plain), "figures": figures, "images": tuple(plain["images"])}
        for name in ("known", "notes"):
            given[name] = tuple(plain[name])
        return cls(**given)


def _with_nan(plain: Mapping[str, Any]) -> dict[str, Any]:
    return {name: math.nan if value is None else value for name, value in plain.items()}


def looks_that_images_bear(images: int, level: float = _LEVEL) -> int:
    """Return how many looks so few images can resolve, at most.

    Of 2^images exchanges two are as striking as the most striking change: the change itself, and
    its mirror image.

    Returns
    -------
    int
        0 where even one look cannot find anything.

    Examples
    --------
    >>> looks_that_images_bear(8)
    6
    >>> looks_that_images_bear(14) >= 365
    True
    """
    return int(level * 2.0 ** (min(images, 60) - 1))


def look_at(
    first: Findings,
    second: Findings,
    *,
    facts: tuple[RunFacts, RunFacts] | None = None,
    planned: int = PLANNED,
    seed: int = 0,
) -> Look:
    """Judge a round against the first one of a watch.

    Parameters
    ----------
    first, second : Findings
        With a blank row for every image that was answered and holds nothing.
    facts : pair of RunFacts, optional
        What a ledger knows of both.
    planned : int, default 365
        Looks of the watch, at least 1.

    Returns
    -------
    Look
        An alarm in at most 0.05 / planned of looks in which nothing changed.

    Raises
    ------
    ScopeError
        If one of the runs has no image.
    """
    runs = compare_runs(first, second, facts)
    judged = _judged(runs, planned, seed)
    return Look(
        images=runs.images,
        paired=runs.paired,
        planned=planned,
        p_value=judged.p_value,
        exchanges=judged.exchanges,
        alarm=judged.p_value <= _LEVEL / planned,
        same=runs.same,
        bears=_bears(runs),
        figures=tuple(_figures(runs.parts, judged, planned)),
        came=runs.came,
        went=runs.went,
        known=runs.known,
        notes=tuple(_notes(runs, planned)),
    )


@dataclass(frozen=True, eq=False)
class _Judged:
    """P-values by figure, the least of them, the exchanges made, and each figure's spread."""

    p_values: Floats
    p_value: float
    exchanges: int
    spread: Floats


def _judged(runs: ComparedRuns, planned: int, seed: int) -> _Judged:
    most = math.ceil(_ENOUGH * planned / _LEVEL)
    seen = np.concatenate([part.figures.seen()[2] for part in runs.parts])
    whole = all(part.figures.has_all(most) for part in runs.parts)
    if whole:
        most = max(2 ** len(part.order) for part in runs.parts)
    stream = _together(runs.parts, most, seed)
    begun = _begun(stream)
    counting = StepDown(seen, np.concatenate(begun, axis=1))
    if not len(counting.rows):
        return _Judged(np.full(len(seen), np.nan), math.nan, 0, counting.spread)
    made = reached = 0
    for moved in chain(begun, stream):
        hits = made + 1 + np.flatnonzero(counting.add(moved))
        if reached + len(hits) >= _ENOUGH and _is_plain(hits[_ENOUGH - reached - 1], planned):
            made = int(hits[_ENOUGH - reached - 1])
            least = _ENOUGH / made
            return _Judged(np.full(len(seen), np.nan), least, made, counting.spread)
        made, reached = made + moved.shape[1], reached + len(hits)
    shares = counting.reached / made if whole else (1 + counting.reached) / (1 + made)
    p_values = counting.p_values(shares)
    return _Judged(p_values, float(np.nanmin(p_values)), made, counting.spread)


def _is_plain(exchanges: int, planned: int) -> bool:
    """Tell whether a look is no alarm, its 20th striking exchange having been this one."""
    return _ENOUGH / exchanges > _LEVEL / planned


def _begun(stream: Iterator[Floats]) -> list[Floats]:
    begun: list[Floats] = []
    while sum(one.shape[1] for one in begun) < _SPREAD_OF:
        moved = next(stream, None)
        if moved is None:
            break
        begun.append(moved)
    return begun


def _together(parts: Sequence[DriftPart], most: int, seed: int) -> Iterator[Floats]:
    """Yield the changes of all figures, exchange by exchange; of few images again and again."""
    streams = [_endless(part, most, seed) for part in parts]
    made = 0
    while made < most:
        every = [next(stream) for stream in streams]
        width = min(most - made, *(one.shape[1] for one in every))
        yield np.vstack([one[:, :width] for one in every])
        made += width


def _endless(part: DriftPart, most: int, seed: int) -> Iterator[Floats]:
    """Yield changes, as many at once each time, so that several parts go side by side."""
    left: Floats | None = None
    while True:
        for moved in part.figures.moving(part.order, seed, most):
            joined = moved if left is None else np.concatenate([left, moved], axis=1)
            while joined.shape[1] >= _AT_ONCE:
                yield joined[:, :_AT_ONCE]
                joined = joined[:, _AT_ONCE:]
            left = joined


def _bears(runs: ComparedRuns) -> int:
    """Return how many looks can be resolved; different images change places in many more ways."""
    return looks_that_images_bear(runs.images[0]) if runs.paired else _MOST_LOOKS


def _figures(parts: Sequence[DriftPart], judged: _Judged, planned: int) -> Iterator[LookFigure]:
    tested = max(1, int(np.count_nonzero(judged.spread > 0)))
    limit = NormalDist().inv_cdf(1 - _LEVEL / (2 * planned * tested))
    place = 0
    for part in parts:
        seen = part.figures.seen()
        for figure, *values in zip(part.figures.figures, *seen, strict=True):
            width = limit * float(judged.spread[place]) or math.nan
            p_value = judged.p_values[place]
            yield _figure(figure, values, width, changed=bool(p_value <= _LEVEL / planned))
            place += 1


def _figure(figure: Figure, values: Sequence[Any], width: float, *, changed: bool) -> LookFigure:
    first, second, change = map(float, values)
    if figure.bins or figure.shown == "moved":  # what is tested is how far it moved
        first, second = 0.0, change
    told = [figure.told(one) for one in (first, second, first - width, first + width)]
    return LookFigure(
        what=figure.what,
        of=figure.of,
        first=told[0],
        second=told[1],
        low=told[2],
        high=told[3],
        changed=changed,
    )


def _notes(runs: ComparedRuns, planned: int) -> Iterator[str]:
    bears = _bears(runs)
    if bears < planned:
        yield (
            f"{runs.images[0]} images bear {counted(bears, 'look')}, and {planned} are planned: no "
            "change of the answers, however large, is an alarm. Send more of the same images, or "
            "plan fewer looks."
        )
    yield from runs.notes


@dataclass(frozen=True, kw_only=True)
class WatchedRound:
    """A round of a watch with what was judged.

    Attributes
    ----------
    number : int
        Which of the planned looks this was, from 1.
    batch : int
        In the ledger.
    round : str
        Its name; may be empty.
    started : str
        When the round was sent, ISO 8601 in UTC.
    made : str
        When it was looked at.
    look : Look
        The judgement.
    """

    number: int
    batch: int
    round: str
    started: str
    made: str
    look: Look

    @property
    def name(self) -> str:
        """The round's name, or its day and batch."""
        return self.round or f"batch {self.batch}"


@dataclass(frozen=True, kw_only=True, repr=False)
class Watch(Displayed):
    """All rounds since one, each judged against it.

    Attributes
    ----------
    service : str
        Whose rounds.
    batch : int
        Of the first round.
    round : str
        Its name; may be empty.
    started : str
        When it was sent, ISO 8601 in UTC.
    threshold : float, dict or None
        At which findings were cut.
    planned : int
        Looks of the watch.
    made : int
        Looks so far, those under other settings among them.
    rounds : tuple of WatchedRound
        Oldest first.
    fresh : tuple of int
        Batches that were judged just now.
    left_out : tuple of str
        Later rounds that were not judged, each with its reason.
    unanswered : tuple of int
        Batches among them that are complete and have no answer at all.
    """

    service: str
    batch: int
    round: str
    started: str
    threshold: float | Mapping[str, float] | None
    planned: int
    made: int
    rounds: tuple[WatchedRound, ...]
    fresh: tuple[int, ...] = ()
    left_out: tuple[str, ...] = ()
    unanswered: tuple[int, ...] = ()

    @property
    def alarms(self) -> tuple[WatchedRound, ...]:
        """The rounds that raised an alarm."""
        return tuple(one for one in self.rounds if one.look.alarm)

    @property
    def alarm(self) -> bool:
        """Whether the newest round, or one that was judged just now, raised an alarm."""
        fresh = [one for one in self.rounds if one.batch in self.fresh]
        return any(one.look.alarm for one in [*fresh, *self.rounds[-1:]])

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row a round and figure."""
        import pandas as pd

        rows = [
            {"round": one.name, "batch": one.batch, "alarm": one.look.alarm, **vars(figure)}
            for one in self.rounds
            for figure in one.look.figures
        ]
        columns = ["round", "batch", "alarm", *LookFigure.__annotations__]
        return pd.DataFrame(rows, columns=columns)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        plain = {**vars(self), "alarm": self.alarm}
        plain["rounds"] = [{**vars(one), "look": one.look.to_dict()} for one in self.rounds]
        return plain
