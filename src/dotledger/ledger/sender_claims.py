"""One sender at a time, and a place for answers when the ledger cannot take them.

Whoever sends into a ledger with some settings first takes the claim for them: a locked file beside
the ledger, or a lock on the database server. The system gives a lock back when its process ends,
however it ends, and it does not depend on any clock: a process that was stopped for an hour still
holds it.

The file has a second use. Every answer is written to it before it goes into the database, so that
nothing that was paid for is only in memory: not while the database is opened, not between two
commits, not when it fails. Whoever takes the claim next moves what is left into the ledger. Room
for that is reserved before calls are made, for all that are under way: on a full disk nothing is
paid for, and where one fills in the middle of a batch, what was under way is kept all the same.
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
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, Protocol

import msgspec
from msgspec import Struct, field

from dotledger.errors import LedgerError
from dotledger.ledger.ledger_records import BatchOpening, CallRecord, ImageRecord
from dotledger.safe_files import read_regular

__all__ = [
    "SOMEBODY",
    "Claim",
    "FileClaim",
    "HeldElsewhere",
    "Turn",
    "Waiting",
    "WaitingAnswer",
    "claim_path",
    "files_in_use",
    "is_of_a_dead_process",
    "lock_file",
    "turn_path",
    "who_has",
]

_ROOM = 1 << 20
_USUALLY_AT_ONCE = 8
_MOST_RESERVED = 512 << 20
"""Bytes; answers that are under way at once stay under that together."""
_LONG = 8 << 20
_LENGTH = 4
_HEAD = 2 * _LENGTH
_SILENT_AFTER = 60.0
_LONGEST_NAME = 255
SOMEBODY = "another process"
"""Who has a turn or a claim, where nobody wrote it down, or not yet."""


class HeldElsewhere(LedgerError):
    """A sender on another machine holds the claim."""


class Waiting(Struct, frozen=True, kw_only=True):
    """What stands first in a claim's file: who sends, and the batch its answers belong to."""

    process: int
    host: str
    opening: BatchOpening
    images: int


class WaitingAnswer(Struct, frozen=True, kw_only=True):
    """One call with its answer, and the images that it answers, in the order of the call.

    `asked` are the SHA-256 of what was sent of them.
    """

    call: CallRecord
    images: list[ImageRecord]
    answered: bool
    asked: list[str] = field(default_factory=list)


class Claim(Protocol):
    """The right to send with some settings into one ledger."""

    @property
    def path(self) -> Path:
        """Where answers are put aside."""

    def held(self) -> bool:
        """Tell whether it is still ours; asked before each write."""

    def renew(self) -> None:
        """Show others that we are at work."""

    @property
    def tight(self) -> bool:
        """Whether there is no room for further answers."""

    def reserve_for(self, at_once: int) -> None:
        """Keep room for the answers of so many calls that are under way together."""

    def put_aside(self, answer: WaitingAnswer, *, sync: bool = False) -> int:
        """Keep an answer outside of the database; return where, for `committed`.

        Raises
        ------
        OSError
            If it cannot be kept there either.
        """

    def committed(self, places: Iterable[int]) -> None:
        """Note that answers put aside are in the database."""

    def safe(self) -> bool:
        """Tell whether what was put aside will be found by the next sender."""

    def waiting(self) -> bool:
        """Tell whether earlier senders left anything."""

    def set_aside(self) -> Iterator[tuple[Waiting, WaitingAnswer]]:
        """Yield what earlier senders left."""

    def taken_in(self) -> None:
        """Forget what earlier senders left: it is in the ledger by now."""

    def release(self, *, empty: bool) -> None:
        """Give it back; with `empty`, everything put aside is in the ledger by now."""


def claim_path(ledger: Path, fingerprint: str) -> Path:
    """Return the file next to a ledger that is locked by whoever sends with these settings."""
    name = f"{ledger.name}-sending-{fingerprint[:12]}"
    if len(os.fsencode(name)) > _LONGEST_NAME:
        name = f"{hashlib.sha256(os.fsencode(ledger.name)).hexdigest()[:24]}-{fingerprint[:12]}"
    return ledger.absolute().parent / name


