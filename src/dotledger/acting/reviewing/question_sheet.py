"""Questions to a person about pictures, without what any service found; the answers as a run.

A sheet has a row for each picture, in an order drawn for the person, and a column for each
question. What comes back is kept in the ledger like a service's answers: it is measured, compared
and agreed with theirs by the same commands.
"""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from dotledger.core.kinds import KINDS
from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.csv_columns import first_names, read_csv
from dotledger.formats.tables.findings_files import write_rows
from dotledger.ledger.batch_queries import Batch, sent_images
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.safe_files import whole_file

__all__ = [
    "ANSWERS",
    "AnswerSheet",
    "questions_given",
    "read_question_sheet",
    "write_question_sheet",
]

ANSWERS = {"yes": 1.0, "unsure": 0.5, "no": 0.0}
"""What may be answered, and the confidence that it is kept with; ``no`` is kept as not found."""
_PRESENCE = tuple(name for name, kind in KINDS.items() if kind.judged == "presence")
_FIXED = ("number", "image", "file")
Questions = Mapping[str, tuple[str, ...]]


@dataclass(frozen=True, kw_only=True)
class AnswerSheet:
    """A sheet that was filled in.

    Attributes
    ----------
    questions : mapping of str to tuple of str
        Labels by kind.
    answers : mapping of str to mapping
        By image, the answer to each (kind, label); images with all of them.
    partly, empty : tuple of str
        Images with some answers and with none; neither is kept.
    others : tuple of str
        Columns that are no questions; what is in them is not kept.
    """

    questions: Questions
    answers: Mapping[str, Mapping[tuple[str, str], str]]
    partly: tuple[str, ...]
    empty: tuple[str, ...]
    others: tuple[str, ...] = ()


def questions_given(texts: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """Return labels by kind from texts such as ``label:lantern,basket`` and ``unsafe:smoke``.

    Raises
    ------
    ArgumentError
        If a kind is not judged by presence, there is no label, or one is asked twice.
    """
    found: dict[str, tuple[str, ...]] = {}
    for text in texts:
        kind, _, listed = text.partition(":")
        labels = [" ".join(label.split()) for label in listed.split(",") if label.strip()]
        if kind.strip() not in _PRESENCE or not labels:
            raise ArgumentError(
                "not a question",
                place="ask",
                got=text,
                allowed=[f"{name}:LABEL,LABEL" for name in _PRESENCE],
            )
        found[kind.strip()] = (*found.get(kind.strip(), ()), *labels)
    for kind, asked in found.items():
        twice = sorted({label for label in asked if asked.count(label) > 1})
        odd = [label for label in asked if "|" in label or ";" in label]
        if twice or odd:
            fault = "asked twice" if twice else "a label with | or ; cannot be asked"
            raise ArgumentError(fault, place="ask", got=f"{kind}:{(twice or odd)[0]}")
    return found


def write_question_sheet(
    ledger: LedgerStore, batch: Batch, questions: Questions, path: Path, *, seed: str
) -> int:
    """Write a sheet of questions about the images of a batch; return how many images it has.

    Parameters
    ----------
    questions : mapping of str to tuple of str
        Labels by kind.
    path : Path
        A CSV file; replaced if it exists.
    seed : str
        What the order is drawn by, such as the person's name: two persons see two orders.
    """
    sent = [one for one in sent_images(ledger, batch) if one.sha]
    random.Random(seed).shuffle(sent)
    columns = [f"{kind}: {label}" for kind, labels in questions.items() for label in labels]
    rows = [
        (str(number), one.name, one.path, *[""] * len(columns))
        for number, one in enumerate(sent, 1)
    ]
    with whole_file(path) as draft:
        write_rows(draft, (*_FIXED, *columns), rows)
    return len(rows)


def read_question_sheet(path: Path, known: Sequence[str]) -> AnswerSheet:
    """Read a sheet that was filled in.

    Parameters
    ----------
    known : sequence of str
        Names of the images of the batch.

    Raises
    ------
    TableError
        Naming row and column: an answer that is not one of `ANSWERS`, an image that is not in the
        batch or appears twice. Or if the sheet asks nothing, or names no images.
    """
    header, others = _header(path)
    asked = [tuple(part.strip() for part in name.split(": ", 1)) for name in header]
    questions: dict[str, tuple[str, ...]] = {}
    for kind, label in asked:
        questions[kind] = (*questions.get(kind, ()), label)
    table = read_csv(path, ["image", *header]).result()
    images = [str(cell or "") for cell in _cells(table["image"])]
    columns = [[_word(cell) for cell in _cells(table[name])] for name in header]
    answers: dict[str, dict[tuple[str, str], str]] = {}
    partly, empty, there = [], [], set(known)
    for row, (image, *words) in enumerate(zip(images, *columns, strict=True), 2):
        place = f"{path}, row {row}"
        if image not in there:
            near = nearest(image, known, most=3)
            raise TableError("no image of the batch", place=place, got=image, allowed=near)
        if image in answers or image in partly or image in empty:
            raise TableError("this image is in the sheet twice", place=place, got=image)
        for name, word in zip(header, words, strict=True):
            if word and word not in ANSWERS:
                raise TableError(
                    "no answer", place=f"{place}, column {name}", got=word, allowed=ANSWERS
                )
        if not any(words):
            empty.append(image)
        elif not all(words):
            partly.append(image)
        else:
            answers[image] = {(k, n): word for (k, n), word in zip(asked, words, strict=True)}
    return AnswerSheet(
        questions=questions,
        answers=answers,
        partly=tuple(partly),
        empty=tuple(empty),
        others=others,
    )


def _header(path: Path) -> tuple[list[str], tuple[str, ...]]:
    """Return the columns that are questions, and those that are not."""
    every = first_names(path)
    if "image" not in every:
        raise TableError("the sheet has no column 'image'", place=str(path))
    names = [name for name in every if name not in _FIXED]
    asked = [name for name in names if name.partition(": ")[0] in _PRESENCE and ": " in name]
    if not asked:
        raise TableError(
            "no question in this sheet",
            place=str(path),
            got=", ".join(names) or "no further column",
            allowed=["columns such as 'label: lantern'"],
        )
    return asked, tuple(name for name in names if name not in asked)


def _cells(column: Any) -> list[Any]:
    return list(column.values()) if hasattr(column, "names") else list(column)


def _word(cell: Any) -> str:
    return "" if cell is None or cell != cell else " ".join(str(cell).casefold().split())
