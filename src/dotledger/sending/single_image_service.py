"""One service in a running program: an upload handler asks about one image at a time.

A long-lived object: connections, key, token and pace are shared by all threads that ask. When the
service fails the caller gets an outcome, and by rules a verdict, not an exception in a request
handler; misuse still raises.
"""

from __future__ import annotations

import asyncio
import logging
import threading
from collections import deque
from collections.abc import AsyncIterator, Callable, Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.decisions.decide import decide
from dotledger.core.decisions.rule_conditions import Rules
from dotledger.core.decisions.verdicts import Verdict
from dotledger.core.kinds import ANSWERED, worst_outcome
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, KeyNotFound
from dotledger.images.image_gathering import Item, gather
from dotledger.images.image_prints import prints_of
from dotledger.json_codec import from_json, to_json
from dotledger.ledger.ledger_records import ItemRecord, timestamp
from dotledger.ledger.pending_jobs import LedgerJobs
from dotledger.sending.batch.growing_batch import BatchPer, GrowingBatch
from dotledger.sending.batch.send_log import note_kept
from dotledger.sending.batch.send_worker import LoadedImage, Worker
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.calls.call_attempts import Caller
from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.calls.local_functions import transport_for
from dotledger.sending.calls.oauth_tokens import key_source
from dotledger.sending.calls.spending_meter import Meter
from dotledger.sending.policies.announced_limits import told_by
from dotledger.sending.policies.pacing import opening_pace
from dotledger.sending.policies.pricing import has_steps, units_used
from dotledger.sending.policies.send_plan import Plan
from dotledger.services.redaction import Key, Secrets
from dotledger.services.response_envelope import opener
from dotledger.services.service_clock import clock_for

if TYPE_CHECKING:
    from dotledger.ledger.ledger_store import LedgerStore

__all__ = ["OpenService", "Seen"]

_log = logging.getLogger(__name__)

_TRY_AGAIN = 10.0
"""Seconds after which a service that was given up is tried again: a program lives for weeks."""


