"""A watch in words: whose it is, what the rounds say, and which figures an alarm is about."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from dotledger.core.comparison.planned_looks import LookFigure, Watch, WatchedRound
from dotledger.core.spelling import counted, first_of
from dotledger.report.terminal.terminal_tables import DASH, number

__all__ = ["alarm_lines", "figure_cells", "head_lines", "round_cells", "verdict_line"]

_FIELD = "answers with a field"


def head_lines(watch: Watch) -> Iterator[str]:
    """Yield whose rounds these are, and how many looks were made.

    Parameters
    ----------
    watch : Watch
        With or without rounds.

    Yields
    ------
    str
        One sentence each.
    """
    since = watch.round or f"batch {watch.batch}"
    first = f"batch {watch.batch}, " if watch.round else ""
    yield f"{watch.service} since {since} ({first}sent {watch.started[:10]})."
    if watch.threshold is not None:
        yield f"Findings cut at {_threshold(watch.threshold)}."
    yield (
        f"{watch.made} of {watch.planned} planned looks made, {len(watch.fresh)} of them just now."
    )


def _threshold(threshold: Any) -> str:
    if isinstance(threshold, float):
        return f"{threshold:g}"
    return first_of([f"{name} {value:g}" for name, value in threshold.items()], 6)


def verdict_line(watch: Watch) -> str:
    """Return what the rounds say, in one sentence.

    Parameters
    ----------
    watch : Watch
        With or without rounds.

    Returns
    -------
    str
        Never "no alarm" where none was possible.
    """
    if not watch.rounds:
        return "No later round to judge."
    newest = watch.rounds[-1]
    bears = [one for one in watch.rounds if one.look.bears < watch.planned]
    earlier = len(watch.alarms) - newest.look.alarm
    before = f" {counted(earlier, 'earlier round')} did." if earlier else ""
    if newest.look.alarm:
        return f"Alarm: {newest.name} differs from the first round." + (
            f" So did {counted(earlier, 'earlier round')}." if earlier else ""
        )
    if newest in bears:
        return (
            f"Nothing can be said of {newest.name}: its {newest.look.images[1]} images bear"
            f" {newest.look.bears} looks, and {watch.planned} are planned.{before}"
        )
    if newest.look.same:
        return (
            f"{newest.name} has the same labels, confidences and boxes as the first round.{before}"
        )
    return f"No alarm: {newest.name} does not differ significantly from the first round.{before}"


def alarm_lines(one: WatchedRound) -> Iterator[str]:
    """Yield what an alarm is about: figures, labels, what is known to have changed.

    Parameters
    ----------
    one : WatchedRound
        With an alarm.

    Yields
    ------
    str
        One sentence each.
    """
    yield from one.look.known
    for figure in one.look.figures:
        if figure.changed and figure.what != _FIELD:
            yield f"{figure.what}, {figure.of}: {number(figure.first)}, now {number(figure.second)}"
    fields = [f.of for f in one.look.figures if f.changed and f.what == _FIELD]
    if fields:
        yield f"fields of answers: {first_of(fields, 12)}"
    for word, labels in (("new", one.look.came), ("gone", one.look.went)):
        if labels:
            listed = [f"{name} ({count})" for name, count in labels.items()]
            yield f"labels that are {word}: {first_of(listed, 12)}"


def round_cells(one: WatchedRound) -> list[Any]:
    """Return a round as a row of a table.

    Parameters
    ----------
    one : WatchedRound
        Judged.

    Returns
    -------
    list
        Look, round, batch, day, images, p and whether it is an alarm.
    """
    look = one.look
    p_value = DASH if look.p_value != look.p_value else f"{look.p_value:.2g}"
    said = "alarm" if look.alarm else "the same answers" if look.same else ""
    named = one.round or DASH
    return [one.number, named, one.batch, one.started[:10], look.images[1], p_value, said]


def figure_cells(figure: LookFigure) -> list[Any]:
    """Return a figure as a row of a table.

    Parameters
    ----------
    figure : LookFigure
        Of a round.

    Returns
    -------
    list
        What, of, first, this round's, and the limits of its band.
    """
    numbers = (figure.first, figure.second, figure.low, figure.high)
    return [figure.what, figure.of, *map(number, numbers)]
