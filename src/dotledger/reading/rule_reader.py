"""One reading rule, compiled: strictly, and never losing a finding for one bad part."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from functools import partial
from typing import Any, NamedTuple
from unicodedata import normalize

from msgspec import Struct, field

from dotledger.core.boxes.box_forms import Box
from dotledger.core.boxes.image_frames import Frame
from dotledger.core.tables.finding_details import NOTHING, Details
from dotledger.reading.answer_paths import (
    MISSING,
    Level,
    compile_each,
    compile_path,
    names_of_path,
)
from dotledger.reading.box_parsing import LEAST_SIDE, box_reader, landmarks_reader
from dotledger.reading.error_messages import ERROR_NAMES, is_fault, said_by
from dotledger.reading.reading_rules import ReadRule
from dotledger.reading.value_distribution import LONGEST_LABEL, usual_reader
from dotledger.reading.value_parsing import SetAside, attributes_reader, confidence_reader
from dotledger.text_display import shown

__all__ = ["NOT_THERE", "Read", "Reading", "RuleReader", "short"]

NOT_THERE = "answered as not there"
"""The reason of a note on what a service lists with a word that means that it is not there."""


class Read(NamedTuple):
    """One finding as read: box in pixels of the upright original, or None."""

    kind: str
    label: str
    confidence: float | None
    box: Box | None
    details: Details | None


class Reading(Struct):
    """What was read out of one image's part of an answer.

    Attributes
    ----------
    found : list of Read
        In the answer's order.
    notes : list of (str, str)
        What was set aside or noticed: a short reason and the value or place.
    unread : dict of str to str
        By kind why nothing could be read: the places that its rules name are not there or null, an
        error stands next to them, or everything that stood there was set aside.
    failed : dict of str to str
        By kind what the service says of its own failure, where the description says where.
    """

    found: list[Read] = field(default_factory=list)
    notes: list[tuple[str, str]] = field(default_factory=list)
    unread: dict[str, str] = field(default_factory=dict)
    failed: dict[str, str] = field(default_factory=dict)

    def outcome_of(self, kind: str, seen: Container[str]) -> tuple[str, str]:
        """Return the outcome of one kind, and the reason where there is one.

        Parameters
        ----------
        seen : container of str
            Kinds of which something was found.

        Returns
        -------
        (str, str)
            ``empty`` only where the service looked and found nothing.
        """
        if kind in seen:
            return "found", ""
        if kind in self.failed:
            return "failed", self.failed[kind]
        return ("unread", self.unread[kind]) if kind in self.unread else ("empty", "")


def short(value: Any) -> str:
    """Return a value in few words, for a note.

    Parameters
    ----------
    value : object
        As it stands in an answer.

    Returns
    -------
    str
        At most 60 characters.
    """
    return shown(value, 60)


def _last_of(path: str, split: str) -> tuple[str, tuple[str, ...]]:
    """Return the last part of a category path, and those above it, the nearest first."""
    parts = [part.strip() for part in path.split(split) if part.strip()]
    if not parts:
        raise SetAside("label is empty", path)
    return parts[-1], tuple(parts[-2::-1])


def _text(value: Any, case: str) -> str:
    if not isinstance(value, str):
        raise SetAside("label is not text", value)
    text = value.strip()
    if not value.isascii():  # an accented letter may be one character or two, and is one label
        text = normalize("NFC", value.encode("utf-8", "replace").decode()).strip()
    if not text:
        raise SetAside("label is empty", value)
    return (text.lower() if case == "lower" else text)[:LONGEST_LABEL]


def _named_cells(level: Level, header: list[Any]) -> Level:
    """Return a row of a table as an object; one of another length raises SetAside where read."""
    row = level.value
    if type(row) is not list or len(row) != len(header):
        return level
    return Level(dict(zip(map(str, header), row, strict=True)), level.key, level.index, level.outer)


def _or_note(read: Callable[[], Any], into: Reading, otherwise: Any) -> Any:
    """Return what `read` gives; a part that cannot be read costs itself and a note."""
    try:
        return read()
    except SetAside as error:
        into.notes.append((f"left out: {error.args[0]}", short(error.args[1])))
        return otherwise


_NO_DETAILS = Details()


def _said(own: Any, confidence: float | None) -> float | str | bool | None:
    """Return what the service wrote, where that is not the confidence itself.

    A finding whose service gives shares has then mostly nothing next to its row: a ledger is a
    tenth smaller, and its findings are read in half the time.
    """
    if not isinstance(own, (str, int, float, bool)):
        return None
    return None if type(own) is float and own == confidence else own


_STEM = 4
"""So many letters of a section's name tell that an error is its own: ``face_error``, ``faces``."""


