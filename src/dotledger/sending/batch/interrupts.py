"""Ctrl-C as a message: nothing is cut off where it happens to fall."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

__all__ = ["interruptions_told"]

_SIGNALS = ("SIGINT", "SIGTERM", "SIGHUP")


# Ctrl-C, and the system's end, are told through a queue and act between two steps, so that
# nothing paid for is dropped wherever they fall; the second one raises as usual.
@contextmanager
def interruptions_told(tell: Callable[[], None]) -> Iterator[None]:
    """Call `tell` at the first signal that would raise ``KeyboardInterrupt`` in this thread.

    The second raises it. Signals with a handler of somebody else's, and threads that no signal
    reaches, are left alone.

    Parameters
    ----------
    tell : callable
        Called inside the signal's handler: it may do no more than set an attribute and put into
        a `queue.SimpleQueue`.
    """

    def first(number: int, _frame: Any) -> None:
        signal.signal(number, signal.default_int_handler)
        tell()

    ours = _raising() if threading.current_thread() is threading.main_thread() else []
    for number in ours:
        signal.signal(number, first)
    try:
        yield
    finally:
        for number in ours:
            signal.signal(number, signal.default_int_handler)


def _raising() -> list[signal.Signals]:
    known = (getattr(signal, name, None) for name in _SIGNALS)
    return [n for n in known if n and signal.getsignal(n) is signal.default_int_handler]
