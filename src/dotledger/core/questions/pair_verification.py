"""Same person or not: pairs of pictures, at every threshold of similarity.

False-match and false-non-match rates as in ISO/IEC 19795-1. A pair that the service gave no answer
for is counted by itself: it is in neither rate.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.running_sums import running_sums
from dotledger.core.measures.share_limits import share_limits
from dotledger.errors import ArgumentError, ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["PairCases", "PairMeasure", "PairRow", "pair_measure", "pair_measure_of"]

RATES = ("false_match_rate", "false_non_match_rate")


@dataclass(frozen=True, eq=False, kw_only=True)
class PairCases:
    """Pairs of pictures, and what the service said.

    Attributes
    ----------
    left, right : ndarray of intp, shape (n,)
        Codes of pictures; a picture has one code on both sides.
    same : ndarray of bool, shape (n,)
        Whether both show one person.
    similarity : ndarray of float64, shape (n,)
        NaN where the service gave no answer.
    """

    left: Ints
    right: Ints
    same: Flags
    similarity: Floats

    @cached_property
    def compared(self) -> tuple[int, int]:
        """Pairs with an answer: of one person, and of two."""
        known = ~np.isnan(self.similarity)
        return int((known & self.same).sum()), int((known & ~self.same).sum())

    def on(self, kept: Flags | Ints) -> PairCases:
        """Return some of the pairs, by flags or in an order."""
        return PairCases(
            left=self.left[kept],
            right=self.right[kept],
            same=self.same[kept],
            similarity=self.similarity[kept],
        )


@dataclass(frozen=True, kw_only=True)
class PairRow:
    """Pairs at one threshold: those at least as similar count as the same person.

    Attributes
    ----------
    similarity : float
        The threshold.
    matches, false_non_matches : int
        Pairs of one person: taken for one, and not.
    false_matches, non_matches : int
        Pairs of two persons: taken for one, and not.
    intervals : mapping of str to (float, float)
        95 %, of ``false_match_rate`` and ``false_non_match_rate``. A picture that is in several
        pairs makes them alike, on either side: the wider of both is given. NaN with fewer than two
        pictures on a side.
    """

    similarity: float
    matches: int
    false_non_matches: int
    false_matches: int
    non_matches: int
    intervals: Mapping[str, tuple[float, float]]

    @property
    def false_match_rate(self) -> float:
        """Pairs of two persons taken for one / pairs of two persons; NaN if there are none."""
        return ratio(self.false_matches, self.false_matches + self.non_matches)

    @property
    def false_non_match_rate(self) -> float:
        """Pairs of one person not taken for one / pairs of one person; NaN if there are none."""
        return ratio(self.false_non_matches, self.matches + self.false_non_matches)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {n: v for n, v in vars(self).items() if n != "intervals"}
        ends = {n: None if math.isnan(v[0]) else list(v) for n, v in self.intervals.items()}
        return {**plain, **{n: defined(getattr(self, n)) for n in RATES}, "intervals": ends}


@dataclass(frozen=True, kw_only=True, repr=False)
class PairMeasure(Displayed):
    """Pairs of pictures at every threshold of similarity.

    Attributes
    ----------
    rows : tuple of PairRow
        One for each similarity that occurs, rising.
    no_answer_same, no_answer_different : int
        Pairs of one person, and of two, that the service gave no answer for.
    cases : PairCases
        What was counted.
    """

    rows: tuple[PairRow, ...]
    no_answer_same: int
    no_answer_different: int
    cases: PairCases

    @property
    def equal_error_rate(self) -> float:
        """Mean of both rates at the threshold where they are nearest to each other; NaN if none."""
        both = [(r.false_match_rate, r.false_non_match_rate) for r in self.rows]
        known = [(abs(a - b), (a + b) / 2) for a, b in both if a == a and b == b]
        return min(known)[1] if known else math.nan

    def at(self, similarity: float) -> PairRow:
        """Return the counts at a threshold.

        Raises
        ------
        ArgumentError
            If it is not a number.
        """
        if isinstance(similarity, bool) or not isinstance(similarity, int | float):
            raise ArgumentError("not a number", place="similarity", got=similarity)
        if math.isnan(similarity):
            raise ArgumentError("not a number", place="similarity", got=similarity)
        above = [row for row in self.rows if row.similarity >= similarity]
        if above:
            return replace(above[0], similarity=float(similarity))
        return _row(self.cases, float(similarity), 0, 0, _limits(self.cases, 0.95), 0)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "rows": [row.to_dict() for row in self.rows],
            "no_answer_same": self.no_answer_same,
            "no_answer_different": self.no_answer_different,
            "equal_error_rate": defined(self.equal_error_rate),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each threshold: the error curve of both rates."""
        import pandas as pd

        rows = []
        for row in self.rows:
            plain = {n: v for n, v in vars(row).items() if n != "intervals"}
            for name in RATES:
                low, high = row.intervals[name]
                plain |= {name: getattr(row, name), f"{name}_low": low, f"{name}_high": high}
            rows.append(plain)
        return pd.DataFrame(rows)


