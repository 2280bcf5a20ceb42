"""Drift out of a ledger: runs with what the ledger knows of them, and the watch over its rounds."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Sequence
from dataclasses import dataclass

from dotledger.core.arguments import MOST_SEED, whole_number
from dotledger.core.comparison.drift_figures import fields_of
from dotledger.core.comparison.drift_runs import RunFacts
from dotledger.core.comparison.planned_looks import PLANNED, Look, Watch, WatchedRound, look_at
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import ArgumentError, LedgerError
from dotledger.json_codec import from_json, to_json
from dotledger.ledger.answer_queries import raw_answers
from dotledger.ledger.batch_queries import Batch, batches, find_batch, sent_images
from dotledger.ledger.ledger_access import Ledger, opened_ledger
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.look_log import LookRecord, add_look, looks_since
from dotledger.ledger.usage_queries import call_seconds, versions_of
from dotledger.ledger_findings import findings_of

__all__ = ["run_of_batches", "watch"]

_MOST_ANSWERS = 500
_MOST_PLANNED = 100_000
_NO_ANSWER = "no image was answered"


def run_of_batches(ledger: LedgerStore, numbers: Sequence[int]) -> tuple[Findings, RunFacts]:
    """Return the findings of some batches, and what else the ledger knows about them.

    Parameters
    ----------
    numbers : sequence of int
        Batches of one service; the settings are those of the last.

    Returns
    -------
    tuple of Findings and RunFacts
        With a blank row for every image that was answered and holds nothing.

    Raises
    ------
    LedgerError
        If there is no such batch.
    """
    tables, seconds, asked = [], list[float](), list[str]()
    versions: dict[str, int] = {}
    for number in numbers:
        batch = find_batch(ledger, batch=number)
        tables.append(findings_of(ledger, batch=number))
        seconds += call_seconds(ledger, batch)
        asked += [sent.name for sent in sent_images(ledger, batch)]
        for version, calls in versions_of(ledger, batch).items():
            versions[version] = versions.get(version, 0) + calls
    facts = RunFacts(
        asked=asked,
        seconds=seconds,
        fields=_fields(ledger, batch),
        versions=versions,
        settings=batch.settings,
        service=batch.service,
        # Not the batch's fingerprint: a round of its own has another one.
        described_as=hashlib.sha256(batch.description.encode()).hexdigest(),
    )
    return tables[0] if len(tables) == 1 else Findings.concat(tables), facts


def _fields(ledger: LedgerStore, batch: Batch) -> dict[str, frozenset[str]]:
    """Return the fields of the first answers of a batch that are JSON, by image."""
    found: dict[str, frozenset[str]] = {}
    names = {sent.position: sent.name for sent in sent_images(ledger, batch)[:_MOST_ANSWERS]}
    for position, _, answer in raw_answers(ledger, batch, list(names)):
        image = names[position]
        try:
            found[image] = found.get(image, frozenset()) | fields_of(from_json(answer))
        except ValueError:
            continue
    return found


def watch(
    ledger: Ledger | str | os.PathLike[str],
    since: str | int,
    *,
    service: str | None = None,
    threshold: Threshold = None,
    looks: int | None = None,
    any_images: bool = False,
    seed: int = 0,
) -> Watch:
    """Judge every round after one against it, however often this is called.

    The ledger remembers each look, so that no round is judged twice. All planned looks together
    raise a false alarm in at most 5 of 100 watches.

    Parameters
    ----------
    ledger : Ledger or path
        Looks are written into it.
    since : str or int
        The round to judge by: its name, or the number of its batch.
    service : str, optional
        Whose rounds; may be left out where only one service has such a round.
    threshold : float, str or mapping, optional
        Findings below it do not count. Another threshold looks at the same rounds anew, and spends
        looks of its own.
    looks : int, optional
        How many are planned; 365 if nothing is said at the first look. It cannot be changed later.
    any_images : bool, default False
        Also judge batches of other images; what changed may then be the images.
    seed : int, default 0
        Of the random swaps of answers.

    Returns
    -------
    Watch
        Its `alarm` says whether the newest round, or one that was judged just now, differs. Rounds
        still being sent, without an answer, or of other images are `left_out`, with the reason.

    Raises
    ------
    LedgerError
        If there is no such round, it is still being sent, several services have one, or the ledger
        cannot be written.
    ArgumentError
        If `looks` is not the number that was planned at first, or out of range.

    Examples
    --------
    >>> import dotledger
    >>> seen = dotledger.watch("photos.ledger", since=1)
    >>> len(seen.rounds), seen.alarm
    (0, False)
    """
    seed = whole_number(seed, place="seed", least=0, most=MOST_SEED)
    with opened_ledger(ledger, write=True) as opened:
        first = _first_round(opened, since, service)
        if not first.ended:
            raise LedgerError(
                "the first round of a watch is not complete",
                place=opened.where,
                got=_named(first),
                next_step="Send it to its end; the same command goes on with it.",
            )
        made = looks_since(opened, first)
        planned = _planned(looks, made, since)
        how = _Judging(threshold=threshold, planned=planned, any_images=any_images, seed=seed)
        return _Watching(opened, first, made, how).watch(time.time())


def _first_round(ledger: LedgerStore, since: str | int, service: str | None) -> Batch:
    """Return the batch of a round; a number is a round's name before it is a batch."""
    named = {one.round for one in batches(ledger) if service in (None, one.service)}
    if str(since) not in named - {""} and str(since).isdecimal():
        return find_batch(ledger, batch=int(since), service=service)
    if not str(since):
        raise ArgumentError(
            "a round without a name is named by the number of its batch",
            place="since",
            next_step="See dotledger batches.",
        )
    return find_batch(ledger, round=str(since), service=service)


