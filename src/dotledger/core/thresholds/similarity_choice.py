"""A threshold of similarity under an aim, for names and for pairs, judged on held-out images."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats
from dotledger.core.displays import JsonText
from dotledger.core.measures.measure_rows import defined
from dotledger.core.questions.identification import (
    Identification,
    IdentificationRow,
    identification_at_all,
)
from dotledger.core.questions.pair_verification import (
    PairMeasure,
    PairRow,
    pair_measure_of,
)
from dotledger.core.spelling import counted
from dotledger.core.thresholds.aims import Aim, share_of
from dotledger.core.thresholds.fold_splits import crossed
from dotledger.errors import ArgumentError

__all__ = [
    "NAME_AIMS",
    "PAIR_AIMS",
    "SimilarityChoice",
    "choose_similarity",
    "read_similarity_aim",
]

_NUMBER = r"(\d+(?:\.\d+)?|\.\d+) ?(%?)"
NAME_AIMS = ("at most 1% of names are false", "at most 1% of strangers are named")
PAIR_AIMS = ("false-match rate <= 0.1%",)
_FORMS = {
    rf"at most {_NUMBER} of (?:the )?names (?:are )?false": "false_share",
    rf"at most {_NUMBER} of (?:the )?strangers (?:are )?(?:named|given a name)": (
        "stranger_named_share"
    ),
    rf"false[- _]match[- _]rate ?(?:<=|≤) ?{_NUMBER}": "false_match_rate",
}
_WORDS = {
    "false_share": "false names",
    "stranger_named_share": "strangers named",
    "false_match_rate": "false-match rate",
}
LevelRow = IdentificationRow | PairRow


def read_similarity_aim(text: str, allowed: Sequence[str]) -> Aim:
    """Return an aim about similarity from its sentence.

    Parameters
    ----------
    allowed : sequence of str
        `NAME_AIMS` or `PAIR_AIMS`: what can be aimed at, each with its own number.

    Raises
    ------
    ArgumentError
        If it is none of these sentences, or its share is above 1.
    """
    tidy = " ".join(str(text).split()).casefold().rstrip(".")
    fitting = {form for form in _FORMS for one in allowed if re.fullmatch(form, one)}
    for form in fitting:
        if match := re.fullmatch(form, tidy):
            try:
                limit = share_of(*match.groups())
            except ValueError as problem:
                raise ArgumentError(str(problem), place="aim", got=text) from None
            return Aim(text=tidy, sort="at most", measure=_FORMS[form], limit=limit)
    raise ArgumentError(
        "not an aim for a similarity", place="aim", got=text, allowed=[f"'{a}'" for a in allowed]
    )


@dataclass(frozen=True, kw_only=True)
class SimilarityChoice(JsonText):
    """A threshold of similarity, and what it honestly leads to.

    Attributes
    ----------
    aim : Aim
        What it was chosen for.
    similarity : float
        Names or pairs at least so similar are taken; infinite where none has a similarity.
    attainable : bool
        Whether it meets the aim on the images it was chosen on; else it comes nearest.
    as_chosen : IdentificationRow or PairRow
        On the images it was chosen on: optimistic.
    held_out : IdentificationRow or PairRow
        Each part of the images at the threshold that is best on the others.
    parts : int
        How many parts the images were divided into.
    surely : bool
        Whether the end of the interval had to meet the aim, and not the share alone.
    """

    aim: Aim
    similarity: float
    attainable: bool
    as_chosen: LevelRow
    held_out: LevelRow
    parts: int
    surely: bool

    def lines(self) -> list[str]:
        """Return what was chosen, and what to expect of it, as sentences."""
        share = float(getattr(self.held_out, self.aim.measure))
        low, high = self.held_out.intervals[self.aim.measure]
        interval = "" if math.isnan(low) else f", 95 % from {low:.1%} to {high:.1%}"
        shown = "not defined" if math.isnan(share) else f"{share:.1%}{interval}"
        measured = f"On held-out images ({counted(self.parts, 'part')}): {_WORDS[self.aim.measure]}"
        lines = [self._threshold(), f"{measured} {shown}; {_gained(self.held_out)}."]
        if self.attainable and share > self.aim.limit:
            # What is best on some images is a little too good to be true of others.
            step = "annotate more images" if self.surely else "choose more surely"
            lines.append(f"That misses the aim ({self.aim}): {step}.")
        return lines

    def _threshold(self) -> str:
        if math.isinf(self.similarity):
            return "No threshold: nothing that was judged has a similarity."
        threshold = f"Threshold of similarity: {self.similarity!r} or more"
        if self.attainable:
            return f"{threshold}."
        return f"{threshold}; no threshold meets the aim, and this one comes nearest."

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined, and for a threshold that takes none."""
        return {
            "aim": self.aim.text,
            "similarity": None if math.isinf(self.similarity) else defined(self.similarity),
            "attainable": self.attainable,
            "as_chosen": self.as_chosen.to_dict(),
            "held_out": self.held_out.to_dict(),
            "parts": self.parts,
            "surely": self.surely,
        }


