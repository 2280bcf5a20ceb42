"""Matching the names of images on two sides, by rules that can be seen; nothing is guessed.

The rules are tried in order on the names still unmatched. A rule matches a name only if exactly
one name on each side has the same key; where several do, all of them are refused.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from urllib.parse import unquote

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_inputs import as_findings
from dotledger.errors import ArgumentError

__all__ = ["RULES", "NamesMatched", "match_images", "match_names"]


def _spelling(name: str) -> str:
    plain = unicodedata.normalize("NFC", unquote(name)).replace("\\", "/")
    return plain.removeprefix("./")


def _case(name: str) -> str:
    return _spelling(name).casefold()


def _folders(name: str) -> str:
    return _case(name).rpartition("/")[2]


def _ending(name: str) -> str:
    file = _folders(name)
    return file.rpartition(".")[0] or file


RULES: Mapping[str, tuple[Callable[[str], str], str]] = {
    "exact": (str, "exactly"),
    "spelling": (_spelling, "after percent-encoding, slashes and Unicode forms are made alike"),
    "case": (_case, "without regard to letter case"),
    "folders": (_folders, "without their folders"),
    "ending": (_ending, "without their folders and file endings"),
}
"""Each rule with its key, and what it does in words; every rule includes those before it."""


@dataclass(frozen=True, kw_only=True)
class NamesMatched:
    """What happened to image names.

    Attributes
    ----------
    names : mapping of str to str
        From a name of findings to the annotations' name of the same image.
    by_rule : mapping of str to int
        How many names each rule matched.
    examples : mapping of str to (str, str)
        For each rule one pair of unequal names.
    ambiguous : tuple of str
        Names of findings that could be several images; refused.
    """

    names: Mapping[str, str]
    by_rule: Mapping[str, int]
    examples: Mapping[str, tuple[str, str]]
    ambiguous: Sequence[str]

    def lines(self) -> list[str]:
        """Return what was matched other than exactly, and what was refused, in words."""
        found = [
            f"Image names matched {RULES[rule][1]}: {count} "
            f"({self.examples[rule][0]!r} is {self.examples[rule][1]!r})."
            for rule, count in self.by_rule.items()
            if rule in self.examples
        ]
        if self.ambiguous:
            some = ", ".join(repr(name) for name in self.ambiguous[:5])
            found.append(
                f"Image names refused, since each could be several images: "
                f"{len(self.ambiguous)} ({some})."
            )
        return found


def match_names(
    answered: Iterable[str], covered: Iterable[str], rules: Iterable[str] = tuple(RULES)
) -> NamesMatched:
    """Match names of findings' images with names of annotated images.

    Parameters
    ----------
    rules : iterable of str
        Some of `RULES`; always tried in their order there.

    Raises
    ------
    ArgumentError
        If a rule is not known.
    """
    wanted = set(rules)
    for rule in sorted(wanted - RULES.keys()):
        raise ArgumentError("unknown rule for image names", place="rules", got=rule, allowed=RULES)
    left, right = sorted(set(answered)), sorted(set(covered))
    names: dict[str, str] = {}
    by_rule: dict[str, int] = {}
    examples: dict[str, tuple[str, str]] = {}
    ambiguous: list[str] = []
    for rule in (name for name in RULES if name in wanted):
        pairs, refused = _matched(left, right, rule)
        names |= pairs
        by_rule[rule] = len(pairs)
        unequal = next(((a, b) for a, b in pairs.items() if a != b), None)
        if unequal:
            examples[rule] = unequal
        ambiguous += refused
        gone = {*pairs, *refused}
        taken = set(pairs.values())
        left = [name for name in left if name not in gone]
        right = [name for name in right if name not in taken]
    return NamesMatched(
        names=names,
        by_rule={rule: count for rule, count in by_rule.items() if count},
        examples=examples,
        ambiguous=tuple(sorted(ambiguous)),
    )


def _matched(
    left: Sequence[str], right: Sequence[str], rule: str
) -> tuple[dict[str, str], list[str]]:
    """Return the pairs of one rule, and the names of the left side that it refuses."""
    key = RULES[rule][0]
    mine, theirs = _grouped(left, key), _grouped(right, key)
    pairs: dict[str, str] = {}
    refused: list[str] = []
    for shared in mine.keys() & theirs.keys():
        possible = [(a, b) for a in mine[shared] for b in theirs[shared] if _may_be_one(a, b, rule)]
        if len(possible) == 1:
            pairs[possible[0][0]] = possible[0][1]
        else:
            refused += sorted({a for a, _ in possible})
    return dict(sorted(pairs.items())), refused


def _grouped(names: Sequence[str], key: Callable[[str], str]) -> dict[str, list[str]]:
    groups: dict[str, list[str]] = {}
    for name in names:
        groups.setdefault(key(name), []).append(name)
    return groups


def _may_be_one(a: str, b: str, rule: str) -> bool:
    """Tell whether folders may be left out: one name must end as the other reads in full."""
    if rule not in ("folders", "ending"):
        return True
    first, second = _parts(a, rule), _parts(b, rule)
    shorter = min(len(first), len(second))
    return first[-shorter:] == second[-shorter:]


def _parts(name: str, rule: str) -> list[str]:
    parts = _case(name).split("/")
    return [*parts[:-1], _ending(name)] if rule == "ending" else parts


def match_images(
    findings: Findings, covered: Iterable[str], rules: Iterable[str] = tuple(RULES)
) -> tuple[Findings, NamesMatched]:
    """Rename the images of findings as the annotations name them.

    Parameters
    ----------
    findings : Findings
        Images that no rule matches keep their names.
    covered : iterable of str
        The annotated images' names.
    rules : iterable of str
        Names of `RULES`, tried in this order.

    Returns
    -------
    Findings
        With the images named as the annotations name them.
    NamesMatched
        Which rule matched how many, and what could be several images.

    Raises
    ------
    ArgumentError
        If a rule is not known.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.read_findings("found.csv")
    >>> renamed, matched = dotledger.match_images(found, ["walk/images/crowd-02.jpg"])
    >>> dict(matched.by_rule)
    {'folders': 1}
    """
    findings = as_findings(findings, "match_images(findings, names)")
    matched = match_names(findings.image.used(), covered, rules)
    return replace(findings, image=_renamed(findings.image, matched)), matched


def annotations_matched(
    annotations: Annotations, there: Iterable[str], rules: Iterable[str] = tuple(RULES)
) -> Annotations:
    """Return annotations whose images are named like those that are there; see `match_images`.

    Raises
    ------
    ArgumentError
        If a rule is not known.
    """
    matched = match_names(annotations.image.used(), there, rules)
    images = {matched.names.get(name, name): facts for name, facts in annotations.images.items()}
    return replace(annotations, image=_renamed(annotations.image, matched), images=images)


def _renamed(column: Coded, matched: NamesMatched) -> Coded:
    coded = Coded.of([matched.names.get(name, name) for name in column.names])
    return Coded(coded.codes[column.codes], coded.names)
