"""The worklist as a sheet: out as CSV, filled in, and back into the ledger."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from dotledger.acting.reviewing.review_worklist import Work, Worklist
from dotledger.core.decisions.human_decisions import FINDING_WORDS, IMAGE_WORDS, Review
from dotledger.core.tables.name_codes import Coded
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.csv_columns import read_csv
from dotledger.formats.tables.findings_files import write_rows
from dotledger.ledger.human_review_log import keep_reviews
from dotledger.safe_files import whole_file

__all__ = ["COLUMNS", "read_sheet", "write_sheet"]

COLUMNS = ("image", "finding", "kind", "label", "confidence", "box", "reasons")
"""What stands in the sheet; a person fills in ``decision`` and, for a wrong label, ``right_label``.

The row of an image has no finding; those of its findings follow.
"""


def write_sheet(worklist: Worklist, path: str | os.PathLike[str]) -> int:
    """Write the worklist, whole or not at all.

    Parameters
    ----------
    worklist : Worklist
        What is to be looked at.
    path : path-like
        A CSV file; replaced if it exists.
    """
    rows = [row for work in worklist.work for row in _rows(work)]
    with whole_file(Path(path)) as draft:
        write_rows(draft, (*COLUMNS, "decision", "right_label"), rows)
    return len(worklist.work)


def _rows(work: Work) -> list[tuple[str, ...]]:
    rows: list[tuple[str, ...]] = [
        (work.image, "", "", "", "", "", "; ".join(work.reasons), "", "")
    ]
    for one in work.found:
        box = "" if one.box is None else " ".join(f"{side:.1f}" for side in one.box)
        number = "" if one.confidence is None else f"{one.confidence:.4g}"
        rows.append((work.image, str(one.row), one.kind, one.label, number, box, "", "", ""))
    return rows


def read_sheet(worklist: Worklist, path: str | os.PathLike[str], *, who: str) -> int:
    """Read a sheet that was filled in, and keep what was decided: all of it or nothing.

    Parameters
    ----------
    path : path-like
        A CSV file with the columns ``image``, ``finding``, ``decision`` and ``right_label``; rows
        without a decision say nothing.
    who : str
        The person who filled it in.

    Raises
    ------
    TableError
        Naming row and column of what cannot be meant.
    """
    wanted = ("image", "finding", "label", "decision", "right_label")
    table = read_csv(Path(path), list(wanted)).result()
    missing = [name for name in ("image", "finding", "decision") if table.get(name) is None]
    if missing:
        raise TableError(f"the sheet has no column {missing[0]!r}", place=str(path))
    number = len(table["image"])
    columns = [_texts(table.get(name), number) for name in wanted]
    rows = {work.image: {one.row: one.label for one in work.found} for work in worklist.work}
    made = []
    for line, cells in enumerate(zip(*columns, strict=True), 2):
        image, finding, label, decision, right = cells
        if not decision and not right:
            continue
        place = f"{path}, row {line}"
        if image not in rows:
            raise TableError("no image of this worklist", place=place, got=image)
        row = _row_of(finding, rows[image], label, place)
        try:
            word = " ".join(decision.casefold().split())
            made.append(
                Review(image=image, row=row, who=who, made=worklist.now(), word=word, label=right)
            )
        except ArgumentError as error:
            raise TableError(
                error.message,
                place=f"{place}, column {'right_label' if error.place == 'label' else 'decision'}",
                got=error.got,
                allowed=FINDING_WORDS if row else IMAGE_WORDS,
            ) from error
    keep_reviews(worklist.ledger, worklist.batch, made)
    return len(made)


def _texts(column: Any, number: int) -> list[str]:
    if column is None:
        return [""] * number
    cells = column.values().tolist() if isinstance(column, Coded) else list(column)
    return ["" if cell is None or cell != cell else str(cell).strip() for cell in cells]


def _row_of(finding: str, known: dict[int, str], label: str, place: str) -> int:
    """Return which finding a row is about; its label must be the one that it has."""
    if not finding:
        return 0
    row = int(finding) if finding.isascii() and finding.isdigit() else -1
    if row not in known:
        raise TableError(
            "no finding of this image", place=f"{place}, column finding", got=finding,
            allowed=[str(one) for one in known][:20],
        )  # fmt: skip
    if label and label != known[row]:
        raise TableError(
            "the finding has another label: the sheet is of another reading, or rows were mixed",
            place=f"{place}, column label",
            got=label,
            allowed=[known[row]],
        )
    return row
