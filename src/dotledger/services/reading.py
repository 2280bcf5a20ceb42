"""Reading an answer by the rules of a description: strictly, and never crashing."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial
from typing import Any, NamedTuple

import orjson
from msgspec import Struct, field

from dotledger.core.boxes.forms import BOX_FORMS, TO_CORNERS, Box, clip, enclosing, turn_upright
from dotledger.core.boxes.frames import Frame
from dotledger.core.tables.details import NOTHING, Details
from dotledger.errors import AnswerError, UnreadError
from dotledger.services.description import (
    BoxRule,
    Description,
    Place,
    PointsRule,
    ReadRule,
)
from dotledger.services.paths import MISSING, Getter, Level, compile_each, compile_path
from dotledger.services.values import SetAside, attributes_reader, confidence_reader, number_of
from dotledger.showing import shown

__all__ = ["NOT_THERE", "Read", "Reader", "Reading", "RuleReader"]

_LONGEST_LABEL = 10_000

NOT_THERE = "answered as not there"
"""The reason of a note on what a service lists with a word that means that it is not there."""

_JOB_WORDS = frozenset(
    ["accepted", "queued", "pending", "processing", "running", "started", "submitted", "waiting"]
)
_JOB_PLACES = tuple(map(compile_path, ("state", "status", "job.state", "job.status")))
_PLAIN = frozenset((float, int))


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
        By kind why nothing could be read, where that is the description's fault: the places that
        its rules name are not there, or everything that stood there was set aside.
    """

    found: list[Read] = field(default_factory=list)
    notes: list[tuple[str, str]] = field(default_factory=list)
    unread: dict[str, str] = field(default_factory=dict)


def _short(value: Any) -> str:
    return shown(value, 60)


ToCorners = Callable[[float, float, float, float], Box]
Scaler = Callable[[Frame, tuple[float, float] | None], tuple[float, float]]


def _scaler(rule: Place) -> Scaler:
    """Return a function to the two factors that bring the rule's numbers to original pixels."""
    full = {"fraction": 1.0, "percent": 100.0, "thousandths": 1000.0}.get(rule.unit, rule.grid)
    if full is not None:
        return lambda frame, _: (frame.width / full, frame.height / full)
    if rule.of == "original":
        return lambda *_: (1.0, 1.0)
    if rule.of == "sent":
        return lambda f, _: (f.width / f.sent_width, f.height / f.sent_height)
    return _from_working


def _from_working(frame: Frame, working: tuple[float, float] | None) -> tuple[float, float]:
    if working is None or working[0] <= 0 or working[1] <= 0:
        raise SetAside("no working size in the answer", working)
    return frame.width / working[0], frame.height / working[1]


class _Coordinates:
    """Brings points of a rule into upright original pixels."""

    def __init__(self, rule: Place) -> None:
        self._scale = _scaler(rule)
        self._upright = rule.upright

    def points(
        self,
        points: Sequence[tuple[float, float]],
        frame: Frame,
        working: tuple[float, float] | None,
    ) -> list[tuple[float, float]]:
        if self._upright or frame.turned == 1:
            across, down = self._scale(frame, working)
            return [(x * across, y * down) for x, y in points]
        flat = _lying(frame) if frame.turned >= 5 else frame
        across, down = self._scale(flat, working)
        lying = [(x * across, y * down) for x, y in points]
        return turn_upright(lying, flat.width, flat.height, frame.turned)

    def box(self, box: Box, frame: Frame, working: tuple[float, float] | None) -> Box:
        x0, y0, x1, y1 = box
        if self._upright or frame.turned == 1:
            across, down = self._scale(frame, working)
            return x0 * across, y0 * down, x1 * across, y1 * down
        if x0 >= x1 or y0 >= y1:
            raise SetAside("no area", box)
        return enclosing(self.points([(x0, y0), (x1, y1)], frame, working))


def _lying(frame: Frame) -> Frame:
    return Frame(frame.height, frame.width, frame.sent_height, frame.sent_width, frame.turned)


