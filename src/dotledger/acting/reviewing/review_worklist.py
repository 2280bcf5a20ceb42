"""What a person is to look at: images with the reasons that they are held for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np

from dotledger.core.copies.image_fingerprints import Prints
from dotledger.core.decisions.decide import decide
from dotledger.core.decisions.human_decisions import Review, newest
from dotledger.core.decisions.rule_conditions import Rules
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.images.image_gathering import Item
from dotledger.images.image_prints import prints_of
from dotledger.ledger.batch_queries import Batch, find_batch, kept_sizes, outcomes_of, sent_images
from dotledger.ledger.human_review_log import keep_reviews, reviews_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger_findings import findings_of, kept_items

__all__ = ["Found", "Work", "Worklist", "open_worklist"]


_VEILED_FROM = 0.1
"""Far below what anybody would block: some services name every category, at 0.00 too."""


@dataclass(frozen=True, kw_only=True)
class Found:
    """One finding of an image.

    Attributes
    ----------
    row : int
        From 1, in the order of the answer.
    kind, label : str
        As read.
    confidence : float or None
        None where it is asserted without one.
    box : tuple of float or None
        In pixels of the upright original.
    details : Details or None
        Attributes, landmarks and outline.
    """

    row: int
    kind: str
    label: str
    confidence: float | None
    box: tuple[float, ...] | None
    details: Details | None = None


@dataclass(frozen=True, kw_only=True)
class Work:
    """One image to look at.

    Attributes
    ----------
    position : int
        In the batch.
    image : str
        Its name.
    item : Item
        To be read; fails if it is gone or changed since it was sent.
    verdict : str
        Of the rules; empty without.
    reasons : tuple of str
        Of the verdict.
    found : tuple of Found
        Everything that was found in it.
    size : (float, float) or None
        Width and height of the upright original; None if it was never read.
    unsafe : bool
        Whether something unsafe may be seen: it is shown only when asked for.
    """

    position: int
    image: str
    item: Item
    verdict: str
    reasons: tuple[str, ...]
    found: tuple[Found, ...]
    size: tuple[float, float] | None
    unsafe: bool


class Worklist:
    """Images of one batch, and what persons decide about them.

    Parameters
    ----------
    ledger : LedgerStore
        Open for writing; it stays open.
    work : sequence of Work
        In the order to be looked at.
    wall : callable
        The time in seconds since 1970.
    tripped : sequence of int, optional
        Findings that the rules hold images for; None without rules.
    """

    def __init__(
        self,
        ledger: LedgerStore,
        batch: Batch,
        findings: Findings,
        work: Sequence[Work],
        wall: Callable[[], float],
        tripped: Sequence[int] | None = None,
    ) -> None:
        self.tripped = tripped
        self.ledger, self.batch, self.findings = ledger, batch, findings
        self.work = tuple(work)
        self._wall = wall

    def decide(self, image: str, row: int, who: str, word: str, label: str = "") -> Review:
        """Keep one decision; see `Review` for what may be said.

        Raises
        ------
        ArgumentError
            If it cannot be said there.
        LedgerError
            If it cannot be written.
        """
        made = Review(image=image, row=row, who=who, made=self.now(), word=word, label=label)
        keep_reviews(self.ledger, self.batch, [made])
        return made

    def undo(self, who: str) -> Review | None:
        """Take back a person's last decision that still counts; None if there is none."""
        mine = [one for one in newest(self.reviews()).values() if one.who == who]
        if not mine:
            return None
        last = mine[-1]
        self.decide(last.image, last.row, who, "undone")
        return last

    def reviews(self) -> list[Review]:
        """Return every decision so far, in order."""
        return reviews_of(self.ledger, self.batch)

    def now(self) -> str:
        """Return the time in UTC."""
        return datetime.fromtimestamp(self._wall(), UTC).isoformat(timespec="milliseconds")


def open_worklist(
    ledger: LedgerStore,
    *,
    rules: Rules | None = None,
    batch: int | None = None,
    service: str | None = None,
    wall: Callable[[], float],
) -> Worklist:
    """Return what a person is to look at.

    Parameters
    ----------
    rules : Rules, optional
        The images they hold, the most confident reason first; without rules every image in which
        something was found, in the order of the batch.
    batch, service
        Which batch; by default the newest.
    wall : callable
        The time in seconds since 1970.

    Raises
    ------
    LedgerError
        If there is no such batch.
    ArgumentError
        If the rules do not fit the findings.
    """
    kept = find_batch(ledger, batch=batch, service=service)
    findings = findings_of(ledger, batch=kept.id)
    sent = sent_images(ledger, kept)
    items = dict(zip([one.name for one in sent], kept_items(sent, ledger), strict=True))
    places = {one.name: one.position for one in sent}
    sizes = {name: (one["width"], one["height"]) for name, one in kept_sizes(ledger, kept).items()}
    found = _found(findings)
    work = []
    prints = prints_of(items.values()) if rules is not None and rules.looks_at_copies else None
    asked, tripped = _asked(findings, rules, outcomes_of(ledger, kept), sizes, prints)
    for image, verdict, reasons in asked:
        work.append(
            Work(
                position=places[image],
                image=image,
                item=items[image],
                verdict=verdict,
                reasons=reasons,
                found=tuple(found.get(image, ())),
                size=sizes.get(image),
                unsafe=any(map(_may_be_unsafe, found.get(image, ()))),
            )
        )
    return Worklist(ledger, kept, findings, work, wall, tripped)


def _may_be_unsafe(one: Found) -> bool:
    return one.kind == "unsafe" and (one.confidence is None or one.confidence >= _VEILED_FROM)


def _asked(
    findings: Findings, rules: Rules | None, outcomes: Any, sizes: Any, prints: Prints | None
) -> tuple[list[tuple[str, str, tuple[str, ...]]], list[int] | None]:
    if rules is None:
        had = dict.fromkeys(findings.image.take(~findings.blank).values().tolist())
        return [(image, "", ()) for image in had], None
    decided = decide(findings, rules, outcomes=outcomes, sizes=sizes, prints=prints)
    strict = [trip for trip in decided.trips if trip.verdict != "pass"]
    tripped = sorted({row for trip in strict for row in trip.rows.tolist()})
    held = [(one.image, one.verdict, one.reasons) for one in decided if one.verdict == "hold"]
    return held, tripped


def _found(findings: Findings) -> dict[str, list[Found]]:
    images, kinds = findings.image.values(), findings.kind.values()
    labels = findings.label.values()
    found: dict[str, list[Found]] = {}
    for row in np.flatnonzero(~findings.blank).tolist():
        mine = found.setdefault(str(images[row]), [])
        confidence, box = float(findings.confidence[row]), findings.box[row]
        mine.append(
            Found(
                row=len(mine) + 1,
                kind=str(kinds[row]),
                label=str(labels[row]),
                confidence=None if np.isnan(confidence) else confidence,
                box=None if np.isnan(box[0]) else tuple(box.tolist()),
                details=findings.details[row] if findings.details is not None else None,
            )
        )
    return found
