"""A watch in words: whose it is, what the rounds say, and which figures an alarm is about."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from dotledger.core.comparison.planned_looks import LookFigure, Watch, WatchedRound
from dotledger.core.spelling import counted, first_of
from dotledger.report.terminal.terminal_tables import DASH, number

__all__ = ["alarm_lines", "figure_cells", "head_lines", "round_cells", "verdict_line"]

_FIELD, _ALONE = "answers with a field", "boxes without a partner"


def head_lines(watch: Watch) -> Iterator[str]:
    """Yield whose rounds these are, and how many looks were made."""
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

    Returns
    -------
    str
        Never "no alarm" where none was possible.
    """
    left = f" {counted(len(watch.left_out), 'later round')} not judged." if watch.left_out else ""
    if not watch.rounds:
        return left.strip() or "No later round to judge."
    newest = watch.rounds[-1]
    earlier = len(watch.alarms) - newest.look.alarm
    before = f" {counted(earlier, 'earlier round')} did." if earlier else ""
    if newest.look.alarm:
        too = f" So did {counted(earlier, 'earlier round')}." if earlier else ""
        return f"Alarm: {newest.name} differs from the first round.{too}{left}"
    if watch.alarm:  # of a round that was judged just now, and is not the newest
        fresh = first_of([one.name for one in watch.alarms if one.batch in watch.fresh], 6)
        return f"Alarm: {fresh} differs from the first round; {_of_newest(newest, watch)}.{left}"
    told = _of_newest(newest, watch)
    return f"{'' if _bears_too_few(newest, watch) else 'No alarm: '}{told}.{before}{left}"


def _bears_too_few(newest: WatchedRound, watch: Watch) -> bool:
    return newest.look.bears < watch.planned


def _of_newest(newest: WatchedRound, watch: Watch) -> str:
    """Return what is said of a newest round without an alarm; no promise if none was possible."""
    if _bears_too_few(newest, watch):
        return (
            f"the answers of {newest.name} cannot be judged, its {newest.look.images[1]} images"
            f" bear {counted(newest.look.bears, 'look')} and {watch.planned} are planned"
        )
    if newest.look.same:
        return f"{newest.name} has the same labels, confidences and boxes as the first round"
    return f"{newest.name} does not differ significantly from the first round"


def alarm_lines(one: WatchedRound) -> Iterator[str]:
    """Yield what an alarm is about: figures, labels, what is known to have changed."""
    yield from one.look.known
    for figure in one.look.figures:
        if figure.changed and figure.what == _ALONE:
            yield (
                f"{figure.of}: {number(figure.first)} of the first round's boxes and "
                f"{number(figure.second)} of this round's have no partner in the other"
            )
        elif figure.changed and figure.what != _FIELD:
            yield f"{figure.what}, {figure.of}: {number(figure.first)}, now {number(figure.second)}"
    fields = [f.of for f in one.look.figures if f.changed and f.what == _FIELD]
    if fields:
        yield f"fields of answers: {first_of(fields, 12)}"
    for where, labels in (("this", one.look.came), ("the first", one.look.went)):
        if labels:
            listed = [f"{name} ({count})" for name, count in labels.items()]
            yield f"labels only in {where} round: {first_of(listed, 12)}"


def round_cells(one: WatchedRound) -> list[Any]:
    """Return a round as a row of a table.

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

    Returns
    -------
    list
        What, of, first, this round's, and the limits of its band.
    """
    numbers = (figure.first, figure.second, figure.low, figure.high)
    return [figure.what, figure.of, *map(number, numbers)]