def _planned(looks: int | None, made: Sequence[LookRecord], since: str | int) -> int:
    if looks is not None:
        looks = whole_number(looks, place="looks", least=1, most=_MOST_PLANNED)
    if not made:
        return looks or PLANNED
    planned = made[0].planned
    if looks not in (None, planned):
        raise ArgumentError(
            f"the watch since {since!r} was planned for {planned} looks, and {len(made)} are made",
            place="looks",
            got=looks,
            allowed=[str(planned)],
            next_step="Leave it out, or begin a new watch since a later round.",
        )
    return planned


@dataclass(frozen=True, kw_only=True)
class _Judging:
    """How rounds are judged."""

    threshold: Threshold
    planned: int
    any_images: bool
    seed: int


class _Watching:
    """Judges the rounds of one watch that have not been judged, and gathers the others."""

    def __init__(
        self, ledger: LedgerStore, first: Batch, made: list[LookRecord], how: _Judging
    ) -> None:
        self._ledger, self._first, self._made, self._how = ledger, first, made, how
        findings, self._facts = run_of_batches(ledger, [first.id])
        self._findings = findings.cut(how.threshold)
        cut = self._findings.origin.cut if self._findings.origin else ()
        self._cut = cut[-1][0] if cut else None
        settings = {"any_images": how.any_images, "seed": how.seed, "threshold": self._cut}
        self._settings = to_json(settings, ordered=True).decode()

    def watch(self, now: float) -> Watch:
        rounds, fresh, left_out = list[WatchedRound](), list[int](), list[str]()
        unanswered = list[int]()
        for batch in batches(self._ledger):
            if batch.service != self._first.service or batch.id <= self._first.id:
                continue
            known = next(
                (m for m in self._made if m.is_of(self._first, batch, self._settings)), None
            )
            if known is None:
                # Only what can be judged is read: findings and answers of a batch take time.
                why, run = self._not_yet(batch), None
                if not why:
                    run = run_of_batches(self._ledger, [batch.id])
                    why = self._why_not(run[0])
                    unanswered += [batch.id] * (why == _NO_ANSWER)
                if run is None or why:
                    left_out.append(f"{_named(batch)}: {why}.")
                    continue
                findings, facts = run
                known = self._judged(batch, findings, facts, now)
                self._made.append(known)
                fresh.append(batch.id)
            rounds.append(_watched(batch, known))
        return Watch(
            service=self._first.service,
            batch=self._first.id,
            round=self._first.round,
            started=self._first.started,
            threshold=self._cut,
            planned=self._how.planned,
            made=len(self._made),
            rounds=tuple(rounds),
            fresh=tuple(fresh),
            left_out=tuple(left_out),
            unanswered=tuple(unanswered),
        )

    def _not_yet(self, batch: Batch) -> str:
        if not batch.ended:
            return "still being sent, or cut off; it is judged when it is complete"
        if len(self._made) >= self._how.planned:
            return (
                f"all {self._how.planned} planned looks have been made; begin a new watch since a "
                "later round"
            )
        return ""

    def _why_not(self, findings: Findings) -> str:
        if not findings.image.used():
            return _NO_ANSWER
        if not self._how.any_images and not self._shares_images(findings):
            return "other images than those of the first round; judged only if asked for"
        return ""

    def _judged(self, batch: Batch, findings: Findings, facts: RunFacts, now: float) -> LookRecord:
        """Judge a round, and write the look into the ledger before returning it."""
        look = look_at(
            self._findings,
            findings.cut(self._how.threshold),
            facts=(self._facts, facts),
            planned=self._how.planned,
            seed=self._how.seed,
        )
        return add_look(
            self._ledger,
            self._first,
            batch,
            settings=self._settings,
            planned=self._how.planned,
            now=now,
            result=look.to_dict(),
        )

    def _shares_images(self, findings: Findings) -> bool:
        own, other = set(self._findings.image.used()), set(findings.image.used())
        return 2 * len(own & other) >= min(len(own), len(other))


def _named(batch: Batch) -> str:
    return f"{batch.round} (batch {batch.id})" if batch.round else f"batch {batch.id}"


def _watched(batch: Batch, known: LookRecord) -> WatchedRound:
    return WatchedRound(
        number=known.number,
        batch=batch.id,
        round=batch.round,
        started=batch.started,
        made=known.made,
        look=Look.from_dict(known.result),
    )
