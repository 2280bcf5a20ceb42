"""Reading stored answers again: a new reading beside the old, nothing sent, nothing lost."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from dotledger.core.tables import Findings
from dotledger.core.vocabulary import NameMap
from dotledger.errors import AnswerError
from dotledger.ledger.records import finding_row
from dotledger.ledger.store import Ledger
from dotledger.ledger.views import Batch, KeptAnswer, find_batch, kept_answers, load_findings
from dotledger.ledger.writing import ReadingWriter
from dotledger.services.description import Description
from dotledger.services.frames import Frame
from dotledger.services.reading import Reader, Reading

__all__ = ["Difference", "Reread", "differences", "reread"]


class Difference(Struct, frozen=True, kw_only=True):
    """One finding that only one of two readings has; ``was`` or ``is``.

    `confidence` is NaN and `box` empty where there is none.
    """

    state: str
    image: str
    kind: str
    label: str
    confidence: float
    box: tuple[float, ...] = ()


class Reread(Struct, frozen=True, kw_only=True):
    """What reading again came to.

    Attributes
    ----------
    reading : int
        The new reading's number.
    answers : int
        Answers read.
    unreadable : int
        Answers that could not be read.
    same : int
        Findings that both readings have.
    differences : list of Difference
        The others, in the order of the batch.
    """

    reading: int
    answers: int
    unreadable: int
    same: int
    differences: list[Difference]


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

    def rows(self, kept: Iterator[KeptAnswer]) -> Iterator[tuple[object, ...]]:
        """Yield finding rows; a blank one for each kind in which an answer holds nothing."""
        for one in kept:
            self.answers += 1
            reading = self._read(one)
            if isinstance(reading, AnswerError):
                self.unreadable += 1
                self._note(one.position, "the answer cannot be read", str(reading))
                continue
            for reason, value in reading.notes:
                self._note(one.position, reason, value)
            yield from self._found(one, reading)

    def _note(self, position: int, reason: str, value: str) -> None:
        self.noted.append((position, reason, value))

    def _read(self, one: KeptAnswer) -> Reading | AnswerError:
        frame = Frame(one.width, one.height, one.sent_width, one.sent_height, one.turned)
        kinds = self._kinds.get(one.call, self._batch.kinds)
        try:
            return self._reader.read(one.answer, one.call, kinds, [frame] * one.images)[one.place]
        except AnswerError as error:
            return error

    def _found(self, one: KeptAnswer, reading: Reading) -> Iterator[tuple[object, ...]]:
        seen = set()
        for found in reading.found:
            label = self._named(found.kind, found.label)
            if label:
                seen.add(found.kind)
                details = found.details.to_dict() if found.details else None
                row = finding_row(found.kind, label, found.confidence, found.box, details)
                yield one.position, *row
        for kind in self._kinds.get(one.call, self._batch.kinds):
            if kind not in seen:
                yield one.position, *finding_row(kind, "", None, None, None)

    def _named(self, kind: str, label: str) -> str:
        if self._names is None:
            return label
        named = self._names.becomes(self._batch.service, kind, label)
        return label if named is None else named


def reread(
    ledger: Ledger,
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
    ledger : Ledger
        Where the batch is; a new reading is written beside the old ones.
    batch : Batch
        See `dotledger.ledger.views.find_batch`; its reading is what is compared with.
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
    writer.write_all(again.rows(kept_answers(ledger, batch)), (row for row in again.noted))
    new = load_findings(ledger, find_batch(ledger, batch=batch.id, reading=writer.reading))
    same, listed = differences(load_findings(ledger, batch), new)
    return Reread(
        reading=writer.reading,
        answers=again.answers,
        unreadable=again.unreadable,
        same=same,
        differences=listed,
    )


def differences(old: Findings, new: Findings) -> tuple[int, list[Difference]]:
    """Return how many findings two tables share, and the others."""
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
    return list(zip(*(column.tolist() for column in columns), strict=True))


def _difference(state: str, key: tuple[object, ...]) -> Difference:
    image, kind, label, confidence = key[:4]
    box = tuple(float(str(value)) for value in key[4:])
    certain = float(str(confidence))
    return Difference(
        state=state,
        image=str(image),
        kind=str(kind),
        label=str(label),
        confidence=np.nan if certain < 0 else certain,
        box=box if box != (-1.0,) * 4 else (),
    )
