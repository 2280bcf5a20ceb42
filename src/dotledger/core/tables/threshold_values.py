"""Thresholds as people give them: one for all, one for each kind or label, a number or a word."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arguments import check_threshold
from dotledger.core.kinds import KINDS
from dotledger.core.spelling import nearest
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.name_codes import Coded
from dotledger.errors import ArgumentError

__all__ = ["Chosen", "Cuttable", "Threshold", "Thresholds", "thresholds_of"]


class Chosen(Protocol):
    """Thresholds that were chosen: a `Choice`, or a file of them."""

    def thresholds_for(self, service: str) -> Mapping[str, float]:
        """Return the thresholds for a service; raises ArgumentError if they are another's."""


Threshold = float | str | Mapping[str, float | str] | Chosen | None
"""A number from 0 to 1, a word of the service's own scale, a mapping of these, chosen thresholds,
or None.

A mapping's keys are a kind, a label, or ``kind:label``; the most particular counts, and what no
key names is kept whatever its confidence. The name of a kind is never taken for a label, and a
label that several kinds have is written with its kind.
"""


class Cuttable(Protocol):
    """What thresholds need of a table of findings; the table itself stands a floor above."""

    @property
    def kind(self) -> Coded:
        """Kinds, length n."""

    @property
    def label(self) -> Coded:
        """Labels, length n."""

    @property
    def confidence(self) -> NDArray[np.float64]:
        """Confidences, shape (n,)."""

    @property
    def details(self) -> Sequence[Details | None] | None:
        """What only some findings have."""

    @property
    def blank(self) -> NDArray[np.bool_]:
        """Rows that stand for an image without findings, shape (n,)."""


@dataclass(frozen=True, kw_only=True)
class Thresholds:
    """Thresholds as numbers.

    Attributes
    ----------
    default : float or None
        For everything that no name covers.
    named : mapping of str to float
        By kind, label or ``kind:label``.
    """

    default: float | None = None
    named: Mapping[str, float] = field(default_factory=dict)

    def of(self, kind: str, label: str) -> float:
        """Return the threshold of one label; ``-inf`` if there is none."""
        own = f"{kind}:{label}"
        # "face" is the kind, also where a label of another kind is called so.
        for name in (own, kind) if label in KINDS else (own, label, kind):
            if name in self.named:
                return self.named[name]
        return -math.inf if self.default is None else self.default

    def least(self, kind: str, labels: tuple[str, ...]) -> NDArray[np.float64]:
        """Return the threshold of each label: ndarray of float64, shape (labels,)."""
        return np.array([self.of(kind, label) for label in labels], dtype=np.float64)

    def passes(self, findings: Cuttable, rows: NDArray[np.intp] | None = None) -> NDArray[np.bool_]:
        """Return which findings pass: ndarray of bool, shape (n,), or one for each of `rows`.

        A finding without a confidence passes every threshold.
        """
        chosen: NDArray[np.intp] | slice = slice(None) if rows is None else rows
        confidence = findings.confidence[chosen]
        if not self.named:
            return ~(confidence < (-math.inf if self.default is None else self.default))
        kinds, labels = findings.kind, findings.label
        table = np.array([[self.of(k, n) for n in labels.names] for k in kinds.names], dtype=float)
        if not table.size:
            return np.ones(len(confidence), dtype=np.bool_)
        return ~(confidence < table[kinds.codes[chosen], labels.codes[chosen]])

    def plain(self) -> float | dict[str, float] | None:
        """Return the thresholds as plain values, for JSON."""
        return dict(self.named) if self.named else self.default

    def __str__(self) -> str:
        if self.named:
            return "thresholds " + ", ".join(f"{n} {v:g}" for n, v in self.named.items())
        return "no threshold" if self.default is None else f"threshold {self.default:g}"


