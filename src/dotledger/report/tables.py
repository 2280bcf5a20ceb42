"""Tables for a terminal, drawn by Rich; plain when the output is no terminal."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from typing import IO, Any

from rich.console import Console, Group
from rich.table import Table
from rich.text import Text

from dotledger.core.comparison import Measure
from dotledger.core.results import Row

__all__ = ["comparison_table", "console", "measure_table", "number", "rows_table"]


def console(file: IO[str] | None = None) -> Console:
    """Return a console that writes plain text, 110 wide, when `file` is no terminal."""
    made = Console(file=file, highlight=False, emoji=False, markup=False)
    if not made.is_terminal:
        made = Console(
            file=file, width=110, highlight=False, emoji=False, markup=False, color_system=None
        )
    return made


_LONGEST = 100

DASH = "\N{EN DASH}"


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
    """Return a cell that shows text as it is, control characters as a dot."""
    text = "".join(c if c.isprintable() else "·" for c in str(value))
    return Text(text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…")


def _table(title: str, columns: Sequence[tuple[str, bool]]) -> Table:
    table = Table(
        title=title or None, title_justify="left", box=None, pad_edge=False, header_style="bold"
    )
    for name, numeric in columns:
        table.add_column(name, justify="right" if numeric else "left", no_wrap=numeric)
    return table


def _is_number(cell: Any) -> bool:
    if isinstance(cell, (int, float)) or cell in (DASH, ""):
        return True
    return isinstance(cell, str) and cell.replace(",", "").replace(".", "", 1).isdigit()


def rows_table(title: str, header: Sequence[str], rows: Iterable[Sequence[Any]]) -> Group:
    """Return a table; columns whose cells are all numbers or dashes stand to the right."""
    kept = [list(row) for row in rows]
    numeric = [bool(kept) and all(_is_number(row[i]) for row in kept) for i in range(len(header))]
    table = _table("", list(zip(header, numeric, strict=True)))
    for row in kept:
        table.add_row(*(plain(cell) for cell in row))
    return Group(Text(title, "italic", no_wrap=True), table) if title else Group(table)


def _cells(row: Row) -> list[str]:
    return [
        str(row.annotated),
        str(row.misses),
        str(row.false_positives),
        number(row.recall),
        number(row.precision),
        number(row.f1),
        number(row.mean_overlap),
        number(row.average_precision),
    ]


_COLUMNS = (
    ("kind", False),
    ("label", False),
    ("annotated", True),
    ("missed", True),
    ("wrong", True),
    ("recall", True),
    ("precision", True),
    ("F1", True),
    ("overlap", True),
    ("AP", True),
)


def measure_table(measure: Measure) -> Table:
    """Return a measure as a table: misses first, a pooled line and a mean for each kind."""
    cut = "no threshold" if measure.threshold is None else f"threshold {measure.threshold:g}"
    table = _table(f"Required overlap {measure.overlap:g}, {cut}", _COLUMNS)
    for kind in measure.kinds.values():
        for label, row in sorted(kind.rows.items(), key=lambda entry: (-entry[1].misses, entry[0])):
            table.add_row(kind.kind, plain(label), *_cells(row))
        table.add_row(kind.kind, Text("all, pooled", "bold"), *_cells(kind.pooled))
        means = kind.mean_over_labels
        table.add_row(
            kind.kind,
            Text("all, mean over labels", "bold"),
            "",
            "",
            "",
            *(
                number(means[name])
                for name in ("recall", "precision", "f1", "mean_overlap", "average_precision")
            ),
            end_section=True,
        )
        table.add_row()
    return table


def scope_lines(measure: Measure) -> list[str]:
    """Return what a reader must know before the numbers: scope, what was left out, warnings."""
    parts = [f"{k.kind} {k.images_in_scope}" for k in measure.kinds.values()]
    lines = [f"Images in scope: {measure.images_in_scope} ({', '.join(parts)})."]
    if measure.unanswered:
        lines.append(f"Annotated but without any answer, left out: {measure.unanswered} images.")
    if measure.uncovered:
        lines.append(f"Answered but not annotated, left out: {measure.uncovered} images.")
    if measure.unjudged:
        names = [f"{n} ({c})" for k in measure.kinds.values() for n, c in k.unjudged.items()]
        names += [f"all of kind {kind} ({count})" for kind, count in measure.unjudged_kinds.items()]
        lines.append(
            f"Unjudged findings, not in the vocabulary: {measure.unjudged}: {', '.join(names[:8])}."
        )
    return [*lines, *measure.notes]


def comparison_table(measures: Mapping[str, Measure]) -> Table:
    """Return services side by side: misses, wrong ones and mean overlap by label."""
    columns = [("kind", False), ("label", False), ("annotated", True)]
    for name in measures:
        columns += [(f"{name}: missed", True), ("wrong", True), ("overlap", True)]
    table = _table("", columns)
    first = next(iter(measures.values()))
    for kind in first.kinds:
        for label in first.kinds[kind].rows:
            rows = [measure.kinds[kind].rows[label] for measure in measures.values()]
            table.add_row(kind, plain(label), str(rows[0].annotated), *_side_by_side(rows))
        pooled = [measure.kinds[kind].pooled for measure in measures.values()]
        table.add_row(
            kind, Text("all, pooled", "bold"), str(pooled[0].annotated), *_side_by_side(pooled)
        )
        table.add_row()
    return table


def _side_by_side(rows: Sequence[Row]) -> list[str]:
    cells: list[str] = []
    for row in rows:
        cells += [_count(row.misses), _count(row.false_positives), number(row.mean_overlap)]
    return cells


def _count(value: int) -> str:
    return str(value) if value else "·"
