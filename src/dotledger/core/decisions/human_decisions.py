"""What persons decided about images and findings: which word counts, who agrees, what is true."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.reviewed_annotations import Reviewed, annotations_from_review
from dotledger.errors import ArgumentError

__all__ = [
    "FINDING_WORDS",
    "IMAGE_WORDS",
    "UNDONE",
    "Review",
    "ReviewPair",
    "newest",
    "review_pairs",
    "reviewed_annotations",
    "reviewed_verdicts",
]

IMAGE_WORDS = ("pass", "block", "skip")
"""What may be decided about a whole image; ``skip`` leaves it to somebody else."""
FINDING_WORDS = ("confirmed", "box wrong", "label wrong")
"""What may be decided about one finding; ``label wrong`` may name the right label."""
UNDONE = "undone"
"""Takes back what was decided before; nothing is erased."""


@dataclass(frozen=True, kw_only=True)
class Review:
    """One decision of one person.

    Attributes
    ----------
    image : str
        About which image.
    row : int
        Which of its findings, from 1, in the order of the answer; 0 for the image as a whole.
    who, made : str
        The person, and the time in UTC.
    word : str
        One of `IMAGE_WORDS` or `FINDING_WORDS`, or ``undone``.
    label : str
        With ``label wrong``: the right one, or empty if nothing of the sort is there.
    """

    image: str
    row: int
    who: str
    made: str
    word: str
    label: str = ""

    def __post_init__(self) -> None:
        """Raise ArgumentError for a word that cannot be said there."""
        allowed = (*(FINDING_WORDS if self.row else IMAGE_WORDS), UNDONE)
        if self.word not in allowed:
            raise ArgumentError("unknown decision", place="word", got=self.word, allowed=allowed)
        if self.label and self.word != "label wrong":
            raise ArgumentError("goes with 'label wrong'", place="label", got=self.label)
        if not self.who.strip():
            raise ArgumentError("who decided it is missing", place="who", got=self.who)


def newest(reviews: Iterable[Review]) -> dict[tuple[str, int, str], Review]:
    """Return what counts of each person: a later decision supersedes an earlier one.

    Parameters
    ----------
    reviews : iterable of Review
        In the order they were made.
    """
    kept: dict[tuple[str, int, str], Review] = {}
    for one in reviews:
        kept.pop((one.image, one.row, one.who), None)
        if one.word != UNDONE:
            kept[one.image, one.row, one.who] = one
    return kept


def reviewed_verdicts(reviews: Iterable[Review]) -> dict[str, dict[str, str]]:
    """Return by image and person ``pass`` or ``block``; two persons are kept apart.

    Parameters
    ----------
    reviews : iterable of Review
        In the order they were made.

    Returns
    -------
    dict of str to dict of str to str
        Without images that nobody decided on, or only skipped.
    """
    found: dict[str, dict[str, str]] = {}
    for (image, row, who), one in newest(reviews).items():
        if row == 0 and one.word != "skip":
            found.setdefault(image, {})[who] = one.word
    return found


@dataclass(frozen=True, kw_only=True)
class ReviewPair:
    """How far two persons agree.

    Attributes
    ----------
    first, second : str
        The persons.
    images, agreed : int
        Images that both decided on, and those they decided alike.
    kappa : float or None
        Agreement beyond chance (Cohen, 1960): 1 is full, 0 is chance; None where chance alone
        would agree always, or no image is shared.
    differ : tuple of str
        Images decided otherwise, in order.
    """

    first: str
    second: str
    images: int
    agreed: int
    kappa: float | None
    differ: tuple[str, ...]


def review_pairs(verdicts: Mapping[str, Mapping[str, str]]) -> list[ReviewPair]:
    """Compare every two persons on the images that both decided on.

    Parameters
    ----------
    verdicts : mapping of str to mapping of str to str
        From `reviewed_verdicts`.

    Returns
    -------
    list of ReviewPair
        Pairs that share an image, by name.
    """
    people = sorted({who for mine in verdicts.values() for who in mine})
    found = []
    for first, second in combinations(people, 2):
        shared = {
            image: (mine[first], mine[second])
            for image, mine in sorted(verdicts.items())
            if first in mine and second in mine
        }
        if shared:
            found.append(_pair(first, second, shared))
    return found


def _pair(first: str, second: str, shared: Mapping[str, tuple[str, str]]) -> ReviewPair:
    number = len(shared)
    agreed = sum(one == other for one, other in shared.values())
    ones = sum(one == "block" for one, _ in shared.values()) / number
    others = sum(other == "block" for _, other in shared.values()) / number
    chance = ones * others + (1 - ones) * (1 - others)
    kappa = None if chance == 1 else (agreed / number - chance) / (1 - chance)
    differ = tuple(image for image, (one, other) in shared.items() if one != other)
    return ReviewPair(
        first=first, second=second, images=number, agreed=agreed, kappa=kappa, differ=differ
    )


_SAID = {"confirmed": "confirmed", "box wrong": "doubtful", "label wrong": "wrong"}


def reviewed_annotations(
    findings: Findings,
    reviews: Iterable[Review],
    *,
    who: str | None = None,
    tripped: Iterable[int] | None = None,
) -> Reviewed:
    """Make annotations of what persons decided, for `measure`.

    A finding that is confirmed is annotated as it is; one with a wrong label under the right
    one, or not at all; one with a wrong box counts neither way. What two persons see otherwise
    counts neither way. ``pass`` says of unsafe findings that nothing else was said of: not there;
    ``block``, of the single one that rules held the image for: there.

    Parameters
    ----------
    findings : Findings
        The ones that were reviewed, all of them, in the order of the answer.
    reviews : iterable of Review
        In the order they were made.
    tripped : iterable of int, optional
        Findings that rules hold images for; by default all.

    Returns
    -------
    Reviewed
        An image is covered for a kind if something was decided about each of its findings of that
        kind; `left_out` are the images that are covered for none.
    """
    kept = [one for one in newest(reviews).values() if who is None or one.who == who]
    every = range(len(findings)) if tripped is None else tripped
    words, labels = _row_words(findings, kept, set(every))
    corrected = [new or old for new, old in zip(labels, findings.label.values(), strict=True)]
    table = Findings.from_columns(
        image=findings.image,
        kind=findings.kind,
        label=Coded.of(corrected),
        confidence=findings.confidence,
        x0=findings.box[:, 0],
        y0=findings.box[:, 1],
        x1=findings.box[:, 2],
        y1=findings.box[:, 3],
        details=findings.details,
    )
    seen = {one.image for one in kept if one.word != "skip"}
    # That nothing was found of a kind is confirmed by whoever decided on the image.
    images = findings.image.values().tolist()
    for row in np.flatnonzero(findings.blank).tolist():
        words[row] = (
            "confirmed" if images[row] in seen and findings.kind.values()[row] == "unsafe" else ""
        )
    return _by_kind(table, words)


def _row_words(
    findings: Findings, kept: Sequence[Review], tripped: set[int]
) -> tuple[list[str], list[str]]:
    """Return for each finding what was said of it, and the label that is right instead."""
    by_row: dict[tuple[str, int], list[Review]] = {}
    for one in kept:
        by_row.setdefault((one.image, one.row), []).append(one)
    unsafe = findings.kind.among(["unsafe"])
    images = findings.image.values().tolist()
    number: dict[str, int] = {}
    alone: dict[str, int] = {}
    for row in sorted(tripped & set(np.flatnonzero(unsafe & ~findings.blank).tolist())):
        alone[images[row]] = alone.get(images[row], 0) + 1
    words, labels = [""] * len(images), [""] * len(images)
    for row in np.flatnonzero(~findings.blank).tolist():
        image = images[row]
        number[image] = number.get(image, 0) + 1
        spoken = {(one.word, one.label) for one in by_row.get((image, number[image]), ())}
        if len(spoken) == 1:
            word, label = spoken.pop()
            words[row] = "corrected" if label else _SAID[word]
            labels[row] = label
        elif spoken:
            words[row] = "doubtful"
        elif unsafe[row]:
            whole = {one.word for one in by_row.get((image, 0), ())} - {"skip"}
            words[row] = _of_whole(whole, alone.get(image) == 1 and row in tripped)
    return words, labels


def _of_whole(whole: set[str], alone: bool) -> str:
    """Return what a decision on the image says of an unsafe finding in it."""
    if whole == {"pass"}:
        return "wrong"
    if whole == {"block"}:
        return "confirmed" if alone else "doubtful"
    return "doubtful" if whole else ""


def _by_kind(table: Findings, words: Sequence[str]) -> Reviewed:
    """Join what is reviewed of each kind; an image may be covered for one and not for another."""
    rows: list[tuple[str, str, str, float, float, float, float, bool]] = []
    counts: dict[str, int] = {}
    covered: dict[str, set[str]] = {}
    for kind in table.kind.used():
        mine = table.kind.among([kind])
        part = annotations_from_review(
            table.take(mine), [words[r] for r in np.flatnonzero(mine).tolist()]
        )
        for word, count in part.counts.items():
            counts[word] = counts.get(word, 0) + count
        notes = part.annotations
        covered[kind] = set(notes.image.used())
        rows += [
            (image, kind, label, *box, bool(ignore))
            for image, label, box, ignore in zip(
                notes.image.values(), notes.label.values(), notes.box.tolist(), notes.ignore,
                strict=True,
            )
        ]  # fmt: skip
    every = set().union(*covered.values()) if covered else set()
    nan = float("nan")
    for kind, images in covered.items():
        rows += [(image, kind, "", nan, nan, nan, nan, True) for image in sorted(every - images)]
    image, of_kind, label, x0, y0, x1, y1, ignore = zip(*rows, strict=True) if rows else [()] * 8
    annotations = Annotations.from_columns(
        image=image, kind=of_kind, label=label, x0=x0, y0=y0, x1=x1, y1=y1, ignore=ignore
    )
    left = tuple(sorted(set(table.image.used()) - every))
    return Reviewed(annotations=annotations, counts=counts, left_out=left)
