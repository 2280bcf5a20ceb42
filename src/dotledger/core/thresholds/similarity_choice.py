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
    NameCases,
    identification_at_all,
)
from dotledger.core.questions.pair_verification import (
    PairCases,
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
    "choose_for_names",
    "choose_for_pairs",
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
        Names or pairs at least so similar are taken; infinite where none may be.
    attainable : bool
        Whether it meets the aim on the images it was chosen on; else it comes nearest.
    as_chosen : IdentificationRow or PairRow
        On the images it was chosen on: optimistic.
    held_out : IdentificationRow or PairRow
        Each part of the images at the threshold that is best on the others.
    parts : int
        So many.
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
        kept = "-" if math.isnan(share) else f"{share:.1%}{interval}"
        taken = "none is taken" if math.isinf(self.similarity) else f"{self.similarity!r} or more"
        first = f"Threshold of similarity: {taken}"
        if not self.attainable:
            first += "; no threshold meets the aim, and this one comes nearest"
        measured = f"On held-out images ({counted(self.parts, 'part')}): {_WORDS[self.aim.measure]}"
        lines = [f"{first}.", f"{measured} {kept}; {_gained(self.held_out)}."]
        if self.attainable and share > self.aim.limit:
            # What is best on some images is a little too good to be true of others.
            lines.append(f"That misses the aim ({self.aim}): choose more surely.")
        return lines

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


def choose_for_names(
    found: Identification,
    aim: str,
    *,
    parts: int | None = None,
    surely: bool = False,
    seed: int = 0,
) -> SimilarityChoice:
    """Choose the similarity at which most faces get their right name under an aim.

    Parameters
    ----------
    aim : str
        One of `NAME_AIMS`, with another number.
    parts : int, optional
        Of the images; by default as `choose_thresholds` takes them.
    surely : bool, default False
        Let the upper end of the share's 95 % interval meet the aim.
    seed : int, default 0
        Decides which images form a part.

    Raises
    ------
    ArgumentError
        If the aim is not one of these.
    ScopeError
        If there are fewer images than parts.
    """
    read = read_similarity_aim(aim, NAME_AIMS)
    cases = found.cases
    splits = crossed(np.arange(cases.images), parts, seed)
    chosen, attainable = _picked(found.rows[1:], read, surely)
    least = np.full(cases.images, np.inf)
    for part in splits.judged:
        others = identification_at_all(found.kind, cases.on(splits.part != part))
        least[splits.part == part] = _picked(others.rows[1:], read, surely)[0]
    kept = cases.similarity >= least[cases.image]
    held = identification_at_all(found.kind, _names_kept(cases, kept)).as_given
    return SimilarityChoice(
        aim=read,
        similarity=chosen,
        attainable=attainable,
        as_chosen=found.at(chosen),
        held_out=replace(held, similarity=math.nan),
        parts=len(splits.judged),
        surely=surely,
    )


def _names_kept(cases: NameCases, kept: Flags) -> NameCases:
    return replace(
        cases, image=cases.image[kept], sort=cases.sort[kept], similarity=cases.similarity[kept]
    )


def choose_for_pairs(
    found: PairMeasure,
    aim: str,
    *,
    parts: int | None = None,
    surely: bool = False,
    seed: int = 0,
) -> SimilarityChoice:
    """Choose the similarity at which most pairs of one person match under an aim.

    Parameters
    ----------
    aim : str
        One of `PAIR_AIMS`, with another number.
    parts : int, optional
        Of the pairs, told apart by their left picture; by default as `choose_thresholds` does.
    surely : bool, default False
        Let the upper end of the rate's 95 % interval meet the aim.
    seed : int, default 0
        Decides which images form a part.

    Raises
    ------
    ArgumentError
        If the aim is not one of these.
    ScopeError
        If there are fewer left pictures than parts.
    """
    read = read_similarity_aim(aim, PAIR_AIMS)
    cases = found.cases
    pictures, place = np.unique(cases.left, return_inverse=True)
    splits = crossed(np.arange(len(pictures)), parts, seed)
    part_of = splits.part[place]
    chosen, attainable = _picked(found.rows, read, surely)
    least = np.full(len(cases.left), np.inf)
    for part in splits.judged:
        others = pair_measure_of(cases.on(part_of != part))
        least[part_of == part] = _picked(others.rows, read, surely)[0]
    return SimilarityChoice(
        aim=read,
        similarity=chosen,
        attainable=attainable,
        as_chosen=found.at(chosen),
        held_out=replace(pair_measure_of(_accepted(cases, least)).at(0.5), similarity=math.nan),
        parts=len(splits.judged),
        surely=surely,
    )


def _accepted(cases: PairCases, least: Floats) -> PairCases:
    """Return pairs whose similarity is 1 where they reach their own threshold, else 0."""
    taken = np.where(cases.similarity >= least, 1.0, 0.0)
    return replace(cases, similarity=np.where(np.isnan(cases.similarity), np.nan, taken))


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
    # Nothing taken is nothing false: where no interval says more, it is the safe end.
    return (min(known, key=value).similarity if known else math.inf), False


def _gain(row: LevelRow) -> tuple[int, float]:
    gained = row.right if isinstance(row, IdentificationRow) else row.matches
    return gained, row.similarity
