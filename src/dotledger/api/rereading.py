"""Reading stored answers again: a new reading next to the old, nothing sent, nothing lost."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from itertools import chain

import numpy as np
from msgspec import Struct

from dotledger.core.boxes.image_frames import Frame
from dotledger.core.kinds import ANSWERED
from dotledger.core.measurement.suspicious_readings import suspicions
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.label_name_mapping import NameMap
from dotledger.errors import AnswerError, UnreadError
from dotledger.json_codec import AsData, to_json
from dotledger.ledger.answer_queries import KeptAnswer, kept_answers
from dotledger.ledger.batch_queries import Batch, find_batch, kept_sizes, outcome_counts
from dotledger.ledger.finding_queries import (
    findings_without_answer,
    load_findings,
    notes_of,
    reading_notes,
)
from dotledger.ledger.ledger_records import finding_row
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.ledger_writing import ReadingWriter
from dotledger.reading.rule_reader import Reading
from dotledger.services.answer_reading import Reader
from dotledger.services.service_description import Description

__all__ = ["ReadingDifference", "Reread", "differences", "reread", "suspicions_of"]


class ReadingDifference(Struct, frozen=True, kw_only=True):
    """One finding that only one of two readings has; ``was`` or ``is``.

    `confidence` is NaN and `box` empty where there is none; `details` are attributes, points,
    outline and broader labels as JSON.
    """

    state: str
    image: str
    kind: str
    label: str
    confidence: float
    box: tuple[float, ...] = ()
    details: str = ""


class Reread(AsData, Struct, frozen=True, kw_only=True):
    """What reading again came to.

    Attributes
    ----------
    reading : int
        The new reading's number, or that of the one before if nothing changed: then no new one
        is kept.
    answers : int
        Answers read.
    unreadable : int
        Answers of which some kind could not be read.
    same : int
        Findings that both readings have.
    differences : list of ReadingDifference
        The others, in the order of the batch.
    suspicions : list of str
        What looks wrong about the new reading as a whole.
    notes : list of (str, str, str)
        Image, reason and value of everything that was set aside or noticed, in the batch's order.
    carried : int
        Images that were answered and whose raw answer was removed since: there is nothing to read
        again, and their findings are those of the earlier reading.
    """

    reading: int
    answers: int
    unreadable: int
    same: int
    differences: list[ReadingDifference]
    suspicions: list[str]
    notes: list[tuple[str, str, str]]
    carried: int = 0


_NOT_ASKED = "not asked when it was sent, and wanted by this reading; a new round asks"


class _Again:
    """Reads kept answers one by one and counts what happens."""

    def __init__(self, batch: Batch, description: Description, names: NameMap | None) -> None:
        self._batch = batch
        self._reader = Reader(description)
        self._names = names
        self._kinds = {
            call.name: tuple(kind for kind in batch.kinds if kind in call.kinds)
            for call in description.call
        }
        self.answers = 0
        self.unreadable = 0
        self.noted: list[tuple[int, str, str]] = []
        self.outcomes: dict[tuple[int, str], tuple[object, ...]] = {}
        self._waiting = [
            (call.only_if, kind)
            for call in description.call
            if call.only_if is not None
            for kind in call.kinds
            if kind in batch.kinds
        ]
        self._wanted: dict[int, list[str]] = {}

    def rows(self, kept: Iterator[KeptAnswer]) -> Iterator[tuple[object, ...]]:
        """Yield finding rows; a blank one for each kind in which an answer holds nothing."""
        for one in kept:
            self.answers += 1
            reading = self._read(one)
            if isinstance(reading, AnswerError):
                self.unreadable += 1
                self._note(one.position, "the answer cannot be read", str(reading))
                outcome = "unread" if isinstance(reading, UnreadError) else "failed"
                for kind in self._kinds_of(one):
                    self._settle(one, kind, outcome, str(reading))
                continue
            self.unreadable += bool(reading.unread)
            for reason, value in reading.notes:
                self._note(one.position, reason, value)
            yield from self._found(one, reading)
            self._note_wanted(one, reading)
        for position, kinds in self._wanted.items():
            for kind in kinds:
                if (position, kind) not in self.outcomes:
                    self._note(position, _NOT_ASKED, kind)

    def _note_wanted(self, one: KeptAnswer, reading: Reading) -> None:
        """Keep in mind which kinds should have been asked for, by what is read now."""
        found = [(f.kind, f.label, f.confidence) for f in reading.found]
        wanted = [kind for only_if, kind in self._waiting if only_if.met_by(found)]
        if wanted:
            self._wanted.setdefault(one.position, []).extend(wanted)

    def _kinds_of(self, one: KeptAnswer) -> tuple[str, ...]:
        return self._kinds.get(one.call, self._batch.kinds)

    def _settle(self, one: KeptAnswer, kind: str, outcome: str, reason: str = "") -> None:
        key = one.position, kind
        self.outcomes[key] = (*key, outcome, reason, one.call_id)

    def _note(self, position: int, reason: str, value: str) -> None:
        self.noted.append((position, reason, value))

    def _read(self, one: KeptAnswer) -> Reading | AnswerError:
        frame = Frame(one.width, one.height, one.sent_width, one.sent_height, one.turned)
        kinds = self._kinds_of(one)
        try:
            return self._reader.read(one.answer, one.call, kinds, [frame] * one.images)[one.place]
        except AnswerError as error:
            return error

    def _found(self, one: KeptAnswer, reading: Reading) -> Iterator[tuple[object, ...]]:
        said, seen = {found.kind for found in reading.found}, set()
        for found in reading.found:
            label = self._named(found.kind, found.label)
            if label:
                seen.add(found.kind)
                details = found.details.to_dict() if found.details else None
                row = finding_row(found.kind, label, found.confidence, found.box, details)
                yield one.position, *row
        for kind in self._kinds_of(one):
            outcome, reason = reading.outcome_of(kind, said)
            self._settle(one, kind, outcome, reason)
            if kind not in seen and outcome in ANSWERED:
                yield one.position, *finding_row(kind, "", None, None, None)

    def _named(self, kind: str, label: str) -> str:
        if self._names is None:
            return label
        named = self._names.becomes(self._batch.service, kind, label)
        return label if named is None else named


# A reading is written in one transaction next to the old ones; `findings --reading N` shows any of
# them.
def reread(
    ledger: LedgerStore,
    batch: Batch,
    description: Description,
    *,
    names: NameMap | None = None,
    about: str = "",
    now: float,
) -> Reread:
    """Apply a description, and a mapping of names, to the stored raw answers of a batch.

    Parameters
    ----------
    ledger : LedgerStore
        Where the batch is; a new reading is written next to the old ones.
    batch : Batch
        See `dotledger.ledger.batch_queries.find_batch`; its reading is what is compared with.
    description : Description
        Only its reading rules and envelope matter.
    names : NameMap, optional
        Label names to use instead; findings mapped to nothing are left out.
    about : str
        What the reading is made with, for people.
    now : float
        Seconds since 1970.

    Raises
    ------
    LedgerError
        If the ledger cannot be read or written; then there is no new reading.
    """
    again = _Again(batch, description, names)
    writer = ReadingWriter(ledger, batch.id, about, now)
    before = load_findings(ledger, batch), notes_of(ledger, batch), outcome_counts(ledger, batch)
    carried = list(findings_without_answer(ledger, batch))
    writer.write_all(
        chain(again.rows(kept_answers(ledger, batch)), carried),
        _noted(again, ledger, batch, {int(str(row[0])) for row in carried}),
        _later(again.outcomes),
    )
    anew = find_batch(ledger, batch=batch.id, reading=writer.reading)
    new, noted = load_findings(ledger, anew), notes_of(ledger, anew)
    same, listed = differences(before[0], new)
    unchanged = (
        not listed
        and len(new) == len(before[0])
        and before[1:]
        == (
            noted,
            outcome_counts(ledger, anew),
        )
    )
    if unchanged:
        writer.forget()
    return Reread(
        reading=batch.reading if unchanged else writer.reading,
        answers=again.answers,
        unreadable=again.unreadable,
        same=same,
        differences=listed,
        suspicions=suspicions_of(ledger, anew, new, description),
        notes=noted,
        carried=len({row[0] for row in carried}),
    )


def suspicions_of(
    ledger: LedgerStore, batch: Batch, findings: Findings, description: Description
) -> list[str]:
    """Return what looks wrong in the findings of a batch as a whole."""
    sizes = {n: (s["width"], s["height"]) for n, s in kept_sizes(ledger, batch).items()}
    return suspicions(findings, sizes, description.attribute_names)


def _noted(
    again: _Again, ledger: LedgerStore, batch: Batch, carried: set[int]
) -> Iterator[tuple[object, ...]]:
    """Yield what was noticed now; of images that were not read again, what was noticed before."""
    yield from again.noted
    left = carried - {position for position, _ in again.outcomes}
    yield from (row for row in reading_notes(ledger, batch) if row[0] in left)


def _later(outcomes: dict[tuple[int, str], tuple[object, ...]]) -> Iterator[tuple[object, ...]]:
    """Yield rows that are known only when everything before was written."""
    yield from outcomes.values()


def differences(old: Findings, new: Findings) -> tuple[int, list[ReadingDifference]]:
    """Return how many findings two tables share, and the others.

    Returns
    -------
    tuple of int and list of ReadingDifference
        Equal findings count as often as they stand on both sides.
    """
    before, after = Counter(_keys(old)), Counter(_keys(new))
    gone, come = before - after, after - before
    listed = [_difference("was", key) for key in gone.elements()]
    listed += [_difference("is", key) for key in come.elements()]
    return sum((before & after).values()), sorted(listed, key=lambda d: (d.image, d.kind, d.label))


def _keys(table: Findings) -> list[tuple[object, ...]]:
    shown = table.take(~table.blank)
    box = np.round(np.nan_to_num(shown.box, nan=-1.0), 3)
    confidence = np.round(np.nan_to_num(shown.confidence, nan=-1.0), 6)
    columns = (shown.image.values(), shown.kind.values(), shown.label.values(), confidence, *box.T)
    rows = zip(shown.details or [None] * len(shown), shown.confidence.tolist(), strict=True)
    details = [_as_text(one, own) for one, own in rows]
    return list(zip(*(column.tolist() for column in columns), details, strict=True))


def _as_text(details: Details | None, confidence: float) -> str:
    """Return what one finding has next to its row, in one order; without what reading noticed.

    Earlier versions kept the service's own confidence also where it is the finding's.
    """
    parts = {} if details is None else details.to_dict()
    parts.pop("notes", None)
    if parts.get("own_confidence") == confidence:
        del parts["own_confidence"]
    return to_json(parts, ordered=True).decode() if parts else ""


def _difference(state: str, key: tuple[object, ...]) -> ReadingDifference:
    image, kind, label, confidence = key[:4]
    box = tuple(float(str(value)) for value in key[4:8])
    certain = float(str(confidence))
    return ReadingDifference(
        state=state,
        image=str(image),
        kind=str(kind),
        label=str(label),
        confidence=np.nan if certain < 0 else certain,
        box=box if box != (-1.0,) * 4 else (),
        details=str(key[8]),
    )
