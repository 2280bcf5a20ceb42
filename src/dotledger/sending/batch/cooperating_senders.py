"""One sender among others, who share a batch and a service's limits through a server.

`dotledger.ledger.sender_crews` knows what the server holds. Here is what this process makes of it:
which images its workers take next, what they may ask, and how many calls of the limit are theirs. A
thread of its own says every second that this process is still there.
"""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from dotledger.errors import LedgerError
from dotledger.images.image_gathering import Item
from dotledger.ledger.sender_crews import Crew, Share
from dotledger.sending.batch.shared_limits import TOO_SILENT, calls_reached, quota_reached
from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.calls.spending_meter import Meter
from dotledger.sending.policies.send_plan import Plan

if TYPE_CHECKING:
    from sqlalchemy import Connection

    from dotledger.ledger.ledger_records import CallRecord

__all__ = ["Allowed", "Together"]

_log = logging.getLogger("dotledger")
_EVERY = 1.0
# Until the others have heard that there is one more, each second without calls is lost.
_EVERY_WHILE_SHORT = 0.2
_LOOK_EVERY = 0.2
_MONTH_EVERY = 5.0
# The part of the time for which the server holds what is ours: beyond it no call starts, so that
# nothing starts that the server may have given to others.
_SURE = 0.75
_MONEY_FOR = 8
"""Requests for which money is set aside at a time."""


class Allowed(Struct, frozen=True, kw_only=True):
    """What all senders together may call and spend.

    Attributes
    ----------
    at_most : int or None
        Calls for this batch.
    quota : int or None
        Calls a month.
    budget : float or None
        Money for this batch.
    used : int
        Calls of this month that the ledger knows.
    month : str
        As ``"2031-05"``.
    """

    at_most: int | None
    quota: int | None
    budget: float | None
    used: int
    month: str


