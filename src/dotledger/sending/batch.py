"""Sending a batch: worker threads in front, one writer behind, one outcome for every image."""

from __future__ import annotations

import queue
import random as random_module
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from dotledger.errors import AnswerError, LedgerError
from dotledger.ledger.store import Ledger
from dotledger.ledger.usage import calls_in_month
from dotledger.ledger.views import answered_shas, stored_answers
from dotledger.ledger.writing import (
    BatchOpening,
    BatchWriter,
    ItemRecord,
    OutcomeRecord,
    timestamp,
)
from dotledger.sending.calling import Caller
from dotledger.sending.gate import Gate
from dotledger.sending.pacing import opening_pace
from dotledger.sending.plan import Plan
from dotledger.sending.retrying import Patience
from dotledger.sending.tokens import key_source
from dotledger.sending.transport import HttpTransport, Transport
from dotledger.sending.worker import Loaded, Position, Settled, Worker, groups, note_reading
from dotledger.services.keys import Key
from dotledger.services.requests import Signer

__all__ = ["Means", "Progress", "Sending", "SentBatch"]

_WRITE_AT = 50
_WRITE_EVERY = 0.25
_TELL_EVERY = 0.2


@dataclass(frozen=True, kw_only=True)
class Progress:
    """How far a sending is; `images` are all of the batch, `done` those settled by now."""

    images: int
    done: int
    failed: int
    refused: int
    calls: int
    money: float
    currency: str
    seconds: float

    @property
    def rate(self) -> float:
        """Images settled a second; 0 at the start."""
        return self.done / self.seconds if self.seconds > 0 else 0.0


@dataclass(frozen=True, kw_only=True)
class SentBatch:
    """What a sending came to.

    Attributes
    ----------
    batch : int
        Its number in the ledger.
    service : str
        Which service.
    images : int
        Images of the batch.
    outcomes : dict of str to dict of str to int
        Counts of this sending and earlier ones of the same batch, by kind and outcome.
    calls : int
        Calls that were answered now.
    reused : int
        Images whose answer was in the ledger already.
    refusals : int
        Answers "come back later".
    money : float
        What the calls cost, in `currency`.
    seconds : float
        How long it took.
    stopped_because : str
        Empty if it went to its end.
    resumed : bool
        Whether the batch was there before.
    """

    batch: int
    service: str
    images: int
    outcomes: Mapping[str, Mapping[str, int]]
    calls: int
    reused: int
    refusals: int
    money: float
    currency: str
    seconds: float
    stopped_because: str
    resumed: bool

    @property
    def failed(self) -> int:
        """Images and kinds that failed or were refused."""
        return sum(row["failed"] + row["refused"] for row in self.outcomes.values())

    @property
    def pending(self) -> int:
        """Images and kinds still to be sent."""
        return sum(row["pending"] for row in self.outcomes.values())


@dataclass(frozen=True, kw_only=True)
class Means:
    """What a sending works with; every one can be replaced.

    Attributes
    ----------
    transport : Transport, optional
        By default HTTP.
    signer : callable, optional
        For services that sign each request.
    steady, wall : callable
        Seconds of a steady clock, and since 1970.
    random : callable
        A number from 0 to 1, for jitter.
    sleep : callable, optional
        By default a wait that ends early when the batch is stopped.
    patience : Patience
        How long to go on.
    tell : callable, optional
        Called with a `Progress` a few times a second.
    """

    transport: Transport | None = None
    signer: Signer | None = None
    steady: Callable[[], float] = time.monotonic
    wall: Callable[[], float] = time.time
    random: Callable[[], float] = random_module.random
    sleep: Callable[[float], None] | None = None
    patience: Patience = field(default_factory=Patience)
    tell: Callable[[Progress], None] | None = None


