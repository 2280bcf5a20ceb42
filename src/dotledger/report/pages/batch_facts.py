"""What a ledger knows of a batch, in words for the head of the report."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime

from dotledger.core.kinds import ANSWERED, OUTCOMES
from dotledger.core.spelling import counted
from dotledger.ledger.answer_queries import raw_answers
from dotledger.ledger.batch_queries import Batch, failures, outcome_counts, outcomes_of, sent_images
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import call_figures, call_seconds, versions_of
from dotledger.ledger_findings import asked_settings

__all__ = ["SentFacts", "sent_facts"]

_MOST_REASONS = 8
DASH = "\N{EN DASH}"
_MOST_RAW = 2000
"""Images up to which raw answers go into the page."""


@dataclass(frozen=True, kw_only=True)
class SentFacts:
    """What is shown of one batch.

    Attributes
    ----------
    rows : tuple of (str, str)
        What, and how much.
    outcomes : mapping of str to mapping of str to int
        By kind.
    failures : tuple of (str, int)
        Reasons, the most frequent first.
    by_image : mapping of str to mapping of str to str
        Outcome by image and kind.
    seconds : tuple of float
        Of each call that was answered.
    raw : mapping of str to str
        Raw answers by image; empty where they are too many.
    """

    rows: tuple[tuple[str, str], ...]
    outcomes: dict[str, dict[str, int]]
    failures: tuple[tuple[str, int], ...]
    by_image: dict[str, dict[str, str]]
    seconds: tuple[float, ...]
    raw: dict[str, str] = field(default_factory=dict)

    def words(self) -> list[str]:
        """Return the outcomes that there are, found and empty always."""
        there = {
            word for counts in self.outcomes.values() for word, count in counts.items() if count
        }
        return [word for word in OUTCOMES if word in there or word in ANSWERED]


def sent_facts(ledger: LedgerStore, batch: Batch, *, raw: bool = True) -> SentFacts:
    """Return what the ledger knows of a batch.

    Parameters
    ----------
    raw : bool, default True
        Also the raw answers, up to 2,000 images.

    Returns
    -------
    SentFacts
        The same for the same ledger.
    """
    figures = call_figures(ledger, batch)
    retried = f", {counted(figures.retries, 'retry')}" if figures.retries else ""
    took = f"{figures.median:.2f} s (median), {figures.p95:.2f} s (95 of 100)"
    rows = [
        ("Images", f"{batch.images:,}"),
        ("Sent", f"{_minute(batch.started)} to {_minute(batch.ended) or 'not finished'} UTC"),
        ("Kinds", ", ".join(batch.kinds)),
        ("Calls", f"{figures.calls:,}{retried}"),
        ("Cost", f"{figures.money:,.2f} {batch.currency}"),
        ("Pace", _pace(batch, figures.calls)),
        ("Call time", took if figures.calls else DASH),
    ]
    if asked := asked_settings(batch):
        rows.append(("Settings", ", ".join(f"{name} = {value}" for name, value in asked.items())))
    if versions := versions_of(ledger, batch):
        rows.append(("Version", ", ".join(versions)))
    if batch.stopped_because:
        rows.append(("Stopped early", batch.stopped_because))
    if batch.floor:
        rows.append(("Floor", f"nothing below {batch.floor:g}"))
    if batch.round:
        rows.append(("Round", batch.round))
    reasons = Counter(reason for _, _, _, reason in failures(ledger, batch))
    return SentFacts(
        rows=tuple(rows),
        outcomes=outcome_counts(ledger, batch),
        failures=tuple(reasons.most_common(_MOST_REASONS)),
        by_image=outcomes_of(ledger, batch),
        seconds=tuple(call_seconds(ledger, batch)),
        raw=_raw(ledger, batch) if raw and batch.images <= _MOST_RAW else {},
    )


def _raw(ledger: LedgerStore, batch: Batch) -> dict[str, str]:
    names = {one.position: one.name for one in sent_images(ledger, batch)}
    found: dict[str, str] = {}
    for position, _, answer in raw_answers(ledger, batch, list(names)):
        name = names[position]
        text = answer.decode("utf-8", "replace")
        found[name] = f"{found[name]}\n\n{text}" if name in found else text
    return found


def _minute(moment: str) -> str:
    return moment[:16].replace("T", " ")


def _pace(batch: Batch, calls: int) -> str:
    if not batch.ended or not calls:
        return DASH
    spent = datetime.fromisoformat(batch.ended) - datetime.fromisoformat(batch.started)
    seconds = max(spent.total_seconds(), 1e-3)
    return f"{calls / seconds:.1f} calls a second"
