"""Records of a Croissant description, out of the files that lie next to it."""

from __future__ import annotations

import hashlib
import io
import re
import zipfile
import zlib
from collections.abc import Callable, Mapping
from fnmatch import fnmatchcase
from pathlib import Path, PurePosixPath
from typing import Any

from dotledger.core.spelling import naturally_sorted
from dotledger.errors import TableError
from dotledger.formats.croissant.croissant_document import Described, Field, File
from dotledger.formats.tables.csv_columns import unguard
from dotledger.formats.tables.findings_files import with_parquet
from dotledger.json_codec import NotJSON, from_json
from dotledger.safe_files import check_unpacked, read_regular

__all__ = ["Records"]

_FILE_FACTS: dict[str, Callable[[str], str]] = {
    "filename": lambda name: PurePosixPath(name).name,
    "fullpath": lambda name: name,
    "content": lambda name: name,  # of an image, what is needed is which one it is
}
_RISKY = re.compile(r"\([^)]*[*+}][^)]*\)[*+{]")
"""A group with a repetition inside, repeated: on some texts such an expression never ends."""
_LONGEST = 200
_PACKED = re.compile(r"\.(zip|tgz|tar(\.\w+)?)$", re.IGNORECASE)
_UNREADABLE = (
    OSError,
    EOFError,
    KeyError,
    NotImplementedError,
    RuntimeError,
    zipfile.BadZipFile,
    zlib.error,
)
"""What reading raises of archives that are damaged, encrypted, or packed in ways not known here."""