class Sending:
    """One sending under way.

    Parameters
    ----------
    plan : Plan
        What to send.
    ledger : Ledger
        Where everything is written.
    key : Key or None
        See `dotledger.services.keys.find_key`.
    means : Means
        What it works with.
    at_most : int, optional
        Most calls.
    budget : float, optional
        Most money.
    again : iterable of str
        Outcomes to send again: ``"failed"`` or ``"refused"``.
    """

    def __init__(
        self,
        plan: Plan,
        ledger: Ledger,
        key: Key | None,
        *,
        means: Means | None = None,
        at_most: int | None = None,
        budget: float | None = None,
        again: Iterable[str] = (),
    ) -> None:
        self._plan = plan
        self._ledger = ledger
        self._means = means or Means()
        self._again = frozenset(again)
        self._halt = threading.Event()
        limits = plan.description.limits
        left, reason = _allowance(plan, at_most, budget, self._left_this_month())
        self._gate = Gate(
            opening_pace(
                now=self._means.steady(),
                at_once=limits.at_once,
                per_second=limits.per_second,
                per_minute=limits.per_minute,
                left=left,
                budget_reason=reason,
            ),
            self._means.steady,
        )
        transport = self._means.transport or HttpTransport(
            timeout=plan.description.connect.timeout, at_once=limits.at_once
        )
        self._caller = Caller(
            transport=transport,
            keys=key_source(plan.description, key, transport, self._means.steady),
            gate=self._gate,
            patience=self._means.patience,
            steady=self._means.steady,
            wall=self._means.wall,
            random=self._means.random,
            sleep=self._means.sleep or self._nap,
        )
        self._results: queue.SimpleQueue[Settled | BaseException | None] = queue.SimpleQueue()
        self._taking = threading.Lock()

    def _left_this_month(self) -> int | None:
        quota = self._plan.description.limits.per_month
        if quota is None:
            return None
        month = timestamp(self._means.wall())[:7]
        return max(0, quota - calls_in_month(self._ledger, self._plan.description.service, month))

    def _nap(self, seconds: float) -> None:
        self._halt.wait(seconds)

    def stop(self, reason: str = "stopped by the caller") -> None:
        """Let the calls under way end, and start no other."""
        self._gate.stop(reason)
        self._halt.set()

    def run(self) -> SentBatch:
        """Send the batch to its end, or until it is stopped; blocks.

        A ``KeyboardInterrupt`` stops it in the same orderly way.

        Raises
        ------
        LedgerError
            If the ledger cannot be written; calls under way are waited for, and what they
            brought is tried once more.
        """
        writer = BatchWriter(self._ledger, self._opening(), self._means.wall())
        settled = writer.settled()
        todo = self._positions(settled)
        answered = self._answered()
        worker = Worker(self._plan, self._caller, answered, signer=self._means.signer)
        desk = _Desk(self._plan, self._ledger, writer, worker, self._means, self._gate, settled)
        threads = self._start(worker, todo)
        try:
            self._drain(desk, len(threads))
        finally:
            self.stop("the sending ended")
        return desk.close()

    def _answered(self) -> set[tuple[str, str]]:
        """Return (call name, SHA-256) of every image answered under these settings."""
        fingerprint = self._plan.fingerprint
        return {
            (call.name, sha)
            for call, _ in self._plan.calls
            for sha in answered_shas(self._ledger, fingerprint, call.name)
        }

    def _opening(self) -> BatchOpening:
        plan, description = self._plan, self._plan.description
        return BatchOpening(
            key=plan.key,
            service=description.service,
            fingerprint=plan.fingerprint,
            kinds=plan.kinds,
            settings=description.connect.settings,
            description=description.model_dump_json(by_alias=True, exclude_defaults=True),
            source=plan.gathered.source,
            floor=description.limits.floor,
            currency=description.price.currency,
            names=[item.name for item in plan.gathered.items],
            paths=[item.where for item in plan.gathered.items],
        )

    def _positions(self, settled: dict[int, dict[str, str]]) -> Iterator[Position]:
        """Yield the images that are still to be settled."""
        kinds = set(self._plan.kinds)
        for position, item in enumerate(self._plan.gathered.items):
            known = settled.get(position, {})
            if kinds <= known.keys() and not self._again & set(known.values()):
                continue
            yield position, item

    def _start(self, worker: Worker, todo: Iterator[Position]) -> list[threading.Thread]:
        waiting = groups(todo, self._plan.images_per_call)
        count = min(self._plan.description.limits.at_once, max(1, len(self._plan.gathered)))
        threads = [
            threading.Thread(target=self._work, args=(worker, waiting), daemon=True)
            for _ in range(count)
        ]
        for thread in threads:
            thread.start()
        return threads

    def _work(self, worker: Worker, waiting: Iterator[list[Position]]) -> None:
        try:
            while not self._gate.pace.stop and (group := self._next(waiting)):
                self._results.put(worker.settle(group))
        except BaseException as error:
            self._results.put(error)
            self.stop("a worker failed")
        finally:
            self._results.put(None)

    def _next(self, waiting: Iterator[list[Position]]) -> list[Position] | None:
        with self._taking:
            return next(waiting, None)

    def _drain(self, desk: _Desk, workers: int) -> None:
        """Take results until every worker has ended; a first interruption only stops them."""
        problem: BaseException | None = None
        desk.open_items()
        while workers:
            try:
                result = self._take()
                if result is None:
                    workers -= 1
                elif isinstance(result, BaseException):
                    problem = result
                elif isinstance(result, Settled):
                    desk.take(result)
                desk.maybe_write()
            except KeyboardInterrupt:
                if self._gate.stop_reason == "interrupted":
                    raise
                self.stop("interrupted")
            except LedgerError as error:
                problem = error
                self.stop(error.message)
        if problem is not None and not isinstance(problem, LedgerError):
            desk.write()
            raise problem

    def _take(self) -> Settled | BaseException | bool | None:
        try:
            return self._results.get(timeout=_TELL_EVERY)
        except queue.Empty:
            return True