def _box_numbers(rule: BoxRule) -> Callable[[Any], Box]:
    """Return a function from the raw box to its corners, in the rule's own unit."""
    wanted = BOX_FORMS[rule.form]
    to_corners = TO_CORNERS[rule.form]
    if rule.order:
        in_order = _from_list([rule.order.index(name) for name in wanted], to_corners)
        return _from_text(rule.split, in_order) if rule.split else in_order
    names = tuple(rule.fields[name] for name in wanted)
    return _from_object([compile_path(name, place="box.fields") for name in names], to_corners)


def _from_list(places: list[int], to_corners: ToCorners) -> Callable[[Any], Box]:
    a, b, c, d = places

    def read(raw: Any) -> Box:
        if type(raw) is not list or len(raw) != 4:
            raise SetAside("box is not a list of four", raw)
        return _corners(raw[a], raw[b], raw[c], raw[d], to_corners)

    return read


def _from_text(sign: str, read: Callable[[Any], Box]) -> Callable[[Any], Box]:
    """Return a function from one text that holds the numbers, divided by a sign."""

    def from_text(raw: Any) -> Box:
        if not isinstance(raw, str):
            raise SetAside("box is not text", raw)
        parts = raw.split() if sign == " " else raw.split(sign)
        return read([part.strip() for part in parts])

    return from_text


def _from_object(getters: list[Getter], to_corners: ToCorners) -> Callable[[Any], Box]:
    def read(raw: Any) -> Box:
        level = Level(raw, "", 0, None)
        a, b, c, d = (get(level) for get in getters)
        if MISSING in (a, b, c, d):
            raise SetAside("box lacks a field", raw)
        return _corners(a, b, c, d, to_corners)

    return read


def _corners(a: Any, b: Any, c: Any, d: Any, to_corners: ToCorners) -> Box:
    """Return the corners; whether plain numbers are finite is checked where the box is clipped."""
    kind = type(a)
    if not (kind is type(b) is type(c) is type(d) and kind in _PLAIN):
        a, b, c, d = map(number_of, (a, b, c, d))
    return to_corners(a, b, c, d)


def _points_of(raw: Any) -> list[tuple[float, float]]:
    """Return a polygon's points, written as ``[x, y]`` pairs or objects with x and y."""
    if type(raw) is not list or len(raw) < 2:
        raise SetAside("not a list of at least two points", raw)
    return [_point(part) for part in raw]


def _point(part: Any) -> tuple[float, float]:
    if type(part) is list and len(part) == 2:
        return number_of(part[0]), number_of(part[1])
    if type(part) is dict and "x" in part and "y" in part:
        return number_of(part["x"]), number_of(part["y"])
    raise SetAside("not a point", part)


_FARTHEST = 1e9
"""Pixels; a point beyond is none, and its square could not be held."""


def _refuse_far(point: tuple[float, float]) -> None:
    if not (abs(point[0]) <= _FARTHEST and abs(point[1]) <= _FARTHEST):
        raise SetAside("a point is not finite, or far from any image", list(point))


Geometry = tuple[Box | None, tuple[tuple[float, float], ...], str]


def _box_reader(rule: BoxRule | None) -> Callable[[Level, Frame, Any], Geometry]:
    """Return a function to (box, polygon, note)."""
    if rule is None:
        return lambda *_: (None, (), "")
    get, place = compile_path(rule.at, place="box.at"), _Coordinates(rule)
    numbers = None if rule.form == "points" else _box_numbers(rule)

    def read(level: Level, frame: Frame, working: Any) -> Geometry:
        raw = get(level)
        if raw is MISSING or raw is None:
            raise SetAside("no box", raw)
        outline: tuple[tuple[float, float], ...] = ()
        if numbers is None:
            outline = tuple(place.points(_points_of(raw), frame, working))
            for point in outline:
                _refuse_far(point)
            corners = enclosing(outline)
        else:
            corners = place.box(numbers(raw), frame, working)
        box, note = clip(corners, frame.width, frame.height)
        if box is None:
            raise SetAside(note, raw)
        return box, outline, note

    return read


