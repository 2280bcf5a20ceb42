"""One sender at a time, and a place for answers when the ledger cannot take them.

Whoever sends into a ledger with some settings first takes the claim for them: a locked file beside
the ledger, or a lock on the database server. The system gives a lock back when its process ends,
however it ends, and it does not depend on any clock: a process that was stopped for an hour still
holds it.

The file has a second use. Until the database is open, and whenever it fails, answers are appended
to it, so that nothing that was paid for is only in memory. Whoever takes the claim next moves them
into the ledger. Room for that is taken when the sending begins: on a full disk nothing is paid for.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import socket
import tempfile
import threading
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Protocol

import msgspec
from msgspec import Struct

from dotledger.errors import LedgerError
from dotledger.files import read_regular
from dotledger.ledger.records import BatchOpening, CallRecord, ImageRecord

__all__ = ["Claim", "FileClaim", "Waiting", "WaitingAnswer", "claim_path", "owner_of"]

_ROOM = 1 << 20
_LENGTH = 4
_HEAD = 2 * _LENGTH
_SILENT_AFTER = 60.0
_LONGEST_NAME = 255


class Waiting(Struct, frozen=True, kw_only=True):
    """What stands first in a claim's file: who sends, and the batch its answers belong to."""

    process: int
    host: str
    opening: BatchOpening
    images: int


class WaitingAnswer(Struct, frozen=True, kw_only=True):
    """One call with its answer, and the images that it answers, in the order of the call."""

    call: CallRecord
    images: list[ImageRecord]
    answered: bool


class Claim(Protocol):
    """The right to send with some settings into one ledger."""

    @property
    def path(self) -> Path:
        """Where answers are put aside."""

    def held(self) -> bool:
        """Tell whether it is still ours; asked before each write."""

    def renew(self) -> None:
        """Show others that we are at work."""

    def put_aside(self, answer: WaitingAnswer) -> None:
        """Keep an answer outside of the database.

        Raises
        ------
        OSError
            If it cannot be kept there either.
        """

    def set_aside(self) -> Iterator[tuple[Waiting, WaitingAnswer]]:
        """Yield what earlier senders left."""

    def taken_in(self) -> None:
        """Forget what earlier senders left: it is in the ledger by now."""

    def release(self, *, empty: bool) -> None:
        """Give it back; with `empty`, everything put aside is in the ledger by now."""


def claim_path(ledger: Path, fingerprint: str) -> Path:
    """Return the file beside a ledger that is locked by whoever sends with these settings."""
    name = f"{ledger.name}-sending-{fingerprint[:12]}"
    if len(os.fsencode(name)) > _LONGEST_NAME:
        name = f"{hashlib.sha256(os.fsencode(ledger.name)).hexdigest()[:24]}-{fingerprint[:12]}"
    return ledger.absolute().parent / name


class FileClaim:
    """A claim held by locking a file.

    Parameters
    ----------
    path : Path
        See `claim_path`; its folder is made.
    opening : BatchOpening
        What is to be sent.

    Raises
    ------
    BlockingIOError
        If another process, or another thread of this one, holds it.
    LedgerError
        If the file cannot be made or there is no room.
    """

    def __init__(self, path: Path, opening: BatchOpening) -> None:
        self._path = path
        self._writing = threading.Lock()
        self._opening = opening
        self._file = _locked(path)
        self._left = self._read()
        try:
            _refuse_other_host(path, self._left)
            self._end = self._begin()
        except OSError as error:
            os.close(self._file)
            raise _no_place(path, error) from error
        except BaseException:
            os.close(self._file)
            raise

    @property
    def path(self) -> Path:
        """The file."""
        return self._path

    def held(self) -> bool:
        """Tell whether the file is still there and the same."""
        try:
            there, ours = os.stat(self._path), os.fstat(self._file)  # noqa: PTH116 - a pair
        except OSError:
            return False
        return (there.st_ino, there.st_dev) == (ours.st_ino, ours.st_dev)

    def renew(self) -> None:
        """Set the file's time, which is the file server's clock and not ours."""
        with contextlib.suppress(OSError):
            os.utime(self._file)

    def put_aside(self, answer: WaitingAnswer) -> None:
        """Append an answer and wait until the disk has it."""
        with self._writing:
            self._end = _append(self._file, self._end, msgspec.msgpack.encode(answer))
            os.fsync(self._file)

    def set_aside(self) -> Iterator[tuple[Waiting, WaitingAnswer]]:
        """Yield what earlier senders left; what they did not finish writing is left out."""
        if self._left:
            head = msgspec.msgpack.decode(self._left[0], type=Waiting)
            for record in self._left[1:]:
                yield head, msgspec.msgpack.decode(record, type=WaitingAnswer)

    def waiting(self) -> bool:
        """Tell whether earlier senders left anything."""
        return len(self._left) > 1

    def taken_in(self) -> None:
        """Forget what earlier senders left: it is in the ledger by now."""
        with self._writing:
            self._left = []
            self._end = self._begin()

    def release(self, *, empty: bool) -> None:
        """Unlock; the file goes if nothing waits in it."""
        if empty and self.held():
            self._path.unlink(missing_ok=True)
        os.close(self._file)

    def _read(self) -> list[bytes]:
        os.lseek(self._file, 0, os.SEEK_SET)
        with os.fdopen(os.dup(self._file), "rb") as file:
            data = file.read()
        return list(_records(data))

    def _begin(self) -> int:
        """Take the room and write who we are; what others left stays until it is taken in."""
        if self._left[1:]:
            return sum(_HEAD + len(record) for record in self._left)
        head = Waiting(
            process=os.getpid(),
            host=socket.gethostname(),
            opening=_without_names(self._opening),
            images=len(self._opening.names),
        )
        os.ftruncate(self._file, 0)
        _take_room(self._file)
        return _append(self._file, 0, msgspec.msgpack.encode(head))


