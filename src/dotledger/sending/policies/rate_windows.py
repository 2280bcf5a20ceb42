"""Calls as a service counts them: how many reached it in any window of a declared limit.

A limit of 50 a second holds for every second, wherever it begins. So the call that is fifty calls
later may start a second after this one, and not before. The service counts a call when it arrives,
and a late call followed by one in time makes a window that is too full. A call is late for two
reasons:

- Between its turn and the moment its request is handed to the network, a connection may have to be
  opened, and a busy machine may run other threads first: up to 165 ms were measured with eight
  senders on two processors. That is known exactly (`Starts.left`), so a call counts from there, and
  a call that has not left yet holds up those that need its place.
- What happens after that is seen from the answer only: a call was as late as it took longer than
  the quickest.

Nothing here looks at a clock.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from msgspec import Struct

__all__ = ["Start", "Starts", "Window"]

# What lies between two machines' clocks and timers.
_APART = 1.002
# A service whose own time varies looks like one that is reached late. Beyond this part of the
# window we believe that, or slow answers would cost more than the refusals that they spare.
_LATEST = 0.03
# The quickest answer is forgotten slowly: a service that became slower is not late for ever.
_FORGET = 0.01
# The first calls may all be late: until so many have ended nobody knows what is quick here.
_ENOUGH = 8


class Window(Struct, frozen=True):
    """A declared limit: at most `count` calls in any `span` seconds."""

    count: int
    span: float


class Start(Struct):
    """A call that was given its turn, or left, `at` some time; `took` is how long it was under way.

    `away` is whether its request has been handed to the network; `took` is None until it ends.
    """

    at: float
    took: float | None = None
    away: bool = True


def window(count: float, span: float) -> Window:
    """Return a limit in whole calls: 2.5 in a second are three in 1.2 seconds.

    Parameters
    ----------
    count : float
        Calls, above 0.

    Returns
    -------
    Window
        Never more calls in `span` than the next whole number above `count`.
    """
    whole = math.ceil(count)
    return Window(whole, span * whole / count)


class Starts:
    """The last starts, as many as the longest window needs.

    Parameters
    ----------
    windows : sequence of Window
        Declared limits; with none nothing is kept.
    """

    def __init__(self, windows: Sequence[Window]) -> None:
        self._windows = self._whole = tuple(windows)
        self._until = math.inf
        self._since = -math.inf
        self._most = max((one.count for one in windows), default=0)
        self._ring: list[Start] = []
        self._number = 0
        self._quickest = math.inf
        self._ended = 0

    def free_from(self, now: float) -> float:
        """Return the earliest moment at which one more call may start.

        Parameters
        ----------
        now : float
            Seconds of any steady clock; what has not ended until now counts as late.

        Returns
        -------
        float
            May lie in the past; minus infinity while all limits have room.
        """
        if now >= self._until:
            return math.inf
        return max((self._free(one, now) for one in self._windows), default=-math.inf)

    def limit(self, counts: Sequence[int], until: float, now: float) -> None:
        """Keep to a part of each limit from now on: the rest is for others who call this service.

        Parameters
        ----------
        counts : sequence of int
            Calls in the span of each window, in their order; with 0 none starts.
        until : float
            From then on no call starts, before the next part is known.
        """
        pairs = zip(counts, self._whole, strict=True)
        windows = tuple(Window(count, one.span) for count, one in pairs)
        if windows != self._windows:
            self._since = now
        self._windows, self._until = windows, until

    def used(self, now: float) -> list[int]:
        """Return how many calls may lie in the window of each limit that ends now.

        Returns
        -------
        list of int
            A late one counts for a little longer. Once a part of the limit holds for longer than a
            window, no window has more.
        """
        return [self._used(one, now) for one in self._windows]

    def _used(self, one: Window, now: float) -> int:
        earliest = now - one.span * (_APART + _LATEST)
        if self._since < earliest:
            return min(one.count, self._number)
        return sum(start.at > earliest or not start.away for start in self._ring)

    def _free(self, one: Window, now: float) -> float:
        if not one.count:
            return math.inf
        if self._number < one.count:
            return -math.inf
        earlier = self._ring[(self._number - one.count) % self._most]
        if not earlier.away:  # its place in the window is still to come
            return math.inf
        return earlier.at + one.span * _APART + min(self._late(earlier, now), _LATEST * one.span)

    def _late(self, start: Start, now: float) -> float:
        if self._ended < _ENOUGH:
            return math.inf
        took = now - start.at if start.took is None else start.took
        return max(0.0, took - self._quickest)

    def start(self, now: float, *, away: bool = True) -> Start:
        """Note that a call starts.

        Parameters
        ----------
        away : bool, default True
            Whether its request leaves at this moment; if not, `left` or `end` follows.

        Returns
        -------
        Start
            To be given back when the call ends.
        """
        started = Start(now, away=away)
        if len(self._ring) < self._most:
            self._ring.append(started)
        elif self._most:
            self._ring[self._number % self._most] = started
        self._number += 1
        return started

    def left(self, start: Start, now: float) -> None:
        """Note that a call's request was handed to the network just now."""
        start.at, start.away = now, True

    def end(self, start: Start, now: float) -> None:
        """Note that a call has ended; one that never left counts from now on."""
        if not start.away:
            self.left(start, now)
            start.took = 0.0
            return
        took = start.took = now - start.at
        quickest = self._quickest
        known = took if math.isinf(quickest) else quickest + _FORGET * (took - quickest)
        self._quickest = min(took, known)
        self._ended += 1
