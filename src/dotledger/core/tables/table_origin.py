"""Where findings come from, and what was cut from them on the way."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from dotledger.core.kinds import KINDS

__all__ = ["Origin", "asked_with"]


QUESTIONS = "questions"
"""The setting of a batch of people's answers that says what was asked; see `Origin.questions`."""


@dataclass(frozen=True, kw_only=True)
class Origin:
    """What a table of findings should not lose: its source, its floor, its words, its cut.

    Attributes
    ----------
    service : str
        Empty if it is not known.
    batch, reading : int or None
        In the ledger.
    round, sent : str
        The batch's round, and when it was begun (ISO 8601, UTC); empty if not known.
    settings : mapping of str to str
        What the service was asked with, such as a model; but for where it is.
    versions : tuple of str
        What the service called itself while it was asked, the most frequent first.
    floor : float or None
        The lowest confidence that the service was asked for or is known to give.
    smallest_face : float or None
        The smallest face that the service says it finds, in pixels of what is sent.
    words : mapping of str to float
        The service's ordered words with their numbers.
    shown : tuple of str
        Attributes marked ``show`` in the description: the text of a face without a name.
    cut : tuple of (threshold, mapping of str to int)
        Thresholds that were applied, in order, each with the findings removed by kind. A threshold
        is a number, or numbers by name.
    only : tuple of str
        Labels that the table was reduced to; none if it was not.
    where : tuple of str
        Conditions that the rows that were kept satisfy; see `rows_where`.
    strongest : int or None
        How many findings of each image were kept; None if all were.
    changed : bool
        Whether the file was changed after it was written.
    """

    service: str = ""
    batch: int | None = None
    reading: int | None = None
    round: str = ""
    sent: str = ""
    settings: Mapping[str, str] = field(default_factory=dict)
    versions: tuple[str, ...] = ()
    floor: float | None = None
    smallest_face: float | None = None
    words: Mapping[str, float] = field(default_factory=dict)
    shown: tuple[str, ...] = ()
    cut: tuple[tuple[float | Mapping[str, float], Mapping[str, int]], ...] = ()
    only: tuple[str, ...] = ()
    where: tuple[str, ...] = ()
    strongest: int | None = None
    changed: bool = False

    @property
    def named(self) -> str:
        """Whose findings they are, in words; empty if that is not known."""
        batch = f", batch {self.batch}" if self.batch is not None else ""
        return f"{self.service}{batch}" if self.service else ""

    @property
    def asked(self) -> str:
        """What was asked with, and which version answered, in words; empty if neither is known."""
        return asked_with(self.settings, self.versions)

    @property
    def questions(self) -> dict[str, tuple[str, ...]]:
        """Labels by kind of which alone it was asked, as people are; empty where all were."""
        parts = [p.partition(": ") for p in self.settings.get(QUESTIONS, "").split("; ") if p]
        if not all(kind in KINDS and labels for kind, _, labels in parts):
            return {}  # a service's own setting of that name
        return {kind: tuple(labels.split(" | ")) for kind, _, labels in parts}

    @property
    def removed(self) -> int:
        """How many findings all thresholds together removed."""
        return sum(sum(counts.values()) for _, counts in self.cut)

    def after(self, threshold: float | Mapping[str, float], removed: Mapping[str, int]) -> Origin:
        """Return the origin of what a threshold left."""
        return replace(self, cut=(*self.cut, (threshold, dict(removed))))

    def lines(self) -> list[str]:
        """Return in words what was cut; nothing if nothing was."""
        found = []
        if self.questions:
            found.append(f"Only what was asked is judged: {self.settings[QUESTIONS]}.")
        for threshold, removed in self.cut:
            each = ", ".join(f"{kind} {count}" for kind, count in removed.items() if count)
            found.append(
                f"These findings were cut before, at {_shown(threshold)}: "
                f"{sum(removed.values())} removed{f' ({each})' if each else ''}. Nothing is known "
                "below, so average precision and curves cover less than the service's answer."
            )
        if self.strongest is not None:
            found.append(f"Only the {self.strongest} strongest findings of each image were kept.")
        if self.where:
            kept = " and ".join(self.where)
            found.append(f"These findings were reduced to those of which it is true: {kept}.")
        if self.changed and (found or self.only):
            found.append("The findings' file was changed after it was written and cut.")
        if self.only:
            found.append(f"These findings were reduced to the labels {', '.join(self.only)}.")
        return found

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        return {
            "service": self.service,
            "batch": self.batch,
            "reading": self.reading,
            "round": self.round,
            "sent": self.sent,
            "settings": dict(self.settings),
            "versions": list(self.versions),
            "floor": self.floor,
            "smallest_face": self.smallest_face,
            "words": dict(self.words),
            "shown": list(self.shown),
            "cut": [
                {"threshold": dict(at) if isinstance(at, Mapping) else at, "removed": dict(counts)}
                for at, counts in self.cut
            ],
            "only": list(self.only),
            "where": list(self.where),
            "strongest": self.strongest,
        }

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Origin:
        """Return what `to_dict` gave.

        Raises
        ------
        ValueError
            If it is written otherwise.
        """
        try:
            return cls(
                service=str(plain.get("service") or ""),
                batch=_whole(plain.get("batch")),
                reading=_whole(plain.get("reading")),
                round=str(plain.get("round") or ""),
                sent=str(plain.get("sent") or ""),
                settings={str(k): str(v) for k, v in (plain.get("settings") or {}).items()},
                versions=tuple(str(one) for one in plain.get("versions") or ()),
                floor=_real(plain.get("floor")),
                smallest_face=_real(plain.get("smallest_face")),
                words=_numbers(plain.get("words") or {}),
                shown=tuple(str(one) for one in plain.get("shown") or ()),
                cut=tuple(_cut(one) for one in plain.get("cut") or ()),
                only=tuple(str(label) for label in plain.get("only") or ()),
                where=tuple(str(one) for one in plain.get("where") or ()),
                strongest=_whole(plain.get("strongest")),
            )
        except (AttributeError, KeyError, TypeError) as error:
            raise ValueError(f"not an origin of findings ({error})") from None


def asked_with(settings: Mapping[str, str], versions: Iterable[str]) -> str:
    """Return settings and versions in words: ``model = evening-2; version 3.1``.

    Parameters
    ----------
    settings : mapping of str to str
        As in `Origin`.
    versions : iterable of str
        As in `Origin`.
    """
    told = ", ".join(f"{name} = {value}" for name, value in settings.items())
    which = ", ".join(versions)
    return "; ".join(part for part in (told, which and f"version {which}") if part)


def _whole(value: Any) -> int | None:
    return None if value is None else int(value)


def _real(value: Any) -> float | None:
    return None if value is None else float(value)


def _numbers(plain: Mapping[str, Any]) -> dict[str, float]:
    return {str(name): float(value) for name, value in plain.items()}


def _cut(plain: Mapping[str, Any]) -> tuple[float | Mapping[str, float], Mapping[str, int]]:
    at = plain["threshold"]
    removed = {str(kind): int(count) for kind, count in plain["removed"].items()}
    return (_numbers(at) if isinstance(at, Mapping) else float(at)), removed


def _shown(threshold: float | Mapping[str, float]) -> str:
    if isinstance(threshold, Mapping):
        return ", ".join(f"{name} {value:g}" for name, value in threshold.items())
    return f"{threshold:g}"
