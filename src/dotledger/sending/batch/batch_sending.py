"""Sending a batch: workers that call, one thread that writes, one that watches."""

from __future__ import annotations

import contextlib
import logging
import os
import queue
import socket
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dotledger.errors import LedgerError
from dotledger.ledger.ledger_places import FilePlace, place_of
from dotledger.ledger.ledger_records import BatchOpening, CallRecord, ImageRecord, timestamp
from dotledger.ledger.sender_claims import (
    SOMEBODY,
    Claim,
    FileClaim,
    WaitingAnswer,
    turn_path,
    who_has,
)
from dotledger.sending.batch.batch_opening import opening_of
from dotledger.sending.batch.interrupts import interruptions_told
from dotledger.sending.batch.send_progress import SentBatch
from dotledger.sending.batch.send_worker import Position, Settled, Take, Worker
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.batch.shared_limits import (
    TOO_SILENT,
    allowance,
    file_claim,
    file_turn,
    is_new,
    make_empty,
    waiting_aside,
)
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
    from dotledger.ledger.answer_queries import StoredAnswer
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.ledger.server_claims import ServerClaim
    from dotledger.sending.batch.cooperating_senders import Together
    from dotledger.sending.batch.image_prefetch import Ahead
    from dotledger.sending.batch.ledger_writer import Desk
    from dotledger.sending.calls.multi_step_calls import Jobs

__all__ = ["Sending"]

_BUNCH = 0.02
_MOST_IN_A_BUNCH = 256
_MOST_WAITING = 512
"""Workers wait when so many results are not taken yet: memory does not grow with the batch."""
_TELL_EVERY = 0.2
_ASK_EVERY = 0.2
_MOST_ASKED = 10
_MOST_TIMES_ON = 50
"""A machine that starves this process so often leaves the batch to others."""
_log = logging.getLogger("dotledger")
_INTERRUPTED = "interrupted"


