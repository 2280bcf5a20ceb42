"""Files read and written safely: nothing that is no file is opened, nothing is half-written.

One rule holds for everything that is written. It never goes over a ledger, over one of the inputs
of the same command, or over anything that is no regular file (a link, a pipe, a device). It goes
over an existing file only where that was asked for, and over an image only if we wrote it: any
other is somebody's original, whoever sent it where. And it is written whole or not at all.
"""

from __future__ import annotations

import errno
import hashlib
import os
import stat
import tempfile
import zipfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from dotledger.errors import ArgumentError

__all__ = [
    "MOST_BYTES",
    "check_output",
    "check_output_folder",
    "check_regular",
    "check_unpacked",
    "is_image",
    "is_ledger",
    "parse_toml",
    "read_regular",
    "read_regular_or_pipe",
    "remember",
    "remembered",
    "safe_file_name",
    "state_file",
    "whole_file",
]

MOST_BYTES = 1 << 30
"""Larger files are refused before they are read."""

_LEDGER_BEGINS = b"SQLite format 3\x00"
_NO_WAITING = (
    getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0)
)


def read_regular(path: str | os.PathLike[str], most: int = MOST_BYTES) -> bytes:
    """Read a regular file at once.

    Parameters
    ----------
    path : path-like
        What it names must be a regular file, or a link to one: a pipe would block for ever, a
        device never end.

    Raises
    ------
    OSError
        If it is not there, may not be read, is no regular file, or holds more than `most`; its
        ``strerror`` says which.
    """
    file = os.open(path, os.O_RDONLY | _NO_WAITING)
    try:
        facts = os.fstat(file)
        if not stat.S_ISREG(facts.st_mode):
            raise OSError(errno.EINVAL, f"this is {_what(facts.st_mode)}, not a file", path)
        if facts.st_size > most:
            raise OSError(errno.EFBIG, f"the file holds more than {most:,} bytes", path)
        return _whole(file, facts.st_size, most)
    finally:
        os.close(file)


def read_regular_or_pipe(path: str | os.PathLike[str], most: int = MOST_BYTES) -> bytes:
    """Read a regular file, or a pipe until its end, such as a shell makes of ``<(command)``.

    A pipe that nobody writes to is empty; it is not waited for.

    Raises
    ------
    OSError
        As `read_regular`, and for a pipe with more than `most` bytes.
    """
    if not stat.S_ISFIFO(os.stat(path).st_mode):  # noqa: PTH116 - any path-like
        return read_regular(path, most)
    file = os.open(path, os.O_RDONLY | _NO_WAITING)
    os.set_blocking(file, True)
    with os.fdopen(file, "rb") as pipe:
        data = pipe.read(most + 1)
    if len(data) > most:
        raise OSError(errno.EFBIG, f"the pipe holds more than {most:,} bytes", path)
    return data


def check_regular(path: str | os.PathLike[str]) -> None:
    """Refuse what is not a regular file, before something opens it and waits.

    Raises
    ------
    OSError
        Also if it is not there.
    """
    mode = os.stat(path).st_mode  # noqa: PTH116 - any path-like
    if not stat.S_ISREG(mode):
        raise OSError(errno.EINVAL, f"this is {_what(mode)}, not a file", os.fspath(path))


def _whole(file: int, size: int, most: int) -> bytes:
    """Read to the end: in one step as a rule, in more where the system gives less at once."""
    first = os.read(file, size + 1)
    if len(first) == size:
        return first  # it asked for one byte more: the end was seen
    pieces, got = [first], len(first)
    while got <= most and (more := os.read(file, 1 << 20)):
        pieces.append(more)
        got += len(more)
    if got > most:
        raise OSError(errno.EFBIG, f"the file holds more than {most:,} bytes")
    return b"".join(pieces)


def _what(mode: int) -> str:
    for test, name in (
        (stat.S_ISDIR, "a folder"),
        (stat.S_ISFIFO, "a pipe"),
        (stat.S_ISSOCK, "a socket"),
        (stat.S_ISLNK, "a link"),
    ):
        if test(mode):
            return name
    return "a device"


def parse_toml(text: str) -> dict[str, Any]:
    """Return what TOML text holds.

    Parameters
    ----------
    text : str
        TOML 1.0.

    Raises
    ------
    ValueError
        With the reason, if it is not TOML, nested too deeply, or holds a number of more digits
        than can be read.
    """
    import tomllib

    try:
        return tomllib.loads(text)
    except RecursionError:
        raise ValueError("nested too deeply") from None