def _allowance(
    plan: Plan, at_most: int | None, budget: float | None, left_this_month: int | None
) -> tuple[int | None, str]:
    """Return how many calls are allowed, and which limit says so."""
    limits = []
    if at_most is not None:
        limits.append((at_most, f"the limit of {at_most} calls is reached"))
    if budget is not None and plan.price > 0:
        calls = int(budget / plan.price + 1e-9)
        currency = plan.description.price.currency
        limits.append((calls, f"the budget of {budget:g} {currency} is reached"))
    if left_this_month is not None:
        quota = plan.description.limits.per_month
        limits.append((left_this_month, f"the monthly quota of {quota} calls is used up"))
    return min(limits, default=(None, ""))


class _Desk:
    """Collects what workers bring and writes it into the ledger, many at a time."""

    def __init__(
        self,
        plan: Plan,
        ledger: Ledger,
        writer: BatchWriter,
        worker: Worker,
        means: Means,
        gate: Gate,
        settled: dict[int, dict[str, str]],
    ) -> None:
        self._plan = plan
        self._ledger = ledger
        self._writer = writer
        self._reader = worker.reader
        self._means = means
        self._gate = gate
        self._settled = settled
        self._records: list[ItemRecord] = []
        self._loose: list[Any] = []
        self._lookups: list[tuple[Loaded, tuple[str, ...]]] = []
        self._broken: dict[str, list[OutcomeRecord]] = {}
        self._began = self._wrote = self._told = means.steady()
        self._calls: set[int] = set()
        self._call_count = 0
        self._money = 0.0
        self._reused = 0
        self._counts: Counter[str] = Counter()
        self._earlier = len(settled)

    def open_items(self) -> None:
        """Write down which images the batch has, while the first calls are under way."""
        self._writer.add_items()

    def take(self, result: Settled) -> None:
        """Take over what one worker brought."""
        for record in result.done:
            self._keep(record)
        self._loose += result.loose
        self._lookups += result.lookups

    def _keep(self, record: ItemRecord) -> None:
        self._records.append(record)
        worst = {outcome.outcome for outcome in record.outcomes}
        self._counts["failed"] += "failed" in worst
        self._counts["refused"] += "refused" in worst
        self._counts["done"] += record.position not in self._settled
        if "failed" in worst and record.image:
            self._broken[record.image["sha"]] = [
                o for o in record.outcomes if o.outcome == "failed"
            ]
        for call in {id(o.call): o.call for o in record.outcomes if o.call}.values():
            if id(call) not in self._calls:
                self._calls.add(id(call))
                self._call_count += 1
                self._money += call.price

    def maybe_write(self) -> None:
        """Write if enough has gathered or enough time has passed; tell how far we are."""
        now = self._means.steady()
        if len(self._records) >= _WRITE_AT or now - self._wrote >= _WRITE_EVERY:
            self.write()
            self._wrote = now
        if self._means.tell and now - self._told >= _TELL_EVERY:
            self._told = now
            self._means.tell(self.progress())

    def write(self) -> None:
        """Write what has gathered, then settle images that were answered elsewhere."""
        records, loose = self._records, self._loose
        self._writer.write(records, loose)
        self._records, self._loose, self._calls = [], [], set()
        self._look_up()

    def _look_up(self) -> None:
        """Settle images whose answer is in the ledger by now."""
        waiting, self._lookups = self._lookups, []
        if not waiting:
            return
        stored = {
            name: self._stored(name, [one.sha for one, names in waiting if name in names])
            for name in {name for _, names in waiting for name in names}
        }
        for one, names in waiting:
            if not all(one.sha in stored[name] or one.sha in self._broken for name in names):
                self._lookups.append((one, names))
                continue
            for name in names:
                self._reuse(one, name, stored[name].get(one.sha))
            self._reused += 1
            self._keep(one.record)

    def _stored(self, name: str, shas: list[str]) -> dict[str, Any]:
        return stored_answers(self._ledger, self._plan.fingerprint, name, shas)

    def _reuse(self, one: Loaded, name: str, stored: Any) -> None:
        kinds = next(kinds for call, kinds in self._plan.calls if call.name == name)
        if stored is None:
            one.record.outcomes += [
                OutcomeRecord(kind=o.kind, outcome=o.outcome, reason=o.reason, call=o.call)
                for o in self._broken[one.sha]
                if o.kind in kinds
            ]
            return
        frames = [one.frame] * stored.images
        try:
            reading = self._reader.read(stored.answer, name, kinds, frames)[stored.place]
        except AnswerError as error:
            reading = error
        if isinstance(reading, AnswerError):
            one.record.outcomes += [
                OutcomeRecord(kind=k, outcome="failed", reason=str(reading), call_id=stored.call_id)
                for k in kinds
            ]
        else:
            note_reading(one.record, reading, kinds, None, stored.call_id)

    def progress(self) -> Progress:
        """Return how far the sending is."""
        return Progress(
            images=len(self._plan.gathered),
            done=self._earlier + self._counts["done"],
            failed=self._counts["failed"],
            refused=self._counts["refused"],
            calls=self._call_count,
            money=self._money,
            currency=self._plan.description.price.currency,
            seconds=self._means.steady() - self._began,
        )

    def close(self) -> SentBatch:
        """Write the rest and return what the sending came to."""
        from dotledger.ledger.views import find_batch, outcome_counts

        self.write()
        if self._records or self._lookups:
            self.write()
        batch = find_batch(self._ledger, batch=self._writer.batch)
        outcomes = outcome_counts(self._ledger, batch)
        pending = any(row["pending"] for row in outcomes.values())
        reason = (self._gate.stop_reason or self._gate.pace.budget_reason) if pending else ""
        reason = "" if reason == "the sending ended" else reason
        self._writer.close(self._means.wall(), reason)
        if self._means.tell:
            self._means.tell(self.progress())
        return SentBatch(
            batch=batch.id,
            service=batch.service,
            images=batch.images,
            outcomes=outcomes,
            calls=self._call_count,
            reused=self._reused,
            refusals=self._gate.refusals,
            money=self._money,
            currency=batch.currency,
            seconds=self._means.steady() - self._began,
            stopped_because=reason,
            resumed=self._writer.resumed,
        )
