"""Keep a person's answers as a batch of the ledger, like a service's.

Each image is one call that cost nothing, with the answer as JSON: it can be shown, read again,
measured, compared and removed like any other.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping

from dotledger.acting.reviewing.question_sheet import ANSWERS, AnswerSheet
from dotledger.core.kinds import KINDS
from dotledger.core.tables.asked_labels import questions_text
from dotledger.core.tables.table_origin import QUESTIONS
from dotledger.errors import ArgumentError
from dotledger.json_codec import to_json
from dotledger.ledger.batch_queries import (
    Batch,
    Sent,
    batch_of_key,
    image_records,
    sent_images,
)
from dotledger.ledger.ledger_records import (
    BatchOpening,
    CallRecord,
    ImageRecord,
    ItemRecord,
    OutcomeRecord,
    SentRecord,
    finding_row,
)
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.ledger_writing import BatchWriter
from dotledger.services.service_description import parse_description

__all__ = ["keep_answers"]

_CALL = "sheet"
_TEXT = """
service = "{service}"
[connect]
address = "http://{service}.invalid"
[connect.key]
place = "none"
sources = []
[[call]]
name = "sheet"
kinds = [{kinds}]
path = "/"
"""
_READ = """
[[read]]
kind = "{kind}"
each = "{kind}[]"
label = "label"
confidence = {{ at = "share" }}
"""
"""A description that reads the answers kept; nobody can be called by it."""


def keep_answers(
    ledger: LedgerStore, batch: Batch, sheet: AnswerSheet, *, who: str, now: float
) -> int:
    """Keep a person's answers as a batch of their own; return its number.

    Parameters
    ----------
    batch : Batch
        Whose images they are about.
    who : str
        The person; the batch's service is named after them.
    now : float
        Seconds since 1970.

    Raises
    ------
    ArgumentError
        If nothing was answered, the name holds no letter, or these answers were kept before.
    LedgerError
        If they cannot be written.
    """
    if not sheet.answers:
        raise ArgumentError("no image was answered in the sheet", place="sheet", got=0)
    known = {one.name: one for one in sent_images(ledger, batch)}
    opening = _opening(batch, sheet, who, known)
    if (same := batch_of_key(ledger, opening.key)) is not None:
        raise ArgumentError(
            "these answers are in the ledger already", place="sheet", got=f"batch {same}"
        )
    files = image_records(ledger, [known[name].sha for name in sheet.answers])
    writer = BatchWriter(ledger, opening, now)
    writer.add_items()
    writer.write(
        [
            _record(place, ImageRecord(*files[known[name].sha]), sheet.answers[name], now)
            for place, name in enumerate(sheet.answers)
        ]
    )
    writer.close(now)
    return writer.batch


def _service(who: str) -> str:
    """Return a person's name as services are named."""
    plain = re.sub(r"[^a-z0-9]+", "-", who.casefold()).strip("-")
    if not plain or not plain[0].isalpha():
        raise ArgumentError(
            "findings are named after the person: a name that begins with a letter from a to z",
            place="who",
            got=who,
        )
    return plain


def _opening(batch: Batch, sheet: AnswerSheet, who: str, known: Mapping[str, Sent]) -> BatchOpening:
    service = _service(who)
    told = [
        service,
        batch.id,
        sorted((name, sorted(a.items())) for name, a in sheet.answers.items()),
    ]
    key = hashlib.sha256(b"sheet" + to_json(told)).hexdigest()
    kinds = tuple(kind for kind in KINDS if kind in sheet.questions)
    text = _TEXT.format(service=service, kinds=", ".join(f'"{kind}"' for kind in kinds))
    text += "".join(_READ.format(kind=kind) for kind in kinds)
    return BatchOpening(
        key=key,
        service=service,
        fingerprint=key,
        kinds=kinds,
        settings={"who": who, QUESTIONS: questions_text(sheet.questions)},
        description=parse_description(text).to_json(),
        source=f"a sheet of questions about batch {batch.id}",
        floor=None,
        currency="",
        names=list(sheet.answers),
        paths=[known[name].path for name in sheet.answers],
    )


def _record(
    position: int, image: ImageRecord, answers: Mapping[tuple[str, str], str], now: float
) -> ItemRecord:
    told: dict[str, list[dict[str, object]]] = {kind: [] for kind, _ in answers}
    for (kind, label), word in answers.items():
        if ANSWERS[word]:
            told[kind].append({"label": label, "share": ANSWERS[word]})
    call = CallRecord(
        call=_CALL,
        started=now,
        seconds=0.0,
        attempts=1,
        status=200,
        sent_bytes=0,
        images=1,
        price=0.0,
        reason="",
        media_type="application/json",
        answer=to_json(told),
    )
    return ItemRecord(
        position=position,
        image=image,
        sent=SentRecord(image.width, image.height, 0, 1, None, ()),
        outcomes=[
            OutcomeRecord(kind=kind, outcome="found" if found else "empty", call=call)
            for kind, found in told.items()
        ],
        found=[
            finding_row(kind, str(one["label"]), float(str(one["share"])), None, None)
            for kind, found in told.items()
            for one in found
        ],
        answered=[(_CALL, call, 0)],
    )
