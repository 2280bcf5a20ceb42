"""Annotations from findings that a person has looked at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_inputs import as_findings
from dotledger.errors import TableError

__all__ = ["REVIEWS", "Reviewed", "annotations_from_review"]

REVIEWS = ("confirmed", "corrected", "added", "wrong", "doubtful")
"""What a person may say of a row.

``confirmed`` as it is; ``corrected``: label or box in the row are the person's; ``added``: a
row of the person's own; ``wrong``: nothing of the kind there; ``doubtful``: can be neither found
nor missed.
"""


@dataclass(frozen=True, eq=False, kw_only=True)
class Reviewed:
    """What `annotations_from_review` returns.

    Attributes
    ----------
    annotations : Annotations
        Of the images that were looked at whole.
    counts : mapping of str to int
        Rows by what was said of them.
    left_out : tuple of str
        Images with rows nobody has looked at; they are not covered.
    """

    annotations: Annotations
    counts: dict[str, int]
    left_out: tuple[str, ...]


def annotations_from_review(findings: Findings, reviews: Sequence[str]) -> Reviewed:
    """Make annotations from findings that a person confirmed, corrected or refused.

    Parameters
    ----------
    findings : Findings
        Length n, with the person's corrections in their rows and the person's own rows added.
    reviews : sequence of str, length n
        One of `REVIEWS` for each row; empty for rows nobody has looked at. Blank rows (answered,
        nothing found) need ``confirmed``.

    Returns
    -------
    Reviewed
        The annotations, counts by word, and the images left out.

    Raises
    ------
    TableError
        If the lengths differ or a word is not one of `REVIEWS`.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.read_findings("found.csv").filter(kind="label")
    >>> review = dotledger.annotations_from_review(found, ["confirmed"] * len(found))
    >>> review.left_out
    ()
    """
    findings = as_findings(findings, "annotations_from_review(findings, reviews)")
    given = [str(one or "").strip().casefold() for one in reviews]
    if len(given) != len(findings):
        raise TableError(
            "columns differ in length", got={"findings": len(findings), "review": len(given)}
        )
    for row, word in enumerate(given):
        if word and word not in REVIEWS:
            raise TableError(
                "unknown review",
                place=f"row {row}, column review",
                got=word,
                row=row,
                allowed=REVIEWS,
            )
    words = np.array(given, dtype=object)
    unfinished = set(findings.image.take(words == "").used())
    whole = ~findings.image.among(sorted(unfinished))
    kept = whole & ~findings.blank & np.isin(words, ["confirmed", "corrected", "added", "doubtful"])
    covered = findings.take(whole).image.used()
    rows = findings.take(kept)
    empty = sorted(set(covered) - set(rows.image.used()))
    image = [*rows.image.values().tolist(), *empty]
    blank = [""] * len(empty)
    box = np.vstack([rows.box, np.full((len(empty), 4), np.nan)])
    annotations = Annotations.from_columns(
        image=image,
        kind=Coded.of([*rows.kind.values().tolist(), *blank]),
        label=Coded.of([*rows.label.values().tolist(), *blank]),
        x0=box[:, 0],
        y0=box[:, 1],
        x1=box[:, 2],
        y1=box[:, 3],
        ignore=np.r_[words[kept] == "doubtful", np.zeros(len(empty), dtype=bool)].astype(bool),
        details=None if rows.details is None else [*rows.details, *[None] * len(empty)],
    )
    return Reviewed(
        annotations=annotations,
        counts=dict(Counter(word or "not looked at" for word in given)),
        left_out=tuple(sorted(unfinished)),
    )
