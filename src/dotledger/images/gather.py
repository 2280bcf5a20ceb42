"""Gathering images from folders, files, patterns, lists, addresses and memory."""

from __future__ import annotations

import glob
import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import lru_cache
from itertools import chain
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from dotledger.connections import connections_to
from dotledger.core.spelling import as_text, natural_key, naturally_sorted
from dotledger.errors import GatherError, MissingExtra

if TYPE_CHECKING:
    import urllib3

__all__ = ["SUFFIXES", "Gathered", "Item", "gather"]

SUFFIXES = frozenset([".jpg", ".jpeg", ".jpe", ".png", ".webp", ".gif", ".bmp", ".tif", ".tiff"])
"""The file endings that a folder is searched for."""

_ENDINGS = tuple(SUFFIXES)

_ADDRESS = re.compile(r"^[a-z][a-z0-9+.-]+://", re.IGNORECASE)
_PIECE = 1 << 18

Source = str | os.PathLike[str] | Mapping[str, "bytes | IO[bytes]"]


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
    """

    name: str
    where: str = ""
    fetch: Callable[[], bytes] | None = None

    def read(self) -> bytes:
        """Return the bytes; raises OSError or `MissingExtra` if they cannot be had."""
        if self.fetch is not None:
            return _bytes_of(self.fetch)
        return _file_bytes(self.where)

    def stamp(self) -> str:
        """Return size and time of the file, to notice a change; "" where not known."""
        if self.fetch is not None:
            return ""
        try:
            facts = os.stat(self.where)  # noqa: PTH116 - also used on a million files
        except OSError:
            return ""
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
    return data


def _file_bytes(path: str) -> bytes:
    """Read a file in as few steps as there can be.

    Each step gives other threads a turn, which takes longer than a small file's reading.
    """
    file = os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
    try:
        data = os.read(file, _PIECE)
        while more := os.read(file, _PIECE):
            data += more
    finally:
        os.close(file)
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
    """

    items: tuple[Item, ...]
    problems: tuple[tuple[str, str], ...]
    source: str

    def __len__(self) -> int:
        return len(self.items)


def gather(sources: Source | Iterable[Source], *, missing: str = "raise") -> Gathered:
    """Gather images; nothing is read yet.

    Parameters
    ----------
    sources : path, str, mapping, or an iterable of those
        A folder (searched through, in natural order), a file, a pattern with ``*`` or ``?``, a
        list file (``@FILE``, one source a line), an address (``https://`` or any that fsspec
        knows), or a mapping from names to bytes or binary streams.
    missing : {"raise", "list"}
        Whether a missing or unreadable file raises, or is listed in ``problems``.

    Returns
    -------
    Gathered

    Raises
    ------
    GatherError
        If anything is missing or unreadable (all of it is listed), if two different files have
        the same name, or if nothing at all was found.
    """
    listed = [sources] if isinstance(sources, (str, os.PathLike, Mapping)) else list(sources)
    problems: list[tuple[str, str]] = []
    items = [
        item if item.name.isascii() else replace(item, name=as_text(item.name))
        for item in chain.from_iterable(_of_source(source, problems) for source in listed)
    ]
    problems = [(as_text(name), reason) for name, reason in problems]
    if problems and missing == "raise":
        raise _missing(problems)
    unique = _unique(items)
    if not unique and not problems:
        raise GatherError(
            "no images found",
            place="images",
            got=", ".join(map(_worded, listed)),
            next_step=f"A folder is searched for {', '.join(sorted(SUFFIXES))}.",
        )
    source = ", ".join(map(_worded, listed))
    return Gathered(items=tuple(unique), problems=tuple(problems), source=source)


def _worded(source: Source) -> str:
    return f"{len(source)} in memory" if isinstance(source, Mapping) else os.fspath(source)


def _missing(problems: list[tuple[str, str]]) -> GatherError:
    shown = "; ".join(f"{name}: {reason}" for name, reason in problems[:10])
    more = f"; and {len(problems) - 10} more" if len(problems) > 10 else ""
    return GatherError(
        f"{len(problems)} of the images asked for cannot be read: {shown}{more}",
        place="images",
        next_step="Nothing was sent. Mend the list, or go on without them (--skip-missing).",
        problems=tuple(problems),
    )


def _unique(items: list[Item]) -> list[Item]:
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


def _of_source(source: Source, problems: list[tuple[str, str]]) -> Iterable[Item]:
    if isinstance(source, Mapping):
        return [_from_memory(name, data) for name, data in source.items()]
    text = os.fspath(source)
    if text.startswith("@"):
        return _from_list(Path(text[1:]), problems)
    if _ADDRESS.match(text):
        return [_from_address(text)]
    if os.path.isdir(text):  # noqa: PTH112 - also used on a million entries, where Path is slow
        return _from_folder(text, problems)
    if not os.path.exists(text) and glob.has_magic(text):  # noqa: PTH110 - as above
        return _from_pattern(text, problems)
    return _from_file(text, text, problems)


def _from_memory(name: str, data: bytes | IO[bytes]) -> Item:
    if isinstance(data, (bytes, bytearray, memoryview)):
        held = bytes(data)
        return Item(name=name, fetch=lambda: held)
    return Item(name=name, fetch=_once(data))


