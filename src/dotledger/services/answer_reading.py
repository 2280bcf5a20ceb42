"""Reading a whole answer by a description: the envelope, its images, every rule; never crashing."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from dotledger.core.boxes.image_frames import LEAST_SIDE, MOST_SIDE, Frame
from dotledger.errors import AnswerError, UnreadError
from dotledger.reading.answer_documents import document_reader
from dotledger.reading.answer_paths import MISSING, Level, compile_each, compile_path
from dotledger.reading.error_messages import said_by, with_setting
from dotledger.reading.rule_reader import Read, Reading, RuleReader, short
from dotledger.reading.value_parsing import SetAside, number_of
from dotledger.services.response_envelope import opener
from dotledger.services.service_description import Description, Ids

__all__ = ["Reader", "job_word"]

_JOB_WORDS = frozenset(
    ["accepted", "queued", "pending", "processing", "running", "started", "submitted", "waiting"]
)
_JOB_PLACES = tuple(map(compile_path, ("state", "status", "job.state", "job.status")))


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
        self._settings = description.connect.settings
        self._ids = _IdTable(envelope.ids) if envelope.ids is not None else None
        self._fields = {call.name: call.image_field for call in description.call}
        self._error = compile_path(envelope.error) if envelope.error else None
        self._reason = compile_path(envelope.reason) if envelope.reason else None
        self._errors: dict[str, Any] = {
            kind: compile_path(path) for kind, path in envelope.errors.items()
        }
        self._width = compile_path(envelope.width) if envelope.width else None
        self._height = compile_path(envelope.height) if envelope.height else None
        self._version = compile_path(envelope.version) if envelope.version else None
        self._version_header = envelope.version_header.casefold()
        self._most = description.most_findings
        self._read_sections = _sections_read(description)
        self._in_parts = {call.name for call in description.call if call.more is not None}
        self._document = opener(description)

    def read(
        self, answer: bytes, call: str, kinds: Iterable[str], frames: Sequence[Frame]
    ) -> list[Reading | AnswerError]:
        """Read one answer.

        Parameters
        ----------
        call : str
            The name of the call it answers.
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
            If the answer is not written as described, not of the described shape, or is an error
            as a whole.
        """
        return self.read_document(self.document(answer, call), call, kinds, frames)

    def document(self, answer: bytes, call: str) -> Any:
        """Return a kept answer as plain values; the parts of one are kept as a list.

        Raises
        ------
        AnswerError
            If it is not written as described.
        """
        joined = call in self._in_parts and answer[:1] == b"["
        return _parsed(answer) if joined else self._document(answer)

    def read_document(
        self, document: Any, call: str, kinds: Iterable[str], frames: Sequence[Frame]
    ) -> list[Reading | AnswerError]:
        """Read an answer that is taken apart already: plain values as in JSON; see `read`.

        Raises
        ------
        AnswerError
            If it is not of the described shape, or is an error as a whole.
        """
        if call in self._in_parts and isinstance(document, list):
            return self._joined(document, call, kinds, frames)
        top = Level(document, "", 0, None)
        self._refuse_error(top)
        wanted = frozenset(kinds)
        rules = [r for name, r in self._rules if r.kind in wanted and name in ("", call)]
        parts = self._parts(top, call, len(frames))
        readings = [self._one(p, rules, f) for p, f in zip(parts, frames, strict=True)]
        self._note_strangers(top, parts, readings)
        return readings

    def _note_strangers(
        self,
        top: Level,
        parts: Sequence[Level | AnswerError],
        readings: Sequence[Reading | AnswerError],
    ) -> None:
        """Note parts of an answer that are about no image of the request."""
        if self._images is None or self._id is None:
            return
        used = {id(part.value) for part in parts if isinstance(part, Level)}
        into = next((one for one in readings if isinstance(one, Reading)), None)
        for part in self._images(top, []) if into is not None else ():
            if id(part.value) not in used and into is not None:
                into.notes.append(("part about no image that was sent", short(self._id(part))))

    def _joined(
        self, documents: Sequence[Any], call: str, kinds: Iterable[str], frames: Sequence[Frame]
    ) -> list[Reading | AnswerError]:
        """Read the parts of one answer, and put together what they hold."""
        wanted = tuple(kinds)
        parts = [self.read_document(one, call, wanted, frames) for one in documents]
        joined: list[Reading | AnswerError] = []
        for mine in zip(*parts, strict=True):
            problem = next((one for one in mine if isinstance(one, AnswerError)), None)
            joined.append(problem or _together([one for one in mine if isinstance(one, Reading)]))
        return joined

    def beside(
        self, answer: bytes, call: str, kinds: Iterable[str], frame: Frame
    ) -> list[tuple[Read, Any]]:
        """Return what is read of every image of an answer, each with the part it stands in.

        Raises
        ------
        AnswerError
            If the answer is not written as described, or its images are not where they should be.
        """
        beside: list[tuple[Read, Any]] = []

        def told(level: Level, found: list[Read]) -> None:
            beside.extend((one, level.value) for one in found)

        wanted = frozenset(kinds)
        top = Level(self.document(answer, call), "", 0, None)
        tops = [top] if self._images is None else list(self._images(top, []))
        for part in tops:
            for name, rule in self._rules:
                if rule.kind in wanted and name in ("", call):
                    rule.read(part, frame, self._working(part), Reading(), told)
        return beside

    def version_of(self, document: Any, headers: Mapping[str, str]) -> str:
        """Return what the service says of its own version; empty if it says nothing."""
        found = self._version(Level(document, "", 0, None)) if self._version else None
        if found is None and self._version_header:
            named = {name.casefold(): value for name, value in headers.items()}
            found = named.get(self._version_header)
        return "" if found is None or isinstance(found, dict | list) else str(found)[:200]

    def _parts(self, top: Level, call: str, count: int) -> list[Level | AnswerError]:
        if self._images is None:
            return list[Level | AnswerError]([top]) * count
        try:
            parts = list(self._images(top, []))
        except TypeError as error:
            raise UnreadError(f"the answer's images cannot be read: {error}") from error
        if not parts and self._places(top) is MISSING:
            raise UnreadError("no part of the answer is where envelope.images says")
        if self._id is None:
            lacking = AnswerError("the answer does not hold this image")
            return [parts[i] if i < len(parts) else lacking for i in range(count)]
        by_id: dict[str, list[Level]] = {}
        for part in parts:
            by_id.setdefault(str(self._id(part)), []).append(part)
        known = None if self._ids is None else self._ids.by_image(top)
        field = self._fields.get(call, "")
        return [_part_of(_names_of(i, field), by_id, known) for i in range(count)]

    def _one(
        self, part: Level | AnswerError, rules: list[RuleReader], frame: Frame
    ) -> Reading | AnswerError:
        if isinstance(part, AnswerError):
            return part
        try:
            self._refuse_error(part)
        except AnswerError as error:
            return error
        reading, working = Reading(), self._working(part)
        try:
            faults = [(rule, rule.read(part, frame, working, reading)) for rule in rules]
        except Exception as error:  # an answer may hold anything; it costs its own image at most
            return UnreadError(f"reading it failed (unexpected {type(error).__name__})")
        reading.unread = _unread(faults, {one.kind for one in reading.found})
        reading.notes += [
            ("part of the answer not read", fault)
            for rule, fault in faults
            if fault and rule.kind not in reading.unread
        ]
        if not reading.found and (word := job_word(part.value)):
            reason = f"the service has only accepted the job ({word})"
            reading.unread = {rule.kind: reason for rule in rules}
        self._note_failed(part, {rule.kind for rule in rules}, reading)
        self._note_unread(part, reading)
        if self._most is not None and len(reading.found) >= self._most:
            reading.notes.append(("as many findings as the service ever gives", str(self._most)))
        return reading

    def _note_failed(self, part: Level, kinds: set[str], reading: Reading) -> None:
        """Note for which kinds the service says that it failed, in a part of its answer."""
        found = {one.kind for one in reading.found}
        for kind in kinds & set(self._errors):
            said = self._errors[kind](part)
            if said is MISSING or not said:
                continue
            if kind in found:
                reading.notes.append((f"the service reports an error beside {kind}", short(said)))
            else:
                reading.failed[kind] = f"the service answered with an error ({said_by(said)})"
                reading.unread.pop(kind, None)

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
        said = ": ".join(said_by(one) for one in (code, reason) if one)
        text = with_setting(said, self._settings)
        raise AnswerError(f"the service answered with an error ({text})", code=str(code)[:200])

    def _working(self, part: Level) -> tuple[float, float] | None:
        if self._width is None or self._height is None:
            return None
        try:
            sides = number_of(self._width(part)), number_of(self._height(part))
        except SetAside:
            return None
        return sides if all(LEAST_SIDE <= side <= MOST_SIDE for side in sides) else None


class _IdTable:
    """The table that says by which id an answer knows each image; compiled."""

    def __init__(self, ids: Ids) -> None:
        self._rows = compile_each(ids.table, place="table")
        self._image = compile_path(ids.image, place="image")
        self._id = compile_path(ids.id, place="id")

    def by_image(self, top: Level) -> dict[str, str]:
        """Return the id of each image by what was sent of it.

        Raises
        ------
        UnreadError
            If it is no table.
        """
        try:
            rows = list(self._rows(top, []))
        except TypeError as error:
            raise UnreadError(f"the answer's table of ids cannot be read: {error}") from error
        return {_stem(self._image(row)): str(self._id(row)) for row in rows}


def _names_of(position: int, field: str) -> tuple[str, ...]:
    """Return what an image may be called in its answer: its number, its field, its file."""
    filled = (field.replace("{id}", str(position)),) if "{id}" in field else ()
    return (str(position), *filled, f"image-{position}")


def _stem(said: Any) -> str:
    """Return an id without the ending of a file."""
    return re.sub(r"\.[A-Za-z]{2,5}$", "", str(said))


def _part_of(
    names: Sequence[str], by_id: Mapping[str, list[Level]], known: Mapping[str, str] | None
) -> Level | AnswerError:
    """Return the one part of an answer that is about an image, or why there is none."""
    if known is not None:
        wanted = [known[name] for name in names if name in known]
        if not wanted:
            return UnreadError("the answer's table of ids does not name this image")
        found = [part for name in wanted for part in by_id.get(name, ())]
    else:
        found = [p for said, parts in by_id.items() if _stem(said) in names for p in parts]
    if len(found) > 1:
        return UnreadError(f"{len(found)} parts of the answer have the id of this image")
    if not found:
        others = ", ".join(list(by_id)[:4]) or "none"
        return AnswerError(f"the answer does not hold this image; its ids: {others}")
    return found[0]


def _together(parts: Sequence[Reading]) -> Reading:
    """Return the readings of all parts as one; a kind is unread only if it is in each of them."""
    whole = Reading()
    for part in parts:
        whole.found += part.found
        whole.notes += part.notes
        whole.failed |= part.failed
    common = set.intersection(*(set(part.unread) for part in parts)) if parts else set()
    whole.unread = {kind: parts[0].unread[kind] for kind in common}
    return whole


def _unread(faults: list[tuple[RuleReader, str]], found: set[str]) -> dict[str, str]:
    """Return by kind why nothing was read: where nothing was found and a rule has a fault.

    One fault is enough: what its section would have held is not known. A rule whose section may be
    missing says so (``optional``).
    """
    reasons: dict[str, str] = {}
    for kind in {rule.kind for rule, _ in faults} - found:
        own = [fault for rule, fault in faults if rule.kind == kind and fault]
        if own:
            reasons[kind] = "; ".join(dict.fromkeys(own))
    return reasons


def job_word(document: Any) -> str:
    """Return the word by which an answer says that there is none yet; empty if it says no such.

    Parameters
    ----------
    document : object
        Plain values. Of lines of JSON the last one counts: the ones before may tell how it went on.

    Returns
    -------
    str
        Such as ``queued``.
    """
    last = document[-1:] if isinstance(document, list) else [document]
    for level in (Level(value, "", 0, None) for value in last):
        for get in _JOB_PLACES:
            word = get(level)
            if isinstance(word, str) and word.casefold() in _JOB_WORDS:
                return word[:40]
    return ""


_parsed = document_reader()


def _sections_read(description: Description) -> frozenset[str] | None:
    """Return the first names of all paths that a description reads; None if it reads anything."""
    envelope = description.envelope
    paths = [rule.each for rule in description.read]
    paths += [rule.lookup.table for rule in description.read if rule.lookup and rule.lookup.table]
    paths += envelope.errors.values()
    paths += [envelope.id, envelope.error, envelope.reason, envelope.width, envelope.height]
    paths.append(envelope.version)
    if not envelope.images:
        paths.append(envelope.images)
    names = {re.split(r"[.\[{]", path, maxsplit=1)[0] for path in paths if path}
    return (
        None
        if any(rule.each[:1] in ("", "[", "{", "@") for rule in description.read)
        else frozenset(names)
    )
