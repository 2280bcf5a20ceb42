"""Tables for a terminal, drawn by Rich; plain when the output is no terminal."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from typing import IO, Any

from rich.console import Console, Group
from rich.table import Table
from rich.text import Text

from dotledger.showing import plain_text

__all__ = ["DASH", "DOT", "console", "duration", "empty_table", "number", "plain", "rows_table"]


class _Console(Console):
    def on_broken_pipe(self) -> None:
        """Leave it to the command line, like any other output."""
        raise BrokenPipeError


def console(file: IO[str] | None = None) -> Console:
    """Return a console that writes plain text, 110 wide, when `file` is no terminal."""
    made = _Console(file=file, highlight=False, emoji=False, markup=False)
    if not made.is_terminal:
        made = _Console(
            file=file, width=110, highlight=False, emoji=False, markup=False, color_system=None
        )
    return made


_LONGEST = 100

DASH = "\N{EN DASH}"
DOT = "\N{MIDDLE DOT}"
_NUMBER = re.compile(r"-?[\d,]*\.?\d+ ?%?")


def number(value: float | None, digits: int = 2) -> str:
    """Return a number for people; a dash where undefined."""
    return DASH if value is None or math.isnan(value) else f"{value:.{digits}f}"


def duration(seconds: float) -> str:
    """Return a length of time for people."""
    if seconds < 1:
        return "under 1 s"
    if seconds < 90:
        return f"{seconds:.0f} s"
    if seconds < 5400:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f} h"


def plain(value: Any) -> Text:
    """Return a cell that shows text as it is, control characters written out."""
    text = plain_text(str(value))
    return Text(text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…")


def empty_table(title: str, columns: Sequence[tuple[str, bool]]) -> Table:
    """Return a table without rows; columns are names, and whether they hold numbers."""
    table = Table(
        title=title or None, title_justify="left", box=None, pad_edge=False, header_style="bold"
    )
    for name, numeric in columns:
        table.add_column(name, justify="right" if numeric else "left", no_wrap=numeric)
    return table


def _is_number(cell: Any) -> bool:
    if isinstance(cell, (int, float)) or cell in (DASH, DOT, ""):
        return True
    return isinstance(cell, str) and _NUMBER.fullmatch(cell) is not None


def rows_table(title: str, header: Sequence[str], rows: Iterable[Sequence[Any]]) -> Group:
    """Return a table; columns whose cells are all numbers or dashes stand to the right."""
    kept = [list(row) for row in rows]
    numeric = [bool(kept) and all(_is_number(row[i]) for row in kept) for i in range(len(header))]
    table = empty_table("", list(zip(header, numeric, strict=True)))
    for row in kept:
        table.add_row(*(plain(cell) for cell in row))
    return Group(Text(plain_text(title), "italic", no_wrap=True), table) if title else Group(table)
