"""Sweeps and chosen thresholds as tables for a terminal."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import Any

from dotledger.core.measures.resampling import Interval
from dotledger.core.measures.share_limits import FEW_IMAGES
from dotledger.core.questions.threshold_sweep import Sweep
from dotledger.core.spelling import counted
from dotledger.core.thresholds.aims import Aim
from dotledger.core.thresholds.three_way_choice import SHARES, ThreeWays, WaysCounts
from dotledger.core.thresholds.threshold_choice import Choice, GroupChoice
from dotledger.report.terminal.terminal_tables import DASH, Sheet, number, plain, rows_table

__all__ = ["choice_lines", "choice_table", "sweep_tables", "with_ends"]

_MOST_IMAGES = 100_000


def with_ends(value: float, ends: Interval | None, digits: int = 2) -> str:
    """Return a measure with the ends of its interval, such as ``0.90 (0.85-0.93)``.

    Parameters
    ----------
    value : float
        NaN is a dash.
    ends : (float, float) or None
        NaN for an interval that is not known.
    """
    if ends is None or math.isnan(value) or math.isnan(ends[0]):
        return number(value, digits)
    return f"{value:.{digits}f} ({ends[0]:.{digits}f}\N{EN DASH}{ends[1]:.{digits}f})"


def sweep_tables(sweep: Sweep, most: int = 25) -> Iterator[Sheet]:
    """Yield a table for each group."""
    shown = sweep.shown(most)
    for name, part in shown.groupby("group", sort=False):
        rows = [_sweep_cells(row) for row in part.to_dict("records")]
        absent = part.false_alarm_rate.notna().any()
        header = ("threshold", "right", "wrong", "missed", "recall", "precision", "F1",
                  "false alarms" if absent else "wrong in 100", "stopped")  # fmt: skip
        title = f"{name}: {int(part.annotated.iloc[0])} annotated"
        yield rows_table(title, header, rows, ("stopped", header[7], "right", "wrong"))


def _sweep_cells(row: Mapping[Any, Any]) -> list[str]:
    rate = row["false_alarm_rate"]
    alarms = number(row["false_alarms_per_100_images"], 1) if math.isnan(rate) else number(rate)
    return [
        number(row["threshold"], 4),
        *(str(row[name]) for name in ("true_positives", "false_positives", "misses")),
        with_ends(row["recall"], _ends(row, "recall")),
        with_ends(row["precision"], _ends(row, "precision")),
        number(row["f1"]),
        alarms,
        number(row["stopped_share"]),
    ]


def _ends(row: Mapping[Any, Any], name: str) -> Interval | None:
    if f"{name}_low" not in row:
        return None
    return row[f"{name}_low"], row[f"{name}_high"]


def choice_table(choice: Choice | ThreeWays) -> Sheet:
    """Return what was chosen, with the honest outcome next to the optimistic one."""
    if isinstance(choice, ThreeWays):
        return _ways_table(choice)
    beside = "recall" if choice.aim.measure in ("precision", "f") else "precision"
    aimed = _named(choice.aim)
    header = ("", "threshold", "annotated", f"{aimed}, on unseen images", "(on the same)", beside,
              "aim met")  # fmt: skip
    rows = [
        [
            plain(group.name),
            number(group.threshold, 4) + ("*" if group.from_kind else ""),
            str(group.annotated),
            with_ends(group.outcome.aimed, group.outcome.intervals.get("aimed"), _digits(choice)),
            number(group.optimistic.aimed, _digits(choice)),
            number(getattr(group.outcome, beside)),
            _verdict(group, choice.aim),
        ]
        for group in choice.groups.values()
    ]
    if len(rows) > 1:
        rows.append(_last_row(choice, beside))
    return rows_table("", header, rows, ("annotated", beside, "aim met"))


def _last_row(choice: Choice, beside: str) -> list[Any]:
    out = choice.outcome
    return [
        plain("all together"),
        "",
        str(out.annotated),
        with_ends(out.aimed, out.intervals.get("aimed"), _digits(choice)),
        number(choice.optimistic.aimed, _digits(choice)),
        number(getattr(out, beside)),
        "",
    ]


def _digits(choice: Choice) -> int:
    return 1 if choice.aim.measure == "false_alarms_per_100_images" else 2


_NAMES = {
    "false_alarm_rate": "false-alarm rate",
    "false_alarms_per_100_images": "false alarms in 100",
    "stopped_share": "images held",
    "cost_per_image": "cost per image",
}


def _named(aim: Aim) -> str:
    if aim.measure == "f":
        return f"F{aim.beta:g}"
    return _NAMES.get(aim.measure, aim.measure)


def _verdict(group: GroupChoice, aim: Aim) -> str:
    if not group.attainable:
        return "cannot be"
    if aim.sort not in ("at least", "at most"):
        return DASH
    if math.isnan(group.outcome.aimed):
        return "unknown"
    if not aim.holds(group.outcome.aimed):
        return "just missed"
    low, high = group.outcome.intervals.get("aimed", (math.nan, math.nan))
    return "surely" if aim.holds(low if aim.sort == "at least" else high) else "barely"


def choice_lines(choice: Choice | ThreeWays) -> list[str]:
    """Return in words what a reader must know next to the table.

    Returns
    -------
    list of str
        What cannot be met, what is not sure, and how many images would settle it.
    """
    if isinstance(choice, ThreeWays):
        return _ways_lines(choice)
    how = (
        f"each judged by thresholds chosen without it, in {choice.parts} parts"
        if choice.parts > 1
        else "held out: the thresholds were chosen on the others"
    )
    found = [f"On unseen images: {counted(choice.images, 'image')}, {how}."]
    starred = [group.name for group in choice.groups.values() if group.from_kind]
    if starred:
        found.append("* the threshold of the kind")
    for group in choice.groups.values():
        found += _group_lines(group, choice.aim)
    return [*found, *choice.notes]


def _group_lines(group: GroupChoice, aim: Aim) -> list[str]:
    if not group.attainable and not math.isnan(group.optimistic.aimed):
        return [
            f"{group.name}: the aim cannot be met; the nearest is {_named(aim)} "
            f"{group.optimistic.aimed:.2f} at {group.threshold:.4g}."
        ]
    low, high = group.outcome.intervals.get("aimed", (math.nan, math.nan))
    end = low if aim.sort == "at least" else high
    if aim.sort not in ("at least", "at most") or math.isnan(end) or aim.holds(end):
        return []
    which = "lower" if aim.sort == "at least" else "upper"
    chance = "" if math.isnan(group.chance) else f", met in {group.chance:.0%} of draws"
    more = _more(group.more_images)
    return [f"{group.name}: the {which} end, {end:.2f}, does not meet the aim{chance}. {more}"]


def _more(images: int | None) -> str:
    if images is None:
        return "No number of images would settle it: the outcome lies on the limit."
    if images > _MOST_IMAGES:
        return f"It would take more than {_MOST_IMAGES:,} more images to settle it."
    return f"About {counted(images, 'more image')} like these would settle it."


_WAYS = {
    "unsafe_passed_share": "unsafe that pass",
    "safe_stopped_share": "safe that are stopped",
    "held_share": "all that a person looks at",
}


def _ways_table(choice: ThreeWays) -> Sheet:
    rows = []
    for name in SHARES:
        out, same = choice.outcome, choice.optimistic
        value = getattr(out, name)
        rows.append(
            [
                _WAYS[name],
                with_ends(value, out.intervals.get(name), 3),
                number(getattr(same, name), 3),
                _of(out, name),
            ]
        )
    header = ("share of images", "on unseen images", "(on the same)", "images")
    return rows_table("", header, rows, ())


def _of(out: WaysCounts, name: str) -> str:
    unsafe = out.unsafe_passed + out.unsafe_held + out.unsafe_stopped
    safe = out.safe_passed + out.safe_held + out.safe_stopped
    parts = {
        "unsafe_passed_share": (out.unsafe_passed, unsafe),
        "safe_stopped_share": (out.safe_stopped, safe),
        "held_share": (out.unsafe_held + out.safe_held, unsafe + safe),
    }
    return f"{parts[name][0]} of {parts[name][1]}"


def _not_known(out: WaysCounts) -> str:
    unsafe = out.unsafe_passed + out.unsafe_held + out.unsafe_stopped
    safe = out.safe_passed + out.safe_held + out.safe_stopped
    return (
        f"Whether the aim can be met is not known: {unsafe} of the images are unsafe and {safe} "
        f"safe, and {FEW_IMAGES} of each are the least to tell by."
    )


def _ways_lines(choice: ThreeWays) -> list[str]:
    if math.isnan(choice.hold_from):
        found = ["No finding has a confidence, so no threshold changes anything."]
    elif choice.hold_from == choice.stop_from:
        found = [f"Stop from {choice.stop_from:.4g} on."]
        if choice.attainable:
            found = [f"Stop from {choice.stop_from:.4g} on; between the two nobody needs to look."]
    else:
        found = [
            f"Below {choice.hold_from:.4g} pass, from {choice.stop_from:.4g} on stop, between "
            "them a person looks."
        ]
    if choice.attainable is None:
        found.append(_not_known(choice.optimistic))
    elif not choice.attainable:
        found.append("The aim cannot be met; these thresholds come nearest.")
    if choice.left_out:
        found.append(
            f"{counted(choice.left_out, 'image')} with doubtful annotations only left out."
        )
    return found
