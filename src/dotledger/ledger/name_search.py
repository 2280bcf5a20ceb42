"""Searching a ledger for a name: which rows, answers and bytes of the file still hold it."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import JSON, String, Table, select

from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.ledger_store import LedgerStore, decompress

__all__ = ["NamePattern", "Remainder", "answers_with", "remainders", "rows_with"]

_ESCAPED = re.compile(r"\\(?:u([0-9a-fA-F]{4})|([\"\\/]))")
_IN_FILE = "the file's bytes"
_AT_ONCE = 1 << 22


@dataclass(frozen=True, kw_only=True)
class Remainder:
    """A place that still holds a name.

    Attributes
    ----------
    place : str
        A table's column such as ``batches.source``, a file, or the ledger file's bytes.
    rows : int
        How many rows or lines hold it; 1 for bytes of a file.
    """

    place: str
    rows: int


class NamePattern:
    r"""Finds names in text as whole words, whatever their case and however JSON escapes them.

    Parameters
    ----------
    names : iterable of str
        At least one, none of them blank.
    files : bool, default False
        They name files: ``1.jpg`` is then not found in ``walk/1.jpg`` or ``11.jpg``.

    Examples
    --------
    >>> people = NamePattern(["Anna"])
    >>> people.is_in('{"who": "anna"}'), people.is_in("Annabel"), people.is_in(r"\u0041nna")
    (True, False, True)
    """

    def __init__(self, names: Iterable[str], *, files: bool = False) -> None:
        self._names = tuple(dict.fromkeys(unicodedata.normalize("NFC", name) for name in names))
        either = "|".join(_spaced(name) for name in sorted(self._names, key=len, reverse=True))
        before, after = (r"[\w/.-]", r"[\w-]") if files else (r"\w", r"\w")
        self._found = re.compile(f"(?<!{before})(?:{either})(?!{after})", re.IGNORECASE)
        self._anywhere = re.compile(either, re.IGNORECASE)

    def is_in(self, text: str) -> bool:
        """Tell whether a text holds one of the names."""
        if "\\" in text:
            text = _ESCAPED.sub(_unescaped, text)
        return self._found.search(unicodedata.normalize("NFC", text)) is not None

    def is_in_bytes(self, data: bytes) -> bool:
        """Tell the same of bytes, taken as UTF-8 where they are."""
        return self.is_in(data.decode("utf-8", "replace"))

    def without(self, text: str, instead: str) -> str:
        """Return a text with `instead` for each of the names."""
        return self._found.sub(instead, unicodedata.normalize("NFC", text))

    def is_whole(self, text: str) -> bool:
        """Tell whether a text is one of the names and nothing else."""
        return self._found.fullmatch(unicodedata.normalize("NFC", text.strip())) is not None

    def is_part_of(self, text: str) -> bool:
        """Tell whether a text holds one of the names, be it inside another word."""
        return self._anywhere.search(unicodedata.normalize("NFC", text)) is not None

    def is_in_file(self, path: Path) -> bool:
        """Tell whether a file's raw bytes hold one of the names, a part of it at a time.

        In a file of bytes, such as a database, texts stand next to each other with nothing between
        them: there a name counts wherever it is.

        Raises
        ------
        OSError
            If it cannot be read.
        """
        # A name may lie across two parts: each is searched with the end of the one before.
        longest = max(len(name.encode()) for name in self._names) * 6 + 8
        end = b""
        is_in = None
        with path.open("rb") as file:
            while part := file.read(_AT_ONCE):
                is_in = is_in or (self.is_part_of if b"\0" in part else self.is_in)
                if is_in((end + part).decode("utf-8", "replace")):
                    return True
                end = part[-longest:]
        return False


def _spaced(name: str) -> str:
    return r"\s+".join(re.escape(word) for word in name.split())


def _unescaped(match: re.Match[str]) -> str:
    return chr(int(match[1], 16)) if match[1] else match[2]


def rows_with(ledger: LedgerStore, pattern: NamePattern) -> set[tuple[int, int, str]]:
    """Return (batch, position, kind) of findings, of any reading, whose text holds a name."""
    f, r = schema.findings, schema.readings
    query = select(r.c.batch, f.c.position, f.c.kind, f.c.label, f.c.details).join(
        r, r.c.id == f.c.reading
    )
    return {
        (batch, position, kind)
        for batch, position, kind, label, details in ledger.rows(query)
        if pattern.is_in(label) or (details and pattern.is_in(details))
    }


def answers_with(ledger: LedgerStore, pattern: NamePattern) -> Iterator[int]:
    """Yield the number of each call whose answer or headers hold a name.

    Every answer is unpacked for it: a name may stand in one and have been read by no rule.
    """
    t = schema.calls
    query = select(t.c.id, t.c.answer, t.c.headers).where(t.c.answer.is_not(None))
    with ledger.reading() as connection:
        for call, answer, headers in connection.execution_options(yield_per=200).execute(query):
            if pattern.is_in_bytes(decompress(answer)) or (headers and pattern.is_in(headers)):
                yield call


def remainders(ledger: LedgerStore, pattern: NamePattern) -> list[Remainder]:
    """Return where in a ledger a name still stands: rows, answers, and bytes of its files.

    Returns
    -------
    list of Remainder
        Empty if nothing holds it. Compressed answers are unpacked. The bytes of the ledger's file
        and of its log are searched as they are; a server's files are not looked at.
    """
    found = [
        Remainder(place=f"{table.name}.{name}", rows=rows)
        for table in schema.metadata.sorted_tables
        for name, rows in _columns_with(ledger, table, pattern)
    ]
    answers = sum(1 for _ in answers_with(ledger, pattern))
    found += [Remainder(place="calls.answer", rows=answers)] if answers else []
    held = [path for path in files_of(ledger) if pattern.is_in_file(path)]
    # "1.jpg" stands in "11.jpg", too: what a row that stays explains is nothing that was left.
    if held and not found and not _is_part_of_rows(ledger, pattern):
        found += [Remainder(place=f"{_IN_FILE}: {path.name}", rows=1) for path in held]
    return found


def _is_part_of_rows(ledger: LedgerStore, pattern: NamePattern) -> bool:
    return any(
        value and pattern.is_part_of(value if isinstance(value, str) else str(value))
        for table in schema.metadata.sorted_tables
        if (columns := _texts(table))
        for row in ledger.rows(select(*columns))
        for value in row
    )


def files_of(ledger: LedgerStore) -> Sequence[Path]:
    """Return the files of a ledger and its logs; none for one on a server."""
    if ledger.path is None:
        return ()
    beside = [ledger.path.with_name(ledger.path.name + end) for end in ("-wal", "-journal")]
    return [path for path in (ledger.path, *beside) if path.is_file()]


def _texts(table: Table) -> list[Any]:
    return [column for column in table.columns if isinstance(column.type, String | JSON)]


def _columns_with(
    ledger: LedgerStore, table: Table, pattern: NamePattern
) -> Iterator[tuple[str, int]]:
    columns = _texts(table)
    if not columns:
        return
    counts = [0] * len(columns)
    for row in ledger.rows(select(*columns)):
        for place, value in enumerate(row):
            if value and pattern.is_in(value if isinstance(value, str) else str(value)):
                counts[place] += 1
    yield from ((column.name, rows) for column, rows in zip(columns, counts, strict=True) if rows)