@dataclass(frozen=True, kw_only=True)
class Seen:
    """What came of one image.

    Attributes
    ----------
    findings : Findings
        With a blank row for every kind that was answered and holds nothing.
    outcome : str
        Of all kinds together: ``failed``, ``refused``, ``pending`` or ``unread`` if any is, else
        ``found`` if anything was, else ``empty``.
    outcomes, reasons : mapping of str to str
        By kind; reasons only where it was not answered well.
    verdict : str or None
        ``pass``, ``hold`` or ``block``; None without rules.
    why : tuple of str
        The reasons of the verdict.
    paid : bool
        Whether a call was made for it; False where the ledger knew the answers.
    money : float
        What its calls cost, in `currency`; 0 where none was made.
    """

    findings: Findings
    outcome: str
    outcomes: Mapping[str, str]
    reasons: Mapping[str, str]
    verdict: str | None
    why: tuple[str, ...]
    paid: bool
    money: float = 0.0
    currency: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; an undefined confidence is None."""
        plain = {f.name: getattr(self, f.name) for f in fields(self) if f.name != "findings"}
        rows = self.findings.frame(details="json").to_dict("records")
        found = [{str(k): None if v != v else v for k, v in row.items()} for row in rows]
        return {**plain, "why": list(self.why), "findings": found}

    def to_json(self) -> str:
        """Return `to_dict` as JSON text."""
        return to_json(self.to_dict(), indent=True).decode()


class OpenService(AbstractContextManager["OpenService"]):
    """A service that is open for single images; made by `dotledger.open_service`.

    Parameters
    ----------
    plan : Plan
        The calls and limits, without images.
    key : Key or None
        The key, from `dotledger.services.credentials.find_key`.
    means : Means
        What it works with.
    ledger : LedgerStore, optional
        Asked first, so that the same bytes are not paid for twice. It stays open.
    before : bool, default False
        Every answer is in the ledger before `look` returns; else within a twentieth of a second.
    batch_per : {"day", "session"}
        What shares a batch of the ledger.
    rules : Rules, optional
        Rules that give each image a verdict.
    find : callable, optional
        Gives the key as it is now: asked once the service was given up, since a key that was
        refused may have been replaced where it is kept.
    """

    def __init__(
        self,
        plan: Plan,
        key: Key | None,
        *,
        means: Means | None = None,
        ledger: LedgerStore | None = None,
        close_ledger: bool = False,
        before: bool = False,
        batch_per: BatchPer = "day",
        rules: Rules | None = None,
        find: Callable[[], Key | None] | None = None,
    ) -> None:
        self._find = find
        self._plan, self._rules = plan, rules
        self._means = means or Means()
        self._ledger, self._close_ledger = ledger, close_ledger
        self._secrets = Secrets(key)
        self._transport = self._means.transport or transport_for(plan.description)
        self._keys = key_source(
            plan.description, key, self._transport, self._means.steady, self._secrets
        )
        self._lock = threading.Lock()
        self._closed = threading.Event()
        self._given_up = 0.0
        self._meter = self._started_meter()
        self._worker = self._fresh()
        self._batch = (
            None
            if ledger is None
            else GrowingBatch(ledger, plan, self._means.wall, per=batch_per, before=before)
        )
        self._threads: ThreadPoolExecutor | None = None

    def _started_meter(self) -> Meter:
        """Return what counts the money; where prices have steps the ledger knows which holds."""
        description = self._plan.description
        meter = Meter(description, self._plan.kinds_of_calls)
        if self._ledger is not None and has_steps(description):
            from dotledger.ledger.usage_queries import images_in_month

            month = timestamp(self._means.wall())[:7]
            made = images_in_month(self._ledger, description.service, month)
            meter.start(units_used(description, made), month)
        return meter

    def _fresh(self) -> Worker:
        """Return a worker whose gate is open."""
        limits = self._plan.description.limits
        self._gate = CallGate(
            opening_pace(
                now=self._means.steady(),
                at_once=limits.at_once,
                per_second=limits.per_second,
                per_minute=limits.per_minute,
            ),
            self._means.steady,
        )
        caller = Caller(
            transport=self._transport,
            keys=self._keys,
            secrets=self._secrets,
            gate=self._gate,
            patience=self._means.patience,
            steady=self._means.steady,
            wall=self._means.wall,
            random=self._means.random,
            sleep=self._means.sleep or self._nap,
            told=told_by(self._plan.description),
            opened=opener(self._plan.description),
            meter=self._meter,
            clock=clock_for(self._plan.description, self._means.wall),
        )
        jobs = None
        if self._ledger is not None:
            jobs = LedgerJobs(self._ledger, self._plan.fingerprint, self._means.wall)
        return Worker(
            self._plan,
            caller,
            lambda *_: True,  # it is written a moment later
            signer=self._means.signer,
            secrets=self._secrets,
            jobs=jobs,
        )

    def _nap(self, seconds: float) -> None:
        self._closed.wait(seconds)

    def _open_worker(self) -> Worker:
        """Return the worker; a service that was given up is tried again after a while."""
        with self._lock:
            if self._gate.stop_reason:
                now = self._means.steady()
                self._given_up = self._given_up or now
                if now - self._given_up >= _TRY_AGAIN:
                    self._given_up = 0.0
                    self._renew_key()
                    self._worker = self._fresh()
            return self._worker

    def _renew_key(self) -> None:
        """Take the key as it is kept now; the old one stays where none is found."""
        if self._find is None:
            return
        try:
            key = self._find()
        except KeyNotFound as error:
            _log.warning("the old key is used on: %s", error)
            return
        self._secrets.add(key)
        self._keys = key_source(
            self._plan.description, key, self._transport, self._means.steady, self._secrets
        )

    def look(self, image: Any, *, name: str = "") -> Seen:
        """Ask about one image, and wait for what comes of it.

        Parameters
        ----------
        image : bytes, path or binary file
            The file of one image.
        name : str, optional
            What it is called in the findings and the ledger; by default its file's name.

        Returns
        -------
        Seen
            Whatever the service did; a failure is an outcome, and by rules never a pass.

        Raises
        ------
        ArgumentError
            If it is not one image, or the service was closed.
        OSError, GatherError
            If a path cannot be read.
        LedgerError
            If the ledger cannot be written; before anything is paid for, unless it fails just then.
        """
        item = self._item(image, name)
        if self._batch is not None:
            self._batch.check()
        known = None if self._ledger is None else self._known
        record = self._open_worker().look(item, known)
        if self._batch is not None:
            self._batch.put(item, record)
        return self._seen(item, record)

    async def look_async(self, image: Any, *, name: str = "") -> Seen:
        """Ask about one image without blocking an event loop; see `look`."""
        return await asyncio.get_running_loop().run_in_executor(
            self._pool(), lambda: self.look(image, name=name)
        )

    def look_many(self, images: Mapping[str, Any] | Iterable[Any]) -> Iterator[tuple[str, Seen]]:
        """Yield (name, what came of it) in the order given, several at once within the rate.

        Parameters
        ----------
        images : mapping of str to image, or iterable of images
            As `look` takes them; never all held at once. Bytes without a name are called
            ``image 1``, ``image 2``, by their place.
        """
        pool = self._pool()
        waiting: deque[tuple[str, Future[Seen]]] = deque()
        most = 2 * self._plan.description.limits.at_once
        for item in self._items(images):
            waiting.append((item.name, pool.submit(self.look, item, name=item.name)))
            while waiting and (len(waiting) >= most or waiting[0][1].done()):
                name, coming = waiting.popleft()
                yield name, coming.result()
        for name, coming in waiting:
            yield name, coming.result()

    def _items(self, images: Mapping[str, Any] | Iterable[Any]) -> Iterator[Item]:
        if isinstance(images, Mapping):
            yield from (self._item(image, name) for name, image in images.items())
            return
        for place, image in enumerate(images, 1):
            unnamed = isinstance(image, bytes | bytearray) or hasattr(image, "read")
            yield self._item(image, f"image {place}" if unnamed else "")

    async def look_many_async(self, images: Any) -> AsyncIterator[tuple[str, Seen]]:
        """Yield the same without blocking an event loop."""
        results = self.look_many(images)
        while (one := await asyncio.to_thread(next, results, None)) is not None:
            yield one

    def close(self) -> None:
        """Let calls under way end, and start no other."""
        if self._closed.is_set():
            return
        self._closed.set()
        self._gate.stop("the service was closed")
        if self._threads is not None:
            self._threads.shutdown(wait=True)
        if self._batch is not None:
            self._batch.close()
        if self._close_ledger and self._ledger is not None:
            self._ledger.close()

    def __exit__(self, *_: object) -> None:
        self.close()

    def _pool(self) -> ThreadPoolExecutor:
        with self._lock:
            if self._threads is None:
                most = self._plan.description.limits.at_once
                self._threads = ThreadPoolExecutor(most, thread_name_prefix="look")
            return self._threads

    def _item(self, image: Any, name: str) -> Item:
        if self._closed.is_set():
            raise ArgumentError("the service was closed", place="look")
        if isinstance(image, Item):
            return image
        given = {name or "image": image} if not isinstance(image, str | Path) else image
        items = gather(given).items
        if len(items) != 1:
            raise ArgumentError("look takes one image", place="image", got=f"{len(items)} images")
        own = name or (Path(image).name if isinstance(image, str | Path) else "")
        return _named(items[0], own) if own else items[0]

    def _known(self, one: LoadedImage) -> None:
        """Settle calls from answers that the ledger holds for the same bytes."""
        from dotledger.ledger.answer_queries import answers_kept

        assert self._ledger is not None
        assert self._batch is not None
        self._batch.flush(one.sha)
        if not self._is_known(one):
            return
        for call, kinds in self._plan.calls:
            asked = {one.sha: one.asked}
            found = answers_kept(self._ledger, self._plan, call.name, asked).get(one.sha)
            if found is None:
                continue
            one.unanswered.discard(call.name)
            note_kept(one.record, found, call.name, kinds, one.frame, self._worker.reader())

    def _is_known(self, one: LoadedImage) -> bool:
        """Tell whether any call has answered these bytes, or what would be sent of them."""
        from dotledger.ledger.answer_queries import is_answered

        assert self._ledger is not None
        plan = self._plan
        names = [call.name for call, _ in plan.calls]
        if is_answered(self._ledger, (plan.fingerprint, plan.earlier), names, one.sha):
            return True
        return any(
            is_answered(self._ledger, (known, known), [name], one.asked)
            for name in names
            for known in plan.identities[name]
        )

    def _seen(self, item: Item, record: ItemRecord) -> Seen:
        name = item.name
        outcomes = {one.kind: one.outcome for one in record.outcomes}
        reasons = {one.kind: one.reason for one in record.outcomes if one.reason}
        findings = _findings(name, record, self._plan)
        verdict = self._verdict(item, findings, outcomes)
        return Seen(
            findings=findings,
            outcome=worst_outcome(outcomes.values(), "empty"),
            outcomes=outcomes,
            reasons=reasons,
            verdict=None if verdict is None else verdict.verdict,
            why=() if verdict is None else verdict.reasons,
            paid=bool(record.answered),
            money=_cost(record),
            currency=self._plan.description.price.currency,
        )

    def _verdict(
        self, item: Item, findings: Findings, outcomes: Mapping[str, str]
    ) -> Verdict | None:
        if self._rules is None:
            return None
        prints = prints_of([item]) if self._rules.looks_at_copies else None
        decided = decide(
            findings, self._rules, outcomes={item.name: outcomes}, prints=prints, later=True
        )
        return decided.of(item.name)


def _cost(record: ItemRecord) -> float:
    """Return what the calls about one image cost, each counted once."""
    answered = [call for _, call, _ in record.answered]
    made = [one.call for one in record.outcomes if one.call is not None]
    return sum({id(call): call.price for call in (*answered, *made)}.values())


def _named(item: Item, name: str) -> Item:
    """Return an item under another name."""
    from msgspec.structs import replace as changed

    return changed(item, name=name)


def _findings(name: str, record: ItemRecord, plan: Plan) -> Findings:
    """Return one image's findings as a table, blank where nothing was found."""
    rows = [tuple(row) for row in record.found]
    there = {row[0] for row in rows}
    blank = [
        (one.kind, "", None, None, None, None, None, None)
        for one in record.outcomes
        if one.outcome in ANSWERED and one.kind not in there
    ]
    columns: list[Any] = list(zip(*[*rows, *blank], strict=True)) or [()] * 8
    details = tuple(
        None if one is None else Details.from_dict(from_json(one)) for one in columns[7]
    )
    made = Findings(
        image=Coded.of([name] * len(columns[0])),
        kind=Coded.of(list(columns[0])),
        label=Coded.of(list(columns[1])),
        confidence=np.array(columns[2], dtype=np.float64),
        box=np.array(columns[3:7], dtype=np.float64).T.reshape(-1, 4),
        details=details if any(details) else None,
    )
    origin = Origin(
        service=plan.description.service, floor=plan.description.floor, words=plan.description.words
    )
    return replace(made, origin=origin)
