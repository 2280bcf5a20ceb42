"""The text of a box, and where it stands: by a template, or the name of what was found."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from dotledger.core.kinds import PLACES
from dotledger.core.tables.finding_details import Details, attribute_list, attribute_value
from dotledger.errors import ArgumentError
from dotledger.report.pictures.label_templates import LabelTemplate, label_template

if TYPE_CHECKING:
    from dotledger.core.tables.findings_table import Findings

__all__ = ["CONFIDENCES", "BoxWriting", "box_writing", "writing_for"]

CONFIDENCES = ("share", "percent", "own")
"""How a confidence is written: 0.97, 97 %, or as the service wrote it."""


class BoxWriting(Struct, frozen=True, kw_only=True):
    """How the texts of boxes are made; from `box_writing`.

    Attributes
    ----------
    template : LabelTemplate or None
        None for the person's name, or what the description marks, or the label.
    place : str
        One of `PLACES`.
    words : mapping of str to str
        What stands for a label or a value of an attribute, by its plain name.
    shown : tuple of str
        Attributes that stand for a face without a name.
    confidence : str
        One of `CONFIDENCES`.
    """

    template: LabelTemplate | None = None
    place: str = PLACES[0]
    words: Mapping[str, str] = {}
    shown: tuple[str, ...] = ()
    confidence: str = CONFIDENCES[0]

    def text(self, kind: str, label: str, confidence: float, details: Details | None) -> str:
        """Return the text for one finding."""
        if self.template is not None:
            return self.template.written(kind, label, confidence, details, self.words)
        words = self._of_face(details) if kind == "face" and details is not None else ""
        if words:
            return words
        return self.with_confidence(self.word(label), confidence, details)

    def word(self, text: str) -> str:
        """Return what is written for a label or a value."""
        return self.words.get(text.casefold(), text)

    def with_confidence(self, text: str, confidence: float, details: Details | None) -> str:
        """Return text with a confidence behind it, where there is one."""
        own = None if details is None else details.own_confidence
        if self.confidence == "own" and own is not None:
            return f"{text} {own}"
        if math.isnan(confidence):
            return text
        if self.confidence == "own":
            return f"{text} {float(confidence)}"
        if self.confidence == "percent":
            return f"{text} {confidence:.0%}"
        return f"{text} {confidence:.2f}"

    def _of_face(self, details: Details) -> str:
        """Return a person's name with its similarity, or else the attributes that are shown."""
        name, similarity = details.person()
        if name:
            return name if similarity is None else f"{name} {similarity:.2f}"
        values = (self._shown_value(details.attributes.get(one), one) for one in self.shown)
        return ", ".join(value for value in values if value)

    def _shown_value(self, value: Any, name: str) -> str:
        entries = attribute_list(value)
        if entries is not None:
            return ", ".join(self.word(one) for one in entries)
        plain = attribute_value(value)
        if isinstance(plain, bool):
            return self.word(name) if plain else ""
        if isinstance(plain, float | int):
            return f"{plain:.3g}"
        return "" if plain is None else self.word(plain)


def box_writing(
    findings: Findings,
    *,
    write: str | None = None,
    place: str = PLACES[0],
    words: Mapping[str, str] | None = None,
    confidence: str = CONFIDENCES[0],
) -> BoxWriting:
    """Return how the texts of some findings are made, checked against them.

    Parameters
    ----------
    write : str, optional
        A template; see `label_template`.
    place : str
        One of `PLACES`: where the text goes if there is room.
    words : mapping of str to str, optional
        What is written for a label, or a value of an attribute; letter case apart.
    confidence : str
        One of `CONFIDENCES`.

    Raises
    ------
    ArgumentError
        If the template is none, names a field that no finding has, or an argument is not known.
    """
    shown = findings.origin.shown if findings.origin is not None else ()
    return writing_for(
        findings.details or (),
        write=write,
        place=place,
        words=words,
        confidence=confidence,
        shown=shown,
    )


def writing_for(
    details: Iterable[Details | None],
    *,
    write: str | None = None,
    place: str = PLACES[0],
    words: Mapping[str, str] | None = None,
    confidence: str = CONFIDENCES[0],
    shown: tuple[str, ...] = (),
) -> BoxWriting:
    """Return how the texts of findings with these details are made.

    Raises
    ------
    ArgumentError
        As `box_writing` does.
    """
    for given, known, name in ((place, PLACES, "place"), (confidence, CONFIDENCES, "confidence")):
        if given not in known:
            raise ArgumentError("not known", place=name, got=given, allowed=known)
    return BoxWriting(
        template=None if write is None else label_template(write, details),
        place=place,
        words={str(k).casefold(): str(v) for k, v in (words or {}).items()},
        shown=shown,
        confidence=confidence,
    )