def pair_measure(
    left: Sequence[str],
    right: Sequence[str],
    same: Sequence[bool],
    similarity: Sequence[float | None],
) -> PairMeasure:
    """Measure pairs of pictures against what is known of them.

    Parameters
    ----------
    left, right : sequence of str, length n
        Names of the pictures of each pair.
    same : sequence of bool, length n
        Whether both show one person.
    similarity : sequence of float or None, length n
        In the service's own measure; None or NaN where it gave no answer.

    Returns
    -------
    PairMeasure
        With no rows where no pair has an answer.

    Raises
    ------
    ArgumentError
        If the lengths differ.
    ScopeError
        If there are no pairs.

    Examples
    --------
    >>> found = pair_measure(["a", "b", "c"], ["x", "y", "z"], [True, True, False], [0.9, 0.4, 0.5])
    >>> row = found.at(0.5)
    >>> row.false_match_rate, row.false_non_match_rate
    (1.0, 0.5)
    """
    lengths = {len(left), len(right), len(same), len(similarity)}
    if len(lengths) > 1:
        raise ArgumentError("columns of pairs differ in length", place="pairs", got=sorted(lengths))
    if not len(left):
        raise ScopeError("there are no pairs", place="pairs", got="0 rows")
    codes = {name: code for code, name in enumerate(sorted({*left, *right}))}
    numbers = [math.nan if value is None else float(value) for value in similarity]
    cases = PairCases(
        left=np.array([codes[name] for name in left], dtype=np.intp),
        right=np.array([codes[name] for name in right], dtype=np.intp),
        same=np.array(same, dtype=bool),
        similarity=np.array(numbers, dtype=np.float64),
    )
    return pair_measure_of(cases)


def pair_measure_of(cases: PairCases, level: float = 0.95) -> PairMeasure:
    """Return what every threshold leads to, with intervals of a level."""
    silent = np.isnan(cases.similarity)
    compared = cases.on(~silent)
    compared = compared.on(np.argsort(-compared.similarity, kind="stable"))
    limits = _limits(compared, level)
    similarity, same = compared.similarity, compared.same
    accepted = np.r_[0, np.cumsum(same)], np.r_[0, np.cumsum(~same)]
    last = np.flatnonzero(np.r_[similarity[1:] != similarity[:-1], len(similarity) > 0])
    rows = [
        _row(
            compared,
            float(similarity[place]),
            int(accepted[0][place + 1]),
            int(accepted[1][place + 1]),
            limits,
            place + 1,
        )
        for place in last[::-1].tolist()
    ]
    return PairMeasure(
        rows=tuple(rows),
        no_answer_same=int((silent & cases.same).sum()),
        no_answer_different=int((silent & ~cases.same).sum()),
        cases=cases,
    )


Limits = Mapping[str, tuple[Floats, Floats]]


def _limits(cases: PairCases, level: float) -> Limits:
    """Return the interval of each rate after so many pairs, the wider of both sides' pictures."""
    pictures = int(max(cases.left.max(), cases.right.max())) + 1 if len(cases.left) else 0
    found = {}
    for name, mine in (("false_match_rate", ~cases.same), ("false_non_match_rate", cases.same)):
        ends = []
        for side in (cases.left, cases.right):
            start = np.bincount(side[mine], minlength=pictures)
            sums = running_sums(side, mine, np.zeros(len(mine)), start)
            ends.append(share_limits(sums, level))
        wider = [
            np.where(ends[0][1] - ends[0][0] >= ends[1][1] - ends[1][0], ends[0][end], ends[1][end])
            for end in (0, 1)
        ]
        few = np.isnan(ends[0][0]) | np.isnan(ends[1][0])
        low, high = (np.where(few, np.nan, one) for one in wider)
        # Pairs of one person that are not taken for one are those that have not joined.
        found[name] = (low, high) if name == "false_match_rate" else (1 - high, 1 - low)
    return found


def _row(
    cases: PairCases, similarity: float, matches: int, false_matches: int, limits: Limits, at: int
) -> PairRow:
    same, different = cases.compared
    return PairRow(
        similarity=similarity,
        matches=matches,
        false_non_matches=same - matches,
        false_matches=false_matches,
        non_matches=different - false_matches,
        intervals={n: (float(a[at]), float(b[at])) for n, (a, b) in limits.items()},
    )
