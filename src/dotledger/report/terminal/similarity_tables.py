"""Names and pairs at thresholds of similarity, as tables for a terminal."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, TypeVar

from dotledger.core.questions.identification import Identification, IdentificationRow
from dotledger.core.questions.pair_verification import PairMeasure, PairRow
from dotledger.core.spelling import counted
from dotledger.report.terminal.measure_tables import with_interval
from dotledger.report.terminal.terminal_tables import DASH, number, rows_table

__all__ = ["name_lines", "name_table", "pair_lines", "pair_table"]

_MOST = 12
_LevelRow = TypeVar("_LevelRow", IdentificationRow, PairRow)


def name_table(found: Identification, asked: float | None) -> Any:
    """Return the table of names by threshold: all as given, then some, or only the one asked for.

    Parameters
    ----------
    asked : float or None
        Show this threshold beside names as given.
    """
    some = [found.at(asked)] if asked is not None else _some(found.rows[1:])
    header = ["similarity", "right", "wrong", "no name", "not found", "right of enrolled"]
    header += ["strangers named", "false names"]
    rows = [
        [
            "as given" if math.isnan(row.similarity) else f"{row.similarity:.3g}",
            row.right,
            row.wrong,
            row.no_name,
            row.not_found,
            with_interval(row.right_share, row.intervals["right_share"]),
            _strangers(row),
            with_interval(row.false_share, row.intervals["false_share"]),
        ]
        for row in (found.as_given, *some)
    ]
    title = f"Names given, {found.kind}, by threshold of similarity"
    # The shares are what one asks for; the counts may go where it is narrow.
    return rows_table(title, header, rows, least=("not found", "no name", "wrong", "right"))


def _strangers(row: IdentificationRow) -> str:
    if not row.strangers:
        return DASH
    share = with_interval(row.stranger_named_share, row.intervals["stranger_named_share"])
    return f"{row.stranger_named}: {share}"


def name_lines(found: Identification, *, shown_all: bool) -> list[str]:
    """Return what the table is about, in sentences."""
    row = found.as_given
    faces = f"{row.enrolled} of enrolled persons, {row.strangers} of strangers"
    lines = [f"Annotated faces: {faces}."]
    if not row.strangers:
        lines.append("No stranger is annotated: how often one gets a name is not known.")
    if row.elsewhere:
        lines.append(f"{counted(row.elsewhere, 'name')} on no annotated face: counted as false.")
    if found.without_similarity:
        named = counted(found.without_similarity, "name")
        lines.append(f"{named} without a similarity: no threshold keeps them.")
    if found.cases.not_judged:
        named = counted(found.cases.not_judged, "name")
        lines.append(
            f"{named} not judged: that face has no annotated name, or was named rightly already."
        )
    return lines + _left_out(len(found.rows) - 1, shown_all=shown_all)


def pair_table(found: PairMeasure, asked: float | None) -> Any:
    """Return the table of pairs by threshold: some of all, or only the one asked for.

    Parameters
    ----------
    asked : float or None
        Show this threshold alone.
    """
    header = ["similarity", "matches", "false non-matches", "false matches", "non-matches"]
    header += ["false-match rate", "false-non-match rate"]
    rows = [
        [
            f"{row.similarity:.3g}",
            row.matches,
            row.false_non_matches,
            row.false_matches,
            row.non_matches,
            with_interval(row.false_match_rate, row.intervals["false_match_rate"]),
            with_interval(row.false_non_match_rate, row.intervals["false_non_match_rate"]),
        ]
        for row in ([found.at(asked)] if asked is not None else _some(found.rows))
    ]
    least = ("matches", "non-matches", "false non-matches", "false matches")
    return rows_table("Pairs by threshold of similarity", header, rows, least=least)


def pair_lines(found: PairMeasure, *, shown_all: bool) -> list[str]:
    """Return what the table is about, in sentences."""
    same, total = int(found.cases.same.sum()), len(found.cases.same)
    lines = [f"{counted(total, 'pair')}: {same} of one person, {total - same} of two."]
    silent = found.no_answer_same + found.no_answer_different
    if silent:
        lines.append(
            f"No answer for {counted(silent, 'pair')} ({found.no_answer_same} of one person): "
            "in neither rate."
        )
    if not found.rows:
        lines.append("No pair has a similarity: nothing can be measured.")
    elif not math.isnan(found.equal_error_rate):
        lines.append(f"Equal error rate: {number(found.equal_error_rate, 3)}.")
    return lines + _left_out(len(found.rows), shown_all=shown_all)


def _some(rows: Sequence[_LevelRow]) -> list[_LevelRow]:
    """Return at most a dozen rows, evenly through all, with both ends."""
    if len(rows) <= _MOST:
        return list(rows)
    places = [round(step * (len(rows) - 1) / (_MOST - 1)) for step in range(_MOST)]
    return [rows[place] for place in places]


def _left_out(levels: int, *, shown_all: bool) -> list[str]:
    if shown_all or levels <= _MOST:
        return []
    return [f"{_MOST} of {levels} thresholds are shown; a table written with `csv=FILE` has all."]