def check_output(
    path: str | os.PathLike[str],
    *,
    place: str,
    inputs: Iterable[str | os.PathLike[str] | None] = (),
    replace: bool = False,
) -> Path:
    """Refuse a place where a command may not write; see the rule at the top of this module.

    Parameters
    ----------
    place : str
        The option or argument that names it, for the message.
    replace : bool
        Whether an existing file may be replaced.

    Raises
    ------
    ArgumentError
        Naming the option, the path and what to do.
    """
    target = Path(path)
    fault = _fault(target, inputs)
    if fault:
        raise ArgumentError(
            fault, place=place, got=str(target), next_step="Name another file to write."
        )
    if not target.parent.is_dir():
        raise ArgumentError(
            "the folder of this file does not exist",
            place=place,
            got=str(target),
            next_step=f"Make it first: mkdir -p {target.parent}",
        )
    if target.exists() and not replace:
        raise ArgumentError(
            "this file exists",
            place=place,
            got=str(target),
            next_step="Name another file, or allow it to be replaced: `replace=True`.",
        )
    return target


def _fault(target: Path, inputs: Iterable[str | os.PathLike[str] | None]) -> str:
    """Return why nothing may ever be written here; empty if something may."""
    try:
        mode = target.lstat().st_mode
    except OSError:
        return ""
    if not stat.S_ISREG(mode):
        return f"this is {_what(mode)}, not a file"
    if any(_same(target, other) for other in inputs if other is not None):
        return "this file is read by the same command"
    if is_image(target) and _written_as(target) not in remembered(_WRITTEN):
        return "this is an image that Dot Ledger did not write; an original is never written over"
    return "this is a ledger; nothing is written over one" if is_ledger(target) else ""


def _same(one: Path, other: str | os.PathLike[str]) -> bool:
    try:
        return one.samefile(other)
    except (OSError, ValueError):
        return False


_IMAGES_BEGIN = (b"\xff\xd8\xff", b"\x89PNG", b"GIF8", b"BM", b"II*\0", b"MM\0*", b"RIFF")


def is_image(path: Path) -> bool:
    """Tell whether a file begins as an image does; false where it cannot be read.

    Returns
    -------
    bool
        Of the formats that are sent; HEIC and AVIF say so in their fifth to eighth byte.
    """
    first = _beginning(path, 12)
    return first.startswith(_IMAGES_BEGIN) or first[4:8] == b"ftyp"


# Which images are ours is known by place and content together: a copy of an original in which
# nothing was covered has the original's bytes.
def _written_as(path: Path) -> str:
    digest = hashlib.sha256(os.fsencode(path.resolve()) + b"\0")
    with path.open("rb") as file:
        while piece := file.read(_MOST_AT_ONCE):
            digest.update(piece)
    return digest.hexdigest()


_MOST_AT_ONCE = 1 << 20


def state_file(name: str) -> Path:
    """Return a file of the user's state folder, in which digests are remembered.

    Returns
    -------
    Path
        In ``DOTLEDGER_STATE``, or where the system keeps such files; it need not exist.
    """
    if named := os.environ.get("DOTLEDGER_STATE"):
        return Path(named) / name
    from platformdirs import user_state_path

    return user_state_path("dotledger") / name


def remembered(name: str) -> frozenset[str]:
    """Return the digests that a file of the user's state folder holds.

    Parameters
    ----------
    name : str
        See `state_file`.

    Returns
    -------
    frozenset of str
        Empty where it cannot be read.
    """
    with suppress(OSError, UnicodeDecodeError):
        return frozenset(read_regular(state_file(name)).decode("ascii").split())
    return frozenset()


def remember(name: str, digest: str) -> None:
    """Add a digest to a file of the user's state folder.

    Parameters
    ----------
    name : str
        See `state_file`.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    file = state_file(name)
    file.parent.mkdir(parents=True, exist_ok=True)
    with file.open("a", encoding="ascii") as memory:
        memory.write(f"{digest}\n")


_WRITTEN = "written-images"


def _note_image(path: Path) -> None:
    """Remember an image that we wrote; where that fails it is taken for somebody's original."""
    with suppress(OSError):
        remember(_WRITTEN, _written_as(path))


_MOST_UNPACKED = 1 << 30
_SMALL = 16 << 20
_MOST_SQUEEZED = 100