class Records:
    """Reads record sets; each file once.

    Parameters
    ----------
    described : Described
        The description; its files are looked for in its folder.
    """

    def __init__(self, described: Described) -> None:
        self._described = described
        self._folder = described.place.parent
        self._read: dict[str, list[Any]] = {}
        self._unpacked = 0
        self._checked: set[Path] = set()

    def of(self, id: str) -> dict[str, list[Any]]:
        """Return the values of each field by its id, all of one length.

        Returns
        -------
        dict of str to list
            None where a record has no value. Fields that have no source are left out.

        Raises
        ------
        TableError
            If a file is not there, is another one than described, or cannot be read; or if the
            fields of the set are of several files.
        """
        records = self._described.record_sets[id]
        if records.data:
            return {f.id: [row.get(f.id) for row in records.data] for f in records.fields}
        fields = [field for field in records.fields if field.source]
        sources = list(dict.fromkeys(field.source for field in fields))
        if len(sources) > 1:
            raise self._error("fields of one record set are in several files", id, sources)
        found = {field.id: self._values(field) for field in fields}
        if len({len(values) for values in found.values()}) > 1:
            lengths = {field.name: len(found[field.id]) for field in fields}
            raise self._error("fields of one record set have different lengths", id, lengths)
        return found

    def _error(self, what: str, id: str, got: Any, next_step: str = "") -> TableError:
        return TableError(
            what, place=f"{self._described.place}, {id}", got=got, next_step=next_step
        )

    def _values(self, field: Field) -> list[Any]:
        file = self._described.files.get(field.source)
        if file is None:
            raise self._error("the source is not described", field.id, field.source)
        if field.about_file:
            values: list[Any] = self._about_files(field, file)
        elif field.path:
            values = self._at_path(field, file)
        else:
            values = [one for data in self._contents(file) for one in self._column(data, field)]
        # Of an image that lies in a table, what is needed is its name, not its bytes.
        if field.inner and "ImageObject" not in field.types:
            values = self._insides(field, values)
        return [_part(value, self._expression(field)) for value in values]

    def _at_path(self, field: Field, file: File) -> list[Any]:
        contents = list(self._contents(file))
        try:
            return [one for data in contents for one in _along(data, field.path)]
        except ValueError as error:
            raise self._error(str(error), field.id, field.path) from None

    def _insides(self, field: Field, values: list[Any]) -> list[Any]:
        try:
            return [_inside(value, field.inner) for value in values]
        except ValueError as error:
            raise self._error(str(error), field.id, field.inner) from None

    def _about_files(self, field: Field, file: File) -> list[str]:
        fact = _FILE_FACTS.get(field.about_file)
        if fact is None:
            raise self._error(
                "this property of files is not read; known are " + ", ".join(_FILE_FACTS),
                field.id,
                field.about_file,
            )
        return [fact(name) for name in self._names(file)]

    def _expression(self, field: Field) -> re.Pattern[str] | None:
        if not field.pattern:
            return None
        if len(field.pattern) > _LONGEST or _RISKY.search(field.pattern):
            raise self._error("an expression that may never end", field.id, field.pattern)
        try:
            return re.compile(field.pattern)
        except re.error as error:
            raise self._error(f"not an expression ({error})", field.id, field.pattern) from None

    def _column(self, data: Any, field: Field) -> list[Any]:
        name = field.column or field.name
        if isinstance(data, Mapping):
            if name not in data:
                raise self._error("the file has no such column", field.id, name)
            return list(data[name])
        if not isinstance(data, list):
            raise self._error("JSON without a list of records", field.id, type(data).__name__)
        return [one.get(name) if isinstance(one, dict) else None for one in data]

    def _contents(self, file: File) -> list[Any]:
        """Return what each file of a source holds: columns by name, or JSON."""
        if file.id not in self._read:
            read = _reader(file)
            if read is None:
                raise self._error("files of this form are not read", file.id, file.encoding)
            self._read[file.id] = [self._content(file, name, read) for name in self._names(file)]
        return self._read[file.id]

    def _content(self, file: File, name: str, read: Callable[[bytes], Any]) -> Any:
        data = self._bytes(file, name)
        if file.sha256 and not file.patterns:
            self._check(hashlib.sha256(data).hexdigest(), file, name)
        try:
            return read(data)
        except ValueError as error:
            raise self._error(f"{name} cannot be read ({error})", file.id, data[:40]) from None

    def _bytes(self, file: File, name: str) -> bytes:
        archive = self._archive(file)
        try:
            if archive is None:
                return read_regular(self._root(file) / name)
            with zipfile.ZipFile(archive) as opened:
                check_unpacked(opened.getinfo(name), self._unpacked)
                self._unpacked += opened.getinfo(name).file_size
                return opened.read(name)
        except _UNREADABLE as error:
            raise self._error(f"{name} cannot be read ({error})", file.id, name) from None

    def _names(self, file: File) -> list[str]:
        """Return the names of a source's files below their root."""
        if not file.patterns:
            return [self._name(file)]
        wrong = [one for one in file.patterns if ".." in one or one.startswith("/")]
        if wrong:
            raise self._error("a pattern that leads out of the folder", file.id, wrong[0])
        try:
            names = sorted(self._matching(file))
        except (*_UNREADABLE, ValueError) as error:
            raise self._error(
                f"its files cannot be listed ({error})", file.id, file.patterns
            ) from None
        return [names[place] for place in naturally_sorted(names)]

    def _matching(self, file: File) -> set[str]:
        archive = self._archive(file)
        if archive is not None:
            with zipfile.ZipFile(archive) as opened:
                every = opened.namelist()
            return {n for n in every for p in file.patterns if fnmatchcase(n, p)}
        root = self._root(file)
        return {
            path.relative_to(root).as_posix()
            for pattern in file.patterns
            for path in root.glob(pattern)
            if path.is_file() and path.resolve().is_relative_to(root.resolve())
        }

    def _name(self, file: File) -> str:
        """Return where a single file lies: as it is named, or next to the description."""
        if self._archive(file) is not None:
            return file.url
        root = self._root(file).resolve()
        for name in (file.url, _last(file.url)):
            path = (root / name).resolve()
            if name and path.is_file() and path.is_relative_to(root):
                return path.relative_to(root).as_posix()
        raise self._error(
            "a file of the description is not next to it",
            file.id,
            file.url,
            f"Fetch it, and put it into {root}.",
        )

    def _root(self, file: File) -> Path:
        """Return the folder in which a file's name begins: that of an unpacked archive, if any."""
        outer = self._described.files.get(file.inside)
        if outer is None:
            return self._folder
        unpacked = self._folder / _PACKED.sub("", _last(outer.url))
        return unpacked if unpacked.is_dir() else self._folder

    def _archive(self, file: File) -> Path | None:
        """Return the .zip file in which a file lies; None if it is unpacked, or in none."""
        outer = self._described.files.get(file.inside)
        if outer is None or self._root(file) != self._folder:
            return None
        path = self._folder / _last(outer.url)
        if path.suffix.lower() != ".zip" or not path.is_file():
            return None
        if outer.sha256 and path not in self._checked:
            with path.open("rb") as opened:
                self._check(hashlib.file_digest(opened, "sha256").hexdigest(), outer, path.name)
            self._checked.add(path)
        return path

    def _check(self, own: str, file: File, name: str) -> None:
        """Refuse a file whose digest is not the one described."""
        if own != file.sha256:
            raise self._error(
                f"{name} is another file than the one described: its SHA-256 differs",
                file.id,
                own[:12],
                "Fetch the described version of it.",
            )


