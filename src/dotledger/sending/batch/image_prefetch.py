"""Reading images from far places ahead of the workers: they call while the next ones arrive."""

from __future__ import annotations

from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from threading import Lock

from msgspec.structs import replace

from dotledger.images.image_gathering import Item
from dotledger.sending.batch.send_worker import Position, Take

__all__ = ["Ahead"]

_MOST_BYTES = 64 << 20
"""Held at most, as far as sizes are known before reading."""
_UNKNOWN = 4 << 20
"""What an image counts for whose size nobody told."""


class Ahead:
    """Hands out images in their order, of which the next ones are being read already.

    Parameters
    ----------
    take : callable
        Gives the next image; see `Take`.
    at_once : int
        Images read at one time; twice as many are held at most.
    """

    def __init__(self, take: Take, at_once: int) -> None:
        self._take, self._most = take, 2 * at_once
        self._pool = ThreadPoolExecutor(at_once, thread_name_prefix="reading")
        self._waiting: deque[tuple[int, Item, Future[bytes] | None]] = deque()
        self._held = 0
        self._lock = Lock()

    def take(self, wait: bool) -> Position | None:
        """Return the next image; what it is read by waits for its bytes."""
        with self._lock:
            self._fill()
            if self._waiting:
                position, item, reading = self._waiting.popleft()
                self._held -= item.size or _UNKNOWN
                return position, item if reading is None else replace(item, fetch=reading.result)
        # Whoever waits holds nobody up: others may have something to hand over first.
        return self._take(True) if wait else None

    def _fill(self) -> None:
        while len(self._waiting) < self._most and (not self._waiting or self._held < _MOST_BYTES):
            taken = self._take(False)
            if taken is None:
                return
            position, item = taken
            reading = None if item.fetch is None else self._pool.submit(item.read)
            self._waiting.append((position, item, reading))
            self._held += item.size or _UNKNOWN

    def close(self) -> None:
        """Read nothing more."""
        self._pool.shutdown(wait=False, cancel_futures=True)
