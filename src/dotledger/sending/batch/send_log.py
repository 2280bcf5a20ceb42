"""What happens to an image, put into its record: what was read, kept, and not asked."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import AnswerError, UnreadError
from dotledger.ledger.ledger_records import CallRecord, ItemRecord, OutcomeRecord, finding_row
from dotledger.sending.policies.conditional_calls import Fate, not_asked
from dotledger.services.service_description import Call

if TYPE_CHECKING:
    from dotledger.ledger.answer_queries import StoredAnswer
    from dotledger.reading.rule_reader import Reading
    from dotledger.services.answer_reading import Reader

__all__ = ["found_in", "note_kept", "note_not_asked", "note_reading"]


def note_reading(
    record: ItemRecord,
    reading: Reading,
    kinds: Sequence[str],
    call: CallRecord | None,
    call_id: int | None,
) -> None:
    """Put what was read out of one answer into an image's record.

    Parameters
    ----------
    kinds : sequence of str
        Those the call was made for.
    """
    seen = {found.kind for found in reading.found}
    for kind in kinds:
        outcome, reason = reading.outcome_of(kind, seen)
        record.outcomes.append(
            OutcomeRecord(kind=kind, outcome=outcome, reason=reason, call=call, call_id=call_id)
        )
    record.found += [
        finding_row(
            f.kind, f.label, f.confidence, f.box, f.details.to_dict() if f.details else None
        )
        for f in reading.found
    ]
    record.notes += reading.notes


def note_kept(
    record: ItemRecord,
    kept: StoredAnswer,
    name: str,
    kinds: Sequence[str],
    frame: Frame,
    reader: Reader,
) -> None:
    """Put what a kept answer says into an image's record.

    Parameters
    ----------
    name : str
        Of the call that it answers.
    """
    reading: Reading | AnswerError
    try:
        reading = reader.read(kept.answer, name, kinds, [frame] * kept.images)[kept.place]
    except AnswerError as error:
        reading = error
    if not isinstance(reading, AnswerError):
        note_reading(record, reading, kinds, None, kept.call_id)
        return
    outcome = "unread" if isinstance(reading, UnreadError) else "failed"
    record.outcomes += [
        OutcomeRecord(kind=kind, outcome=outcome, reason=str(reading), call_id=kept.call_id)
        for kind in kinds
    ]


def note_not_asked(record: ItemRecord, call: Call, kinds: Sequence[str], fate: Fate) -> None:
    """Put into an image's record that a call was left out.

    Parameters
    ----------
    kinds : sequence of str
        Those it would have been made for.
    """
    assert call.only_if is not None
    outcome, reason = not_asked(call.only_if, fate)
    record.outcomes += [OutcomeRecord(kind=k, outcome=outcome, reason=reason) for k in kinds]


def found_in(
    record: ItemRecord,
) -> tuple[dict[str, str], list[tuple[str, str, float | None]]]:
    """Return the outcomes by kind, and what was found, of an image's record.

    Returns
    -------
    tuple of dict and list
        As `fate_of` takes them.
    """
    outcomes = {one.kind: one.outcome for one in record.outcomes}
    return outcomes, [(str(row[0]), str(row[1]), row[2]) for row in record.found]