def _once(stream: IO[bytes]) -> Callable[[], bytes]:
    """Read a stream at first use, and keep what it gave: it cannot be read twice."""
    kept: list[bytes] = []

    def read() -> bytes:
        if not kept:
            kept.append(stream.read())
        return kept[0]

    return read


def _from_list(path: Path, problems: list[tuple[str, str]]) -> Iterator[Item]:
    try:
        lines = path.read_text(encoding="utf-8-sig").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        problems.append((str(path), f"the list cannot be read ({error})"))
        return
    for line in filter(None, (line.strip() for line in lines)):
        if line.startswith("#"):
            continue
        inside = line if _ADDRESS.match(line) else os.path.join(path.parent, line)  # noqa: PTH118
        for item in _of_source(inside, problems):
            yield Item(
                name=line if item.where == inside else item.name,
                where=item.where,
                fetch=item.fetch,
            )


def _from_folder(folder: str, problems: list[tuple[str, str]]) -> list[Item]:
    root = folder.rstrip("/") or "/"
    cut = len(root.rstrip("/")) + 1
    paths = _walked(root, problems)
    if doubtful := {path for path in paths if not os.access(path, os.R_OK)}:
        paths = [p for p in paths if p not in doubtful or _readable(p, p[cut:], problems)]
    names = [path[cut:] for path in paths]
    return [Item(names[place], paths[place]) for place in naturally_sorted(names)]


def _walked(folder: str, problems: list[tuple[str, str]]) -> list[str]:
    """Return the paths of the images below a folder, in no order."""
    paths: list[str] = []
    waiting = [folder]
    linked = {os.path.realpath(folder)}
    while waiting:
        inside, folders = _listed(waiting.pop(), problems, linked)
        paths += inside
        waiting += folders
    return paths


def _listed(
    folder: str, problems: list[tuple[str, str]], linked: set[str]
) -> tuple[list[str], list[str]]:
    """Return the images and the folders directly inside a folder; hidden ones are left out."""
    images: list[str] = []
    folders: list[str] = []
    try:
        for entry in os.scandir(folder):
            name = entry.name
            if name[0] == ".":
                continue
            if entry.is_dir():
                if not entry.is_symlink() or _is_new(entry.path, linked):
                    folders.append(entry.path)
            elif name.lower().endswith(_ENDINGS):
                images.append(entry.path)
    except OSError as error:
        problems.append((folder, str(error.strerror)))
    return images, folders


def _is_new(link: str, linked: set[str]) -> bool:
    """Tell whether a link leads to a folder that no link led to before, and not back up."""
    target, here = os.path.realpath(link), os.path.realpath(os.path.dirname(link))  # noqa: PTH120
    known = target in linked or f"{here}{os.sep}".startswith(f"{target}{os.sep}")
    linked.add(target)
    return not known


def _readable(path: str, name: str, problems: list[tuple[str, str]]) -> bool:
    """Tell whether a file is there and may be read; if not, note why."""
    if os.access(path, os.R_OK):
        return True
    try:
        os.stat(path)  # noqa: PTH116 - as above
    except OSError as error:
        problems.append((name, str(error.strerror)))
    else:
        problems.append((name, "no permission to read it"))
    return False


def _from_pattern(pattern: str, problems: list[tuple[str, str]]) -> Iterator[Item]:
    paths = sorted(glob.glob(pattern, recursive=True), key=natural_key)  # noqa: PTH207 - any pattern
    if not paths:
        problems.append((pattern, "no file fits this pattern"))
    for path in paths:
        if os.path.isfile(path):  # noqa: PTH113 - as above
            yield from _from_file(path, path, problems)


def _from_file(path: str, name: str, problems: list[tuple[str, str]]) -> Iterator[Item]:
    if _readable(path, name, problems):
        yield Item(name=name, where=path)


def _from_address(address: str) -> Item:
    if address.lower().startswith(("http://", "https://")):
        return Item(name=address, where=address, fetch=lambda: _fetched(address))
    return Item(name=address, where=address, fetch=lambda: _through_fsspec(address))


@lru_cache(maxsize=64)
def _connections(scheme: str, host: str) -> urllib3.PoolManager:
    return connections_to(scheme, host, timeout=30.0, maxsize=32)


def _fetched(address: str) -> bytes:
    import urllib3

    scheme, _, rest = address.partition("://")
    host = re.split("[/?#]", rest, maxsplit=1)[0]
    try:
        response = _connections(scheme.lower(), host).request("GET", address, retries=2)
    except urllib3.exceptions.HTTPError as error:
        raise OSError(f"cannot be fetched ({type(error).__name__})") from error
    if response.status != 200:
        raise OSError(f"cannot be fetched (status {response.status})")
    return response.data


def _through_fsspec(address: str) -> bytes:
    try:
        import fsspec
    except ImportError as error:
        raise MissingExtra(
            "this kind of address needs fsspec",
            got=address,
            next_step="Run: pip install 'dot-ledger[fsspec]'",
        ) from error
    with fsspec.open(address, "rb") as file:
        data: bytes = file.read()
    return data