def _without_names(opening: BatchOpening) -> BatchOpening:
    return msgspec.structs.replace(opening, names=[], paths=[])


def _append(file: int, end: int, record: bytes) -> int:
    """Write a record with its length and checksum; return where it ends."""
    head = len(record).to_bytes(_LENGTH, "big") + zlib.crc32(record).to_bytes(_LENGTH, "big")
    whole = head + record
    done = 0
    while done < len(whole):
        done += _written(file, whole[done:], end + done)
    return end + len(whole)


def _written(file: int, data: bytes, place: int) -> int:
    os.lseek(file, place, os.SEEK_SET)
    return os.write(file, data)


def _records(data: bytes) -> Iterator[bytes]:
    """Yield whole records, up to the first that is none: room taken in advance, or a cut one."""
    place = 0
    while place + _HEAD <= len(data):
        size = int.from_bytes(data[place : place + _LENGTH], "big")
        check = int.from_bytes(data[place + _LENGTH : place + _HEAD], "big")
        record = data[place + _HEAD : place + _HEAD + size]
        if not size or len(record) < size or zlib.crc32(record) != check:
            return
        yield record
        place += _HEAD + size


def _take_room(file: int) -> None:
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(file, 0, _ROOM)
        return
    _written(file, bytes(_ROOM), 0)


def _locked(path: Path) -> int:
    """Open and lock the file, and make sure that nobody removed it meanwhile."""
    while True:
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            file = os.open(path, os.O_RDWR | os.O_CREAT | getattr(os, "O_BINARY", 0), 0o600)
        except OSError as error:
            raise _no_place(path, error) from error
        try:
            _lock(file)
        except OSError as error:
            os.close(file)
            if error.errno in (errno.EACCES, errno.EAGAIN, errno.EDEADLK):
                raise BlockingIOError(error.errno, "held by another sender", str(path)) from error
            raise _no_place(path, error) from error
        with contextlib.suppress(OSError):
            if os.stat(path).st_ino == os.fstat(file).st_ino:  # noqa: PTH116 - a pair
                return file
        os.close(file)


def _lock(file: int) -> None:
    try:
        import fcntl
    except ImportError:  # Windows
        import msvcrt

        msvcrt.locking(file, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined]
        return
    fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)


def _refuse_other_host(path: Path, left: list[bytes]) -> None:
    """Refuse while a sender on another machine is at work: not every file server passes locks on.

    Its file is renewed every few seconds. That time and the one it is compared with are both the
    file server's, so that no machine's clock matters.
    """
    if not left:
        return
    owner = msgspec.msgpack.decode(left[0], type=Waiting)
    if owner.host == socket.gethostname():
        return
    with tempfile.NamedTemporaryFile(dir=path.parent, prefix=".") as fresh:
        age = os.fstat(fresh.fileno()).st_mtime - path.stat().st_mtime
    if age < _SILENT_AFTER:
        raise LedgerError(
            "another machine is sending with these settings into this ledger",
            place=str(path),
            got=f"process {owner.process} on {owner.host}",
            next_step="Wait for it to end. If it was cut off, try again in a minute.",
        )


def _no_place(path: Path, error: OSError) -> LedgerError:
    reason = "the disk is full" if error.errno in (errno.ENOSPC, errno.EDQUOT) else error.strerror
    return LedgerError(
        f"the ledger cannot be written ({reason})",
        place=str(path.parent),
        next_step="Nothing was sent. Make room there, check its permissions, or name another "
        "place with --ledger.",
    )


def owner_of(path: Path) -> Any:
    """Return who holds a claim (`Waiting`), or None if that cannot be read."""
    with contextlib.suppress(OSError, msgspec.DecodeError, StopIteration):
        return msgspec.msgpack.decode(next(_records(read_regular(path))), type=Waiting)
    return None