class Sending:
    """One sending under way.

    Parameters
    ----------
    ledger : LedgerStore or str
        Where everything is written; a path is opened, or made, when the sending runs.
    key : Key or None
        See `dotledger.services.credentials.find_key`.
    again : iterable of str
        Outcomes to send again: ``"failed"`` or ``"refused"``; ``"anew"`` is ``"failed"`` with
        new jobs, which are paid again.
    before : Sending, optional
        One that the server no longer counted among the senders; this one goes on for it.

    Attributes
    ----------
    interrupted : bool
        Whether Ctrl-C was pressed while it ran, whatever ended it.
    """

    def __init__(
        self,
        plan: Plan,
        ledger: LedgerStore | str,
        key: Key | None,
        *,
        means: Means | None = None,
        at_most: int | None = None,
        budget: float | None = None,
        again: Iterable[str] = (),
        before: Sending | None = None,
    ) -> None:
        self._plan = plan
        self._ledger = ledger
        self._means = means or Means()
        self._again = frozenset(again)
        self._halt = threading.Event()
        limits = plan.description.limits
        self._at_most = at_most
        self._budget = budget
        self._gate = CallGate(
            opening_pace(
                now=self._means.steady(),
                at_once=limits.at_once,
                per_second=limits.per_second,
                per_minute=limits.per_minute,
            ),
            self._means.steady,
        )
        transport = self._means.transport or transport_for(plan.description)
        self._key = key
        self._secrets = Secrets(key)
        self._meter = Meter(plan.description, plan.kinds_of_calls)
        self._caller = Caller(
            transport=transport,
            keys=key_source(plan.description, key, transport, self._means.steady, self._secrets),
            secrets=self._secrets,
            gate=self._gate,
            patience=self._means.patience,
            steady=self._means.steady,
            wall=self._means.wall,
            random=self._means.random,
            sleep=self._means.sleep or self._nap,
            told=told_by(plan.description),
            opened=opener(plan.description),
            meter=self._meter,
            clock=clock_for(plan.description, self._means.wall),
        )
        self._results: queue.SimpleQueue[Settled | BaseException | None] = queue.SimpleQueue()
        self._taking = threading.Lock()
        self._ended = threading.Event()
        self._news: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._open_desk: Desk | None = None
        self._claim: Claim | None = None
        self._at_work: list[threading.Thread] = []
        self._aside = 0
        self._opened_as: BatchOpening | None = None
        self._ahead: Ahead | None = None
        self._began = self._means.steady()
        self._sender: int | None = before._sender if before is not None else None
        self._goes_on: Sending | None = None
        self._unwanted = False
        self.interrupted = False

    def _nap(self, seconds: float) -> None:
        self._halt.wait(seconds)

    def stop(self, reason: str = "stopped by the caller") -> None:
        """Let the calls under way end, and start no other."""
        self._unwanted = True
        self._stop(reason)
        if self._goes_on is not None:
            self._goes_on.stop(reason)

    def _stop(self, reason: str) -> None:
        self._gate.stop(reason)
        self._halt.set()

    def _interrupt(self) -> None:
        self.interrupted = True
        self._news.put(_INTERRUPTED)
        if self._goes_on is not None:
            self._goes_on._interrupt()

    def run(self) -> SentBatch:
        """Send the batch to its end, or until it is stopped; blocks.

        Ctrl-C (a ``KeyboardInterrupt``) stops it in the same orderly way; a second one waits for
        nothing.

        Raises
        ------
        LedgerError
            If the ledger cannot be written, or somebody else is sending this batch. Calls under
            way are waited for, and what they brought is kept next to the ledger, which the error
            says; the next sending takes it in.
        """
        with interruptions_told(self._interrupt):
            sent = self._run_once()
            for _ in range(_MOST_TIMES_ON):
                if sent.stopped_because != TOO_SILENT or self._unwanted or self.interrupted:
                    break
                sent = self._going_on(sent)
            return sent

    # A process that was stopped, slept or starved is alive: what it had not begun is with others
    # by now, and nothing in its memory about who has what is true any more. So it joins anew.
    def _going_on(self, sent: SentBatch) -> SentBatch:
        """Go on after the server gave our images to others; return what both came to."""
        _log.warning("%s; going on with what is left", TOO_SILENT)
        following = Sending(
            self._plan,
            self._ledger,
            self._key,
            means=self._means,
            at_most=self._at_most,
            budget=self._budget,
            before=self._last(),
        )
        self._goes_on = following
        if self._unwanted or self.interrupted:  # said before there was anybody to tell it
            return sent
        return following._run_once().after(sent)

    def _last(self) -> Sending:
        return self if self._goes_on is None else self._goes_on

    def _run_once(self) -> SentBatch:
        where = self._ledger if isinstance(self._ledger, str) else self._ledger.path
        place = None if where is None else place_of(where)
        if isinstance(place, FilePlace):
            return self._run_file(place.path)
        return self._run_opened()

    def _run_file(self, path: Path) -> SentBatch:
        """Claim a ledger that is a file; then start, at once where it holds no answer yet."""
        opening = self._opening()
        service = opening.service
        turn = self._claimed(
            lambda: file_turn(path, service), lambda: who_has(turn_path(path, service))
        )
        try:
            return self._run_in_turn(path, opening)
        finally:
            turn.release()

    def _run_in_turn(self, path: Path, opening: BatchOpening) -> SentBatch:
        claim = self._claimed(lambda: file_claim(path, opening))
        early = isinstance(self._ledger, str) and not self._has_jobs()
        if early and not claim.waiting() and is_new(path):
            return self._with_claim(claim, lambda: self._run_new(path, opening, claim))
        return self._with_claim(claim, lambda: self._run_opened(claim))

    def _has_jobs(self) -> bool:
        """Tell whether a call's answer comes later: its job must be in the database at once."""
        return any(call.job is not None for call, _ in self._plan.calls)

    def _with_claim(self, claim: Claim, run: Callable[[], SentBatch]) -> SentBatch:
        """Run; the claim's file goes only when everything put aside is in the ledger."""
        whole = False
        self._began = self._means.steady()
        claim.reserve_for(self._plan.description.limits.at_once)
        try:
            sent = run()
        except LedgerError as error:
            self._wait_for_workers()
            if self._open_desk is None and self._aside:  # it failed before anything was written
                raise waiting_aside(error, self._aside, claim.path) from error
            raise
        else:
            whole = True
            return sent
        finally:
            self._wait_for_workers()
            claim.release(empty=whole)

    def _wait_for_workers(self) -> None:
        """Let calls under way end and be kept, whatever ended the sending."""
        self._stop("the sending ended")
        for thread in self._at_work:
            thread.join()
        if self._ahead is not None:
            self._ahead.close()

    # Whoever sends to the same service waits: their images may be the same, and none is paid for
    # twice; one that sends the very same batch finds it done then.
    def _claimed(self, take: Callable[[], Any], who: Callable[[], str] = lambda: SOMEBODY) -> Any:
        """Take a claim, or wait for it while another process has it."""
        told = False
        while True:
            with contextlib.suppress(BlockingIOError):
                return take()
            if not told:
                # Whoever has just taken a turn writes down who it is a moment later.
                name = self._within_a_moment(who)
                service = self._plan.description.service
                _log.warning("waiting: %s sends to %s with this ledger", name, service)
                told = True
            if self._halt.wait(_ASK_EVERY) or self.interrupted:
                raise KeyboardInterrupt("stopped while waiting for another sender")

    def _within_a_moment(self, who: Callable[[], str]) -> str:
        for _ in range(_MOST_ASKED):
            if (name := who()) != SOMEBODY or self._halt.wait(_BUNCH):
                break
        return name

    def _run_opened(self, claim: Claim | None = None) -> SentBatch:
        from dotledger.ledger.ledger_store import LedgerStore

        ledger = (
            self._ledger if isinstance(self._ledger, LedgerStore) else LedgerStore(self._ledger)
        )
        try:
            if claim is not None:
                return self._run_known(ledger, claim)
            return self._run_on_server(ledger)
        finally:
            if ledger is not self._ledger:
                ledger.close()

    def _run_on_server(self, ledger: LedgerStore) -> SentBatch:
        """Share the batch with whoever sends it too; asking again is done by one alone."""
        from dotledger.ledger.server_claims import ServerClaim

        opening, shared = self._opening(), not self._again
        held = self._claimed(lambda: ServerClaim(ledger, opening, shared=shared))
        run = self._run_together if shared else self._run_known
        return self._with_claim(held, lambda: run(ledger, held))

    def _run_together(self, ledger: LedgerStore, claim: ServerClaim) -> SentBatch:
        worker, desk = self._ready(ledger, claim)

        def adopt() -> None:
            for orphan in claim.orphans():
                if orphan.waiting():
                    desk.adopt(orphan)

        adopt()
        used = self._used_this_month(ledger)
        together = self._together(ledger, desk, adopt, used)
        ended = False
        try:
            desk.share_with(together)
            worker.claims = together.claim
            self._limit_together(together, self._units_this_month(ledger))
            together.begin()
            threads = self._start(worker, together.take)
            sent = self._watched(lambda: self._kept(desk, len(threads)))
            ended = True
            return sent
        finally:
            if not ended:
                self._wait_for_workers()
                # What ended it is told; the server forgets us by itself.
                with contextlib.suppress(LedgerError):
                    together.end(whole=False)

    def _together(
        self, ledger: LedgerStore, desk: Desk, adopt: Callable[[], None], used: Mapping[str, int]
    ) -> Together:
        from dotledger.ledger.sender_crews import HOLDS, Crew
        from dotledger.sending.batch.cooperating_senders import Allowed, Together

        description = self._plan.description
        who = f"process {os.getpid()} on {socket.gethostname()}"
        crew = Crew(
            ledger, batch=desk.batch, service=description.service, who=who, before=self._sender
        )
        self._sender = crew.id

        def used_by_now() -> None:
            self._meter.others_used(self._units_this_month(ledger))

        return Together(
            crew=crew,
            plan=self._plan,
            gate=self._gate,
            meter=self._meter,
            allowed=Allowed(
                at_most=self._at_most,
                quota=description.limits.per_month,
                budget=self._budget,
                used=sum(used.values()),
                month=self._month(),
            ),
            steady=self._means.steady,
            adopt=adopt,
            used_by_now=used_by_now if has_steps(description) else None,
            holds=HOLDS,
        )

    def _limit_together(self, together: Together, units: Mapping[str, int]) -> None:
        """Ask for calls and money as they are needed, of what all senders may make and spend."""
        if self._at_most is not None or self._plan.description.limits.per_month is not None:
            self._gate.allow(0, "", together.more_calls)
        self._meter.start(units, self._month(), self._budget, together.more_money)

    # The first call starts before the database package is loaded, but after the claim is taken
    # and the file made; answers are kept in the claim's file until then.
    def _run_new(self, path: Path, opening: BatchOpening, claim: FileClaim) -> SentBatch:
        """Start the first call before the database is even loaded, which takes its time.

        Until it is, answers are kept in the claim's file.
        """
        make_empty(path)
        open_by_now = threading.Event()
        worker = self._worker(claim, open_by_now)
        self._limit({}, {})
        threads = self._start(worker, self._in_order({}))

        def keep() -> SentBatch:
            from dotledger.ledger.ledger_store import LedgerStore

            with LedgerStore(path) as ledger:
                desk = self._desk(ledger, opening, worker, claim)
                open_by_now.set()
                return self._kept(desk, len(threads))

        return self._watched(keep)

    def _run_known(self, ledger: LedgerStore, claim: Claim) -> SentBatch:
        self._limit(self._used_this_month(ledger), self._units_this_month(ledger))
        worker, desk = self._ready(ledger, claim)
        threads = self._start(worker, self._in_order(desk.settled))
        return self._watched(lambda: self._kept(desk, len(threads)))

    def _ready(self, ledger: LedgerStore, claim: Claim) -> tuple[Worker, Desk]:
        """Return who works and who writes, with what the ledger knows already."""
        from dotledger.ledger.answer_queries import KnownAnswers

        open_by_now = threading.Event()
        worker = self._worker(claim, open_by_now, ledger)
        desk = self._desk(ledger, self._opening(), worker, claim)
        open_by_now.set()
        names = [call.name for call, _ in self._plan.calls]
        worker.known = KnownAnswers(ledger, self._plan, names)
        return worker, desk

    def _used_this_month(self, ledger: LedgerStore) -> Mapping[str, int]:
        """Return the requests of this month by call, if anything depends on them."""
        description = self._plan.description
        if description.limits.per_month is None and not has_steps(description):
            return {}
        from dotledger.ledger.usage_queries import requests_in_month

        return requests_in_month(ledger, description.service, self._month())

    def _units_this_month(self, ledger: LedgerStore) -> Mapping[str, int]:
        """Return what the prices of this month count so far, by call, if they change with it."""
        description = self._plan.description
        if not has_steps(description):
            return {}
        from dotledger.ledger.usage_queries import images_in_month

        made = images_in_month(ledger, description.service, self._month())
        return units_used(description, made)

    def _month(self) -> str:
        return timestamp(self._means.wall())[:7]

    def _limit(self, used: Mapping[str, int], units: Mapping[str, int]) -> None:
        left, reason = allowance(self._plan, self._at_most, sum(used.values()))
        self._gate.allow(left, reason)
        self._meter.start(units, self._month(), self._budget)

    def _jobs(self, ledger: LedgerStore) -> Jobs | None:
        if not self._has_jobs():
            return None
        from dotledger.ledger.pending_jobs import LedgerJobs

        anew = "anew" in self._again
        return LedgerJobs(ledger, self._plan.fingerprint, self._means.wall, anew=anew)

    def _worker(
        self, claim: Claim, open_by_now: threading.Event, ledger: LedgerStore | None = None
    ) -> Worker:
        def keep(
            call: CallRecord, images: list[ImageRecord], asked: list[str], answered: bool
        ) -> bool:
            answer = WaitingAnswer(call=call, images=images, answered=answered, asked=asked)
            call.aside = self._put_aside(claim, answer, sync=not open_by_now.is_set())
            return call.aside >= 0

        return Worker(
            self._plan,
            self._caller,
            keep,
            signer=self._means.signer,
            secrets=self._secrets,
            jobs=None if ledger is None else self._jobs(ledger),
            stored=None if ledger is None else partial(self._stored, ledger),
        )

    def _stored(self, ledger: LedgerStore, name: str, sha: str, asked: str) -> StoredAnswer | None:
        from dotledger.ledger.answer_queries import answers_kept

        return answers_kept(ledger, self._plan, name, {sha: asked}).get(sha)

    def _put_aside(self, claim: Claim, answer: WaitingAnswer, *, sync: bool) -> int:
        """Keep an answer where no kill can reach it; it is also in memory.

        While there is no database yet, not even a power failure can.
        """
        try:
            place = claim.put_aside(answer, sync=sync)
        except Exception as error:  # nothing of this may cost the answer its place in memory
            self._stop(f"answers cannot be kept next to the ledger ({error})")
            return -1
        self._aside += 1
        if claim.tight:
            self._stop("the disk is full: there is no room for further answers")
        return place

    def _desk(
        self, ledger: LedgerStore, opening: BatchOpening, worker: Worker, claim: Claim
    ) -> Desk:
        from dotledger.sending.batch.ledger_writer import Desk

        return Desk(
            plan=self._plan,
            ledger=ledger,
            opening=opening,
            worker=worker,
            means=self._means,
            gate=self._gate,
            claim=claim,
            began=self._began,
            outcomes=bool(self._again),
        )

    def _watched(self, keep: Callable[[], SentBatch]) -> SentBatch:
        """Let a thread of its own keep what comes, and watch.

        An interruption, or an error of whoever is told, comes to the thread that called us:
        nothing that is being taken over or written is cut off halfway. It only stops the workers.
        """
        outcome: list[SentBatch | BaseException] = []
        threading.Thread(target=self._noted, args=(keep, outcome), daemon=True).start()
        problem: Exception | None = None
        while not self._ended.is_set():
            try:
                self._watch()
            except KeyboardInterrupt:
                if self.interrupted:
                    raise
                self._interrupt()
            except Exception as error:
                problem = problem or error
                self._stop("telling the progress failed")
        [sent] = outcome
        if isinstance(sent, BaseException):
            raise sent
        if problem is not None:
            raise problem
        self._tell()
        return sent

    def _watch(self) -> None:
        try:
            news = self._news.get(timeout=_TELL_EVERY)
        except queue.Empty:
            self._tell()
        else:
            self._stop(news)

    def _tell(self) -> None:
        if self._means.tell and self._open_desk is not None:
            self._means.tell(self._open_desk.progress())

    def _noted(
        self, keep: Callable[[], SentBatch], outcome: list[SentBatch | BaseException]
    ) -> None:
        try:
            outcome.append(keep())
        except BaseException as error:
            outcome.append(error)
        finally:
            self._stop("the sending ended")
            self._ended.set()
            self._news.put("the sending ended")

    def _opening(self) -> BatchOpening:
        """Return what is sent; made once, since it looks at every file."""
        if self._opened_as is None:
            self._opened_as = opening_of(self._plan)
        return self._opened_as

    def _positions(self, settled: dict[int, dict[str, str]]) -> Iterator[Position]:
        """Yield the images to be settled: those pending, or those with the outcomes asked for.

        Asking again is about what was settled: what is pending waits for a sending without.
        """
        kinds = set(self._plan.kinds)
        # "anew" is for what failed, too, and starts new jobs instead of polling the old ones.
        again = {"failed" if one == "anew" else one for one in self._again}
        nothing: dict[str, str] = {}
        done = None
        for position, item in enumerate(self._plan.gathered.items):
            known = settled.get(position, nothing)
            if known is done:  # most images share what is known of them
                continue
            wanted = again & set(known.values()) if again else kinds - known.keys()
            if wanted:
                yield position, item
            else:
                done = known

    def _in_order(self, settled: dict[int, dict[str, str]]) -> Take:
        """Return what hands the workers one image after another."""
        todo = self._positions(settled)

        def take(wait: bool) -> Position | None:  # noqa: ARG001 - there is nothing to wait for
            with self._taking:
                return None if self._gate.over else next(todo, None)

        return take

    def _start(self, worker: Worker, take: Take) -> list[threading.Thread]:
        count = min(self._plan.description.limits.at_once, max(1, len(self._plan.gathered)))
        take = self._reading_ahead(take, count)
        threads = [
            threading.Thread(target=self._work, args=(worker, take), daemon=True)
            for _ in range(count)
        ]
        self._at_work = threads
        for thread in threads:
            thread.start()
        return threads

    def _reading_ahead(self, take: Take, at_once: int) -> Take:
        """Let images from far places be read while others are called about."""
        if not any(item.fetch is not None and item.where for item in self._plan.gathered.items):
            return take
        from dotledger.sending.batch.image_prefetch import Ahead

        ahead = self._ahead = Ahead(take, at_once)
        return lambda wait: None if self._gate.over else ahead.take(wait)

    def _work(self, worker: Worker, take: Take) -> None:
        try:
            while (settled := worker.settle(take)) is not None:
                self._results.put(settled)
                while self._results.qsize() > _MOST_WAITING and not self._ended.is_set():
                    time.sleep(_BUNCH)
        except BaseException as error:
            self._results.put(error)
            self._stop("a worker failed")
        finally:
            self._results.put(None)

    def _kept(self, desk: Desk, workers: int) -> SentBatch:
        """Take results and write them until every worker has ended."""
        self._open_desk = desk
        problems: list[BaseException] = []
        self._writing(desk.open_items)
        while workers:
            workers -= self._taken_over(desk, problems)
            self._writing(desk.maybe_write)
        try:
            sent = desk.close()
        except LedgerError as error:
            raise desk.rescued(error) from error
        if problems:
            raise problems[0]
        return sent

    def _writing(self, write: Callable[[], None]) -> None:
        """Stop the workers if the ledger fails; when all have ended it is tried once more.

        A server ends a transaction that stood still, as after a stop of this process: what was to
        be written is still here, and is written anew.
        """
        try:
            try:
                write()
            except LedgerError:
                if isinstance(self._ledger, str) and "://" not in self._ledger:
                    raise
                write()
        except LedgerError as error:
            self._stop(error.message)

    def _taken_over(self, desk: Desk, problems: list[BaseException]) -> int:
        """Hand the desk what has arrived; return how many workers ended."""
        ended = 0
        for result in self._arrived():
            if result is None:
                ended += 1
            elif isinstance(result, BaseException):
                problems.append(result)
            else:
                desk.take(result)
        return ended

    def _arrived(self) -> Iterator[Settled | BaseException | None]:
        """Yield what has arrived; waits a moment, so that results come in bunches.

        Taking each result as it comes would wake this thread for every image, at the cost of
        the workers.
        """
        time.sleep(_BUNCH)
        for _ in range(_MOST_IN_A_BUNCH):
            try:
                yield self._results.get_nowait()
            except queue.Empty:
                return