def turn_path(ledger: Path, service: str) -> Path:
    """Return the file next to a ledger that is locked by whoever sends to a service."""
    return claim_path(ledger, hashlib.sha256(service.encode()).hexdigest())


def files_in_use(ledger: Path) -> tuple[list[Path], list[Path]]:
    """Return the files next to a ledger that a sender holds, and those in which answers wait.

    Parameters
    ----------
    ledger : Path
        As `claim_path` takes it.

    Returns
    -------
    tuple of list of Path
        Both empty while nobody sends and nothing was left.
    """
    held, waiting = [], []
    for path in _claim_files(ledger):
        try:
            file = os.open(path, os.O_RDWR | getattr(os, "O_BINARY", 0))
        except OSError:  # its sender ended just now
            continue
        try:
            _lock(file)
            if len(_Part(file).read()) > 1:
                waiting.append(path)
        except OSError:
            held.append(path)
        finally:
            os.close(file)  # which gives the lock back
    return held, waiting


def _claim_files(ledger: Path) -> list[Path]:
    marker = "0" * 64
    before = claim_path(ledger, marker).name.removesuffix(marker[:12])
    return sorted(
        path for path in ledger.absolute().parent.iterdir() if path.name.startswith(before)
    )


def who_has(path: Path) -> str:
    """Return who has a turn, for people.

    Parameters
    ----------
    path : Path
        See `turn_path`.

    Returns
    -------
    str
        Such as ``process 12 on a-host``; "another process" if that cannot be read.
    """
    with contextlib.suppress(OSError, UnicodeError):
        return read_regular(path).decode() or SOMEBODY
    return SOMEBODY


class Turn:
    """The turn of one who sends to a service with a ledger that is a file, held by locking a file.

    Whatever the settings: two batches may have images in common, and the service's limits hold for
    both. Those who share a ledger on a server need not take turns; see
    `dotledger.ledger.sender_crews`.

    Parameters
    ----------
    service : str
        To which nobody else sends meanwhile.

    Raises
    ------
    BlockingIOError
        If another process, or another thread of this one, has it.
    LedgerError
        If the file cannot be made.
    """

    def __init__(self, ledger: Path, service: str) -> None:
        self._path = turn_path(ledger, service)
        self._file = lock_file(self._path)
        os.ftruncate(self._file, 0)
        _written(self._file, f"process {os.getpid()} on {socket.gethostname()}".encode(), 0)

    def release(self) -> None:
        """Let the next one send."""
        # Gone before it is unlocked: whoever waits for it sees that, and makes another.
        if _is_at(self._file, self._path):
            with contextlib.suppress(OSError):
                self._path.unlink(missing_ok=True)
        os.close(self._file)