def thresholds_of(
    value: Threshold,
    findings: Cuttable,
    *,
    words: Mapping[str, float] | None = None,
    labels: Iterable[str] = (),
    floor: float | None = None,
    place: str = "threshold",
) -> Thresholds:
    """Check thresholds and turn words into numbers.

    A word is looked up in `words`, the service's scale if it is known, and among the findings'
    own confidences: on an ordered scale a word passes exactly where its representative number
    does.

    Parameters
    ----------
    value : number, word, mapping, Thresholds or None
        One for all, or by kind and label; None cuts nothing. Thresholds were checked before.
    findings : Findings
        Whose labels and words are known.
    labels : iterable of str, default ()
        Names that may be given next to those of the findings.
    floor : float, optional
        The lowest confidence that is known; a threshold below it is refused, but 0 cuts nothing.
    place : str, default 'threshold'
        Where it was given, for the message.

    Returns
    -------
    Thresholds
        In numbers from 0 to 1.

    Raises
    ------
    ArgumentError
        If a number is not from 0 to 1, if a word is not known, or if a name is neither a kind nor
        a label of the findings or among `labels`; if chosen thresholds are those of another
        service, or of other labels; if one lies below the floor.
    """
    known = [*findings.label.names, *labels]
    if isinstance(value, Thresholds):
        return value
    if isinstance(value, Mapping):
        for name in value:
            _check_name(name, known, place)
            _check_meaning(name, findings, place)
        found = _named(value, findings, words or {}, place)
    elif value is not None and hasattr(value, "thresholds_for"):
        service = getattr(getattr(findings, "origin", None), "service", "")
        chosen = value.thresholds_for(service)
        _check_some(chosen, known, place)
        found = _named(chosen, findings, words or {}, place)
    else:
        found = Thresholds(default=_number(value, findings, words or {}, place))
    if floor is not None:
        _check_floor(found, floor, place)
    return found


def _named(
    value: Mapping[str, float | str],
    findings: Cuttable,
    words: Mapping[str, float],
    place: str,
) -> Thresholds:
    numbers = {n: _number(one, findings, words, f"{place}: {n}") for n, one in value.items()}
    return Thresholds(named={name: n for name, n in numbers.items() if n is not None})


# Below the floor the service kept its findings to itself: whatever is counted there is too little.
def _check_floor(thresholds: Thresholds, floor: float, place: str) -> None:
    for name, value in (("", thresholds.default), *thresholds.named.items()):
        if value is not None and 0 < value < floor:
            raise ArgumentError(
                "the threshold lies below the service's floor, where nothing is known",
                place=f"{place}: {name}" if name else place,
                got=value,
                allowed=[f"{floor:g} to 1", "no threshold"],
                next_step="To know what lies below, send again with a lower floor.",
            )


def _check_some(chosen: Mapping[str, float], labels: Iterable[str], place: str) -> None:
    """Refuse chosen thresholds if none of their labels is there: they are for something else.

    A single label that is not there is no fault: it may not have been found this time.
    """
    names = [name.partition(":")[2] for name in chosen if ":" in name]
    known = [label for label in labels if label]
    if names and known and not set(names) & set(known):
        raise ArgumentError(
            "thresholds chosen for other labels",
            place=place,
            got=", ".join(names[:8]),
            allowed=known[:20],
        )


def _check_name(name: str, labels: Iterable[str], place: str) -> None:
    kind, colon, label = name.partition(":")
    names = list(dict.fromkeys(one for one in labels if one))
    known = [*KINDS, *names]
    if name in known or (colon and kind in KINDS and (label in names or not names)):
        return
    near = nearest(label if colon and kind in KINDS else name, names if colon else known)
    hint = f"; did you mean {near[0]!r}?" if near else ""
    raise ArgumentError(
        f"unknown kind or label {name!r} in threshold{hint}",
        place=place,
        allowed=known[:20],
    )


def _check_meaning(name: str, findings: Cuttable, place: str) -> None:
    """Refuse a bare label that findings of several kinds have: it could mean any of them."""
    if ":" in name or name in KINDS or name not in findings.label.names:
        return
    rows = np.flatnonzero(findings.label.codes == findings.label.names.index(name))
    kinds = sorted({findings.kind.names[code] for code in np.unique(findings.kind.codes[rows])})
    if len(kinds) > 1:
        raise ArgumentError(
            f"the label {name!r} is one of several kinds",
            place=place,
            got=name,
            allowed=[f"{kind}:{name}" for kind in kinds],
        )


def _number(
    value: float | str | None, findings: Cuttable, words: Mapping[str, float], place: str
) -> float | None:
    if isinstance(value, str):
        try:
            value = float(value)
        except ValueError:
            return _word(str(value), findings, words, place)
    return check_threshold(value, place=place)


def _word(word: str, findings: Cuttable, words: Mapping[str, float], place: str) -> float:
    scale = _words(findings) | {name.casefold(): number for name, number in words.items()}
    if word.casefold() not in scale:
        raise ArgumentError(
            "unknown confidence word",
            place=place,
            got=word,
            allowed=sorted(scale, key=lambda name: scale[name]) or ["a number from 0 to 1"],
        )
    return scale[word.casefold()]


def _words(findings: Cuttable) -> dict[str, float]:
    """Return the words that findings carry as their own confidence, with their numbers."""
    return {
        details.own_confidence.casefold(): float(confidence)
        for details, confidence in zip(findings.details or (), findings.confidence, strict=False)
        if details is not None and isinstance(details.own_confidence, str)
    }