def _last(url: str) -> str:
    """Return the last part of an address or a path: what a file is called that was fetched."""
    return PurePosixPath(url.partition("?")[0]).name


def _reader(file: File) -> Callable[[bytes], Any] | None:
    """Return what reads a file of this form; None if nothing does."""
    form = file.encoding.partition(";")[0].strip().lower()
    if form in ("text/csv", "text/tab-separated-values"):
        return lambda data: _delimited(data, "\t" if "tab" in form else ",")
    if form == "application/json":
        return from_json
    if form in ("application/jsonlines", "application/x-jsonlines", "application/jsonl"):
        return lambda data: [from_json(line) for line in data.splitlines() if line.strip()]
    if "parquet" in form:
        return _parquet
    return None


def _delimited(data: bytes, separator: str) -> dict[str, list[Any]]:
    import pandas as pd

    try:
        frame = pd.read_csv(
            io.BytesIO(data), sep=separator, dtype=str, keep_default_na=False, encoding="utf-8-sig"
        )
    except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError) as error:
        raise ValueError(str(error)) from None
    return {str(name): [unguard(cell) for cell in frame[name]] for name in frame.columns}


def _parquet(data: bytes) -> dict[str, list[Any]]:
    with_parquet()  # or it says which extra is missing
    import pyarrow
    from pyarrow import parquet

    try:
        found: dict[str, list[Any]] = parquet.read_table(io.BytesIO(data)).to_pydict()
    except (OSError, pyarrow.ArrowException) as error:
        raise ValueError(str(error)) from None
    return found


def _along(data: Any, path: str) -> list[Any]:
    """Return the values at a path such as ``$.annotations[*].bbox``; None where one lacks it.

    JSONPath (RFC 9535) leaves out what is missing. Columns must keep their rows aligned, so what
    follows the last ``*`` is looked up in each node separately.
    """
    import jsonpath

    whole = path if path.startswith("$") else f"${'' if path.startswith('[') else '.'}{path}"
    cut = _LAST_STAR.match(whole)
    head, tail = (cut[1], cut[2]) if cut else ("$", whole.removeprefix("$"))
    try:
        nodes: list[Any] = jsonpath.findall(head, data)
        if not tail:
            return nodes
        return [next(iter(jsonpath.findall(f"${tail}", one)), None) for one in nodes]
    except jsonpath.JSONPathError as error:
        raise ValueError(f"not a JSONPath: {path!r} ({error})") from None


_LAST_STAR = re.compile(r"(.*(?:\[\*\]|\.\*))(.*)", re.DOTALL)


def _inside(value: Any, path: str) -> Any:
    """Return what stands at a path within one value; a list if the path goes through one."""
    if isinstance(value, str):
        try:
            value = from_json(value)
        except NotJSON:
            return None
    if isinstance(value, list):
        return [next(iter(_along(one, path)), None) for one in value]
    found = _along(value, path)
    return found if "*" in path else next(iter(found), None)


def _part(value: Any, expression: re.Pattern[str] | None) -> Any:
    if expression is None or not isinstance(value, str):
        return value
    found = expression.search(value)
    if found is None:
        return None
    return found[1] if expression.groups else found[0]