# Answers go into the claim's file always, not only while there is no database: a kill falls
# between two commits as easily, and a busy machine commits late. It costs about 20 microseconds
# an answer.
class FileClaim:
    """A claim held by locking a file.

    Every answer goes into it before it goes into the database, so that a killed process loses
    none that had come: what is written to a file outlives its writer. Two files take turns, so
    that neither grows: one is used while the other's answers are committed.

    Parameters
    ----------
    path : Path
        See `claim_path`; its folder is made.

    Attributes
    ----------
    tight : bool
        There is no more room to reserve: no further call may start. Those under way have theirs.

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
        self._head = msgspec.msgpack.encode(
            Waiting(
                process=os.getpid(),
                host=socket.gethostname(),
                opening=_without_names(opening),
                images=len(opening.names),
            )
        )
        self._current = 0
        self._at_once, self._largest = _USUALLY_AT_ONCE, 0
        self.tight = False
        file = lock_file(path)
        self._parts = [_Part(file)]
        try:
            _refuse_other_host(path, file)
            self._parts.append(_Part(_opened(_second(path))))
            self._left = [found for part in self._parts if (found := part.read())]
            if not self.waiting():
                self.taken_in()
        except OSError as error:
            self._close()
            raise _no_place(path, error) from error
        except BaseException:
            self._close()
            raise

    @property
    def path(self) -> Path:
        """The file."""
        return self._path

    def held(self) -> bool:
        """Tell whether the file is still there and the same."""
        return _is_at(self._parts[0].file, self._path)

    def safe(self) -> bool:
        """Tell the same: what stands in a file that is gone is lost."""
        return self.held()

    def renew(self) -> None:
        """Set the file's time, which is the file server's clock and not ours."""
        with contextlib.suppress(OSError):
            os.utime(self._parts[0].file)

    def put_aside(self, answer: WaitingAnswer, *, sync: bool = False) -> int:
        """Write an answer; with `sync`, wait until the disk has it. Return where it went."""
        record = _framed(msgspec.msgpack.encode(answer))
        with self._writing:
            self._take_turns()
            part = self._parts[self._current]
            part.append(record)
            if sync:
                os.fsync(part.file)
            self._largest = max(self._largest, len(record))
            self._reserve(part)
            return self._current

    def reserve_for(self, at_once: int) -> None:
        """Keep room for the answers of so many calls that are under way together."""
        with self._writing:
            self._at_once = at_once

    def _reserve(self, part: _Part) -> None:
        try:
            part.reserve(min(self._at_once * self._largest, _MOST_RESERVED))
        except OSError:
            self.tight = True

    def _take_turns(self) -> None:
        """Go on in the other file when this one is long and nothing in that one is waited for."""
        other = self._parts[1 - self._current]
        if self._parts[self._current].end > _LONG and not other.waited_for:
            try:
                other.begin(self._head, room=_ROOM)
            except OSError:  # no room for both: this one goes on
                os.ftruncate(other.file, 0)
                return
            self._current = 1 - self._current

    def committed(self, places: Iterable[int]) -> None:
        """Note that answers, by where they went, are in the database."""
        with self._writing:
            for place in places:
                self._parts[place].waited_for -= 1

    def set_aside(self) -> Iterator[tuple[Waiting, WaitingAnswer]]:
        """Yield what earlier senders left; what they did not finish writing is left out."""
        for first, *records in self._left:
            head = msgspec.msgpack.decode(first, type=Waiting)
            for record in records:
                yield head, msgspec.msgpack.decode(record, type=WaitingAnswer)

    def waiting(self) -> bool:
        """Tell whether earlier senders left anything."""
        return any(len(records) > 1 for records in self._left)

    def taken_in(self) -> None:
        """Forget what earlier senders left: it is in the ledger by now."""
        with self._writing:
            self._left = []
            try:
                self._parts[0].begin(self._head, room=_ROOM)
                os.ftruncate(self._parts[1].file, 0)
            except OSError as error:  # what was left is in the ledger; there is no room for more
                raise _no_place(self._path, error) from error

    def release(self, *, empty: bool) -> None:
        """Unlock; the files go if nothing waits in them."""
        if empty and self.held():
            _second(self._path).unlink(missing_ok=True)
            self._path.unlink(missing_ok=True)
        self._close()

    def _close(self) -> None:
        for part in reversed(self._parts):  # the one that is locked last
            os.close(part.file)


class _Part:
    """One of the two files: a head, answers one after another, then nothing or zeros."""

    def __init__(self, file: int) -> None:
        self.file = file
        self.end = self.reserved = 0
        self.waited_for = 0

    def read(self) -> list[bytes]:
        os.lseek(self.file, 0, os.SEEK_SET)
        with os.fdopen(os.dup(self.file), "rb") as file:
            return list(_records(file.read()))

    def begin(self, head: bytes, *, room: int) -> None:
        os.ftruncate(self.file, 0)
        self.end = self.reserved = self.waited_for = 0
        if room:
            _take_room(self.file, room)
            self.reserved = room
        self.append(_framed(head))
        self.waited_for = 0

    def reserve(self, size: int) -> None:
        """Take room for so many more bytes, and as many again; raises OSError if there is none."""
        if self.end + size > self.reserved:
            _take_room(self.file, self.end + 2 * size)
            self.reserved = self.end + 2 * size

    def append(self, record: bytes) -> None:
        done = 0
        while done < len(record):
            done += _written(self.file, record[done:], self.end + done)
        self.end += len(record)
        self.waited_for += 1


def _without_names(opening: BatchOpening) -> BatchOpening:
    return msgspec.structs.replace(opening, names=[], paths=[])


def _framed(record: bytes) -> bytes:
    """Return a record with its length and checksum before it."""
    size, check = len(record), zlib.crc32(record)
    return size.to_bytes(_LENGTH, "big") + check.to_bytes(_LENGTH, "big") + record


def _written(file: int, data: bytes, place: int) -> int:
    if hasattr(os, "pwrite"):
        return os.pwrite(file, data, place)
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


def _take_room(file: int, room: int) -> None:
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(file, 0, room)
        return
    _written(file, bytes(room), 0)


def _second(path: Path) -> Path:
    return path.with_name(f"{path.name}-2")


def _opened(path: Path) -> int:
    path.parent.mkdir(parents=True, exist_ok=True)
    return os.open(path, os.O_RDWR | os.O_CREAT | getattr(os, "O_BINARY", 0), 0o600)


def _is_at(file: int, path: Path) -> bool:
    """Tell whether an open file is the one that is under a path."""
    try:
        there, ours = os.stat(path), os.fstat(file)  # noqa: PTH116 - a pair
    except OSError:
        return False
    return (there.st_ino, there.st_dev) == (ours.st_ino, ours.st_dev)


def lock_file(path: Path) -> int:
    """Open and lock a file, made if there is none; make sure that nobody removed it meanwhile.

    Returns
    -------
    int
        The open file, to be read and written; closing it gives the lock back.

    Raises
    ------
    BlockingIOError
        If another process, or another thread of this one, holds it.
    LedgerError
        If it cannot be made.
    """
    while True:
        try:
            file = _opened(path)
        except OSError as error:
            raise _no_place(path, error) from error
        try:
            _lock(file)
        except OSError as error:
            os.close(file)
            if error.errno in (errno.EACCES, errno.EAGAIN, errno.EDEADLK):
                raise BlockingIOError(error.errno, "held by another sender", str(path)) from error
            raise _no_place(path, error) from error
        if _is_at(file, path):
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


def _refuse_other_host(path: Path, file: int) -> None:
    """Refuse while a sender on another machine is at work: not every file server passes locks on.

    Its file is renewed every few seconds. That time and the one it is compared with are both the
    file server's, so that no machine's clock matters.
    """
    owner = _owner_of(path)
    if owner is None or owner.host == socket.gethostname():
        return
    with tempfile.NamedTemporaryFile(dir=path.parent, prefix=".") as fresh:
        age = os.fstat(fresh.fileno()).st_mtime - os.fstat(file).st_mtime
    if age < _SILENT_AFTER:
        raise HeldElsewhere(
            "another machine is sending with these settings into this ledger",
            place=str(path),
            got=f"process {owner.process} on {owner.host}",
            next_step="Wait for it to end. If it was cut off, try again in a minute.",
        )


def _no_place(path: Path, error: OSError) -> LedgerError:
    full = error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
    reason = f"the disk is full: {error.strerror}" if full else error.strerror
    return LedgerError(
        f"the ledger cannot be written ({reason})",
        place=str(path.parent),
        next_step="Nothing was sent. Make room there, check its permissions, or name another "
        "place: `ledger=FILE`.",
    )


def is_of_a_dead_process(path: Path) -> bool:
    """Tell whether a claim's file was written by a process of this machine that is gone.

    Parameters
    ----------
    path : Path
        See `claim_path`.

    Returns
    -------
    bool
        False where that cannot be known.
    """
    owner = _owner_of(path)
    # On Windows this very question would end the process.
    if owner is None or owner.host != socket.gethostname() or os.name == "nt":
        return False
    try:
        os.kill(owner.process, 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return False


def _owner_of(path: Path) -> Any:
    """Return who holds a claim (`Waiting`), or None if that cannot be read."""
    with contextlib.suppress(OSError, msgspec.DecodeError, StopIteration):
        return msgspec.msgpack.decode(next(_records(read_regular(path))), type=Waiting)
    return None