class Together:
    """What this process does with its part of a batch.

    Parameters
    ----------
    gate : CallGate
        Kept to our share of the service's limits.
    adopt : callable
        Takes in what a sender on this machine had put aside before it was killed.
    used_by_now : callable, optional
        Writes the requests of this month, as the ledger knows them by now, into the meter.
    holds : float
        Seconds for which the server holds what is ours.

    Attributes
    ----------
    settled : int
        Images of the batch that are settled, whoever did it.
    most : int
        Most others that were seen.
    """

    def __init__(
        self,
        *,
        crew: Crew,
        plan: Plan,
        gate: CallGate,
        meter: Meter,
        allowed: Allowed,
        steady: Callable[[], float],
        adopt: Callable[[], None],
        used_by_now: Callable[[], None] | None,
        holds: float,
    ) -> None:
        self._crew, self._plan, self._gate, self._meter = crew, plan, gate, meter
        self._allowed, self._steady, self._adopt = allowed, steady, adopt
        self._used_by_now, self._holds = used_by_now, holds
        self._limits = [(one.count, one.span) for one in gate.pace.windows]
        self._changed = threading.Condition()
        self._queue: deque[int] = deque()
        self._out: set[int] = set()
        self._held: dict[int, set[int]] = {}
        self._lease_of: dict[int, int] = {}
        self._asked: dict[int, list[tuple[str, str]]] = {}
        self._looked = -1.0
        self._poked = threading.Event()
        self._over = False
        self._started = False
        self._beating: threading.Thread | None = None
        self._sure_until = -1.0
        self._month_seen = steady()
        self.settled = 0
        self.most = 0

    # -- beginning and end ------------------------------------------------------------------------

    def begin(self) -> None:
        """Share the images out, take our first share of the limits, and say that we are here."""
        self._crew.open_leases(len(self._plan.gathered), len(self._plan.kinds))
        short = self._share()
        self._count_others()
        self._beating = threading.Thread(target=self._beat, args=(short,), daemon=True)
        self._beating.start()

    def end(self, *, whole: bool) -> bool:
        """Give back what is ours; return whether others are still sending this batch.

        What a sender could not write stays noted as asked until it runs out: whoever takes it over
        then looks for it on this machine first.
        """
        self._over = True
        self._poked.set()
        if self._beating is not None:
            self._beating.join()
        if whole:
            left = self._gate.pace.left or 0
            self._crew.give_back(max(0, left), self._money_left(), self._allowed.month)
            self._crew.leave()
        # Asked after we have left: of two that end together, the later one knows that it is last.
        others = bool(self._crew.others())
        self._crew.close()
        return others

    def _money_left(self) -> float:
        return self._meter.left if self._allowed.budget is not None else 0.0

    # -- being there ------------------------------------------------------------------------------

    def _beat(self, short: bool) -> None:
        try:
            while not self._over:
                self._poked.wait(_EVERY_WHILE_SHORT if short else _EVERY)
                self._poked.clear()
                if not self._over:
                    short = self._beaten()
        except Exception as error:  # without this thread nothing may start, and nobody would say so
            self._gate.stop(f"speaking to the server failed ({type(error).__name__}: {error})")

    def _beaten(self) -> bool:
        """Say that we are here; return whether there is something to be asked for again soon."""
        try:
            if not self._crew.renew():
                self._gate.stop(TOO_SILENT)
                return False
            short = self._share()
            self._count_others()
        except LedgerError as error:
            # What the server made of it is not known: nothing starts until it is.
            self._gate.share([0] * len(self._limits), -1.0)
            _log.info("%s; no call starts until the server answers", error.message)
            return True
        else:
            return short

    def find_out(self) -> None:
        """Ask the server whether we are still one of those who send, after a time of silence.

        A process that was stopped, or a machine that slept, may go on long after its images were
        given to others.
        """
        if self._beating is not None and self._steady() > self._sure_until:
            self._beaten()

    def booked(self, connection: Connection, calls: Sequence[CallRecord], ours: bool) -> None:
        """Note calls in the transaction that writes them into the ledger; see `Crew.booked`."""
        count, money = sum(one.requests for one in calls), sum(one.price for one in calls)
        month = self._allowed.month if self._allowed.quota is not None else ""
        self._crew.booked(connection, count, money, ours=ours, month=month)

    def _share(self) -> bool:
        asked = self._steady()
        # Without the lock: a worker may hold it while it waits for what a killed sender left, and
        # a sender that does not say in time that it is there loses its images.
        wants = not self._started or bool(self._queue or self._out)
        shares = self._crew.share(self._limits, self._gate.used(), wants=wants)
        self._sure_until = asked + _SURE * self._holds
        self._gate.share([one.calls for one in shares], self._sure_until)
        return any(_is_short(one) for one in shares)

    def _count_others(self) -> None:
        self.most = max(self.most, len(self._crew.others()))
        self.settled = self._crew.settled_images()
        if self._used_by_now is not None and self._steady() - self._month_seen > _MONTH_EVERY:
            self._used_by_now()
            self._month_seen = self._steady()

    # -- images -----------------------------------------------------------------------------------

    # A worker that holds something never waits here: what it holds may be what others wait for.
    def take(self, wait: bool) -> tuple[int, Item] | None:
        """Return the next image; None if there is none, now or (after waiting) any more."""
        with self._changed:
            while not self._gate.over:
                if self._queue or self._leased():
                    position = self._queue.popleft()
                    self._out.add(position)
                    return position, self._plan.gathered.items[position]
                if not wait or not (self._held or self._crew.unfinished()):
                    return None
                self._changed.wait(_LOOK_EVERY)
        return None

    def _leased(self) -> bool:
        """Take images that nobody has; False if there are none just now."""
        if self._steady() - self._looked < _LOOK_EVERY:
            return False
        while (lease := self._crew.lease()) is not None:
            if lease.taken_over:
                self._adopt()
            known = self._crew.settled(lease)
            kinds = set(self._plan.kinds)
            places = range(lease.first, lease.last + 1)
            todo = [place for place in places if kinds - known.get(place, set())]
            if todo:
                self._begin(lease.first, todo)
                return True
            self._crew.done([lease.first])
        self._looked = self._steady()
        return False

    def _begin(self, first: int, todo: Sequence[int]) -> None:
        idle = self._started and not (self._queue or self._out)
        self._started = True
        self._held[first] = set(todo)
        self._lease_of.update(dict.fromkeys(todo, first))
        self._queue.extend(todo)
        if idle:  # our share of the limits went to others meanwhile
            self._poked.set()

    def handed_over(self, positions: Iterable[int]) -> None:
        """Note that workers are done with some images, which may still wait for an answer."""
        with self._changed:
            self._out.difference_update(positions)

    def again(self, position: int) -> None:
        """Put an image back: the answer that it waited for does not come."""
        with self._changed:
            self._queue.append(position)
            self._changed.notify_all()

    def written(self, positions: Sequence[int]) -> None:
        """Note that outcomes are in the ledger, and what was asked for them is answered."""
        with self._changed:
            asked = [one for position in positions for one in self._asked.pop(position, ())]
            firsts = [self._settle(position) for position in positions]
            self._changed.notify_all()
        self._crew.release(asked)
        self._crew.done([first for first in firsts if first is not None])

    def _settle(self, position: int) -> int | None:
        """Cross an image out; return its lease if that was the last one."""
        first = self._lease_of.pop(position, None)
        if first is None:
            return None
        self._held[first].discard(position)
        if self._held[first]:
            return None
        del self._held[first]
        return first

    # -- what is asked ----------------------------------------------------------------------------

    def claim(self, position: int, names: Iterable[str], asked: str) -> set[str]:
        """Return the calls that are ours to make for an image; others make the rest, or did."""
        known = self._plan.identities
        wanted = {name: known[name] for name in names}
        granted, taken_over = self._crew.claim(wanted, asked)
        if taken_over:
            self._adopt()
            granted, _ = self._crew.claim({name: known[name] for name in granted}, asked)
        with self._changed:
            self._asked.setdefault(position, []).extend((known[name][0], asked) for name in granted)
        return granted

    def still_asked(self, images: Iterable[tuple[str, str]]) -> set[tuple[str, str]]:
        """Return those of (call, SHA-256 of what is sent) that somebody is asking just now."""
        known = self._plan.identities
        pairs = {(known[name][0], asked): (name, asked) for name, asked in images}
        return {pairs[found] for found in self._crew.still_asked(list(pairs))}

    # -- limits -----------------------------------------------------------------------------------

    def more_calls(self) -> tuple[int, str]:
        """Return how many more calls this process may make, or 0 and why not."""
        allowed = self._allowed
        wanted = self._gate.pace.at_once
        try:
            count, by_quota = self._crew.set_aside(
                wanted, allowed.at_most, allowed.quota, allowed.month, allowed.used
            )
        except LedgerError as error:
            return 0, error.message
        if by_quota and allowed.quota is not None:
            return count, quota_reached(allowed.quota)
        return count, calls_reached(allowed.at_most or 0)

    def more_money(self, needed: float) -> float:
        """Return how much more money this process may spend; at least what is needed, or less."""
        try:
            return self._crew.set_money_aside(needed * _MONEY_FOR, self._allowed.budget or 0.0)
        except LedgerError:
            return 0.0


def _is_short(share: Share) -> bool:
    return share.calls < share.fair