def check_unpacked(facts: zipfile.ZipInfo, before: int = 0) -> None:
    """Refuse a file of an archive that unpacks to more than anybody would put there.

    Parameters
    ----------
    facts : zipfile.ZipInfo
        What the archive says of it.
    before : int, default 0
        Bytes that came out of the same archive already.

    Raises
    ------
    OSError
        If it, or all of it together, is larger than a gigabyte, or a hundred times as large as it
        is packed.
    """
    size, packed = facts.file_size, max(1, facts.compress_size)
    if before + size > _MOST_UNPACKED:
        raise OSError(f"the archive unpacks to more than {_MOST_UNPACKED:,} bytes")
    if size > _SMALL and size > _MOST_SQUEEZED * packed:
        raise OSError(f"it unpacks to {size:,} bytes, {size // packed:,} times what is packed")


def is_ledger(path: Path) -> bool:
    """Tell whether a file begins as a ledger does; false where it cannot be read.

    Returns
    -------
    bool
        Of a database that is a file.
    """
    return _beginning(path, len(_LEDGER_BEGINS)) == _LEDGER_BEGINS


def _beginning(path: Path, size: int) -> bytes:
    """Return the first bytes of a file; none where it cannot be read."""
    try:
        with path.open("rb") as file:
            return file.read(size)
    except OSError:
        return b""


def check_output_folder(
    path: str | os.PathLike[str],
    *,
    place: str,
    inputs: Iterable[str | os.PathLike[str] | None] = (),
    replace: bool = False,
) -> Path:
    """Refuse a place where no folder of outputs can be: one that is new or empty, unless asked.

    Parameters
    ----------
    place : str
        Option or argument, for the message.
    replace : bool, default False
        Let a folder be used that is not empty.

    Returns
    -------
    Path
        The folder; it is not made yet.

    Raises
    ------
    ArgumentError
        If it is there and no folder, is read by the same command, or the folder above it is
        missing; or if there is something in it and `replace` is false.
    """
    target = Path(path)
    step = "Name another folder."
    if target.exists() or target.is_symlink():
        fault = "" if target.is_dir() else "not a folder"
        if not fault and any(_same(target, other) for other in inputs if other is not None):
            fault = "this folder is read by the same command"
        if not fault and not replace and any(target.iterdir()):
            fault = "the folder is not empty"
            step = "Name another folder, or allow files in it to be replaced: `replace=True`."
    else:
        fault = "" if target.absolute().parent.is_dir() else "the folder above does not exist"
    if fault:
        raise ArgumentError(fault, place=place, got=str(target), next_step=step)
    return target


@contextmanager
def whole_file(path: str | os.PathLike[str]) -> Iterator[Path]:
    """Give a temporary path beside `path`, and move it there if the block ends well.

    Folders are made as needed. If the block fails, nothing is left and an older file stays.

    Parameters
    ----------
    path : path-like
        Where the file should stand in the end.

    Yields
    ------
    Path
        To be written; not there yet.

    Raises
    ------
    ArgumentError
        If the path is a ledger, an image that we did not write, or not a regular file.
    OSError
        If the folder cannot be written; it names `path`, not the temporary one.
    """
    target = Path(path)
    if fault := _fault(target, ()):
        raise ArgumentError(fault, got=str(target), next_step="Name another file to write.")
    draft = _draft_beside(target)
    try:
        yield draft
        draft.chmod(0o666 & ~_umask())
        draft.replace(target)
        if is_image(target):
            _note_image(target)
    except OSError as error:
        draft.unlink(missing_ok=True)
        if str(error.filename) != str(draft):
            raise
        raise OSError(error.errno, error.strerror, str(target)) from error
    except BaseException:
        draft.unlink(missing_ok=True)
        raise


def _draft_beside(target: Path) -> Path:
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=target.parent, prefix=".", suffix=target.suffix)
    except OSError as error:
        raise OSError(error.errno, error.strerror, str(target)) from error
    os.close(handle)
    return Path(name)


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


_LONGEST_NAME = 180
"""Bytes: what a file system takes, less room for a number, an ending and a temporary name."""


def safe_file_name(name: str) -> str:
    """Return a harmless file name for an image's name, which may hold anything.

    Returns
    -------
    str
        Never empty, and not too long for a file system. Two names may give one.
    """
    kept = "".join(c if c.isalnum() or c in "-_." else "-" for c in name.replace("/", "--"))
    kept = kept.strip(".-") or "image"
    if len(os.fsencode(kept)) <= _LONGEST_NAME:
        return kept
    digest = hashlib.sha256(name.encode("utf-8", "backslashreplace")).hexdigest()[:12]
    return f"{os.fsencode(kept)[:_LONGEST_NAME].decode('utf-8', 'ignore')}-{digest}"
