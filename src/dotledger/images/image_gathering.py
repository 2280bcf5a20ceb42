"""Gathering images from folders, files, patterns, lists, addresses and memory."""

from __future__ import annotations

import glob
import os
import re
import stat
import sys
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import chain
from pathlib import Path
from typing import IO, Any
from urllib.parse import unquote

from msgspec import Struct
from msgspec.structs import replace

from dotledger.core.spelling import as_text, natural_key, naturally_sorted
from dotledger.errors import GatherError, MissingExtra
from dotledger.images.image_downloads import MOST_BYTES, fetched
from dotledger.images.object_stores import Stored, looks_like_a_folder, read_stored, stored_in
from dotledger.json_codec import from_json
from dotledger.safe_files import read_regular

__all__ = ["SUFFIXES", "Gathered", "Item", "gather", "shown_address"]

SUFFIXES = frozenset(
    [
        *(".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".webp", ".gif", ".bmp", ".tif", ".tiff"),
        *(".avif", ".heic", ".heif"),
    ]
)
"""The file endings that a folder is searched for; files without any are looked into."""

_ENDINGS = tuple(SUFFIXES)

# How the files of each format begin; "...." is any four bytes.
_BEGINNINGS = re.compile(
    rb"\xff\xd8\xff|\x89PNG\r\n|GIF8[79]a|BM....\0\0\0\0|II\*\0|MM\0\*"
    rb"|RIFF....WEBP|....ftyp(avi[fs]|hei[cx]|mif1)",
    re.DOTALL,
)

_FROM_A_LIST = ("http://", "https://")
"""What a list may name besides files of its folder; file: and similar would read any file."""
_ADDRESS = re.compile(r"^[a-z][a-z0-9+.-]+://", re.IGNORECASE)
_SECRET = re.compile(r"sig|token|key|auth|secret|pass|credential|session", re.IGNORECASE)

_MOST_ENDINGS = 10
_BYTES = (bytes, bytearray, memoryview)
_MOST_LISTED = 64 << 20


class _Notes:
    """What is noticed on the way: what cannot be read, and how many files were passed over."""

    def __init__(self) -> None:
        self.problems: list[tuple[str, str]] = []
        self.skipped: Counter[str] = Counter()


Source = str | os.PathLike[str] | Mapping[str, Any]


class Item(Struct, frozen=True, gc=False):
    """One image asked for, not yet read.

    Attributes
    ----------
    name : str
        How the user knows it: the path relative to the folder given, the path, or the address.
    where : str
        The file's path or the address; empty for bytes in memory.
    fetch : callable or None
        Returns the bytes, for what is no file.
    size : int
        Bytes, where a listing told it; else 0.
    mark : str
        What tells of a change, where a listing told it.
    """

    name: str
    where: str = ""
    fetch: Callable[[], bytes] | None = None
    size: int = 0
    mark: str = ""

    def read(self) -> bytes:
        """Return the bytes; raises OSError or `MissingExtra` if they cannot be had."""
        if self.fetch is not None:
            return _bytes_of(self.fetch)
        return read_regular(self.where, MOST_BYTES)

    @property
    def known_as(self) -> str:
        """Where it is, as may be written down: an address without what may be secret in it."""
        # Looked for before it is matched: nearly all are paths, and there may be a million.
        address = "://" in self.where and _ADDRESS.match(self.where)
        return self.name if address else self.where

    def stamp(self) -> str:
        """Return size and time of the file, to notice a change; "" where not known."""
        if self.mark or self.fetch is not None:
            return self.mark
        try:
            facts = os.stat(self.where)  # noqa: PTH116 - any path
        except OSError:
            return ""
        return _mark_of(facts)


def _mark_of(facts: os.stat_result) -> str:
    return f"{facts.st_size}/{facts.st_mtime_ns}"


def _bytes_of(fetch: Callable[[], bytes]) -> bytes:
    """Fetch; streams and far stores fail in many ways, none of which may stop a batch."""
    try:
        data: Any = fetch()
    except (OSError, MissingExtra):
        raise
    except Exception as error:
        raise OSError(f"{type(error).__name__}: {error}") from error
    if not isinstance(data, bytes):
        raise OSError(f"not bytes but {type(data).__name__}")
    if len(data) > MOST_BYTES:
        raise OSError(f"larger than {MOST_BYTES:,} bytes")
    return data


class Gathered(Struct, frozen=True, kw_only=True):
    """What was gathered.

    Attributes
    ----------
    items : tuple of Item
        In natural order within each source, sources in the order given; each name once.
    problems : tuple of (str, str)
        What cannot be read, with the reason.
    source : str
        What was asked for, in one line.
    skipped : tuple of (str, int)
        What folders hold that was not taken for an image, most often first: the ending in lower
        case, ``"without ending"`` or ``"hidden"``, and how many. Hidden folders count once.
    """

    items: tuple[Item, ...]
    problems: tuple[tuple[str, str], ...]
    source: str
    skipped: tuple[tuple[str, int], ...] = ()

    @property
    def passed_over(self) -> str:
        """What folders hold beside images, in one line; "" if nothing."""
        shown = ", ".join(f"{what} ({count:,})" for what, count in self.skipped[:_MOST_ENDINGS])
        more = sum(count for _, count in self.skipped[_MOST_ENDINGS:])
        return f"{shown}, others ({more:,})" if more else shown

    def __len__(self) -> int:
        return len(self.items)


def gather(
    sources: Source | Iterable[Source], *, missing: str = "raise", outside: bool = False
) -> Gathered:
    """Gather images; nothing is read yet.

    Parameters
    ----------
    sources : path, str, mapping, or an iterable of those
        A folder (searched through, in natural order), a file, a pattern with ``*`` or ``?``, a
        list file (``@FILE``, one source a line), a IIIF manifest (``.json``; the images at its
        web addresses), an address (``https://``, or a file or folder in any place that fsspec
        knows, such as ``s3://bucket/photos/``), or a mapping from names to bytes, binary streams,
        Pillow images or arrays (uint8, height by width by channels), which
        go out as PNG.
    missing : {"raise", "list"}
        Whether a missing or unreadable file raises, or is listed in ``problems``.
    outside : bool, default False
        Whether a list file may name files that are not below its own folder.

    Returns
    -------
    Gathered
        The images, and what could not be read.

    Raises
    ------
    GatherError
        If anything is missing or unreadable (all of it is listed), if two different files have
        the same name, or if nothing at all was found; with ``"list"`` if nothing can be read.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.gather("photos/*.png").items[0].name
    'photos/fair-03.png'
    """
    listed = [sources] if isinstance(sources, (str, os.PathLike, Mapping)) else list(sources)
    if strange := [one for one in listed if not isinstance(one, (str, os.PathLike, Mapping))]:
        # A table is iterable, too: its rows are no images.
        raise GatherError(
            "not images", place="images", got=strange[0], allowed=["paths", "a mapping of bytes"]
        )
    notes = _Notes()
    given = [_of_source(source, notes, outside) for source in listed]
    items = _named(given[0] if len(given) == 1 else chain.from_iterable(given))
    problems = [(as_text(name), reason) for name, reason in notes.problems]
    if problems and (missing == "raise" or not items):
        raise _missing(problems)
    gathered = Gathered(
        items=tuple(_unique(items)),
        problems=tuple(problems),
        source=", ".join(map(_worded, listed)),
        skipped=tuple(notes.skipped.most_common()),
    )
    if not gathered.items and not problems:
        raise _nothing(gathered)
    return gathered


def _nothing(gathered: Gathered) -> GatherError:
    beside = f" It holds others: {gathered.passed_over}." if gathered.skipped else ""
    return GatherError(
        "no images found",
        place="images",
        got=gathered.source,
        next_step=f"A folder is searched for {', '.join(sorted(SUFFIXES))}.{beside}",
    )


def _worded(source: Source) -> str:
    if isinstance(source, Mapping):
        return f"{len(source)} in memory"
    text = os.fspath(source)
    return shown_address(text) if _ADDRESS.match(text) else text


def _missing(problems: list[tuple[str, str]]) -> GatherError:
    shown = "; ".join(f"{name}: {reason}" for name, reason in problems[:10])
    more = f"; and {len(problems) - 10} more" if len(problems) > 10 else ""
    return GatherError(
        f"{len(problems)} of the images asked for cannot be read: {shown}{more}",
        place="images",
        next_step="Correct these names, or leave them out.",
        problems=tuple(problems),
    )


class _Folder(list[Item]):
    """The images of one folder: their paths differ, so that a million need no second look."""


def _named(items: Iterable[Item]) -> list[Item]:
    """Return the same with names that can be written down."""
    if isinstance(items, _Folder) and all(item.name.isascii() for item in items):
        return items
    return [
        item if item.name.isascii() else replace(item, name=as_text(item.name)) for item in items
    ]


def _unique(items: list[Item]) -> list[Item]:
    if isinstance(items, _Folder):
        return items
    if len({item.name for item in items}) == len(items):
        return items
    seen: dict[str, Item] = {}
    for item in items:
        other = seen.setdefault(item.name, item)
        if other is not item and (other.where != item.where or not item.where):
            raise GatherError(
                "two images have the same name",
                place="images",
                got=item.name,
                allowed=[other.where, item.where],
                next_step="Give the folder above both, so that their names differ.",
            )
    return list(seen.values())


def _of_source(source: Source, notes: _Notes, outside: bool) -> Iterable[Item]:
    if isinstance(source, Mapping):
        return [_from_memory(name, data) for name, data in source.items()]
    text = os.fspath(source)
    if text.startswith("@"):
        return _from_list(Path(text[1:]), notes, outside)
    if _ADDRESS.match(text):
        stored = not text.lower().startswith(("http://", "https://"))
        listed = stored and looks_like_a_folder(text)
        return _from_store(text, notes) if listed else [_from_address(text)]
    if os.path.isdir(text):  # noqa: PTH112 - also used on a million entries, where Path is slow
        return _from_folder(text, notes)
    if not os.path.exists(text) and glob.has_magic(text):  # noqa: PTH110 - as above
        return _from_pattern(text, notes)
    named = _from_manifest(text) if text.lower().endswith(".json") else None
    return _from_file(text, text, notes) if named is None else named


def _from_memory(name: str, data: Any) -> Item:
    held = bytes(data) if isinstance(data, _BYTES) else _picture_file(name, data)
    if held is not None:
        return Item(name=name, fetch=lambda: held)
    if not hasattr(data, "read"):
        raise GatherError(
            "neither bytes, a binary stream nor a picture",
            place=name,
            got=type(data).__name__,
            next_step="Give the file's bytes, an open file, a Pillow image or an array.",
        )
    return Item(name=name, fetch=_once(data))


def _picture_file(name: str, data: Any) -> bytes | None:
    """Return a picture of Pillow or an array as a file; None for what is neither."""
    # Neither package is loaded for anything else: whoever has a picture has loaded its own.
    if not {"PIL.Image", "numpy"} & sys.modules.keys():
        return None
    from dotledger.images.image_decoding import as_file, is_picture

    return as_file(name, data) if is_picture(data) else None


def _once(stream: IO[bytes]) -> Callable[[], bytes]:
    """Read a stream at first use, and keep what it gave: it cannot be read twice."""
    kept: list[bytes] = []

    def read() -> bytes:
        if not kept:
            kept.append(stream.read())
        return kept[0]

    return read


def _from_list(path: Path, notes: _Notes, outside: bool) -> Iterator[Item]:
    try:
        lines = read_regular(path, _MOST_LISTED).decode("utf-8-sig").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        notes.problems.append((str(path), f"the list cannot be read ({reason})"))
        return
    for line in filter(None, (line.strip() for line in lines)):
        if line.startswith("#"):
            continue
        address = _ADDRESS.match(line) is not None or "::" in line
        if address and not outside and not line.lower().startswith(_FROM_A_LIST):
            scheme = shown_address(line).partition("://")[0]
            what = (
                f"a list names files of its folder and web addresses, not {scheme}:// "
                "(`outside=True` allows them)"
            )
            notes.problems.append((shown_address(line), what))
            continue
        inside = line if address else os.path.join(path.parent, line)  # noqa: PTH118
        if not (outside or address or _is_below(inside, path.parent)):
            notes.problems.append(
                (
                    line,
                    f"not below {path.parent}, the folder of the list (`outside=True` allows it)",
                )
            )
            continue
        for item in _of_source(inside, notes, outside):
            yield Item(
                name=line if item.where == inside and not address else item.name,
                where=item.where,
                fetch=item.fetch,
            )


def _is_below(path: str, folder: Path) -> bool:
    """Tell whether a path stays below a folder, wherever links lead."""
    try:
        return Path(path).resolve().is_relative_to(folder.resolve())
    except (OSError, ValueError, RuntimeError):
        return False


def _from_folder(folder: str, notes: _Notes) -> list[Item]:
    root = folder.rstrip("/") or "/"
    cut = len(root.rstrip("/")) + 1
    items = _walked(root, cut, notes)
    return _Folder(items[place] for place in naturally_sorted([item.name for item in items]))


def _walked(folder: str, cut: int, notes: _Notes) -> list[Item]:
    """Return the images below a folder, in no order; names begin after `cut` letters of a path."""
    found: list[Item] = []
    waiting = [folder]
    linked = {os.path.realpath(folder)}
    stat_of, may_read = os.stat, _reader()
    while waiting:
        inside, folders = _listed(waiting.pop(), notes, linked)
        waiting += folders
        for path in inside:
            # Looked at once: whether it is a file, may be read, and what tells of a change.
            try:
                facts = stat_of(path)
            except OSError as error:
                notes.problems.append((path[cut:], str(error.strerror)))
                continue
            if may_read(facts) or _readable(path, path[cut:], notes):
                found.append(Item(path[cut:], path, None, 0, _mark_of(facts)))
    return found


_OWN = 0o170000 | stat.S_IRUSR
_OWN_FILE = stat.S_IFREG | stat.S_IRUSR


def _reader() -> Callable[[os.stat_result], bool]:
    """Return what tells of a regular file that its mode lets us read it.

    No means that the system is to be asked: for more than the mode, it takes another look.
    """
    if not hasattr(os, "geteuid"):
        return lambda _: False
    user, groups = os.geteuid(), {os.getegid(), *os.getgroups()}

    def may_read(facts: os.stat_result) -> bool:
        mode = facts.st_mode
        if facts.st_uid == user:
            return mode & _OWN == _OWN_FILE
        return stat.S_ISREG(mode) and bool(
            mode & (stat.S_IRGRP if facts.st_gid in groups else stat.S_IROTH)
        )

    return may_read


def _listed(folder: str, notes: _Notes, linked: set[str]) -> tuple[list[str], list[str]]:
    """Return the images and the folders directly inside a folder; hidden ones are left out."""
    images: list[str] = []
    folders: list[str] = []
    try:
        entries = list(os.scandir(folder))
    except OSError as error:
        notes.problems.append((folder, str(error.strerror)))
        return images, folders
    for entry in entries:
        name = entry.name
        if name[0] == ".":
            notes.skipped["hidden"] += 1
            continue
        # Nearly all entries of a large folder are this; no system call is needed to tell.
        if name.endswith(_ENDINGS) and entry.is_file(follow_symlinks=False):
            images.append(entry.path)
            continue
        try:
            _sort(entry, images, folders, linked, notes)
        except OSError as error:  # a link to itself: this one entry, not the folder
            notes.problems.append((entry.path, str(error.strerror)))
    return images, folders


def _sort(
    entry: os.DirEntry[str],
    images: list[str],
    folders: list[str],
    linked: set[str],
    notes: _Notes,
) -> None:
    if entry.is_dir():
        if not entry.is_symlink() or _is_new(entry.path, linked):
            folders.append(entry.path)
    elif entry.name.lower().endswith(_ENDINGS):
        if entry.is_file() or entry.is_symlink():
            images.append(entry.path)
        else:
            notes.problems.append((entry.path, "a pipe, device or socket, not a file"))
    elif ending := Path(entry.name).suffix.lower():
        notes.skipped[ending] += 1
    elif entry.is_file() and _begins_as_image(entry.path):
        images.append(entry.path)
    else:
        notes.skipped["without ending"] += 1


def _begins_as_image(path: str) -> bool:
    """Tell whether a regular file begins as an image does; the caller saw that it is no pipe."""
    try:
        with open(path, "rb", buffering=0) as file:  # noqa: PTH123 - as above
            return _BEGINNINGS.match(file.read(16)) is not None
    except OSError:
        return False


def _is_new(link: str, linked: set[str]) -> bool:
    """Tell whether a link leads to a folder that no link led to before, and not back up."""
    target, here = os.path.realpath(link), os.path.realpath(os.path.dirname(link))  # noqa: PTH120
    known = target in linked or f"{here}{os.sep}".startswith(f"{target}{os.sep}")
    linked.add(target)
    return not known


def _readable(path: str, name: str, notes: _Notes) -> bool:
    """Tell whether a file is there and may be read; if not, note why."""
    try:
        facts = os.stat(path)  # noqa: PTH116 - as above
    except OSError as error:
        notes.problems.append((name, str(error.strerror)))
        return False
    if not stat.S_ISREG(facts.st_mode):
        notes.problems.append((name, "a pipe, device or socket, not a file"))
        return False
    if os.access(path, os.R_OK):
        return True
    notes.problems.append((name, "no permission to read it"))
    return False


def _from_pattern(pattern: str, notes: _Notes) -> Iterator[Item]:
    paths = sorted(glob.glob(pattern, recursive=True), key=natural_key)  # noqa: PTH207 - any pattern
    if not paths:
        notes.problems.append((pattern, "no file fits this pattern"))
    for path in paths:
        if os.path.isfile(path):  # noqa: PTH113 - as above
            yield from _from_file(path, path, notes)


def _from_file(path: str, name: str, notes: _Notes) -> Iterator[Item]:
    if _readable(path, name, notes):
        yield Item(name=name, where=path)


def _from_address(address: str) -> Item:
    name = shown_address(address)
    if address.lower().startswith(("http://", "https://")):
        return Item(name=name, where=address, fetch=lambda: fetched(address))
    return Item(name=name, where=address, fetch=lambda: read_stored(address, name, MOST_BYTES))


def _from_manifest(path: str) -> list[Item] | None:
    """Return the images that a IIIF manifest names; None for any other file."""
    from dotledger.images.iiif_manifests import canvases_of, is_manifest

    try:
        data = from_json(read_regular(path, _MOST_LISTED))
    except (OSError, ValueError):
        return None
    if not is_manifest(data):
        return None
    web = ("http://", "https://")  # no path of this machine, whatever it says
    canvases = canvases_of(data)
    return [_from_address(one.address) for one in canvases if one.address.lower().startswith(web)]


def _from_store(address: str, notes: _Notes) -> list[Item]:
    """Return the images of a folder in object storage, named as those of a folder here would be."""
    shown = shown_address(address)
    try:
        listed = stored_in(address, shown, _ENDINGS, notes.skipped)
    except (OSError, MissingExtra) as error:
        notes.problems.append((shown, str(error)))
        return []
    order = naturally_sorted([one.name for one in listed])
    return [_stored_item(listed[place]) for place in order]


def _stored_item(one: Stored) -> Item:
    def fetch() -> bytes:
        return read_stored(one.address, shown_address(one.address), MOST_BYTES)

    return Item(name=one.name, where=one.address, fetch=fetch, size=one.size, mark=one.mark)


def shown_address(address: str) -> str:
    """Return an address as it may be written down: no user, password, signature or token.

    Returns
    -------
    str
        The name that its image has.
    """
    scheme, _, rest = address.partition("://")
    host, slash, path = rest.partition("/")
    path, question, query = path.partition("?")
    shown = "&".join(map(_without_secret, query.split("&")))
    return f"{scheme}://{host.rpartition('@')[2]}{slash}{path}{question}{shown}"


def _without_secret(option: str) -> str:
    name, equals, _ = option.partition("=")
    return f"{name}{equals}***" if equals and _SECRET.search(unquote(name)) else option
