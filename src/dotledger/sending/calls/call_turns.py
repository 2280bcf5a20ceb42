"""Where worker threads wait for their turn.

The thin loop around `dotledger.sending.policies.pacing`, which decides.
"""

from __future__ import annotations

import logging
import math
import threading
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from dotledger.sending.policies import pacing
from dotledger.sending.policies.pacing import GiveUp, Pace, Send, Wait
from dotledger.sending.policies.rate_windows import Start, Starts

__all__ = ["CallGate"]

_log = logging.getLogger("dotledger")


class CallGate:
    """Lets calls through at the pace allowed."""

    def __init__(self, pace: Pace, clock: Callable[[], float]) -> None:
        self._pace = pace
        self._starts = Starts(pace.windows)
        self._clock = clock
        self._door = threading.Lock()
        self._turn = threading.Condition()
        self._more: Callable[[], tuple[int, str]] | None = None
        self._counts: tuple[int, ...] | None = None
        self.refusals = 0
        self.waits_for = ""
        """What a call waits for that was made and has no answer yet, such as a job's end."""

    def allow(
        self,
        left: int | None,
        reason: str,
        more: Callable[[], tuple[int, str]] | None = None,
    ) -> None:
        """Allow only so many calls, or any number; `reason` is given when they are used up.

        `more` is asked before that: it returns some further calls, or 0 and the reason.
        """
        with self._turn:
            self._pace = replace(self._pace, left=left, budget_reason=reason)
            self._more = more

    def share(self, counts: Sequence[int], until: float) -> None:
        """Keep to a part of each declared limit, until then; others have the rest."""
        with self._turn:
            self._starts.limit(counts, until, self._clock())
            if self._counts != tuple(counts):
                self._counts = tuple(counts)
                self._pace = pacing.shared(self._pace, self._clock(), counts)
            self._turn.notify()

    def used(self) -> list[int]:
        """Return how many calls lie in the window of each declared limit that ends now."""
        with self._turn:
            return self._starts.used(self._clock())

    @property
    def proven(self) -> bool:
        """Whether some call has been accepted."""
        return self._pace.proven

    @property
    def stop_reason(self) -> str:
        """Why nothing is sent any more; empty if sending goes on."""
        return self._pace.stop

    @property
    def over(self) -> bool:
        """Whether no call may start any more: the rest is not even read."""
        return bool(self._pace.stop) or (self._pace.left == 0 and self._more is None)

    @property
    def pace(self) -> Pace:
        """The state at this moment."""
        return self._pace

    def enter(self) -> Start | GiveUp:
        """Wait for a turn; return it, or why there will be none.

        The turn is given back to `answered` as soon as the call's answer is here. Threads queue
        at the door, so that only the first of them is woken for nothing.
        """
        with self._door, self._turn:
            while True:
                now = self._clock()
                self._pace, decision = pacing.ask(self._pace, now, self._starts.free_from(now))
                if isinstance(decision, Send):
                    return self._starts.start(now, away=False)
                if isinstance(decision, Wait):
                    self._wait(decision)
                elif not self._grown():
                    return GiveUp(self._pace.stop or self._pace.budget_reason)

    def _grown(self) -> bool:
        """Ask for further calls where those that were set aside for us are used up."""
        if self._pace.stop or self._more is None:
            return False
        count, reason = self._more()
        self._pace = replace(self._pace, left=count, budget_reason=reason)
        if not count:
            self._more = None
        return bool(count)

    def _wait(self, decision: Wait) -> None:
        seconds = decision.seconds
        self._turn.wait(None if math.isinf(seconds) else seconds)

    def left(self, start: Start) -> None:
        """Note that a call's request was handed to the network: the service counts it from now."""
        with self._turn:
            self._starts.left(start, self._clock())
            self._turn.notify()

    def answered(self, start: Start) -> None:
        """Note that a call is over, however it ended: what took long may have arrived late."""
        with self._turn:
            self._starts.end(start, self._clock())
            self._turn.notify()

    def accepted(self) -> None:
        """Note that a call ended well."""
        with self._turn:
            self._pace = pacing.accepted(self._pace, self._clock())
            self._turn.notify()

    def refused(self, wait: float | None) -> None:
        """Note that a call was refused because of its rate: everybody waits."""
        with self._turn:
            self.refusals += 1
            self._pace = pacing.refused(self._pace, self._clock(), wait)
            self._turn.notify()

    def announced(self, left: float, seconds: float) -> None:
        """Note how many calls the service still allows, and when there are more."""
        with self._turn:
            self._pace = pacing.announced(self._pace, self._clock(), left, seconds)
            self._turn.notify()

    def went_well(self) -> None:
        """Note that an answer could be read."""
        if self._pace.failed:
            with self._turn:
                self._pace = pacing.went_well(self._pace)

    def failed(self, reason: str, *, grave: bool = False) -> None:
        """Note that a call failed for good."""
        with self._turn:
            self._pace = pacing.failed(self._pace, reason, grave=grave)
            self._turn.notify()

    def ended(self, *, free: bool = False) -> None:
        """Note that a call ended in another way; `free` if it never left and cost nothing."""
        with self._turn:
            self._pace = pacing.ended(self._pace, free=free)
            self._turn.notify()

    def stop(self, reason: str) -> None:
        """Let nobody through any more."""
        if not self._pace.stop:
            _log.info("stopped: %s", reason)
        with self._turn:
            self._pace = pacing.stopped(self._pace, reason)
            self._turn.notify()
