"""Files of rules: what is passed, held or blocked."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec

from dotledger.core.copies.image_fingerprints import LEAST, Prints
from dotledger.core.decisions.linear_patterns import linear_pattern
from dotledger.core.decisions.rule_conditions import PATTERNS, Condition, Rule, Rules
from dotledger.core.kinds import KindName, OutcomeName, VerdictName
from dotledger.errors import ArgumentError, DescriptionError, TableError
from dotledger.reading.strict_toml import TomlPart, parse_strictly
from dotledger.safe_files import read_regular

__all__ = ["RulesFile", "listed", "pattern_of", "read_rules"]

_Count = Annotated[int, msgspec.Meta(ge=0)]
_Share = Annotated[float, msgspec.Meta(ge=0, le=1)]
_Scalar = str | int | float | bool


class _When(TomlPart, frozen=True, kw_only=True):
    """A condition as it is written."""

    kind: KindName | None = None
    label: str | tuple[str, ...] = ()
    below: str | tuple[str, ...] = ()
    confidence: float | str | None = None
    at_least: _Count | None = None
    at_most: _Count | None = None
    least_pixels: Annotated[float, msgspec.Meta(ge=0)] = 0.0
    least_share: _Share = 0.0
    most_share: _Share | None = None
    attribute: str = ""
    value: _Scalar | tuple[_Scalar, ...] = ()
    text: str | tuple[str, ...] = ()
    person: str | tuple[str, ...] = ()
    person_other_than: str | tuple[str, ...] = ()
    least_similarity: Annotated[float, msgspec.Meta(ge=0)] = 0.0
    outcome: OutcomeName | tuple[OutcomeName, ...] = ()
    copy_of: str = ""
    likeness: _Share | None = None
    all: tuple[_When, ...] = ()
    any: tuple[_When, ...] = ()
    none: tuple[_When, ...] = ()

    def __post_init__(self) -> None:
        """Raise ValueError for a confidence out of range."""
        if isinstance(self.confidence, float | int) and not 0 <= self.confidence <= 1:
            raise ValueError(f"a confidence is from 0 to 1, not {self.confidence}")

    def condition(self, home: Path) -> Condition:
        """Return it as the core takes it; thresholds files are looked for in `home`."""
        return Condition(
            kind=self.kind or "",
            labels=_several(self.label),
            below=_several(self.below),
            confidence=_confidence(self.confidence, home),
            at_least=self.at_least,
            at_most=self.at_most,
            least_pixels=self.least_pixels,
            least_share=self.least_share,
            most_share=float("inf") if self.most_share is None else self.most_share,
            attribute=self.attribute,
            values=_several(self.value),
            pattern=pattern_of(_several(self.text), home),
            persons=listed(self.person, home),
            other_than=listed(self.person_other_than, home),
            least_similarity=self.least_similarity,
            outcomes=_several(self.outcome),
            copy_of=_known_images(self.copy_of, home),
            likeness=LEAST if self.likeness is None else self.likeness,
            every=tuple(one.condition(home) for one in self.all),
            any_of=tuple(one.condition(home) for one in self.any),
            none_of=tuple(one.condition(home) for one in self.none),
        )


class _Rule(_When, frozen=True, kw_only=True):
    """One rule: a condition, its verdict, its name."""

    verdict: VerdictName
    name: str = ""


class RulesFile(TomlPart, frozen=True, kw_only=True):
    """What a rules file holds.

    Attributes
    ----------
    rules_file : int
        The version of the format.
    audience : str
        Whom the rules are for.
    otherwise, unmentioned, unmentioned_from
        See `Rules`.
    rule : tuple of section
        Each a condition with its verdict and name.
    """

    rules_file: Literal[1]
    audience: str = ""
    otherwise: VerdictName = "pass"
    unmentioned: VerdictName | None = None
    unmentioned_from: float | str | None = None
    rule: tuple[_Rule, ...]


def _several(value: Any) -> tuple[Any, ...]:
    return tuple(value) if isinstance(value, tuple | list) else (value,)


def _confidence(value: float | str | None, home: Path) -> Any:
    if isinstance(value, str) and value.lower().endswith(".toml"):
        from dotledger.formats.thresholds_files import read_thresholds

        return read_thresholds(home / value)
    return value


def read_rules(path: str | os.PathLike[str]) -> Rules:
    """Read a rules file.

    Parameters
    ----------
    path : path-like
        TOML: ``rules_file = 1`` and a ``[[rule]]`` for each rule, with its ``verdict`` (``pass``,
        ``hold`` or ``block``) and a condition on findings or outcomes.

    Returns
    -------
    Rules
        Checked, but for labels and words that only findings know.

    Raises
    ------
    DescriptionError
        Naming line and key, if the file is not of this kind.
    TableError
        If it cannot be read.

    Examples
    --------
    >>> import dotledger
    >>> from pathlib import Path
    >>> _ = Path("rules.toml").write_text('''
    ... rules_file = 1
    ... unmentioned = "hold"
    ... [[rule]]
    ... verdict = "block"
    ... kind = "unsafe"
    ... label = "broken glass"
    ... confidence = 0.5
    ... ''')
    >>> dotledger.decide("found.csv", "rules.toml").counts["block"]
    1
    """
    file = Path(path)
    try:
        text = read_regular(file, 4 << 20).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        raise TableError(f"the rules file cannot be read ({reason})", place=str(file)) from error
    kept = parse_strictly(text, RulesFile, name=str(file))
    try:
        return _rules(kept, file.parent)
    except ArgumentError as error:
        raise DescriptionError(
            error.message, place=f"{file}, {error.place}", **_facts(error)
        ) from error


def _facts(error: ArgumentError) -> Mapping[str, Any]:
    return {"got": error.got, "allowed": error.allowed}


def _rules(kept: RulesFile, home: Path) -> Rules:
    found = []
    for number, one in enumerate(kept.rule, 1):
        try:
            when = one.condition(home)
        except ArgumentError as error:
            error.place = f"rule {number}"
            raise
        found.append(Rule(name=one.name or _title(one, number), verdict=one.verdict, when=when))
    return Rules(
        rules=tuple(found),
        otherwise=kept.otherwise,
        unmentioned=kept.unmentioned or "",
        unmentioned_from=_confidence(kept.unmentioned_from, home),
        audience=kept.audience,
    )


def listed(value: str | tuple[str, ...], home: Path) -> tuple[str, ...]:
    """Return names: those given, and those of each ``.txt`` file among them, one a line.

    Returns
    -------
    tuple of str
        Empty lines and lines that begin with ``#`` are none.

    Raises
    ------
    ArgumentError
        If a file cannot be read.
    """
    found: list[str] = []
    for one in _several(value):
        if not one.lower().endswith(".txt"):
            found.append(one)
            continue
        try:
            text = read_regular(home / one, 64 << 20).decode("utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            reason = getattr(error, "strerror", None) or "not text in UTF-8"
            raise ArgumentError(
                f"a list cannot be read ({reason})", place="list", got=str(home / one)
            ) from error
        lines = (line.strip() for line in text.splitlines())
        found += [line for line in lines if line and not line.startswith("#")]
    return tuple(found)


def pattern_of(given: Sequence[str], home: Path) -> str:
    """Return one regular expression for lines of text.

    Parameters
    ----------
    given : sequence of str
        Each a ready pattern's name, a ``.txt`` file of terms, or a regular expression.

    Returns
    -------
    str
        Of any of them; terms are whole words. Empty for none.

    Raises
    ------
    ArgumentError
        If a file cannot be read or is empty, or an expression is none.
    """
    parts = []
    for one in given:
        if one.lower().endswith(".txt"):
            terms = listed(one, home)
            if not terms:
                raise ArgumentError("a list of terms is empty", place="list", got=str(home / one))
            words = "|".join(re.escape(term) for term in terms)
            parts.append(rf"(?:^|\W)(?:{words})(?:$|\W)")
        else:
            parts.append(PATTERNS.get(one, one))
    for part in parts:
        linear_pattern(part, place="text", allowed=tuple(PATTERNS))
    return "|".join(f"(?:{part})" for part in parts)


def _known_images(value: str, home: Path) -> Prints | None:
    """Return the prints of known images: out of their file, or made of the images themselves."""
    if not value:
        return None
    from dotledger.formats.fingerprint_files import known_prints

    return known_prints(home / value)


def _title(one: _Rule, number: int) -> str:
    names = [*_several(one.label), *_several(one.below)] if one.label or one.below else []
    about = ", ".join(names) or one.kind or ", ".join(_several(one.outcome))
    about = about or (f"copies of {one.copy_of}" if one.copy_of else "conditions")
    return f"{about} ({number})"