def _landmarks_reader(
    rule: PointsRule, box: BoxRule | None
) -> Callable[[Level, Frame, Any], dict[str, Any]]:
    get, place = compile_path(rule.at, place="points.at"), _Coordinates(rule.place(box))

    def read(level: Level, frame: Frame, working: Any) -> dict[str, tuple[float, float]]:
        raw = get(level)
        named = {k: v for k, v in _named_points(raw, rule) if k}
        carried = place.points(list(named.values()), frame, working)
        for point in carried:
            _refuse_far(point)
        return dict(zip(named, carried, strict=True))

    return read


def _named_points(raw: Any, rule: PointsRule) -> Iterable[tuple[str, tuple[float, float]]]:
    if type(raw) is dict:
        return [(name, _xy(part, rule)) for name, part in raw.items()]
    if type(raw) is list and rule.name:
        entries = [part for part in raw if type(part) is dict]
        return [(str(part.get(rule.name, "")), _xy(part, rule)) for part in entries]
    return []


def _xy(part: Any, rule: PointsRule) -> tuple[float, float]:
    if type(part) is dict:
        level = Level(part, "", 0, None)
        x, y = (compile_path(path)(level) for path in (rule.x, rule.y))
        return number_of(x), number_of(y)
    return _point(part)


def _last_of(path: str, split: str) -> tuple[str, tuple[str, ...]]:
    """Return the last part of a category path, and those above it, the nearest first."""
    parts = [part.strip() for part in path.split(split) if part.strip()]
    if not parts:
        raise SetAside("label is empty", path)
    return parts[-1], tuple(parts[-2::-1])


def _text(value: Any, case: str) -> str:
    if not isinstance(value, str):
        raise SetAside("label is not text", value)
    text = value.strip() if value.isascii() else value.encode("utf-8", "replace").decode().strip()
    if not text:
        raise SetAside("label is empty", value)
    return (text.lower() if case == "lower" else text)[:_LONGEST_LABEL]


_LEAST_SIDE = 0.5


def _or_note(read: Callable[[], Any] | None, into: Reading, otherwise: Any) -> Any:
    """Return what `read` gives; a part that cannot be read costs itself and a note."""
    if read is None:
        return otherwise
    try:
        return read()
    except SetAside as error:
        into.notes.append((f"left out: {error.args[0]}", _short(error.args[1])))
        return otherwise


