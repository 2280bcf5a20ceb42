"""The time as a service has it: signatures carry the time, and clocks differ."""

from __future__ import annotations

import email.utils
import threading
import time
from collections.abc import Callable, Mapping

from dotledger.services.service_description import Description

__all__ = ["ServiceClock", "clock_for"]

_LEAST = 2.0
"""Smaller differences, in seconds, may come of the whole seconds in a ``Date`` header."""
_LONGEST_DATE = 64


class ServiceClock:
    """Our clock, corrected by a service's ``Date`` header (RFC 9110, 6.6.1) where it must be.

    It is only corrected after a refusal: a service that accepts our time may still send a wrong
    date.

    Parameters
    ----------
    wall : callable
        Seconds since 1970.
    """

    def __init__(self, wall: Callable[[], float] = time.time) -> None:
        self._wall = wall
        self._lock = threading.Lock()
        self.offset = 0.0
        self._proved: float | None = None
        self._fine: float | None = None

    def now(self) -> float:
        """Return the service's time, in seconds since 1970, as far as it is known."""
        return self._wall() + self.offset

    def corrected(self, headers: Mapping[str, str], offset: float) -> bool:
        """Go by the date in an answer; return whether the refused request had another time.

        A difference between the clocks with which requests were accepted is not why one is refused.

        Parameters
        ----------
        headers : mapping
            Of the answer that refused it; names in lower case.
        offset : float
            The correction that the request was made with. Another thread may have found a better
            one since.
        """
        with self._lock:
            if self.offset != offset:
                return True
            difference = self._difference(headers)
            if difference is None or _about(difference, self.offset):
                return False
            if self._fine is not None and _about(difference, self._fine):
                return False
            self.offset = difference
            return True

    def back_to(self, offset: float) -> None:
        """Undo a correction with which a request was refused, too, unless others were accepted."""
        with self._lock:
            if self.offset != self._proved:
                self.offset = offset

    def proved(self, headers: Mapping[str, str], offset: float) -> None:
        """Note that the service accepted a request made with this correction, and its date then."""
        with self._lock:
            self._proved, self._fine = offset, self._difference(headers)

    def is_proved(self, offset: float) -> bool:
        """Tell whether the service last accepted a request that was made with this correction."""
        return self._proved == offset

    def _difference(self, headers: Mapping[str, str]) -> float | None:
        said = _seconds(headers.get("date", ""))
        return None if said is None else said - self._wall()


def _about(difference: float, other: float) -> bool:
    return abs(difference - other) < _LEAST


def clock_for(description: Description, wall: Callable[[], float]) -> ServiceClock | None:
    """Return the clock that a service's signatures go by; None where none carries the time."""
    return None if description.connect.signing is None else ServiceClock(wall)


def _seconds(date: str) -> float | None:
    try:
        return email.utils.parsedate_to_datetime(date[:_LONGEST_DATE]).timestamp()
    except Exception:  # a date that is none fails in many ways, and then none was given
        return None
