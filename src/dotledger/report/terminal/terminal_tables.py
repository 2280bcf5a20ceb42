"""Tables for a terminal, drawn by Rich; plain when the output is no terminal."""

from __future__ import annotations

import math
import os
import re
from collections.abc import Iterable, Sequence
from typing import IO, Any

from rich.console import Console, ConsoleOptions, RenderResult
from rich.measure import Measurement
from rich.table import Table
from rich.text import Text

from dotledger.text_display import plain_text

__all__ = [
    "DASH",
    "DOT",
    "Heading",
    "Sheet",
    "console",
    "duration",
    "empty_table",
    "number",
    "plain",
    "printed",
    "rows_table",
]


class _Console(Console):
    def on_broken_pipe(self) -> None:
        """Leave it to the command line, like any other output."""
        raise BrokenPipeError


def console(file: IO[str] | None = None) -> Console:
    """Return a console; plain text and as wide as its content where `file` is not a terminal.

    Without a terminal nothing is wrapped or left out, unless ``COLUMNS`` says how wide it is.
    """
    made = _Console(file=file, highlight=False, emoji=False, markup=False)
    if made.is_terminal:
        return made
    given = os.environ.get("COLUMNS", "")
    width = int(given) if given.isdigit() and int(given) > 0 else _UNBOUND
    return _Console(
        file=file, width=width, highlight=False, emoji=False, markup=False, color_system=None
    )


_UNBOUND = 10_000
_TRAILING = re.compile(r" +((?:\x1b\[0m)?)$", re.MULTILINE)


def printed(out: Console, part: Any) -> str:
    """Return what a console would print, without spaces at the ends of lines.

    Parameters
    ----------
    part : object
        Text, or anything rich can print.

    Returns
    -------
    str
        With a line break at the end.
    """
    with out.capture() as caught:
        text = isinstance(part, str)
        out.print(plain_text(part) if text else part, soft_wrap=text)
    return _TRAILING.sub(r"\1", caught.get())


_LONGEST = 100

DASH = "\N{EN DASH}"
DOT = "\N{MIDDLE DOT}"
_NUMBER = re.compile(r"-?[\d,]*\.?\d+ ?%?")


def number(value: float | None, digits: int = 2) -> str:
    """Return a number for people; a dash where undefined.

    Parameters
    ----------
    value : float or None
        NaN and None are undefined.

    Returns
    -------
    str
        Such as ``0.50``.
    """
    return DASH if value is None or math.isnan(value) else f"{value:.{digits}f}"


def duration(seconds: float) -> str:
    """Return a length of time for people.

    Parameters
    ----------
    seconds : float
        0 or more.
    """
    if seconds < 1:
        return "under 1 s"
    if seconds < 90:
        return f"{seconds:.0f} s"
    if seconds < 5400:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f} h"


def plain(value: Any) -> Text:
    """Return a cell that shows text as it is, control characters written out.

    Parameters
    ----------
    value : object
        Shown by `str`.
    """
    text = plain_text(str(value))
    return Text(text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…", overflow="fold")


Heading = str | tuple[str, ...]


class Sheet:
    """A table that fits its terminal: where it is too wide, columns are left out, and that is said.

    Those named in `least` go first, in that order, then the last one that is there; the first two
    always stay. Nothing in a cell is ever cut: what still does not fit goes on in the next line.

    Parameters
    ----------
    columns : sequence of (str or tuple of str, bool)
        Headings, a tuple for several lines, and whether they hold numbers.
    least : sequence of str
        The columns that can be done without, the first most easily.
    """

    def __init__(
        self, title: str, columns: Sequence[tuple[Heading, bool]], least: Sequence[str] = ()
    ) -> None:
        self._title = title
        self._columns = list(columns)
        self._least = list(least)
        self._rows: list[list[Any]] = []

    def add_row(self, *cells: Any) -> None:
        """Add a row with a cell for each column; none for an empty line."""
        self._rows.append(list(cells))

    def _table(self, kept: Sequence[int]) -> Table:
        table = Table(box=None, pad_edge=False, header_style="bold")
        for i in kept:
            name, numeric = self._columns[i]
            # A heading may be a column of the user's own; two lines are made of two texts.
            heading = (
                "\n".join(map(plain_text, name)) if isinstance(name, tuple) else plain_text(name)
            )
            table.add_column(
                Text(heading),
                justify="right" if numeric else "left",
                no_wrap=numeric,
                overflow="fold",
            )
        for row in self._rows:
            table.add_row(*(row[i] for i in kept if i < len(row)))
        return table

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Yield title, table, and what was left out."""
        kept = list(range(len(self._columns)))
        left_out = []
        while (
            len(kept) > _ALWAYS
            and Measurement.get(console, options.update(width=_UNBOUND), self._table(kept)).maximum
            > options.max_width
        ):
            names = [_in_one_line(self._columns[i][0]) for i in kept[_ALWAYS:]]
            gone = next((n for n in self._least if n in names), names[-1])
            kept.pop(_ALWAYS + names.index(gone))
            left_out.append(gone)
        if self._title:
            yield Text(plain_text(self._title), "italic", overflow="fold")
        yield self._table(kept)
        if left_out:
            yield Text(plain_text(f"(left out at this width: {', '.join(left_out)})"), "dim")


_ALWAYS = 2


def _in_one_line(heading: Heading) -> str:
    return " ".join(heading) if isinstance(heading, tuple) else heading


def empty_table(
    title: str, columns: Sequence[tuple[Heading, bool]], least: Sequence[str] = ()
) -> Sheet:
    """Return a table without rows; see `Sheet`.

    Parameters
    ----------
    columns : sequence of (str, bool)
        Heading, and whether the column holds numbers.
    least : sequence of str, default ()
        Headings that may be left out where the terminal is narrow, the least first.
    """
    return Sheet(title, columns, least)


def _is_number(cell: Any) -> bool:
    if isinstance(cell, (int, float)) or cell in (DASH, DOT, ""):
        return True
    return isinstance(cell, str) and _NUMBER.fullmatch(cell) is not None


def rows_table(
    title: str,
    header: Sequence[str],
    rows: Iterable[Sequence[Any]],
    least: Sequence[str] = (),
) -> Sheet:
    """Return a table; columns whose cells are all numbers or dashes stand to the right.

    Parameters
    ----------
    rows : iterable of sequence
        Each as long as the header.
    least : sequence of str, default ()
        Headings that may be left out where the terminal is narrow, the least first.
    """
    kept = [list(row) for row in rows]
    numeric = [bool(kept) and all(_is_number(row[i]) for row in kept) for i in range(len(header))]
    table = empty_table(title, list(zip(header, numeric, strict=True)), least)
    for row in kept:
        table.add_row(*(plain(cell) for cell in row))
    return table
