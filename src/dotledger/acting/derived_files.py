"""Removing images and names from files that were made out of a ledger: tables, lists and pictures.

What can be changed safely is changed: rows of tables that have a column ``image``, and pictures
that the lists of `draw` and `sort` name. Everything else that still holds a name is listed for a
person: a report cannot lose one image and stay true, and a file of an image's name may be the
original.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from dotledger.errors import DotLedgerError, GatherError, TableError
from dotledger.formats.tables.csv_columns import unguard
from dotledger.formats.tables.origin_files import read_origin, write_origin
from dotledger.json_codec import from_json
from dotledger.ledger.name_search import NamePattern
from dotledger.safe_files import safe_file_name, whole_file

__all__ = ["DerivedFiles", "derived_files"]

_LISTS = {"drawn.csv": "picture", "sorted.csv": "path"}
"""By list, the column that names the picture of a row."""
Row = dict[str, str]


@dataclass(frozen=True, kw_only=True)
class DerivedFiles:
    """What is removed from files, or would be.

    Attributes
    ----------
    rows : mapping of str to int
        By table, how many rows go.
    pictures : tuple of str
        Annotated copies and sorted copies that go.
    held : tuple of str
        Files that hold a name or are named like an image, and are left as they are.
    unread : tuple of str
        Files that cannot be read, with the reason.
    """

    rows: dict[str, int] = field(default_factory=dict)
    pictures: tuple[str, ...] = ()
    held: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()


def derived_files(
    places: Sequence[Path],
    images: Iterable[str],
    pattern: NamePattern,
    *,
    person: bool = False,
    batches: Iterable[int] | None = None,
    act: bool = False,
    passed_over: Iterable[Path] = (),
) -> DerivedFiles:
    """Find what files hold of some images or of a person, and with `act` remove it.

    Parameters
    ----------
    places : sequence of path
        Files, and folders with everything below them.
    images : iterable of str
        The images, as tables name them.
    pattern : NamePattern
        Finds the images' names or the person's in text.
    person : bool, default False
        It is about a person: of tables, the rows of the images and kinds whose rows hold the name.
    batches : iterable of int, optional
        It is about these batches as a whole: only rows that are known to come from one of them go.
        The same images of another batch, annotations and pictures are not theirs alone.
    act : bool, default False
        Remove; else only say what would be removed.
    passed_over : iterable of path
        Files that are left alone and not listed: the ledger itself.

    Raises
    ------
    GatherError
        If a place does not exist.
    OSError
        If a file cannot be replaced or removed; those before it are done.
    """
    names = frozenset(images)
    whole = None if batches is None else frozenset(map(str, batches))
    search = _Search(names, pattern, person=person, batches=whole, act=act)
    left_alone = {path.resolve() for path in passed_over}
    # Lists go last: while a picture is still there, its list says what it was made from.
    found = [path for path in _files(places) if path.resolve() not in left_alone]
    for path in sorted(found, key=lambda path: (path.name in _LISTS, path)):
        search.look_at(path)
    held = [one for one in search.held if one not in search.pictures]
    return DerivedFiles(
        rows=search.rows,
        pictures=tuple(search.pictures),
        held=tuple(held),
        unread=tuple(search.unread),
    )


def _files(places: Sequence[Path]) -> Iterator[Path]:
    for place in places:
        if place.is_dir():
            yield from (path for path in place.rglob("*") if path.is_file())
        elif place.is_file():
            yield place
        else:
            raise GatherError("no such file or folder", place="also", got=str(place))


class _Search:
    """Looks at one file after another and notes what goes and what stays."""

    def __init__(
        self,
        names: frozenset[str],
        pattern: NamePattern,
        *,
        person: bool,
        batches: frozenset[str] | None,
        act: bool,
    ) -> None:
        self._names, self._pattern, self._person, self._act = names, pattern, person, act
        self._batches = batches
        self._changing = False
        # A copy is named after its image; a folder in the image's name becomes part of the name.
        self._as_files = {safe_file_name(name) for name in names} | {
            name.rpartition("/")[2] for name in names
        }
        self.rows: dict[str, int] = {}
        self.pictures: list[str] = []
        self.held: list[str] = []
        self.unread: list[str] = []

    def look_at(self, path: Path) -> None:
        """Look at one file; what cannot be read is noted."""
        change = _CHANGES.get(path.suffix.lower())
        try:
            if change is not None and change(self, path) and str(path) in self.rows:
                return
            if (not self._person and path.name in self._as_files) or self._holds(path):
                self.held.append(str(path))
        except (OSError, UnicodeError, csv.Error, ValueError, DotLedgerError) as error:
            if self._changing:  # it could be read, and cannot be changed
                raise
            self.unread.append(f"{path}: {error}")

    def _holds(self, path: Path) -> bool:
        return self._pattern.is_in(path.name) or self._pattern.is_in_file(path)

    def csv_rows(self, path: Path) -> bool:
        """Take rows out of a CSV file; tell whether it is such a table."""
        text = path.read_text(encoding="utf-8-sig")
        header, *rows = list(csv.reader(io.StringIO(text, newline=""))) or [[]]
        if "image" not in header:
            return False
        named = [dict(zip(header, map(unguard, row), strict=False)) for row in rows]
        gone = self._gone(named, path)
        self._remove_pictures(path, [named[place] for place in gone])
        if gone:
            kept = [row for place, row in enumerate(rows) if place not in gone]
            self._written(path, len(gone), lambda draft: _write_csv(draft, header, kept))
        return True

    def json_lines(self, path: Path) -> bool:
        """Take lines out of a JSON Lines file; tell whether it is such a table."""
        lines = path.read_bytes().splitlines(keepends=True)
        records = [from_json(line) if line.strip() else {} for line in lines]
        if not any(isinstance(one, dict) and "image" in one for one in records):
            return False
        # The text of the line is searched as it is: a name may stand deep inside a record.
        named = [
            {**{k: str(v) for k, v in one.items()}, "": line.decode()}
            if isinstance(one, dict)
            else {}
            for one, line in zip(records, lines, strict=True)
        ]
        gone = self._gone(named, path)
        if gone:
            kept = b"".join(line for place, line in enumerate(lines) if place not in gone)
            self._written(path, len(gone), lambda draft: draft.write_bytes(kept))
        return True

    def parquet(self, path: Path) -> bool:
        """Take rows out of a Parquet file; tell whether it is such a table.

        Raises
        ------
        TableError
            If it is no such file, or the package that reads it is not installed.
        """
        try:
            from pyarrow import ArrowInvalid, parquet
        except ImportError:
            raise TableError("reading Parquet needs the extra parquet", place=str(path)) from None
        try:
            table = parquet.read_table(path)
        except ArrowInvalid as error:
            raise TableError(f"no Parquet file ({error})", place=str(path)) from error
        if "image" not in table.column_names:
            return False
        named = [{k: str(v) for k, v in row.items()} for row in table.to_pylist()]
        gone = self._gone(named, path)
        if gone:
            kept = table.take([place for place in range(len(named)) if place not in gone])
            self._written(path, len(gone), lambda draft: parquet.write_table(kept, draft))
        return True

    def _gone(self, rows: Sequence[Row], path: Path) -> set[int]:
        """Return the places of the rows that go."""
        if self._batches is not None:
            origin = read_origin(path)
            of_file = "" if origin is None else str(origin.batch)
            return {p for p, row in enumerate(rows) if row.get("batch", of_file) in self._batches}
        if not self._person or path.name in _LISTS:
            mine = {place for place, row in enumerate(rows) if row.get("image") in self._names}
            return mine if not self._person else mine | self._holding(rows)
        # With one face gone the others of the image would be measured as if it had not been found.
        keys = {
            (rows[place].get("image"), rows[place].get("kind")) for place in self._holding(rows)
        }
        return {p for p, row in enumerate(rows) if (row.get("image"), row.get("kind")) in keys}

    def _holding(self, rows: Sequence[Row]) -> set[int]:
        return {
            place
            for place, row in enumerate(rows)
            if any(self._pattern.is_in(value) for name, value in row.items() if name != "image")
        }

    def _remove_pictures(self, path: Path, rows: Sequence[Row]) -> None:
        column = _LISTS.get(path.name)
        for row in rows if column else ():
            picture = _below(path.parent, row.get(column or "", ""))
            if picture is not None:
                self.pictures.append(str(picture))
                if self._act:
                    self._changing = True
                    picture.unlink()
                    self._changing = False

    def _written(self, path: Path, count: int, write: Callable[[Path], object]) -> None:
        self.rows[str(path)] = count
        if not self._act:
            return
        origin = read_origin(path)
        self._changing = True
        with whole_file(path) as draft:
            write(draft)
        if origin is not None and not origin.changed:  # else it stays said that it was changed
            write_origin(origin, path)
        self._changing = False


def _below(folder: Path, name: str) -> Path | None:
    """Return the picture that a list names, if it is a file in the list's own folder."""
    home = folder.resolve()
    for path in (folder / name, folder / Path(*Path(name).parts[-2:]), folder / Path(name).name):
        # Its folder counts, not where a link points: the link goes, and not what it points at.
        if name and path.parent.resolve().is_relative_to(home) and path.is_file():
            return path
    return None


def _write_csv(draft: Path, header: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    with draft.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(header)
        writer.writerows(rows)


_CHANGES: dict[str, Callable[[Any, Path], bool]] = {
    ".csv": _Search.csv_rows,
    ".jsonl": _Search.json_lines,
    ".parquet": _Search.parquet,
}
"""By a file's ending, what takes rows out of it; each tells whether the file is such a table."""
