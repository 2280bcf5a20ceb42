"""Charts of what a threshold of similarity does: names given to faces, and pairs of pictures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from dotledger.core.questions.identification import Identification
from dotledger.core.questions.pair_verification import PairMeasure
from dotledger.core.spelling import counted

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["draw_errors", "draw_names", "draw_pairs"]

_NAMES = {
    "right_share": "right name, of enrolled",
    "false_share": "false, of names given",
    "stranger_named_share": "named, of strangers",
}
_PAIRS = {
    "false_match_rate": "false match, of different persons",
    "false_non_match_rate": "false non-match, of one person",
}


def draw_names(ax: Axes, found: Identification, kind: str, options: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Draw the shares of names that are right, false, or given to strangers, by similarity."""
    rows = found.rows[1:]
    _shares(ax, rows, _NAMES, options["chosen"])
    first = found.as_given
    ax.set(
        xlabel="least similarity of a name",
        ylabel="share",
        title=f"{counted(first.enrolled, 'enrolled face')}, {counted(first.strangers, 'stranger')}",
    )


def draw_pairs(ax: Axes, found: PairMeasure, kind: str, options: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Draw both error rates by the similarity from which two pictures count as one person."""
    _shares(ax, found.rows, _PAIRS, options["chosen"])
    ax.set(xlabel="least similarity of a match", ylabel="rate", title=_counts(found))


def draw_errors(ax: Axes, found: PairMeasure, kind: str, options: Mapping[str, Any]) -> None:  # noqa: ARG001
    """Draw one error rate against the other, each threshold a point (ISO/IEC 19795-1)."""
    points = [(row.false_match_rate, row.false_non_match_rate) for row in found.rows]
    known = [point for point in points if not any(map(math.isnan, point))]
    if known:
        across, up = zip(*known, strict=True)
        ax.plot(across, up, marker=".", drawstyle="steps-post")
    if (equal := found.equal_error_rate) == equal:
        ax.plot([equal], [equal], "o", color="black", zorder=5, label=f"equal at {equal:.1%}")
        ax.legend()
    if options["chosen"] is not None:
        at = found.at(options["chosen"])
        ax.plot(
            [at.false_match_rate],
            [at.false_non_match_rate],
            "s",
            color="black",
            zorder=5,
            label=f"at {options['chosen']:g}",
        )
        ax.legend()
    ax.set(
        xlabel="false-match rate",
        ylabel="false-non-match rate",
        title=_counts(found),
        xlim=(-0.02, 1.02),
        ylim=(-0.02, 1.05),
    )


def _counts(found: PairMeasure) -> str:
    """Return what the rates are of: pairs without an answer are in neither."""
    first = found.at(-math.inf)
    same = first.matches + first.false_non_matches
    different = first.false_matches + first.non_matches
    silent = found.no_answer_same + found.no_answer_different
    more = f"; {silent:,} without an answer" if silent else ""
    return f"{counted(same, 'pair')} of one person, {different:,} of two{more}"


def _shares(ax: Axes, rows: Sequence[Any], named: Mapping[str, str], chosen: float | None) -> None:
    """Draw shares by similarity with their 95 % bands; a share that no case defines is left out."""
    where = [row.similarity for row in rows]
    for (name, words), style in zip(named.items(), ("-", "--", ":"), strict=False):
        values = [getattr(row, name) for row in rows]
        if all(map(math.isnan, values)):
            continue
        # A share holds from its threshold down to the next lower one.
        [line] = ax.plot(where, values, style, label=words, drawstyle="steps-pre")
        low, high = zip(*(row.intervals[name] for row in rows), strict=True)
        ax.fill_between(
            where, low, high, alpha=0.12, color=line.get_color(), linewidth=0, step="pre"
        )
    if chosen is not None:
        ax.axvline(chosen, color="black", linewidth=1, label=f"threshold {chosen:g}")
    ax.set_ylim(-0.02, 1.05)
    if rows:
        # Below the axes: the lines cross the whole chart, so a legend inside would hide them.
        ax.legend(loc="upper center", bbox_to_anchor=(0.5, -0.16), ncols=2)