def _on_the_way(value: Any, way: Sequence[str]) -> Iterator[tuple[dict[str, Any], str]]:
    """Yield the objects that a path leads through, up to its first list, with the next name."""
    for name in (*way, ""):
        if type(value) is not dict:
            return
        yield value, name
        if name in ("", "[]", "{}"):
            return
        value = value.get(name)


def _nothing_there(section: str, lacking: Sequence[str]) -> str:
    """Return why a section could not be read: it is not there, or null stands in its place."""
    null = next((name for name in lacking if name.startswith("null at ")), "")
    return f"{null}, not a list" if null else f"no part of the answer is at {section}"


class RuleReader:
    """One reading rule, compiled."""

    def __init__(self, rule: ReadRule) -> None:
        self.kind = rule.kind
        self.section = rule.each
        self._way = tuple(names_of_path(rule.each, place="each"))
        self.optional = rule.optional
        self._case = rule.case
        self._always = rule.always
        self._usual = usual_reader(rule)
        self.each = compile_each(rule.each, place="each")
        self._label = compile_path(rule.label, place="label") if rule.label else None
        self._split = rule.split
        self._columns = compile_path(rule.columns, place="columns") if rule.columns else None
        self._lookup = None
        self._names = dict(rule.lookup.names) if rule.lookup is not None else {}
        self._by_id = rule.lookup is not None
        if rule.lookup is not None and rule.lookup.table:
            table = rule.lookup
            self._lookup = (
                compile_each(table.table, place="lookup.table"),
                compile_path(table.id, place="lookup.id"),
                compile_path(table.name, place="lookup.name"),
            )
        self._keep = compile_path(rule.keep_if, place="keep_if") if rule.keep_if else None
        self._confidence = confidence_reader(rule.confidence)
        said = rule.confidence
        self._absent = frozenset(word.casefold() for word in said.absent) if said else frozenset()
        self._box = box_reader(rule.box)
        self._landmarks = landmarks_reader(rule.points, rule.box) if rule.points else None
        self._attributes = attributes_reader(dict(rule.attributes)) if rule.attributes else None
        self._parents = compile_path(rule.parents, place="parents") if rule.parents else None

    def read(
        self,
        top: Level,
        frame: Frame,
        working: Any,
        into: Reading,
        told: Callable[[Level, list[Read]], None] | None = None,
    ) -> str:
        """Append what this rule finds; set aside what cannot be kept.

        `told` is given every part of the answer with what was read out of it.

        Returns
        -------
        str
            Why nothing could be read, where that is not what the service says; empty otherwise.
        """
        lacking: list[str] = []
        met = kept = 0
        first = len(into.notes)
        try:
            names = self.names(top)
            header = self._header(top)
            for row in self.each(top, lacking):
                if header is not None and row.value == header:
                    continue  # a table may begin with the row that names its columns
                level = row if header is None else _named_cells(row, header)
                met += 1
                before = len(into.found)
                kept += self.read_level(level, names, frame, working, into)
                if told is not None:
                    told(row, into.found[before:])
        except TypeError as error:
            return f"{self.section}: {error}"
        if lacking and not met and not self.optional:
            return self._beside(top) or _nothing_there(self.section, lacking)
        if not met and (beside := self._beside(top)):
            return beside
        if met and not kept:
            reason, value = next(iter(into.notes[first:]), ("", ""))
            return f"all {met} at {self.section} set aside, the first: {reason} {value}".strip()
        return ""

    def _beside(self, top: Level) -> str:
        """Return what says, next to an empty section, that the service failed to look."""
        for value, name in _on_the_way(top.value, self._way):
            for key, said in value.items():
                word = key.casefold()
                own = name and name.casefold()[:_STEM] in word and "error" in word
                if (word in ERROR_NAMES or own) and is_fault(said):
                    return f"nothing at {self.section}, and next to it {key}: {said_by(said)}"
        return ""

    def _header(self, top: Level) -> list[Any] | None:
        """Return the names of a table's columns; None where rows are objects already."""
        if self._columns is None:
            return None
        found = self._columns(top)
        if type(found) is not list:
            raise TypeError("the names of its columns are not a list where columns says")
        return found

    def names(self, top: Level) -> dict[str, Any]:
        """Return the side table of names, by id."""
        if self._lookup is None:
            return self._names
        each, get_id, get_name = self._lookup
        rows = list(each(top, []))
        return {str(get_id(row)): get_name(row) for row in rows}

    def read_level(
        self, level: Level, names: dict[str, Any], frame: Frame, working: Any, into: Reading
    ) -> bool:
        """Append what stands at one level of ``each``; set it aside if it cannot be kept.

        Returns
        -------
        bool
            Whether it was understood: a finding, or one that the rule says is none.
        """
        if (usual := self._usual(level.value, frame)) is not None:
            label, confidence, box = usual
            into.found.append(Read(self.kind, label, confidence, box, None))
            return True
        try:
            if self._keep is not None and not self._keep(level):
                return True
            found = self._finding(level, names, frame, working, into)
        except SetAside as error:
            into.notes.append((str(error.args[0]), short(error.args[1])))
            return False
        if self._is_absent(found):
            word = found.details.own_confidence if found.details else None
            into.notes.append((NOT_THERE, f"{found.label}: {word}"))
        else:
            into.found.append(found)
        return True

    def _is_absent(self, found: Read) -> bool:
        """Tell whether the service says by a word that this is not there."""
        own = found.details.own_confidence if found.details else None
        return own is False or (isinstance(own, str) and own.strip().casefold() in self._absent)

    def _finding(
        self, level: Level, names: dict[str, Any], frame: Frame, working: Any, into: Reading
    ) -> Read:
        label = self._always or self._labelled(level, names)
        above: tuple[str, ...] = ()
        if self._split:
            label, above = _last_of(label, self._split)
        confidence, own = self._confidence(level)
        # A confidence that is missing where the rule says it stands is noted, since the finding
        # then passes every threshold.
        if own is MISSING:
            into.notes.append(("no confidence where the description says", label[:60]))
        box, outline, note = self._box(level, frame, working)
        if note:
            into.notes.append((f"box {note} to the image", label[:60]))
        if box is not None and max(box[2] - box[0], box[3] - box[1]) < LEAST_SIDE:
            into.notes.append(("box under half a pixel: another unit?", label[:60]))
        own_attributes: Mapping[str, Any] = NOTHING
        if self._attributes:
            own_attributes, faults = self._attributes(level)
            into.notes += faults
        points: Mapping[str, Any] = NOTHING
        if self._landmarks:
            read = partial(self._landmarks, level, frame, working)
            points = _or_note(read, into, NOTHING)
        broader = _or_note(partial(self._broader, level), into, ()) if self._parents else ()
        details = Details(
            own_attributes,
            points,
            outline,
            above + broader,
            _said(own, confidence),
            (note,) if note else (),
        )
        return Read(self.kind, label, confidence, box, None if details == _NO_DETAILS else details)

    def _labelled(self, level: Level, names: dict[str, Any]) -> str:
        raw = self._label(level) if self._label else ""
        if self._by_id:
            if str(raw) not in names:
                where = "side table" if self._lookup is not None else "vocabulary"
                raise SetAside(f"label's id is not in the {where}", raw)
            raw = names[str(raw)]
        return _text(raw, self._case)

    def _broader(self, level: Level) -> tuple[str, ...]:
        raw = self._parents(level) if self._parents else None
        if not isinstance(raw, list):
            return ()
        return tuple(_text(part, self._case) for part in raw)