class RuleReader:
    """One reading rule, compiled.

    Parameters
    ----------
    rule : ReadRule
        What to read and where.
    """

    def __init__(self, rule: ReadRule) -> None:
        self.kind = rule.kind
        self.section = rule.each
        self.optional = rule.optional
        self._case = rule.case
        self._always = rule.always
        self.each = compile_each(rule.each, place="each")
        self._label = compile_path(rule.label, place="label") if rule.label else None
        self._split = rule.split
        self._lookup = None
        if rule.lookup is not None:
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
        self._box = _box_reader(rule.box)
        self._landmarks = _landmarks_reader(rule.points, rule.box) if rule.points else None
        self._attributes = attributes_reader(dict(rule.attributes)) if rule.attributes else None
        self._parents = compile_path(rule.parents, place="parents") if rule.parents else None

    def read(self, top: Level, frame: Frame, working: Any, into: Reading) -> str:
        """Append what this rule finds; set aside what cannot be kept.

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
            for level in self.each(top, lacking):
                met += 1
                kept += self.read_level(level, names, frame, working, into)
        except TypeError as error:
            return f"{self.section}: {error}"
        if lacking and not met:
            return "" if self.optional else f"no part of the answer is at {self.section}"
        if met and not kept:
            reason, value = next(iter(into.notes[first:]), ("", ""))
            return f"all {met} at {self.section} set aside, the first: {reason} {value}".strip()
        return ""

    def names(self, top: Level) -> dict[str, Any]:
        """Return the side table of names, by id."""
        if self._lookup is None:
            return {}
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
        try:
            if self._keep is not None and not self._keep(level):
                return True
            found = self._finding(level, names, frame, working, into)
        except SetAside as error:
            into.notes.append((str(error.args[0]), _short(error.args[1])))
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
        if own is MISSING:
            into.notes.append(("no confidence where the description says", label[:60]))
        box, outline, note = self._box(level, frame, working)
        if note:
            into.notes.append((f"box {note} to the image", label[:60]))
        if box is not None and max(box[2] - box[0], box[3] - box[1]) < _LEAST_SIDE:
            into.notes.append(("box under half a pixel: another unit?", label[:60]))
        own_attributes: Mapping[str, Any] = NOTHING
        if self._attributes:
            own_attributes, faults = self._attributes(level)
            into.notes += faults
        landmarks = self._landmarks
        points = _or_note(
            partial(landmarks, level, frame, working) if landmarks else None, into, NOTHING
        )
        broader = _or_note(partial(self._broader, level) if self._parents else None, into, ())
        details = Details(
            own_attributes,
            points,
            outline,
            above + broader,
            own if isinstance(own, (str, int, float, bool)) else None,
            (note,) if note else (),
        )
        return Read(self.kind, label, confidence, box, details)

    def _labelled(self, level: Level, names: dict[str, Any]) -> str:
        raw = self._label(level) if self._label else ""
        if self._lookup is not None:
            if str(raw) not in names:
                raise SetAside("label's id is not in the side table", raw)
            raw = names[str(raw)]
        return _text(raw, self._case)

    def _broader(self, level: Level) -> tuple[str, ...]:
        raw = self._parents(level) if self._parents else None
        if not isinstance(raw, list):
            return ()
        return tuple(_text(part, self._case) for part in raw)


class Reader:
    """Reads answers of one service; compiled once, used for every answer.

    Parameters
    ----------
    description : Description
        Its rules and envelope are obeyed; nothing else of it is used.
    """

    def __init__(self, description: Description) -> None:
        self._rules = [(rule.call, RuleReader(rule)) for rule in description.read]
        envelope = description.envelope
        self._images = compile_each(envelope.images) if envelope.images else None
        self._places = compile_path(re.split(r"[\[{]", envelope.images, maxsplit=1)[0] or "@")
        self._id = compile_path(envelope.id) if envelope.id else None
        self._error = compile_path(envelope.error) if envelope.error else None
        self._reason = compile_path(envelope.reason) if envelope.reason else None
        self._width = compile_path(envelope.width) if envelope.width else None
        self._height = compile_path(envelope.height) if envelope.height else None
        self._most = description.limits.findings
        self._read_sections = _sections_read(description)

    def read(
        self, answer: bytes, call: str, kinds: Iterable[str], frames: Sequence[Frame]
    ) -> list[Reading | AnswerError]:
        """Read one answer.

        Parameters
        ----------
        answer : bytes
            As received.
        call : str
            The name of the call it answers.
        kinds : iterable of str
            The kinds to read.
        frames : sequence of Frame
            The images the call held, in the order sent.

        Returns
        -------
        list
            For each frame a `Reading`, or an `AnswerError` if the answer says that this image
            failed or does not hold it.

        Raises
        ------
        AnswerError
            If the answer is not JSON, not of the described shape, or is an error as a whole.
        """
        return self.read_document(_parsed(answer), call, kinds, frames)

    def read_document(
        self, document: Any, call: str, kinds: Iterable[str], frames: Sequence[Frame]
    ) -> list[Reading | AnswerError]:
        """Read an answer that is taken apart already: plain values as in JSON; see `read`.

        Raises
        ------
        AnswerError
            If it is not of the described shape, or is an error as a whole.
        """
        top = Level(document, "", 0, None)
        self._refuse_error(top)
        wanted = frozenset(kinds)
        rules = [r for name, r in self._rules if r.kind in wanted and name in ("", call)]
        parts = self._parts(top, len(frames))
        return [self._one(p, rules, f) for p, f in zip(parts, frames, strict=True)]

    def _parts(self, top: Level, count: int) -> list[Level | None]:
        if self._images is None:
            return [top] * count
        try:
            parts = list(self._images(top, []))
        except TypeError as error:
            raise UnreadError(f"the answer's images cannot be read: {error}") from error
        if not parts and self._places(top) is MISSING:
            raise UnreadError("no part of the answer is where envelope.images says")
        if self._id is None:
            return [parts[i] if i < len(parts) else None for i in range(count)]
        by_id = {str(self._id(part)): part for part in parts}
        return [by_id.get(str(position)) for position in range(count)]

    def _one(
        self, part: Level | None, rules: list[RuleReader], frame: Frame
    ) -> Reading | AnswerError:
        if part is None:
            return AnswerError("the answer does not hold this image")
        try:
            self._refuse_error(part)
        except AnswerError as error:
            return error
        reading, working = Reading(), self._working(part)
        try:
            faults = [(rule, rule.read(part, frame, working, reading)) for rule in rules]
        except Exception as error:  # an answer may hold anything; it costs its own image at most
            return UnreadError(f"reading it failed (unexpected {type(error).__name__})")
        reading.unread = _unread(faults)
        if not reading.found and (word := _job_word(part)):
            reason = f"the service has only accepted the job ({word})"
            reading.unread = {rule.kind: reason for rule in rules}
        self._note_unread(part, reading)
        if self._most is not None and len(reading.found) >= self._most:
            reading.notes.append(("as many findings as the service ever gives", str(self._most)))
        return reading

    def _note_unread(self, part: Level, reading: Reading) -> None:
        """Note sections of an answer that no rule looks at: something new, or renamed."""
        if type(part.value) is dict and self._read_sections is not None:
            for name, value in part.value.items():
                if name not in self._read_sections and value and type(value) in (dict, list):
                    reading.notes.append(("section never read", str(name)[:80]))

    def _refuse_error(self, level: Level) -> None:
        if self._error is None or not (code := self._error(level)):
            return
        reason = self._reason(level) if self._reason else MISSING
        text = f"{_short(code)}: {_short(reason)}" if reason else _short(code)
        raise AnswerError(f"the service answered with an error ({text})", code=str(code)[:200])

    def _working(self, part: Level) -> tuple[float, float] | None:
        if self._width is None or self._height is None:
            return None
        try:
            return number_of(self._width(part)), number_of(self._height(part))
        except SetAside:
            return None


def _unread(faults: list[tuple[RuleReader, str]]) -> dict[str, str]:
    """Return by kind why nothing was read: where every rule of the kind has a fault."""
    reasons: dict[str, str] = {}
    for kind in {rule.kind for rule, _ in faults}:
        own = [fault for rule, fault in faults if rule.kind == kind]
        if all(own):
            reasons[kind] = "; ".join(dict.fromkeys(own))
    return reasons


def _job_word(part: Level) -> str:
    """Return the word by which an answer says that there is none yet; empty if it says no such."""
    for get in _JOB_PLACES:
        word = get(part)
        if isinstance(word, str) and word.casefold() in _JOB_WORDS:
            return word[:40]
    return ""


def _parsed(answer: bytes) -> Any:
    try:
        return orjson.loads(answer)
    except orjson.JSONDecodeError as error:
        start = answer[:40].decode("utf-8", "replace")
        raise AnswerError(f"the answer is not JSON ({error})", got=start) from error


def _sections_read(description: Description) -> frozenset[str] | None:
    """Return the first names of all paths that a description reads; None if it reads anything."""
    envelope = description.envelope
    paths = [rule.each for rule in description.read]
    paths += [rule.lookup.table for rule in description.read if rule.lookup]
    paths += [envelope.id, envelope.error, envelope.reason, envelope.width, envelope.height]
    if not envelope.images:
        paths.append(envelope.images)
    names = {re.split(r"[.\[{]", path, maxsplit=1)[0] for path in paths if path}
    return (
        None
        if any(rule.each[:1] in ("", "[", "{", "@") for rule in description.read)
        else frozenset(names)
    )
