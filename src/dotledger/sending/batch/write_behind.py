"""Writing behind the answer: a running program does not wait for the ledger.

A thread of its own writes what came in, many together: one transaction for each image would take
longer than everything else about it.
"""

from __future__ import annotations

import threading

from dotledger.errors import LedgerError
from dotledger.ledger.ledger_records import ItemRecord
from dotledger.ledger.ledger_writing import BatchWriter

__all__ = ["WrittenBehind"]

_MOST = 256
_AGAIN = 1.0
_WAIT = 0.05
"""Seconds to wait for more to write together; so much may be lost if the process is killed."""


class WrittenBehind:
    """Writes settled images of a batch that grows, soon after they came.

    Parameters
    ----------
    writer : BatchWriter
        Of the batch; used by this thread only, until `close`.
    """

    def __init__(self, writer: BatchWriter) -> None:
        self._writer = writer
        self._changed = threading.Condition()
        self._waiting: list[tuple[ItemRecord, str, str]] = []
        self._hurry = self._closed = False
        self._writing = 0
        self._shas: dict[str, int] = {}
        self._error: LedgerError | None = None
        self._thread = threading.Thread(target=self._run, name="ledger", daemon=True)
        self._thread.start()

    def put(self, record: ItemRecord, name: str, path: str) -> None:
        """Take one settled image."""
        with self._changed:
            self._waiting.append((record, name, path))
            if record.image is not None:
                self._shas[record.image.sha] = self._shas.get(record.image.sha, 0) + 1
            # Only the first wakes the thread, which then waits for more by itself.
            if len(self._waiting) == 1 or len(self._waiting) >= _MOST:
                self._changed.notify_all()

    def check(self) -> None:
        """Raise LedgerError while the last writing failed: nothing more should be paid for.

        What failed is tried again every second, so that a ledger may come back.
        """
        with self._changed:
            self._complain()

    def flush(self, sha: str | None = None) -> None:
        """Wait until everything is written, or nothing about these bytes is still to be."""
        with self._changed:
            if sha is not None and sha not in self._shas:
                return
            self._hurry = True
            self._changed.notify_all()
            while (self._waiting or self._writing) and self._error is None:
                self._changed.wait()
            self._complain()

    def close(self) -> None:
        """Write the rest, and end the thread; raises LedgerError if it cannot be written."""
        with self._changed:
            self._closed = True
            self._changed.notify_all()
        self._thread.join()
        with self._changed:
            self._complain()

    def _complain(self) -> None:
        if self._error is not None:
            raise self._error

    def _run(self) -> None:
        while True:
            taken = self._take()
            if not taken:
                return
            try:
                self._writer.write_grown(taken)
            except LedgerError as error:
                if not self._put_back(taken, error):
                    return
            else:
                self._done(taken)

    def _put_back(self, taken: list[tuple[ItemRecord, str, str]], error: LedgerError) -> bool:
        """Keep what could not be written, and wait; False at the end."""
        with self._changed:
            self._waiting = [*taken, *self._waiting]
            self._writing = 0
            self._error = error
            self._changed.notify_all()
            last = self._closed  # one more try at the end, if it was not the end already
            self._changed.wait_for(lambda: self._closed, _AGAIN)
            return not last

    def _take(self) -> list[tuple[ItemRecord, str, str]]:
        """Wait for something to write, and a little longer for more; empty at the end."""
        with self._changed:
            while not self._waiting and not self._closed:
                self._changed.wait()
            if not self._closed and not self._hurry and len(self._waiting) < _MOST:
                self._changed.wait(_WAIT)
            taken, self._waiting = self._waiting, []
            self._writing = len(taken)
            return taken

    def _done(self, taken: list[tuple[ItemRecord, str, str]]) -> None:
        with self._changed:
            self._writing, self._error = 0, None
            self._hurry = self._hurry and bool(self._waiting)
            for record, _, _ in taken:
                if record.image is not None:
                    left = self._shas[record.image.sha] - 1
                    if left:
                        self._shas[record.image.sha] = left
                    else:
                        del self._shas[record.image.sha]
            self._changed.notify_all()
