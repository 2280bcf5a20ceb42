"""Conditions on what was found in an image."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from dotledger.core.copies.image_fingerprints import LEAST, Prints
from dotledger.core.decisions.linear_patterns import linear_pattern
from dotledger.core.kinds import KINDS, OUTCOMES, VERDICTS
from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError

__all__ = ["PATTERNS", "Condition", "Rule", "Rules"]


PATTERNS = {
    "telephone": r"(?:^|[^\w.])(\+?\(?\d(?:[\s()/.-]{0,2}\d){6,14})(?:$|[^\w.])",
    "e-mail": r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+",
    "web address": r"(?:https?://|www\.)\S+|\b[\w-]+(?:\.[\w-]+)*\.(?:com|net|org|info|io)\b",
}
"""Ready patterns for lines of text: loose on purpose, since a person looks at what is held."""


@dataclass(frozen=True, kw_only=True)
class Condition:
    """A condition on one image: so many findings of a sort, or others joined.

    Attributes
    ----------
    kind : str
        Of the findings that count.
    labels, below : tuple of str
        Their labels, or broader labels that they stand below; none for any.
    confidence : number, word, or chosen thresholds
        At least this; None for any.
    at_least, at_most : int or None
        How many; at least one if neither is given.
    least_pixels : float
        The shorter side of the box.
    least_share, most_share : float
        Of the image's area.
    attribute : str
        A finding has it, with a value as `values` say.
    values : tuple
        Any of them; none for any value but no. Of a flag ``"yes"`` and ``"no"`` are values, too; a
        value of a sort that the attribute never has is refused.
    pattern : str
        A regular expression that the label of a line of text must hold; letter case aside.
    persons, other_than : tuple of str
        A face is said to be one of these; or to be none of them, which one without a name is, too.
        Letter case apart.
    least_similarity : float
        A name that is less similar counts as none, and so does one without a similarity where any
        is demanded.
    outcomes : tuple of str
        The image's outcome is one of these, for any kind, or for `kind` if it is given.
    copy_of : Prints or None
        The image is a near-copy of one of these.
    likeness : float
        Share of equal bits from which on it is one; 0 to 1.
    every, any_of : tuple of Condition
        All, or one of them, must hold.
    none_of : tuple of Condition
        None of them may hold.
    """

    kind: str = ""
    labels: tuple[str, ...] = ()
    below: tuple[str, ...] = ()
    confidence: Any = None
    at_least: int | None = None
    at_most: int | None = None
    least_pixels: float = 0.0
    least_share: float = 0.0
    most_share: float = math.inf
    attribute: str = ""
    values: tuple[Any, ...] = ()
    pattern: str = ""
    persons: tuple[str, ...] = ()
    other_than: tuple[str, ...] = ()
    least_similarity: float = 0.0
    outcomes: tuple[str, ...] = ()
    copy_of: Prints | None = None
    likeness: float = LEAST
    every: tuple[Condition, ...] = ()
    any_of: tuple[Condition, ...] = ()
    none_of: tuple[Condition, ...] = ()

    def __post_init__(self) -> None:
        """Raise ArgumentError for what can never be meant."""
        joined = bool(self.every or self.any_of or self.none_of)
        if self.kind and self.kind not in KINDS:
            raise _unknown("kind", self.kind, KINDS)
        for outcome in self.outcomes:
            if outcome not in OUTCOMES:
                raise _unknown("outcome", outcome, OUTCOMES)
        alone = bool(self.kind or self.outcomes) + (self.copy_of is not None)
        if joined + alone != 1:
            raise ArgumentError(
                "a condition names a kind or outcomes, or known images, or joins others",
                place="rule",
                got="several of them" if joined + alone else "none of them",
            )
        if not 0 <= self.likeness <= 1:
            raise ArgumentError(
                "out of range", place="rule: likeness", got=self.likeness, allowed=["0 to 1"]
            )
        if self.at_most is not None and self.at_most < (self.at_least or 0):
            raise ArgumentError(
                "at_least and at_most contradict each other",
                place="rule",
                got=f"{self.at_least} to {self.at_most}",
            )
        if self.pattern:
            linear_pattern(self.pattern, place="rule: pattern")

    @property
    def joined(self) -> tuple[Condition, ...]:
        """The conditions that it joins."""
        return (*self.every, *self.any_of, *self.none_of)

    def leaves(self) -> list[Condition]:
        """Return the conditions on findings or outcomes that it is made of, itself if it is one."""
        return [leaf for one in self.joined for leaf in one.leaves()] if self.joined else [self]

    @property
    def least(self) -> int:
        """How many findings it needs."""
        if self.at_least is None:
            return 0 if self.at_most is not None else 1
        return self.at_least


def _unknown(what: str, got: str, known: Any) -> ArgumentError:
    near = nearest(got, known)
    hint = f"; did you mean {near[0]!r}?" if near else ""
    return ArgumentError(f"unknown {what}{hint}", place="rule", got=got, allowed=list(known))


@dataclass(frozen=True, kw_only=True)
class Rule:
    """One rule.

    Attributes
    ----------
    name : str
        What it is called.
    verdict : str
        One of `VERDICTS`, where the condition holds.
    when : Condition
        On one image.
    """

    name: str
    verdict: str
    when: Condition

    def __post_init__(self) -> None:
        """Raise ArgumentError for a verdict that there is not."""
        if self.verdict not in VERDICTS:
            raise _unknown("verdict", self.verdict, VERDICTS)


@dataclass(frozen=True, kw_only=True)
class Rules:
    """Rules for one audience.

    Attributes
    ----------
    rules : tuple of Rule
        The strictest verdict of all that apply wins; every reason is kept.
    otherwise : str
        The verdict where no rule applies.
    unmentioned : str
        The verdict for unsafe categories that no rule mentions; empty: they must be mentioned.
    unmentioned_from : number, word or None
        From which confidence on; None for any.
    audience : str
        Whom they are for; shown next to the counts.
    words : mapping of str to float
        Words of confidence next to those of the findings.
    """

    rules: tuple[Rule, ...]
    otherwise: str = "pass"
    unmentioned: str = ""
    unmentioned_from: float | str | None = None
    audience: str = ""
    words: Mapping[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Raise ArgumentError for a verdict that there is not, or two rules of one name."""
        for verdict in (self.otherwise, *([self.unmentioned] if self.unmentioned else [])):
            if verdict not in VERDICTS:
                raise _unknown("verdict", verdict, VERDICTS)
        counts = Counter(rule.name for rule in self.rules)
        repeated = sorted(name for name, count in counts.items() if count > 1)
        if repeated:
            raise ArgumentError("two rules of one name", place="rules", got=repeated[0])

    def leaves(self) -> list[Condition]:
        """Return every condition on findings or outcomes."""
        return [leaf for rule in self.rules for leaf in rule.when.leaves()]

    def kinds(self) -> list[str]:
        """Return the kinds that rules look at: an image must have an answer for each."""
        leaves = [one for one in self.leaves() if one.kind and not one.outcomes]
        return list(dict.fromkeys(one.kind for one in leaves))

    @property
    def looks_at_copies(self) -> bool:
        """Whether a rule asks for near-copies of known images, so that images are needed."""
        return any(one.copy_of is not None for one in self.leaves())

    def contradictions(self) -> list[tuple[str, str]]:
        """Return pairs of rules that ask the same and decide otherwise: the stricter one counts."""
        return [
            (one.name, other.name)
            for place, one in enumerate(self.rules)
            for other in self.rules[place + 1 :]
            if one.when == other.when and one.verdict != other.verdict
        ]

    def mentioned(self) -> tuple[set[str], bool]:
        """Return unsafe categories that rules mention, and whether one takes any category."""
        unsafe = [one for one in self.leaves() if one.kind == "unsafe" and not one.outcomes]
        every = any(not one.labels and not one.below for one in unsafe)
        return {label for one in unsafe for label in (*one.labels, *one.below)}, every
