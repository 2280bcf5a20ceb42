"""Events that wait until a receiver has taken them: a file that is only added to.

Each line is an event with its ``id``, or says that one was taken. What is decided again and is what
was last said of the same image is no new event. A verdict that changes is one, also where it
changes back: an id is the digest of what the event says and of the id before it.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from dotledger.errors import ArgumentError, LedgerError
from dotledger.json_codec import from_json, to_json
from dotledger.ledger.sender_claims import lock_file

__all__ = ["Outbox", "event_id"]


_ABOUT = ("type", "service", "batch", "audience", "image")
"""What an event is about; all else is what it says of that."""
_SAYS = ("verdict", "reasons")
"""What makes it another event: a new reading that finds the same does not."""


def event_id(event: Mapping[str, Any], before: str = "") -> str:
    """Return what an event is known by: 32 hexadecimal digits of a digest.

    Parameters
    ----------
    before : str
        The id of the event before it about the same; empty for the first.
    """
    plain = {name: value for name, value in event.items() if name != "id"}
    return hashlib.sha256(to_json([before, plain], ordered=True)).hexdigest()[:32]


def _about(event: Mapping[str, Any]) -> tuple[Any, ...]:
    return tuple(event.get(name) for name in _ABOUT)


class Outbox:
    """The outbox in a file; held by one process at a time, until `close` or for a ``with``.

    Parameters
    ----------
    path : Path
        Made if there is none.

    Raises
    ------
    LedgerError
        If another process holds it, or it cannot be opened.
    ArgumentError
        If the file holds something else.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            self._file = lock_file(path)
        except BlockingIOError as error:
            raise LedgerError(
                "another process is posting out of this outbox",
                place=str(path),
                next_step="Wait for it; what is left is posted by the next one.",
            ) from error
        self._events: dict[str, dict[str, Any]] = {}
        self._last: dict[tuple[Any, ...], dict[str, Any]] = {}
        self._taken: set[str] = set()
        try:
            self._read()
        except BaseException:
            os.close(self._file)
            raise

    def _read(self) -> None:
        data = self._path.read_bytes()
        # A line that a killed process did not end was never acted on.
        whole = data[: data.rfind(b"\n") + 1]
        for number, line in enumerate(whole.splitlines(), 1):
            try:
                one = from_json(line)
            except ValueError:
                one = None
            if isinstance(one, dict) and isinstance(one.get("taken"), str):
                self._taken.add(one["taken"])
            elif isinstance(one, dict) and isinstance(one.get("id"), str):
                self._keep(one)
            else:
                raise ArgumentError(
                    "no outbox",
                    place=f"{self._path}, line {number}",
                    got=line[:60].decode("utf-8", "replace"),
                    next_step="Name another file.",
                )
        if len(whole) < len(data):
            os.truncate(self._path, len(whole))
        os.lseek(self._file, 0, os.SEEK_END)

    @property
    def pending(self) -> list[dict[str, Any]]:
        """Events that nobody has taken yet, the oldest first."""
        return [one for name, one in self._events.items() if name not in self._taken]

    def add(self, events: Iterable[Mapping[str, Any]]) -> int:
        """Add events that say something else than the last about the same; return how many."""
        new = []
        for event in events:
            last = self._last.get(_about(event), {})
            if not last or any(last.get(name) != event.get(name) for name in _SAYS):
                new.append({"id": event_id(event, last.get("id", "")), **event})
        self._write(b"".join(to_json(one) + b"\n" for one in new))
        for one in new:
            self._keep(one)
        return len(new)

    def _keep(self, event: dict[str, Any]) -> None:
        self._events[event["id"]] = self._last[_about(event)] = event

    def take(self, name: str, at: str) -> None:
        """Note that an event was taken, and when (ISO 8601)."""
        self._write(to_json({"taken": name, "at": at}) + b"\n")
        self._taken.add(name)

    def _write(self, data: bytes) -> None:
        while data:
            data = data[os.write(self._file, data) :]

    def close(self) -> None:
        """Give it back; the file stays, since it tells what was taken."""
        os.close(self._file)

    def __enter__(self) -> Outbox:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