def _gained(row: LevelRow) -> str:
    if isinstance(row, IdentificationRow):
        return f"right names {row.right} of {counted(row.enrolled, 'face')} of enrolled persons"
    same = row.matches + row.false_non_matches
    return f"matches {row.matches} of {counted(same, 'pair')} of one person"


def choose_similarity(
    found: Identification | PairMeasure,
    aim: str,
    *,
    parts: int | None = None,
    surely: bool = False,
    seed: int = 0,
) -> SimilarityChoice:
    """Choose the similarity that gains most under an aim; `dotledger.choose_similarity` tells all.

    Raises
    ------
    ArgumentError
        If the aim is not one for what was measured.
    ScopeError
        If there are fewer images, or left pictures of pairs, than parts.
    """
    names = isinstance(found, Identification)
    read = read_similarity_aim(aim, NAME_AIMS if names else PAIR_AIMS)
    side = _Names(found) if isinstance(found, Identification) else _Pairs(found)
    splits = crossed(np.arange(side.units), parts, seed)
    chosen, attainable = _picked(side.levels(np.ones(side.units, dtype=bool)), read, surely)
    least = np.full(side.units, np.inf)
    for part in splits.judged:
        mine = splits.part == part
        least[mine] = _picked(side.levels(~mine), read, surely)[0]
    return SimilarityChoice(
        aim=read,
        similarity=chosen,
        attainable=attainable,
        as_chosen=found.at(chosen),
        held_out=replace(side.taken(least), similarity=math.nan),
        parts=len(splits.judged),
        surely=surely,
    )


class _Names:
    """Names by image: an image is chosen on, or judged, as a whole."""

    def __init__(self, found: Identification) -> None:
        self._found, self.units = found, found.cases.images

    def levels(self, kept: Flags) -> Sequence[LevelRow]:
        """Return the rows of every similarity, on some images only."""
        return identification_at_all(self._found.kind, self._found.cases.on(kept)).rows[1:]

    def taken(self, least: Floats) -> LevelRow:
        """Return what comes of each image's own threshold."""
        cases = self._found.cases
        kept = cases.similarity >= least[cases.image]
        columns = {n: getattr(cases, n)[kept] for n in ("image", "sort", "similarity")}
        return identification_at_all(self._found.kind, replace(cases, **columns)).as_given


class _Pairs:
    """Pairs by their left picture: what shares one is chosen on, or judged, together."""

    def __init__(self, found: PairMeasure) -> None:
        self._cases = found.cases
        pictures, self._unit = np.unique(found.cases.left, return_inverse=True)
        self.units = len(pictures)

    def levels(self, kept: Flags) -> Sequence[LevelRow]:
        """Return the rows of every similarity, on some pairs only."""
        return pair_measure_of(self._cases.on(kept[self._unit])).rows

    def taken(self, least: Floats) -> LevelRow:
        """Return what comes of each pair's own threshold: it is reached, or it is not."""
        similarity = self._cases.similarity
        reached = np.where(similarity >= least[self._unit], 1.0, 0.0)
        own = np.where(np.isnan(similarity), np.nan, reached)
        return pair_measure_of(replace(self._cases, similarity=own)).at(0.5)


def _picked(rows: Sequence[LevelRow], aim: Aim, surely: bool) -> tuple[float, bool]:
    """Return the threshold that gains most among those that meet the aim, or the nearest."""
    value: Callable[[LevelRow], float] = (
        (lambda row: row.intervals[aim.measure][1])
        if surely
        else (lambda row: float(getattr(row, aim.measure)))
    )
    meeting = [row for row in rows if value(row) <= aim.limit]
    if meeting:
        return max(meeting, key=_gain).similarity, True
    known = [row for row in rows if not math.isnan(value(row))]
    return (min(known, key=value).similarity if known else math.inf), False


def _gain(row: LevelRow) -> tuple[int, float]:
    gained = row.right if isinstance(row, IdentificationRow) else row.matches
    return gained, row.similarity
